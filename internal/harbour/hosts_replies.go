package harbour

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"

	"nurvik/core/forge"
)

// replies is where requests lie beside what the issuer made of them, which is not what was asked for.
func (m *machines) replies() {
	reply := func(name string, names []string, change func(*forge.Template)) {
		s := m.issued(name, name, -20*dayLong, change)
		if m.err != nil {
			return
		}
		host := name + "." + domain
		request := m.bytes(x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
			Subject:  pkix.Name{Organization: []string{forge.Organisation}, CommonName: host},
			DNSNames: append([]string{host}, names...)}, s.key))
		m.public("replies/"+name+".csr", block("CERTIFICATE REQUEST", request))
		m.pair("replies", s)
	}
	reply("ebb", []string{"low.ebb." + domain, "neap.ebb." + domain}, nil) // two names dropped
	reply("overreach", nil, func(w *forge.Template) {                      // a usage that nobody asked for
		w.Usages = []asn1.ObjectIdentifier{{1, 3, 6, 1, 5, 5, 7, 3, 3}}
	})
}
