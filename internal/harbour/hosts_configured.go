package harbour

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"nurvik/core/forge"
)

// machineTrees are the configuration of the machines whose servers are audited from their own files. Each is the root
// of a file system, with the packages that are installed there.
//
//go:embed all:machines
var machineTrees embed.FS

// writeMachines makes the trees of the configured machines anew; servers of the demo listen on the port.
func (i *issuers) writeMachines(root string, port uint16) error {
	m := &machines{issuers: i}
	err := fs.WalkDir(machineTrees, "machines", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := machineTrees.ReadFile(path)
		data = bytes.ReplaceAll(data, []byte(":PORT "), fmt.Appendf(nil, ":%d ", port))
		m.public(strings.TrimPrefix(path, "machines/"), data)
		return err
	})
	if err != nil {
		return err
	}
	m.configured()
	m.fortified()
	return m.write(root)
}

// configured puts the material down that the configurations name.
func (m *machines) configured() {
	const ssl = "/etc/ssl/harbour/"
	for machine, names := range map[string][]string{"wharf": {"wharf"}, "slipway": {"cradle", "winch", "keel", "hull"},
		"drydock": {"oldtimer"}, "postbag": {"postbag"}, "ledger-room": {"ledger-room"}, "lightship": {"lightship"},
		"wreck": {"wreck"}} {
		for _, name := range names {
			if name == "winch" { // whose key nobody has any more
				m.public(machine+ssl+name+".pem", m.set(name).certificatePEM())
				continue
			}
			m.bundled(machine+ssl, m.set(name))
		}
	}
	old := m.issued("bilge", "bilge of last year", -150*dayLong, nil)
	m.public("slipway"+ssl+"bilge-old.pem", old.certificatePEM())
	m.private("slipway"+ssl+"bilge-old.key", old.keyPEM())
	m.bundled("slipway"+ssl, m.issued("bilge", "bilge of this year", -10*dayLong, nil))
	rails, chain := m.under("rails")
	m.public("slipway"+ssl+"rails-leaf.pem", rails.certificatePEM())
	m.public("slipway"+ssl+"rails.pem", rails.certificatePEM(), chain)
	m.private("slipway"+ssl+"rails.key", rails.keyPEM())
	capstan, chain := m.under("capstan")
	m.public("drydock"+ssl+"capstan-leaf.pem", capstan.certificatePEM())
	m.public("drydock"+ssl+"capstan.pem", capstan.certificatePEM(), chain)
	m.private("drydock"+ssl+"capstan.key", capstan.keyPEM())
	m.public("drydock"+ssl+"other-chain.pem", block("CERTIFICATE", m.issuers.inner.DER))
	narrows, sluice := m.set("narrows"), m.set("sluice")
	m.private("narrows"+ssl+"narrows.pem", narrows.certificatePEM(), narrows.keyPEM())
	m.private("narrows"+ssl+"sluice.pem", sluice.certificatePEM(), sluice.keyPEM())
}

// bundled puts down a set as servers take it: the chain in one file, the key beside it.
func (m *machines) bundled(directory string, s set) {
	m.public(directory+s.name+".pem", s.certificatePEM())
	m.private(directory+s.name+".key", s.keyPEM())
}

// under makes a set that is issued below intermediates, and the PEM of those.
func (m *machines) under(name string) (s set, chain []byte) { return m.renewed(name, 20) }

// renewed is under, issued so many days ago.
func (m *machines) renewed(name string, daysAgo time.Duration) (s set, chain []byte) {
	s = m.set(name)
	if m.err != nil {
		return s, nil
	}
	w := forge.Template{Name: name + "." + domain, Names: []string{name + "." + domain}, SPKI: s.spki}
	lasting(-daysAgo*dayLong, -daysAgo*dayLong+leafLifetime)(&w, m.issuers.now)
	s.certificate = m.bytes(forge.Issue(m.issuers.outer, nil, w))
	for _, der := range m.issuers.outer.Chain() {
		chain = append(chain, block("CERTIFICATE", der)...)
	}
	return s, chain
}
