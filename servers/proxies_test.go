//go:build servers

package servers_test

import (
	"context"
	"encoding/pem"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/limits"
	"nurvik/core/naming"
	"nurvik/core/policy"
	"nurvik/core/probe"
	"nurvik/core/trust"
	"nurvik/core/words"
	"nurvik/internal/vantage"
)

// exim runs the mail server that the Makefile has unpacked, on GnuTLS, with its usual setting of ALPN.
func exim(t *testing.T, settings string) netip.AddrPort {
	t.Helper()
	directory := place(t)
	material(t, directory, "ec", "EC")
	return eximWith(t, directory, "ec", settings)
}

// eximWith runs it with a certificate and key of the directory.
func eximWith(t *testing.T, directory, name, settings string) netip.AddrPort {
	t.Helper()
	address := free(t)
	spool := filepath.Join(directory, "spool")
	require.NoError(t, os.Mkdir(spool, 0o755))
	owner := userID(t, "Debian-exim")
	require.NoError(t, os.Chown(spool, owner, -1))
	require.NoError(t, os.Chown(filepath.Join(directory, name+".key"), owner, -1))
	path := filepath.Join(directory, "exim.conf")
	write(t, path, fmt.Appendf(nil, `
primary_hostname = %[2]s
spool_directory = %[1]s/spool
log_file_path = %[1]s/spool/log-%%slog
pid_file_path = %[1]s/spool/pid
local_interfaces = 127.0.0.1
daemon_smtp_ports = %[3]d
tls_advertise_hosts = *
tls_certificate = %[1]s/%[5]s.crt
tls_privatekey = %[1]s/%[5]s.key
%[4]s
begin acl
`, directory, host, address.Port(), settings, name))
	run(t, address, nil, "../.cache/exim/usr/sbin/exim4", "-C", path, "-bdf")
	return address
}

func TestExim(t *testing.T) {
	o := visit(t, exim(t,
		"smtp_accept_max = 0\ntls_require_ciphers = NORMAL:-VERS-TLS1.0:-VERS-TLS1.1:-CIPHER-ALL:+AES-256-GCM"), "smtp")
	assert.Equal(t, []string{"TLS 1.3: TLS_AES_256_GCM_SHA384", "TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384"},
		accepted(o))
	assert.Equal(t, facts.PossessionShown, o.Possession)
	assert.NotEmpty(t, o.Certificates)
	assert.Empty(t, o.Settings.ALPN, "nothing is offered first")
	assert.Empty(t, o.Unseen)

	for _, c := range o.Connections {
		assert.Less(t, c.Duration, 9*time.Second, words.Of(c.Purpose))
	}

	good := place(t)
	answered(t, good, "good")
	whole, err := os.ReadFile(filepath.Join(good, "good.crt"))
	require.NoError(t, err)
	_, rest := pem.Decode(whole)
	issuer, _ := pem.Decode(rest)
	anchor, err := trust.ParseAnchor(issuer.Bytes, trust.Private)
	require.NoError(t, err)
	at := eximWith(t, good, "good", "smtp_accept_max = 0\ntls_require_ciphers = NORMAL:-VERS-TLS1.0:-VERS-TLS1.1")
	names, err := naming.Parse(host)
	require.NoError(t, err)
	j := judge.Endpoint(facts.Endpoint{Schema: facts.Schema, Endpoint: "smtp://" + host,
		Observations: []facts.Observation{visit(t, at, "smtp")}}, judge.Context{At: time.Now(), Policy: policy.Open(),
		Verifier: &chain.Verifier{}, Names: []naming.Reference{names},
		Trust: []*trust.Store{trust.New("harbour", []trust.Anchor{anchor})}})
	assert.Equal(t, judge.Sound, j.Verdict, j.Findings)

	demanding := visit(t, exim(t, "smtp_accept_max = 0\nhosts_require_alpn = *"), "smtp")
	assert.NotEmpty(t, demanding.Certificates, "it looks for the value when the certificate was seen")
}

