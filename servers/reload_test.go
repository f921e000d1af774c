//go:build servers

package servers_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/pairing"
	"nurvik/core/policy"
	"nurvik/core/serverconf"
)

// TestReload replaces the certificate of each server without a reload, which is deploy.not-reloaded where the server
// goes on to serve the old one, and reloads it: then disk, configuration and wire agree.
func TestReload(t *testing.T) {
	signal := func(s syscall.Signal) func(*testing.T, running, netip.AddrPort) {
		return func(t *testing.T, _ running, _ netip.AddrPort) { require.NoError(t, last.Process.Signal(s)) }
	}
	again := func(t *testing.T, _ running, address netip.AddrPort) { // a server that has to be started anew
		old := last
		_ = old.Process.Signal(syscall.SIGTERM)
		require.Eventually(t, func() bool { return old.Process.Signal(syscall.Signal(0)) != nil }, 10*time.Second,
			20*time.Millisecond)
		run(t, address, old.as, old.Path, old.Args[1:]...)
	}
	servers := []struct {
		name, scheme string
		run          func(t *testing.T) netip.AddrPort
		keeps        bool // the old one until it is reloaded; else it may read the new one by itself
		reload       func(*testing.T, running, netip.AddrPort)
	}{
		{"nginx", "https", func(t *testing.T) netip.AddrPort { return nginx(t, onlyEC, "") }, true,
			signal(syscall.SIGHUP)},
		{"Apache", "https", func(t *testing.T) netip.AddrPort {
			address, _ := apache(t, apacheEC, "", "")
			return address
		}, true, signal(syscall.SIGUSR1)},
		{"HAProxy", "https", func(t *testing.T) netip.AddrPort { return haproxy(t, "crt %s/ec.both") }, true, again},
		{"Postfix", "smtp", func(t *testing.T) netip.AddrPort { return postfix(t, "#%s") }, false,
			func(t *testing.T, r running, _ netip.AddrPort) {
				require.NoError(t, exec.Command("/usr/sbin/postfix", "-c", filepath.Dir(r.path), "reload").Run())
			}},
		{"Dovecot", "imap", func(t *testing.T) netip.AddrPort { return dovecot(t, "#%s")["imap"] }, true,
			signal(syscall.SIGHUP)},
		{"slapd", "ldap", func(t *testing.T) netip.AddrPort { return slapd(t, "#%s") }, true, again},
		{"vsftpd", "ftp", func(t *testing.T) netip.AddrPort { return vsftpd(t, "") }, false, again},
		{"Exim", "smtp", func(t *testing.T) netip.AddrPort { return exim(t, "") }, false, again},
		{"lighttpd", "https", func(t *testing.T) netip.AddrPort { return lighttpd(t, "#%s") }, true, again},
		{"Prosody", "xmpp", func(t *testing.T) netip.AddrPort {
			client, _ := prosody(t, "")
			return client
		}, true, signal(syscall.SIGHUP)},
		{"PostgreSQL", "postgres", func(t *testing.T) netip.AddrPort { return postgres(t) }, true,
			signal(syscall.SIGHUP)},
		{"MariaDB", "mysql", func(t *testing.T) netip.AddrPort { return mariadb(t) }, true, again},
	}
	for _, s := range servers {
		t.Run(s.name, func(t *testing.T) {
			address := s.run(t)
			r := configured[slices.IndexFunc(configured, func(r running) bool { return r.server == s.name })]
			found, _ := deployed(t, r, address, s.scheme)
			assert.Empty(t, found, "as it was started")

			fresh := replace(t, r)
			found, served := deployed(t, r, address, s.scheme)
			switch {
			case served == fresh:
				assert.False(t, s.keeps, "it read the new certificate by itself")
				assert.Empty(t, found)
			default:
				assert.Equal(t, []string{"deploy.not-reloaded"}, found, "the old certificate is served")
			}

			s.reload(t, r, address)
			require.Eventually(t, func() bool {
				o := outcomeOf(t, address, s.scheme, host, facts.Quick)
				return len(o.Certificates) > 0 && sum(o.Certificates[0]) == fresh
			}, 30*time.Second, 300*time.Millisecond, "it reads the new one")
			found, _ = deployed(t, r, address, s.scheme)
			assert.Empty(t, found, "reloaded")
		})
	}
}

