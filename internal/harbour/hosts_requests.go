package harbour

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"strings"
)

// applications is where certificate requests lie that no CA should get as they are.
func (m *machines) applications() {
	apply := func(name string, change func(*x509.CertificateRequest)) []byte {
		host := name + "." + domain
		w := &x509.CertificateRequest{Subject: pkix.Name{CommonName: host}, DNSNames: []string{host}}
		if change != nil {
			change(w)
		}
		s := m.set(name)
		if m.err != nil {
			return nil
		}
		return m.bytes(x509.CreateCertificateRequest(rand.Reader, w, s.key))
	}
	put := func(name string, der []byte) {
		m.public("applications/"+name+".csr", block("CERTIFICATE REQUEST", der))
	}
	with := func(name string, change func(*x509.CertificateRequest)) { put(name, apply(name, change)) }
	extension := func(value any, id ...int) func(*x509.CertificateRequest) {
		der, err := asn1.Marshal(value)
		return func(w *x509.CertificateRequest) {
			m.bytes(nil, err)
			w.ExtraExtensions = append(w.ExtraExtensions, pkix.Extension{Id: id, Value: der})
		}
	}
	type constraints struct {
		CA bool `asn1:"optional"`
	}
	with("would-be-issuer", extension(constraints{true}, 2, 5, 29, 19))
	with("jack-of-all-trades", extension([]asn1.ObjectIdentifier{{1, 3, 6, 1, 5, 5, 7, 3, 1},
		{1, 3, 6, 1, 5, 5, 7, 3, 3}}, 2, 5, 29, 37))
	with("nameless", func(w *x509.CertificateRequest) { w.DNSNames = nil })
	with("utopia", func(w *x509.CertificateRequest) { w.Subject.Country = []string{"Tarnholm"} })
	with("long-winded", func(w *x509.CertificateRequest) {
		w.Subject.Organization = []string{strings.Repeat("Harbour ", 10) + "Authority"}
	})
	with("decorated", func(w *x509.CertificateRequest) { w.Subject.Organization = []string{"<Harbour>"} })
	with("blank", func(w *x509.CertificateRequest) { w.Subject.Locality = []string{"."} })
	with("front-door", func(w *x509.CertificateRequest) { w.DNSNames = append(w.DNSNames, "www.lagoon."+domain) })
	with("worn-seal", func(w *x509.CertificateRequest) { w.SignatureAlgorithm = x509.ECDSAWithSHA1 })
	with("told-secret", func(w *x509.CertificateRequest) {
		//lint:ignore SA1019 the package knows no other way to write an attribute
		w.Attributes = []pkix.AttributeTypeAndValueSET{{Type: asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 7},
			Value: [][]pkix.AttributeTypeAndValue{{{Type: asn1.ObjectIdentifier{2, 5, 4, 3}, Value: "hush"}}}}}
	})
	if forged := apply("forged", nil); len(forged) > 0 {
		forged[len(forged)-1] ^= 1
		put("forged", forged)
	}
}
