package harbour

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nurvik/core/forge"
)

// Password opens what is protected on the machines of the harbour, except one
// keystore whose password nobody remembers.
const Password = "Lodestar 7"

// nobody owns the machines' files when root writes them, so that they are
// judged as those of an ordinary user would be.
const nobody = 65534

// hostFile is one file on a machine.
type hostFile struct {
	path string // below hosts/
	mode os.FileMode
	data []byte
}

// machines fills the directories of the authority's machines: they are as
// untidy as real ones. The first failure is kept and ends all the rest.
type machines struct {
	issuers *issuers
	files   []hostFile
	closed  []string // directories that others may not enter
	err     error
}

// set is a key with the certificate and the request for it.
type set struct {
	name        string
	key         crypto.Signer
	pkcs8, spki []byte
	certificate []byte // issued by the root itself, so that it is a whole chain alone
}

// public and private files have the modes that tidy ones have.
func (m *machines) public(path string, data ...[]byte) { m.put(path, 0o644, data...) }

func (m *machines) private(path string, data ...[]byte) { m.put(path, 0o600, data...) }

func (m *machines) put(path string, mode os.FileMode, data ...[]byte) {
	var all []byte
	for _, part := range data {
		all = append(all, part...)
	}
	m.files = append(m.files, hostFile{path, mode, all})
}

// try hands on a result and keeps the failure.
func try[T any](m *machines) func(T, error) T {
	return func(value T, err error) T {
		if m.err == nil {
			m.err = err
		}
		return value
	}
}

func (m *machines) bytes(data []byte, err error) []byte { return try[[]byte](m)(data, err) }

// set makes a set with a P-256 key, issued twenty days ago.
func (m *machines) set(name string) set {
	return m.issued(name, name, -20*dayLong, nil)
}

// issued makes a set for the name; sets with the same key name share the key.
func (m *machines) issued(name, keyName string, from time.Duration, change func(*forge.Template)) set {
	key := try[crypto.Signer](m)(m.issuers.keys.ec("host " + keyName))
	return m.certified(name, key, from, change)
}

func (m *machines) certified(name string, key crypto.Signer, from time.Duration, change func(*forge.Template)) set {
	s := set{name: name, key: key}
	if m.err != nil {
		return s
	}
	s.spki = m.bytes(forge.PublicInfo(key))
	s.pkcs8 = m.bytes(x509.MarshalPKCS8PrivateKey(key))
	s.certificate = m.leaf(name, s.spki, from, change)
	return s
}

// leaf issues a certificate over any public key.
func (m *machines) leaf(name string, spki []byte, from time.Duration, change func(*forge.Template)) []byte {
	if m.err != nil {
		return nil
	}
	w := forge.Template{Name: name + "." + domain, Names: []string{name + "." + domain}, SPKI: spki}
	lasting(from, from+leafLifetime)(&w, m.issuers.now)
	if change != nil {
		change(&w)
	}
	return m.bytes(forge.Issue(m.issuers.outerRoot, nil, w))
}

func (m *machines) request(s set) []byte {
	if m.err != nil {
		return nil
	}
	host := s.name + "." + domain
	return m.bytes(x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: host}, DNSNames: []string{host}}, s.key))
}

// block is a PEM block.
func block(label string, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der})
}

func (s set) certificatePEM() []byte { return block("CERTIFICATE", s.certificate) }

func (s set) keyPEM() []byte { return block("PRIVATE KEY", s.pkcs8) }

// pair puts down key and certificate beside each other.
func (m *machines) pair(directory string, s set) {
	m.public(directory+"/"+s.name+".crt", s.certificatePEM())
	m.private(directory+"/"+s.name+".key", s.keyPEM())
}

// writeHosts makes the tree of the machines anew.
func (i *issuers) writeHosts(root string) error {
	m := &machines{issuers: i}
	m.quay()
	m.mailroom()
	m.gatehouse()
	m.crane()
	m.desk()
	m.nameplates()
	m.applications()
	m.replies()
	m.workshop()
	if err := m.write(root); err != nil {
		return err
	}
	for _, directory := range m.closed {
		if err := os.Chmod(filepath.Join(root, directory), 0o700); err != nil {
			return err
		}
	}
	return os.Symlink("quay.crt", filepath.Join(root, "quay/etc/ssl/current.crt"))
}

// write puts the files down, and takes away what was there.
func (m *machines) write(root string) error {
	if m.err != nil {
		return fmt.Errorf("files of the machines: %w", m.err)
	}
	if err := os.RemoveAll(root); err != nil {
		return err
	}
	for _, f := range m.files {
		path := filepath.Join(root, f.path)
		if err := directories(root, filepath.Dir(f.path)); err != nil {
			return err
		}
		if err := os.WriteFile(path, f.data, 0o600); err != nil {
			return err
		}
		if os.Geteuid() == 0 {
			if err := os.Chown(path, nobody, nobody); err != nil {
				return err
			}
		}
		if err := os.Chmod(path, f.mode); err != nil { // whatever the process would mask
			return err
		}
	}
	return nil
}

// directories makes those that lead to the path, open to all.
func directories(root, path string) error {
	at := root
	if err := os.MkdirAll(at, 0o755); err != nil {
		return err
	}
	for part := range strings.SplitSeq(path, "/") {
		if err := os.Chmod(at, 0o755); err != nil {
			return err
		}
		at = filepath.Join(at, part)
		if err := os.Mkdir(at, 0o755); err != nil && !os.IsExist(err) {
			return err
		}
	}
	return os.Chmod(at, 0o755)
}
