package tlswire_test

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/tlswire"
)

// startOpenSSL starts the server of OpenSSL, which has suites and groups that the standard library does not have. It
// answers with each line turned round.
func startOpenSSL(t *testing.T, arguments ...string) (address string, certificate [][]byte) {
	t.Helper()
	address, certificate, _, lines := runOpenSSL(t, append(arguments, "-rev")...)
	go func() { // it must not wait for us
		for range lines {
		}
	}()
	return address, certificate
}

// runOpenSSL starts it so that it says what is written to it, and tells what it hears.
func runOpenSSL(t *testing.T, arguments ...string) (address string, certificate [][]byte, say io.Writer,
	hears <-chan string) {
	t.Helper()
	own := identity(t, "EC")
	key, err := x509.MarshalPKCS8PrivateKey(own.PrivateKey)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "own.pem")
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: own.Certificate[0]}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})...)
	require.NoError(t, os.WriteFile(file, text, 0o600))
	cmd := exec.Command("openssl", append([]string{"s_server", "-accept", "127.0.0.1:0", "-cert", file, "-key", file},
		arguments...)...)
	say, err = cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if at, found := strings.CutPrefix(lines.Text(), "ACCEPT "); found {
			heard := make(chan string, 1000)
			go func() {
				defer close(heard)
				for lines.Scan() {
					heard <- lines.Text()
				}
			}()
			return at, own.Certificate, say, heard
		}
	}
	require.Fail(t, "OpenSSL did not start")
	return "", nil, nil, nil
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

// TestKeyUpdates: a server may change its keys at any time, and ask for ours (RFC 8446, 4.6.3).
func TestKeyUpdates(t *testing.T) {
	for command, name := range map[string]string{"k": "its own keys", "K": "both keys"} {
		t.Run(name, func(t *testing.T) {
			address, _, say, hears := runOpenSSL(t, "-tls1_3")
			conn, err := net.Dial("tcp", address)
			require.NoError(t, err)
			defer conn.Close()
			require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
			h := tlswire.Ordinary(tlswire.TLS13)
			h.Protocols = nil
			s, err := tlswire.Handshake(conn, h, tlswire.Options{Random: rand.Reader,
				Shares: []tlswire.Group{tlswire.X25519}})
			require.NoError(t, err)
			require.True(t, s.Finished)
			for range 2 {
				_, err = io.WriteString(say, command+"\n")
				require.NoError(t, err)
				time.Sleep(200 * time.Millisecond) // it takes what it reads at once for one command
				_, err = io.WriteString(say, "high water\n")
				require.NoError(t, err)
				text := make([]byte, 11)
				_, err = io.ReadFull(s, text)
				require.NoError(t, err)
				assert.Equal(t, "high water\n", string(text))
			}
			_, err = s.Write([]byte("low water\n"))
			require.NoError(t, err)
			require.NoError(t, s.CloseNotify())
			met := false
			for line := range hears {
				if met = strings.Contains(line, "low water"); met {
					break
				}
			}
			assert.True(t, met, "it reads what comes under the next keys")
			_, err = s.SessionTicket()
			assert.NoError(t, err, "tickets that came before are kept")
		})
	}
}

// TestHelloRequests: a server of TLS 1.2 may ask for a handshake while one is under way, and is not heeded; it does not
// count for the transcript (RFC 5246, 7.4.1.1).
func TestHelloRequests(t *testing.T) {
	own := identity(t, "EC")
	ours, theirs := net.Pipe()
	defer ours.Close()
	go func() {
		defer theirs.Close()
		_ = tls.Server(&asking{Conn: theirs}, &tls.Config{Certificates: []tls.Certificate{own},
			MaxVersion: tls.VersionTLS12}).Handshake()
	}()
	require.NoError(t, ours.SetDeadline(time.Now().Add(10*time.Second)))
	s, err := tlswire.Handshake(ours, hello(t, tlswire.TLS12), tlswire.Options{Random: rand.Reader})
	require.NoError(t, err)
	assert.True(t, s.Finished)

	many := bytes.Repeat(record(22, 0, 0, 0, 0), 9)
	first := append(append([]byte{3, 3}, make([]byte, 32)...), 0, 0xc0, 0x2b, 0)
	answer := append(record(22, append([]byte{2, 0, 0, byte(len(first))}, first...)...), many...)
	_, err = tlswire.Exchange(&scripted{Reader: bytes.NewReader(answer)}, hello(t, tlswire.TLS12), tlswire.Options{})
	var much *tlswire.TooMuchError
	assert.ErrorAs(t, err, &much)
}

