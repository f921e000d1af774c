package acceptance

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/audit"
)

// issuedSet is a certificate of a small CA for one name, with its key.
type issuedSet struct {
	certificate, key []byte // PEM
	pair             tls.Certificate
}

// smallCA issues certificates for the tests of deployment.
type smallCA struct {
	t    *testing.T
	key  *ecdsa.PrivateKey
	root *x509.Certificate
	path string // of its certificate
	last int64
}

func newSmallCA(t *testing.T) *smallCA {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Pilot Root"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		NotBefore: time.Now().AddDate(-1, 0, 0), NotAfter: time.Now().AddDate(1, 0, 0)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	root, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	ca := &smallCA{t: t, key: key, root: root, path: filepath.Join(t.TempDir(), "root.pem"), last: 1}
	require.NoError(t, os.WriteFile(ca.path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return ca
}

// set issues a certificate so many days ago.
func (ca *smallCA) set(name string, daysAgo int) issuedSet {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(ca.t, err)
	ca.last++
	from := time.Now().AddDate(0, 0, -daysAgo)
	template := &x509.Certificate{SerialNumber: big.NewInt(ca.last),
		Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		NotBefore: from, NotAfter: from.AddDate(0, 0, 199)}
	der, err := x509.CreateCertificate(rand.Reader, template, ca.root, &key.PublicKey, ca.key)
	require.NoError(ca.t, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(ca.t, err)
	return issuedSet{pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}), tls.Certificate{Certificate: [][]byte{der},
			PrivateKey: key}}
}

// revoke writes a CRL that names the certificate.
func (ca *smallCA) revoke(path string, s issuedSet) {
	leaf, err := x509.ParseCertificate(s.pair.Certificate[0])
	require.NoError(ca.t, err)
	der, err := x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(1),
		ThisUpdate: time.Now().Add(-time.Hour),
		NextUpdate: time.Now().AddDate(0, 0, 7), RevokedCertificateEntries: []x509.RevocationListEntry{{
			SerialNumber: leaf.SerialNumber, RevocationTime: time.Now().Add(-2 * time.Hour)}}}, ca.root, ca.key)
	require.NoError(ca.t, err)
	require.NoError(ca.t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}), 0o600))
}

// listening serves the certificate on a loopback address.
func listening(t *testing.T, pair tls.Certificate) string {
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair},
		MinVersion: tls.VersionTLS12})
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_ = c.(*tls.Conn).Handshake()
				_, _ = c.Read(make([]byte, 1))
			}()
		}
	}()
	return listener.Addr().(*net.TCPAddr).String()
}

// TestWithVisits: the certificate in the file, the one that the configuration names, and the one that is served are
// compared, and each way in which they can differ is told.
func TestWithVisits(t *testing.T) {
	const name = "pilot.tarnholm.example"
	ca := newSmallCA(t)
	older, newer, other := ca.set(name, 60), ca.set(name, 5), ca.set(name, 30)
	tests := []struct {
		name       string
		configured issuedSet
		key        []byte
		served     issuedSet
		more       func(directory string)
		want       []string
		agree      bool
	}{
		{"all three agree", newer, newer.key, newer, nil, nil, true},
		{"not reloaded", newer, newer.key, older, nil, []string{"deploy.not-reloaded"}, false},
		{"not reloaded, and the old set is still there", newer, newer.key, older, func(directory string) {
			require.NoError(t, os.WriteFile(filepath.Join(directory, "old.pem"), older.certificate, 0o600))
		}, []string{"deploy.not-reloaded"}, false},
		{"something else answers", older, older.key, other, nil, []string{"deploy.other-source"}, false},
		{"the key was replaced on disk", newer, older.key, newer, nil, []string{"deploy.key-differs"}, true},
		{"revoked, and the successor is at hand", older, older.key, older, func(directory string) {
			require.NoError(t, os.WriteFile(filepath.Join(directory, "new.pem"), newer.certificate, 0o600))
			ca.revoke(filepath.Join(directory, "list.crl"), older)
		}, []string{"deploy.revoked-still-served"}, false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			directory := t.TempDir()
			address := listening(t, tt.served.pair)
			write := func(path string, data []byte) {
				require.NoError(t, os.WriteFile(filepath.Join(directory, path), data, 0o600))
			}
			write("site.pem", tt.configured.certificate)
			write("site.key", tt.key)
			write("nginx.conf", fmt.Appendf(nil, "events {}\nhttp {\n server {\n  listen %s ssl;\n  server_name %s;\n"+
				"  ssl_certificate site.pem;\n  ssl_certificate_key site.key;\n }\n}\n", address, name))
			if tt.more != nil {
				tt.more(directory)
			}
			o := nurvik(t, "audit", directory, "--with-visits", "--effort", "quick", "--trust", ca.path, "-o", "json")
			report := decoded[audit.Report](t, o.stdout)
			var got []string
			for _, target := range report.Targets {
				for _, f := range target.Findings {
					if strings.HasPrefix(f.Code, "deploy.") {
						assert.Equal(t, "endpoint", target.Kind)
						got = append(got, f.Code)
					}
					if f.Code == "deploy.not-reloaded" {
						assert.Equal(t, filepath.Join(directory, "nginx.conf"), f.Evidence.File)
						assert.Equal(t, 6, f.Evidence.Line)
						assert.Contains(t, f.Remedy, "nginx -s reload")
					}
					assert.NotEqual(t, "config.key-mismatch", f.Code, "what is served says more")
				}
			}
			assert.Equal(t, tt.want, got, o.stdout)
			require.Len(t, report.Deployments, 1)
			assert.Equal(t, tt.agree, report.Deployments[0].Agree)
			assert.Len(t, report.Deployments[0].Served, 1)

			table := nurvik(t, "audit", directory, "--with-visits", "--effort", "quick", "--trust", ca.path)
			assert.Contains(t, table.stdout, "ON DISK")
		})
	}
}

// TestReplacedElsewhere: one of two endpoints of a name was forgotten at the renewal.
func TestReplacedElsewhere(t *testing.T) {
	const name = "pilot.tarnholm.example"
	ca := newSmallCA(t)
	old, next := listening(t, ca.set(name, 60).pair), listening(t, ca.set(name, 5).pair)
	o := nurvik(t, "audit", old, next, "--effort", "quick", "--name", name, "--trust", ca.path, "-o", "json")
	report := decoded[audit.Report](t, o.stdout)
	require.Len(t, report.Targets, 2)
	for _, target := range report.Targets {
		var got []string
		for _, f := range target.Findings {
			if strings.HasPrefix(f.Code, "deploy.") {
				got = append(got, f.Code+" "+string(f.Severity))
			}
		}
		if target.Target == old {
			assert.Equal(t, []string{"deploy.replaced-elsewhere risk"}, got)
		} else {
			assert.Empty(t, got)
		}
	}
}

func leafOf(t *testing.T, s issuedSet) *x509.Certificate {
	leaf, err := x509.ParseCertificate(s.pair.Certificate[0])
	require.NoError(t, err)
	return leaf
}

func fingerprintOf(s issuedSet) string {
	sum := sha256.Sum256(s.pair.Certificate[0])
	return hex.EncodeToString(sum[:])
}

func keyDigestOf(t *testing.T, s issuedSet) string {
	sum := sha256.Sum256(leafOf(t, s).RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:])
}
