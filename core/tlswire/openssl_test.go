package tlswire_test

import (
	"bufio"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/tlswire"
)

// startOpenSSL starts the server of OpenSSL, which has suites and groups that the standard library does not have.
func startOpenSSL(t *testing.T, arguments ...string) (address string, certificate [][]byte) {
	t.Helper()
	own := identity(t, "EC")
	key, err := x509.MarshalPKCS8PrivateKey(own.PrivateKey)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "own.pem")
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: own.Certificate[0]}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})...)
	require.NoError(t, os.WriteFile(file, text, 0o600))
	cmd := exec.Command("openssl", append([]string{"s_server", "-accept", "127.0.0.1:0", "-cert", file, "-key", file,
		"-rev"},
		arguments...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if at, found := strings.CutPrefix(lines.Text(), "ACCEPT "); found {
			go func() { // it must not wait for us
				for lines.Scan() {
				}
			}()
			return at, own.Certificate
		}
	}
	require.Fail(t, "OpenSSL did not start")
	return "", nil
}

// TestHandshakesWithOpenSSL ends handshakes in suites and groups that few servers choose, and some insist on.
func TestHandshakesWithOpenSSL(t *testing.T) {
	modern := func(suite string) []string { return []string{"-tls1_3", "-ciphersuites", suite} }
	tests := []struct {
		name      string
		arguments []string
		version   tlswire.Version
		suite     string
		group     tlswire.Group
	}{
		{"CCM", modern("TLS_AES_128_CCM_SHA256"), tlswire.TLS13, "TLS_AES_128_CCM_SHA256", tlswire.X25519},
		{"CCM with a short tag", modern("TLS_AES_128_CCM_8_SHA256"), tlswire.TLS13, "TLS_AES_128_CCM_8_SHA256",
			tlswire.X25519},
		{"X448 alone", []string{"-tls1_3", "-groups", "X448"}, tlswire.TLS13, "", tlswire.X448},
		{"CCM in TLS 1.2", []string{"-tls1_2", "-cipher", "ECDHE-ECDSA-AES256-CCM"}, tlswire.TLS12,
			"TLS_ECDHE_ECDSA_WITH_AES_256_CCM", tlswire.X25519},
		{"CCM with a short tag in TLS 1.2", []string{"-tls1_2", "-cipher", "ECDHE-ECDSA-AES128-CCM8:@SECLEVEL=0"},
			tlswire.TLS12, "TLS_ECDHE_ECDSA_WITH_AES_128_CCM_8", tlswire.X25519},
		{"X448 in TLS 1.2", []string{"-tls1_2", "-groups", "X448:P-256"}, tlswire.TLS12, "", tlswire.X448},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			address, certificate := startOpenSSL(t, tt.arguments...)
			conn, err := net.Dial("tcp", address)
			require.NoError(t, err)
			defer conn.Close()
			require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
			h := tlswire.Ordinary(tlswire.TLS13, tlswire.TLS12)
			h.ServerName, h.Protocols = "tides.tarnholm.example", nil
			if tt.group == tlswire.X448 { // which it prefers to none
				h.Groups = []tlswire.Group{tlswire.X448, tlswire.P256}
			}
			s, err := tlswire.Handshake(conn, h, tlswire.Options{Random: rand.Reader,
				Shares: []tlswire.Group{tlswire.P256}})
			require.NoError(t, err)
			require.True(t, s.Finished, s.Unfinished)
			assert.Equal(t, tt.version, s.Hello.Version)
			if tt.suite != "" {
				assert.Equal(t, tt.suite, s.Hello.Suite.String())
			}
			if tt.group == tlswire.X448 {
				assert.Equal(t, tlswire.X448, s.Group())
			}
			assert.Equal(t, certificate, s.Chain.Certificates)
			_, err = s.Write([]byte("tide\n")) // it answers with the line turned round
			require.NoError(t, err)
			answer := make([]byte, 5)
			_, err = s.Read(answer)
			require.NoError(t, err)
			assert.Equal(t, "edit\n", string(answer))
		})
	}
}
