//go:build servers

package servers_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/core/words"
	"nurvik/internal/vantage"
)

const host = "tides.tarnholm.example"

// material writes a self-signed certificate for the host and its key, NAME.crt and NAME.key.
func material(t *testing.T, directory, name, kind string, more ...string) {
	t.Helper()
	key, sign := newKey(t, kind)
	issue(t, directory, name, nil, key, sign, append([]string{host}, more...))
}

func newKey(t *testing.T, kind string) (crypto.Signer, *forge.Algorithm) {
	t.Helper()
	if kind == "RSA" {
		key, err := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, err)
		return key, &forge.RSASHA256
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key, nil
}

// issuedBefore is how long ago certificates are issued.
var issuedBefore = time.Hour

// issue writes a certificate for the last of the names, by the issuer or itself, and returns its DER.
func issue(t *testing.T, directory, name string, issuer *forge.Authority, key crypto.Signer, sign *forge.Algorithm,
	names []string) []byte {
	t.Helper()
	last := names[len(names)-1]
	w := forge.Template{Name: last, Names: []string{last}, Sign: sign, From: time.Now().Add(-issuedBefore),
		Until: time.Now().AddDate(0, 3, 0)}
	var err error
	w.SPKI, err = forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(issuer, key, w)
	require.NoError(t, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	certificates := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	if issuer != nil {
		certificates = append(certificates, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: issuer.DER})...)
	}
	write(t, filepath.Join(directory, name+".crt"), certificates)
	write(t, filepath.Join(directory, name+".key"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}))
	write(t, filepath.Join(directory, name+".both"), slices.Concat(certificates,
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8})))
	return der
}

// answered writes a certificate of an issuer, NAME.crt and NAME.key, and the
// issuer's answer that it is good, NAME.ocsp.
func answered(t *testing.T, directory, name string) {
	t.Helper()
	authority, _ := newKey(t, "EC")
	issuer, err := forge.NewAuthority(nil, authority, forge.ECDSASHA256,
		forge.Template{Name: "Harbour Issuing", From: time.Now().Add(-time.Hour), Until: time.Now().AddDate(1, 0, 0)})
	require.NoError(t, err)
	key, sign := newKey(t, "EC")
	leaf, err := x509.ParseCertificate(issue(t, directory, name, issuer, key, sign, []string{host}))
	require.NoError(t, err)
	above, err := x509.ParseCertificate(issuer.DER)
	require.NoError(t, err)
	response, err := ocsp.CreateResponse(above, above, ocsp.Response{Status: ocsp.Good, SerialNumber: leaf.SerialNumber,
		ThisUpdate: time.Now().Add(-time.Minute), NextUpdate: time.Now().Add(time.Hour)}, authority)
	require.NoError(t, err)
	write(t, filepath.Join(directory, name+".ocsp"), response)
}

// place is a directory that other users may enter.
func place(t *testing.T) string {
	t.Helper()
	directory, err := os.MkdirTemp("", "nurvik-servers-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(directory, 0o755))
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(directory)) })
	return directory
}

func write(t *testing.T, path string, data []byte) {
	t.Helper()
	mode := os.FileMode(0o644)
	if extension := filepath.Ext(path); extension == ".key" || extension == ".both" {
		mode = 0o600 // servers refuse private keys that others may read
	}
	require.NoError(t, os.WriteFile(path, data, mode))
}

// given are the addresses that free has returned: the system may offer a port again, and a server that listens on
// several then has one twice.
var given = map[netip.AddrPort]bool{}

// free is a loopback address that nothing listens on, and another one at every call.
func free(t *testing.T) netip.AddrPort {
	t.Helper()
	for {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		address := netip.MustParseAddrPort(l.Addr().String())
		require.NoError(t, l.Close())
		if !given[address] {
			given[address] = true
			return address
		}
	}
}

// process is a server that was started.
type process struct {
	*exec.Cmd
	as *syscall.Credential
}

// last is the server that was started last.
var last process