// asking is a connection that sends a HelloRequest behind the first record.
type asking struct {
	net.Conn
	asked bool
}

func (a *asking) Write(p []byte) (int, error) {
	if a.asked || len(p) < 5 {
		return a.Conn.Write(p)
	}
	a.asked = true
	end := 5 + int(p[3])<<8 + int(p[4])
	_, err := a.Conn.Write(slices.Concat(p[:end], record(22, 0, 0, 0, 0), p[end:]))
	return len(p), err
}

// TestEndsAndWarnings: a warning before a close is a refusal, and a close_notify the end.
func TestEndsAndWarnings(t *testing.T) {
	exchange := func(answer ...[]byte) error {
		_, err := tlswire.Exchange(&scripted{Reader: bytes.NewReader(slices.Concat(answer...))},
			hello(t, tlswire.TLS12),
			tlswire.Options{})
		return err
	}
	var alert *tlswire.AlertError
	require.ErrorAs(t, exchange(record(21, 1, 41)), &alert)
	assert.Equal(t, "no_certificate", alert.Alert.Name())
	require.ErrorAs(t, exchange(record(21, 1, 0)), &alert)
	assert.Equal(t, "close_notify", alert.Alert.Name())
	var bad *tlswire.BadMessageError
	first := append(append([]byte{3, 3}, make([]byte, 32)...), 0, 0xc0, 0x2b, 0)
	assert.ErrorAs(t, exchange(record(21, 1, 112), record(22, append([]byte{2, 0, 0, byte(len(first))}, first...)...)),
		&bad, "a close after a ServerHello is none of the hello")
	var unasked *tlswire.NotOfferedError
	odd := append(append([]byte{3, 9}, make([]byte, 32)...), 0, 0xc0, 0x2b, 0)
	require.ErrorAs(t, exchange(record(22, append([]byte{2, 0, 0, byte(len(odd))}, odd...)...)), &unasked)
	assert.Equal(t, "version 0x0309", unasked.What)
}

// TestHellosOfAnySize: the first has fewer than 128 suites, a small one fewer than 512 bytes.
func TestHellosOfAnySize(t *testing.T) {
	h := tlswire.Ordinary(tlswire.TLS13, tlswire.TLS12, tlswire.TLS11, tlswire.TLS10)
	assert.Less(t, len(h.Suites)+2, 128, "with a reserved value and a signal")
	assert.Len(t, tlswire.Classic(), len(tlswire.Usual())+len(tlswire.Rare()))
	s := tlswire.Small(tlswire.TLS13, tlswire.TLS12, tlswire.TLS11, tlswire.TLS10)
	s.ServerName, s.SessionID = strings.Repeat("a", 63)+".tarnholm.example", make([]byte, 32)
	s.Shares = []tlswire.KeyShare{{Group: tlswire.X25519, Data: make([]byte, 32)}, {Group: tlswire.P256,
		Data: make([]byte, 65)}}
	assert.Less(t, len(s.Record()), 512)
	null, _ := tlswire.SuiteNamed("TLS_SHA256_SHA256")
	assert.Equal(t, "none", null.Properties().Cipher, "it authenticates only (RFC 9150)")
	assert.Contains(t, tlswire.Modern, null)
}
