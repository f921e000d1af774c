package pack

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"nurvik/core/pki"
	"nurvik/core/serverconf"
)

// File is one file that was made.
type File struct {
	Name string
	Part serverconf.Part
	What string // in words
	Data []byte
	Mode fs.FileMode
}

// Form says how the files are written.
type Form struct {
	Shape    serverconf.Shape
	Base     string // of the names of the files
	WithKey  bool   // write the key as a file of its own, for shapes without one
	WithRoot bool   // put the root behind the intermediates
	Java     bool   // a Java keystore (JKS) instead of PKCS#12
	Old      bool   // protection of PKCS#12 that old programs read
	Alias    string
	Password []byte // of the keystore
	At       time.Time
}

// modes of files: private keys are for their owner alone.
const (
	private fs.FileMode = 0o600
	public  fs.FileMode = 0o644
)

// NeedsKey reports whether the shape has the private key in it.
func (f Form) NeedsKey() bool {
	return f.WithKey || f.Shape == serverconf.Combined || f.Shape == serverconf.Keystore
}

// Write makes the files. The error is a *RefusedError where the set does not fit the shape.
func (s *Set) Write(f Form) ([]File, error) {
	if f.NeedsKey() && s.Key == nil {
		return nil, refuse("the private key of %s (%s) is not among what was read, and %s needs it", s.Leaf.Label(),
			s.Leaf.PublicKey, describe(f))
	}
	above := s.Chain
	if f.WithRoot && s.Root != nil {
		above = append(above[:len(above):len(above)], s.Root)
	}
	var out []File
	add := func(name string, part serverconf.Part, what string, mode fs.FileMode, data ...[]byte) {
		out = append(out, File{f.Base + name, part, what, bytes.Join(data, nil), mode})
	}
	leaf, with := []byte(s.Leaf.PEM()), "certificate"
	if len(above) > 0 {
		with += " and intermediates"
	}
	switch f.Shape {
	case serverconf.Bundle:
		add("-bundle.pem", serverconf.PartBundle, with, public, leaf, pemOf(above))
	case serverconf.Split:
		add(".crt", serverconf.PartLeaf, "certificate", public, leaf)
		if len(above) > 0 {
			add("-chain.pem", serverconf.PartChain, "intermediates", public, pemOf(above))
		}
	case serverconf.Combined:
		key, err := s.Key.PEM()
		if err != nil {
			return nil, err
		}
		add(".pem", serverconf.PartCombined, "private key, "+with, private, key, leaf,
			pemOf(above))
	case serverconf.Pieces:
		s.pieces(add)
	case serverconf.DER:
		add(".der", serverconf.PartLeaf, "certificate", public, s.Leaf.Raw)
		for i, c := range above {
			add(fmt.Sprintf("-chain-%d.der", i+1), serverconf.PartChain, "CA certificate of "+c.Label(), public, c.Raw)
		}
	case serverconf.Keystore:
		data, err := s.keystore(f, above)
		if err != nil {
			return nil, err
		}
		name, what := ".p12", "keystore (PKCS#12)"
		if f.Java {
			name, what = ".jks", "Java keystore (JKS)"
		}
		add(name, serverconf.PartKeystore, what, private, data)
	default:
		return nil, refuse("there is no shape %q", f.Shape)
	}
	if f.WithKey && f.Shape != serverconf.Combined && f.Shape != serverconf.Keystore {
		key, err := s.Key.PEM()
		if err != nil {
			return nil, err
		}
		add(".key", serverconf.PartKey, "private key", private, key)
	}
	return out, nil
}

// pieces are each CA certificate by itself in the order in which they are imported, root first, and then the leaf.
func (s *Set) pieces(add func(name string, part serverconf.Part, what string, mode fs.FileMode, data ...[]byte)) {
	n := 0
	next := func(word string, part serverconf.Part, c *pki.Certificate) {
		n++
		add(fmt.Sprintf("-%d-%s.crt", n, word), part, word+" certificate of "+c.Label(), public, []byte(c.PEM()))
	}
	if s.Root != nil {
		next("root", serverconf.PartRoot, s.Root)
	}
	for i := len(s.Chain) - 1; i >= 0; i-- {
		next("intermediate", serverconf.PartChain, s.Chain[i])
	}
	next("server", serverconf.PartLeaf, s.Leaf)
}

func describe(f Form) string {
	if f.WithKey {
		return "the server"
	}
	return fmt.Sprintf("the shape %q", string(f.Shape))
}

func pemOf(list []*pki.Certificate) []byte {
	var out strings.Builder
	for _, c := range list {
		out.WriteString(c.PEM())
	}
	return []byte(out.String())
}

// labels are the PEM labels of the structures that private keys have.
var labels = map[string]string{"PKCS#1": "RSA PRIVATE KEY", "SEC1": "EC PRIVATE KEY", "DSA": "DSA PRIVATE KEY"}

// PEM is the key unencrypted: as PKCS#8 where the standard library knows its kind, else as it was.
func (k *Key) PEM() ([]byte, error) {
	signer, err := k.signer()
	if err != nil {
		return k.Original(), nil
	}
	der, err := x509.MarshalPKCS8PrivateKey(signer)
	if err != nil {
		return nil, fmt.Errorf("encode the private key: %w", err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// Original is the key unencrypted, in the structure that it had.
func (k *Key) Original() []byte {
	label := labels[k.Structure]
	if label == "" {
		label = "PRIVATE KEY"
	}
	return pem.EncodeToMemory(&pem.Block{Type: label, Bytes: k.DER})
}

// signer is the key as the standard library knows it.
func (k *Key) signer() (crypto.Signer, error) {
	var key any
	var err error
	switch k.Structure {
	case "PKCS#1":
		key, err = x509.ParsePKCS1PrivateKey(k.DER)
	case "SEC1":
		key, err = x509.ParseECPrivateKey(k.DER)
	default:
		key, err = x509.ParsePKCS8PrivateKey(k.DER)
	}
	if err != nil {
		return nil, err
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("a key of the kind %T does not sign", key)
	}
	return signer, nil
}
