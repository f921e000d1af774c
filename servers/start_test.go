//go:build servers

package servers_test

import (
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
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/internal/vantage"
)

const host = "tides.tarnholm.example"

// material writes a self-signed certificate and its key, NAME.crt and NAME.key.
func material(t *testing.T, directory, name, kind string) {
	t.Helper()
	w := forge.Template{Name: host, Names: []string{host}, From: time.Now().Add(-time.Hour), Until: time.Now().AddDate(0, 3, 0)}
	var der, pkcs8 []byte
	var err error
	if kind == "RSA" {
		key, keyErr := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, keyErr)
		w.Sign = &forge.RSASHA256
		w.SPKI, err = forge.PublicInfo(key)
		require.NoError(t, err)
		der, err = forge.Issue(nil, key, w)
		require.NoError(t, err)
		pkcs8, err = x509.MarshalPKCS8PrivateKey(key)
	} else {
		key, keyErr := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, keyErr)
		w.SPKI, err = forge.PublicInfo(key)
		require.NoError(t, err)
		der, err = forge.Issue(nil, key, w)
		require.NoError(t, err)
		pkcs8, err = x509.MarshalPKCS8PrivateKey(key)
	}
	require.NoError(t, err)
	write(t, filepath.Join(directory, name+".crt"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	write(t, filepath.Join(directory, name+".key"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}))
}

func write(t *testing.T, path string, data []byte) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, data, 0o600))
}

// free is a loopback address that nothing listens on.
func free(t *testing.T) netip.AddrPort {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return netip.MustParseAddrPort(l.Addr().String())
}

// run starts a server, waits until it accepts connections, and stops it with the test.
func run(t *testing.T, address netip.AddrPort, as *syscall.Credential, program string, arguments ...string) {
	t.Helper()
	cmd := exec.Command(program, arguments...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Pdeathsig: syscall.SIGKILL}
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGINT)
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
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	o, err := probe.New(network, limits.Limits{HostPerSecond: 200}).Visit(t.Context(), address, probe.Call{Scheme: scheme, ServerName: host, Effort: facts.Full, Web: scheme == "https"})
	require.NoError(t, err)
	require.Equal(t, facts.Answered, o.Outcome, o.Detail)
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
