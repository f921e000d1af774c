package harbour

import (
	"crypto/tls"
	"crypto/x509"
	"slices"
	"time"

	"nurvik/core/forge"
)

// barbican is the machine of these berths: what it serves is not what lies there, or what it is told to serve.
const barbican = "barbican"

// deployBerths are served by the machine barbican, and by another that was forgotten at a renewal.
func deployBerths() []berth {
	of := func(host, about, address string, daysAgo time.Duration, names ...string) berth {
		return berth{host: host, about: about, addresses: []string{address},
			leaf: func(w *forge.Template, now time.Time) {
				lasting(-daysAgo*dayLong, -daysAgo*dayLong+leafLifetime)(w, now)
				for _, name := range names {
					w.Names = append(w.Names, name+"."+domain)
				}
				slices.Sort(w.Names)
			}}
	}
	rampart := of("rampart", "revoked, and its successor lies on the disk", "127.30.14.5", 60)
	rampart.revoked = true
	return []berth{
		of("bailey", "disk, configuration and wire agree", "127.30.14.1", 20),
		of("drawbridge", "the server was not reloaded", "127.30.14.2", 60),
		of("wicket", "serves what is in no file of its machine", "127.30.14.3", 10),
		of("palisade", "its key was replaced on the disk", "127.30.14.4", 20),
		rampart,
		of("moat", "renewed", "127.30.14.6", 5, "postern"),
		of("postern", "forgotten when moat was renewed", "127.30.14.7", 60, "moat"),
	}
}

// fortified puts down the files of barbican.
func (m *machines) fortified() {
	const ssl = barbican + "/etc/ssl/harbour/"
	put := func(name string, s set, chain, key []byte) {
		m.public(ssl+name+".pem", s.certificatePEM(), chain)
		m.private(ssl+name+".key", key)
	}
	for _, name := range []string{"bailey", "palisade", "rampart"} {
		s, chain := m.served(name)
		key := s.keyPEM()
		if name == "palisade" {
			key = m.set("palisade anew").keyPEM()
		}
		put(name, s, chain, key)
	}
	for _, x := range []struct {
		name, file string
		daysAgo    time.Duration
	}{{"drawbridge", "drawbridge", 5}, {"wicket", "wicket", 60}, {"rampart", "rampart-next", 5}} {
		s, chain := m.renewed(x.name, x.daysAgo)
		put(x.file, s, chain, s.keyPEM())
	}
}

// served is the set that a berth serves, and the PEM of the intermediates.
func (m *machines) served(name string) (s set, chain []byte) {
	c := m.issuers.served[name]
	if c == nil || m.err != nil {
		return s, nil
	}
	s = set{name: name, certificate: c.Certificate[0]}
	s.pkcs8 = m.bytes(x509.MarshalPKCS8PrivateKey(c.PrivateKey))
	for _, der := range c.Certificate[1:] {
		chain = append(chain, block("CERTIFICATE", der)...)
	}
	return s, chain
}

// keep remembers what a berth serves, for the files of its machine.
func (i *issuers) keep(b berth, c *tls.Certificate) {
	if i.served == nil {
		i.served = map[string]*tls.Certificate{}
	}
	i.served[b.host] = c
}