// run starts a server, waits until it accepts connections, and stops it with the test.
func run(t *testing.T, address netip.AddrPort, as *syscall.Credential, program string, arguments ...string) {
	t.Helper()
	cmd := exec.Command(program, arguments...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Pdeathsig: syscall.SIGKILL}
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	before := configured
	configured = append(slices.Clone(configured), mainFiles(program, arguments, address)...)
	t.Cleanup(func() { configured = before })
	last = process{cmd, as}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		t.Logf("%s said %d lines", program, strings.Count(said.String(), "\n"))
		_ = cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(10 * time.Second):
			_ = cmd.Process.Kill()
		}
	})
	for range 200 {
		if c, err := net.Dial("tcp", address.String()); err == nil {
			_ = c.Close()
			return
		}
		select {
		case err := <-ended:
			ended <- err
			t.Fatalf("%s ended: %v\n%s", program, err, said.String())
		case <-time.After(50 * time.Millisecond):
		}
	}
	t.Fatalf("%s does not listen on %s", program, address)
}

// visit is a visit at full effort, as the client makes it.
func visit(t *testing.T, address netip.AddrPort, scheme string) facts.Observation {
	t.Helper()
	return visitNamed(t, address, scheme, host)
}

func visitNamed(t *testing.T, address netip.AddrPort, scheme, name string) facts.Observation {
	t.Helper()
	o := outcomeNamed(t, address, scheme, name)
	require.Equal(t, facts.Answered, o.Outcome, o.Detail)
	agree(t, address, name, o)
	return o
}

// outcome is a visit that need not be answered.
func outcome(t *testing.T, address netip.AddrPort, scheme string) facts.Observation {
	t.Helper()
	return outcomeNamed(t, address, scheme, host)
}

func outcomeNamed(t *testing.T, address netip.AddrPort, scheme, name string) facts.Observation {
	t.Helper()
	return outcomeOf(t, address, scheme, name, facts.Full)
}

func outcomeOf(t *testing.T, address netip.AddrPort, scheme, name string, effort facts.Effort) facts.Observation {
	t.Helper()
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	o, err := probe.New(network, limits.Limits{HostPerSecond: 200}).Visit(t.Context(), address,
		probe.Call{Scheme: scheme, ServerName: name, Effort: effort, Web: scheme == "https"})
	require.NoError(t, err)
	t.Logf("%s: %d connections", scheme, len(o.Connections))
	return o
}

// accepted are the versions that are accepted with their suites, "TLS 1.2: A B".
func accepted(o facts.Observation) []string {
	var out []string
	for _, v := range o.Versions {
		if v.Answer == facts.Accepted {
			out = append(out, fmt.Sprintf("%s: %s", v.Name, strings.Join(v.Suites, " ")))
		}
	}
	return out
}

func orderOf(o facts.Observation, version string) facts.Order {
	for _, v := range o.Versions {
		if v.Name == version {
			return v.Order
		}
	}
	return ""
}

// others are what clients get that ask otherwise, as "TO HOST", "TO the same" or "TO REFUSAL".
func others(t *testing.T, o facts.Observation) []string {
	t.Helper()
	var out []string
	for _, to := range []string{"other-key", "no-name", "foreign-name"} {
		i := slices.IndexFunc(o.Others, func(s facts.Served) bool { return s.To == to })
		if i < 0 {
			continue
		}
		word := words.Of(o.Others[i].Refused)
		if len(o.Others[i].Certificates) > 0 {
			c, err := x509.ParseCertificate(o.Others[i].Certificates[0])
			require.NoError(t, err)
			word = fmt.Sprintf("%s %s", c.PublicKeyAlgorithm, c.DNSNames[0])
		}
		out = append(out, to+" "+word)
	}
	return out
}

func versionOf(o facts.Observation, name string) facts.Version {
	for _, v := range o.Versions {
		if v.Name == name {
			return v
		}
	}
	return facts.Version{}
}

// answeredFile gives an answer the name that a server looks for.
func answeredFile(t *testing.T, directory, as, from string) {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(directory, from))
	require.NoError(t, err)
	write(t, filepath.Join(directory, as), data)
}

// userID is the number of a user.
func userID(t *testing.T, name string) int {
	t.Helper()
	u, err := user.Lookup(name)
	require.NoError(t, err)
	id, err := strconv.Atoi(u.Uid)
	require.NoError(t, err)
	return id
}
