package pack

import (
	"bytes"
	"crypto/x509"
	"fmt"

	java "github.com/pavlo-v-chernykh/keystore-go/v4"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/pki"
)

// rounds of key derivation for PKCS#12 with modern protection.
const rounds = 100_000

// leastPassword is what Java's tools ask of the password of a keystore.
const leastPassword = 6

func (s *Set) keystore(f Form, above []*pki.Certificate) ([]byte, error) {
	signer, err := s.Key.signer()
	if err != nil {
		return nil, refuse("a key of this kind cannot be put into a keystore: %v", err)
	}
	if len(f.Password) == 0 {
		return nil, refuse("a keystore needs a password")
	}
	if f.Java {
		return s.java(f, above)
	}
	parsed := make([]*x509.Certificate, 0, len(above)+1)
	for _, c := range append([]*pki.Certificate{s.Leaf}, above...) {
		p, err := x509.ParseCertificate(c.Raw)
		if err != nil {
			return nil, refuse("the certificate of %s has a defect that keeps it out of a keystore: %v", c.Label(), err)
		}
		parsed = append(parsed, p)
	}
	encoder := pkcs12.Modern2023.WithIterations(rounds)
	if f.Old {
		encoder = pkcs12.LegacyDES
	}
	data, err := encoder.Encode(signer, parsed[0], parsed[1:], string(f.Password))
	if err != nil {
		return nil, fmt.Errorf("write the keystore: %w", err)
	}
	return named(data, f.Alias, string(f.Password))
}

func (s *Set) java(f Form, above []*pki.Certificate) ([]byte, error) {
	if len(f.Password) < leastPassword {
		return nil, refuse("Java wants a password of at least %d characters for a keystore", leastPassword)
	}
	signer, err := s.Key.signer()
	if err != nil {
		return nil, err
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(signer)
	if err != nil {
		return nil, fmt.Errorf("encode the private key: %w", err)
	}
	entry := java.PrivateKeyEntry{CreationTime: f.At, PrivateKey: pkcs8}
	for _, c := range append([]*pki.Certificate{s.Leaf}, above...) {
		entry.CertificateChain = append(entry.CertificateChain, java.Certificate{Type: "X509", Content: c.Raw})
	}
	store := java.New()
	if err := store.SetPrivateKeyEntry(f.Alias, entry, bytes.Clone(f.Password)); err != nil {
		return nil, fmt.Errorf("write the keystore: %w", err)
	}
	var out bytes.Buffer
	if err := store.Store(&out, bytes.Clone(f.Password)); err != nil {
		return nil, fmt.Errorf("write the keystore: %w", err)
	}
	return out.Bytes(), nil
}
