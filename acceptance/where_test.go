package acceptance

import (
	"crypto/tls"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/audit"
)

// TestWhere finds a certificate on the wire, in files and in lines of configuration, however its number is written.
func TestWhere(t *testing.T) {
	const name = "pilot.tarnholm.example"
	ca := newSmallCA(t)
	older, newer := ca.set(name, 60), ca.set(name, 5)
	address := listening(t, older.pair)
	directory := t.TempDir()
	write := func(path string, data []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(directory, path), data, 0o600))
	}
	write("site.pem", older.certificate)
	write("site.key", older.key)
	write("next.pem", newer.certificate)
	write("nginx.conf", []byte("events {}\nhttp {\n server {\n  listen 443 ssl;\n  ssl_certificate site.pem;\n"+
		"  ssl_certificate_key site.key;\n }\n}\n"))
	leaf := leafOf(t, older)
	tests := []struct {
		name, what string
		places     []string // kind and line
		status     int
	}{
		{"by its serial number", leaf.SerialNumber.Text(16), []string{"endpoint", "file", "configuration"}, 0},
		{"in decimal", leaf.SerialNumber.String(), []string{"endpoint", "file", "configuration"}, 0},
		{"by its fingerprint", fingerprintOf(older), []string{"endpoint", "file", "configuration"}, 0},
		{"by the digest of its key", keyDigestOf(t, older), []string{"endpoint", "file", "file", "configuration",
			"configuration"}, 0},
		{"by its name, the newer one too", name, []string{"endpoint", "file", "file", "configuration"}, 0},
		{"nowhere", "quay.tarnholm.example", nil, 1},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			o := nurvik(t, "where", tt.what, address, directory, "-o", "json")
			assert.Equal(t, tt.status, o.status, o.stderr)
			found := decoded[api.Where](t, o.stdout)
			var kinds []string
			for _, p := range found.Places {
				kinds = append(kinds, p.Kind)
				if p.Kind == "configuration" {
					assert.Equal(t, filepath.Join(directory, "nginx.conf"), p.Name)
					assert.Contains(t, []int{5, 6}, p.Line)
				}
			}
			assert.ElementsMatch(t, tt.places, kinds)
			if tt.name == "by its fingerprint" {
				require.Len(t, found.After, 1, "the successor")
				assert.Equal(t, []string{filepath.Join(directory, "next.pem")}, found.After[0].Places)
			}
		})
	}
	table := nurvik(t, "where", name, directory)
	assert.Contains(t, table.stdout, "FOUND BY")
	assert.Equal(t, 2, nurvik(t, "where", "", directory).status)
}

// TestWatch waits until an address serves the new certificate.
func TestWatch(t *testing.T) {
	const name = "pilot.tarnholm.example"
	ca := newSmallCA(t)
	older, newer := ca.set(name, 60), ca.set(name, 5)
	var now atomic.Pointer[tls.Certificate]
	now.Store(&older.pair)
	listener, err := tls.Listen("tcp", "127.0.0.1:0",
		&tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			return now.Load(), nil
		}})
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_ = c.(*tls.Conn).Handshake()
			}()
		}
	}()
	address := listener.Addr().(*net.TCPAddr).String()
	path := filepath.Join(t.TempDir(), "new.pem")
	require.NoError(t, os.WriteFile(path, newer.certificate, 0o600))

	o := nurvik(t, "watch", address, "--until", path, "--for", "3s", "--every", "5s", "-o", "json")
	assert.Equal(t, 1, o.status, o.stderr)
	assert.False(t, decoded[audit.Watched](t, o.stdout).Done)
	assert.Contains(t, o.stderr, "still serves")

	time.AfterFunc(4*time.Second, func() { now.Store(&newer.pair) })
	o = nurvik(t, "watch", address, "--until", "changed", "--for", "60s", "--every", "5s", "-o", "json")
	assert.Equal(t, 0, o.status, o.stderr)
	result := decoded[audit.Watched](t, o.stdout)
	assert.True(t, result.Done)
	require.Len(t, result.Addresses, 1)
	assert.Equal(t, fingerprintOf(newer), result.Addresses[0].Certificate.String())

	o = nurvik(t, "watch", address, "--until", path)
	assert.Equal(t, 0, o.status, o.stderr)
	assert.Contains(t, o.stdout, "Every address serves the new certificate")
	for _, wrong := range [][]string{{"--every", "1s"}, {"--until", "/nowhere.pem"}, {"--for", "-1s"}} {
		assert.Equal(t, 2, nurvik(t, append([]string{"watch", address}, wrong...)...).status, wrong)
	}
}