func sum(der []byte) string { return fmt.Sprintf("%x", der[len(der)-20:]) }

// deployed reads a server's configuration with its files, visits it, and reconciles: the codes that are found and the
// leaf that is served.
func deployed(t *testing.T, r running, address netip.AddrPort, scheme string) (codes []string, served string) {
	t.Helper()
	c := serverconf.Read(&serverconf.Machine{}, r.server, r.path)
	var files []facts.File
	reader := &intake.Reader{}
	for _, n := range c.Named {
		if n.Role == facts.RoleCertificate || n.Role == facts.RoleKey || n.Role == facts.RoleChain {
			read, err := reader.ReadFile(n.Path)
			require.NoError(t, err)
			files = append(files, read...)
		}
	}
	context := judge.Context{Policy: policy.Open(), At: time.Now()}
	o := outcomeOf(t, address, scheme, host, facts.Quick)
	require.Equal(t, facts.Answered, o.Outcome, o.Detail)
	require.NotEmpty(t, o.Certificates)
	seen := []facts.Endpoint{{Schema: facts.Schema, Endpoint: scheme + "://" + host,
		Observations: []facts.Observation{o}}}
	judged := []judge.Judgement{judge.Endpoint(seen[0], context)}
	site := 0
	if r.server != "slapd" { // which is told by its call where to listen
		site = siteAt(c, address)
	}
	machine := judge.Machine{Configurations: []facts.Configuration{c}, Files: files,
		Together: pairing.Pair(files, nil, context.At), Places: []judge.Placed{{Site: site}}}
	judge.Reconcile([]judge.Machine{machine}, seen, judged, func(int) *policy.Policy { return &context.Policy },
		context)
	for _, f := range judged[0].Findings {
		if strings.HasPrefix(f.Code, "deploy.") {
			codes = append(codes, f.Code)
			assert.NotEmpty(t, f.Remedy)
		}
	}
	return codes, sum(o.Certificates[0])
}

// siteAt is the first site of a configuration that listens at the address with TLS.
func siteAt(c facts.Configuration, address netip.AddrPort) int {
	return slices.IndexFunc(c.Sites, func(s facts.Site) bool {
		return s.TLS() && slices.ContainsFunc(s.Listens, func(l facts.Listen) bool { return l.Port == address.Port() })
	})
}

// replace puts a certificate that was issued now, with a new key, in the place of the one that is configured.
func replace(t *testing.T, r running) string {
	t.Helper()
	c := serverconf.Read(&serverconf.Machine{}, r.server, r.path)
	i := slices.IndexFunc(c.Sites, func(s facts.Site) bool { return s.TLS() })
	path := c.Sites[i].Identities[0].Certificate.Value
	name := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	kind := map[bool]string{true: "RSA", false: "EC"}[name == "rsa"]
	owners := map[string]*syscall.Stat_t{}
	for _, ending := range []string{".crt", ".key", ".both"} {
		info, err := os.Stat(filepath.Join(filepath.Dir(path), name+ending))
		require.NoError(t, err)
		owners[ending] = info.Sys().(*syscall.Stat_t)
	}
	key, sign := newKey(t, kind)
	issuedBefore = time.Minute
	defer func() { issuedBefore = time.Hour }()
	der := issue(t, filepath.Dir(path), name, nil, key, sign, []string{host})
	for ending, owner := range owners {
		require.NoError(t, os.Chown(filepath.Join(filepath.Dir(path), name+ending), int(owner.Uid), int(owner.Gid)))
	}
	return sum(der)
}