// lighttpd runs the web server with settings for TLS; %s is the directory of the certificates.
func lighttpd(t *testing.T, settings string) netip.AddrPort {
	t.Helper()
	directory, address := place(t), free(t)
	material(t, directory, "ec", "EC")
	material(t, directory, "rsa", "RSA")
	path := filepath.Join(directory, "lighttpd.conf")
	write(t, path, fmt.Appendf(nil, `
server.document-root = "%[1]s"
server.bind = "127.0.0.1"
server.port = %[2]d
server.modules = ("mod_openssl", "mod_setenv")
setenv.add-response-header = ("Strict-Transport-Security" => "max-age=31536000")
ssl.engine = "enable"
ssl.pemfile = "%[1]s/ec.crt"
ssl.privkey = "%[1]s/ec.key"
%[3]s
`, directory, address.Port(), fmt.Sprintf(settings, directory)))
	run(t, address, nil, "/usr/sbin/lighttpd", "-D", "-f", path)
	return address
}

func TestLighttpd(t *testing.T) {
	o := visit(t, lighttpd(t, `ssl.openssl.ssl-conf-cmd = ("MinProtocol" => "TLSv1.2", "CipherString" => `+
		`"ECDHE-ECDSA-AES256-GCM-SHA384", "Ciphersuites" => "TLS_AES_128_GCM_SHA256")`+"\n#%s"), "https")
	assert.Equal(t, []string{"TLS 1.3: TLS_AES_128_GCM_SHA256", "TLS 1.2: TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384"},
		accepted(o))
	assert.Equal(t, "h2", o.Settings.ALPN)
	require.NotNil(t, o.HTTP, "it is read in HTTP/2")
	assert.Equal(t, "max-age=31536000", o.HTTP.StrictTransportSecurity)
	alone := visit(t, lighttpd(t, `ssl.openssl.ssl-conf-cmd = ("MinProtocol" => "TLSv1.3")`+"\n"+
		`server.feature-flags = ("server.h2proto" => "disable")`+"\n#%s"), "https")
	assert.Equal(t, "http/1.1", alone.Settings.ALPN)
	require.NotNil(t, alone.HTTP)
}

// TestForwardedTLS: HAProxy passes TLS on to the server behind it, and answers nothing where that is gone.
func TestForwardedTLS(t *testing.T) {
	behind := lighttpd(t, "#%s")
	forward := func(backend string) netip.AddrPort {
		directory, address := t.TempDir(), free(t)
		path := filepath.Join(directory, "haproxy.cfg")
		write(t, path, fmt.Appendf(nil, `
defaults
  mode tcp
  timeout client 5s
  timeout server 5s
  timeout connect 5s
frontend quay
  bind %s
  tcp-request inspect-delay 5s
  tcp-request content accept if { req.ssl_hello_type 1 }
  default_backend pier
backend pier
  server one %s
`, address, backend))
		run(t, address, nil, "/usr/sbin/haproxy", "-db", "-f", path)
		return address
	}
	direct, through := visit(t, behind, "https"), visit(t, forward(behind.String()), "https")
	assert.Equal(t, accepted(direct), accepted(through))
	assert.Equal(t, direct.Certificates, through.Certificates)
	assert.Empty(t, through.Cut)
	gone := outcome(t, forward(free(t).String()), "https")
	assert.Equal(t, facts.Reset, gone.Outcome)
}

// TestMariaDBLocksOut: what a database server does at its limit of connections that end before the login, and that a
// visit stays far from it. It does not count 127.0.0.1, so this comes from 127.0.0.2.
func TestMariaDBLocksOut(t *testing.T) {
	address := mariadb(t, "max_connect_errors=12")
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	network.Dial = (&dialer{net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 2)}}}).dial
	once := func(effort facts.Effort) facts.Observation {
		o, err := probe.New(network, limits.Limits{HostPerSecond: 200}).Visit(t.Context(), address,
			probe.Call{Scheme: "mysql", ServerName: host, Effort: effort})
		require.NoError(t, err)
		return o
	}
	first := once("")
	assert.Equal(t, facts.Quick, first.Effort)
	assert.Equal(t, facts.Answered, first.Outcome)
	assert.LessOrEqual(t, len(first.Connections), 10)
	assert.Empty(t, first.Cut)
	normal := once(facts.Normal)
	assert.Contains(t, words.Of(normal.Cut), "is blocked", "who asks for more risks it")
	locked := once("")
	assert.Equal(t, facts.Busy, locked.Outcome)
	assert.Contains(t, words.Of(locked.Detail), "error 1129")
}

// dialer connects from an address of its own.
type dialer struct{ net.Dialer }

func (d *dialer) dial(ctx context.Context, a netip.AddrPort) (net.Conn, error) {
	return d.DialContext(ctx, "tcp", a.String())
}
