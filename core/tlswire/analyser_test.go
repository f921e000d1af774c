package tlswire_test

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/tlswire"
)

// analyser runs Debian's packet analyser, which make test installs.
func analyser(t *testing.T, arguments ...string) string {
	t.Helper()
	cmd := exec.Command("tshark", arguments...)
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir())
	out, err := cmd.Output()
	require.NoError(t, err, "tshark is needed: make test installs it")
	return string(out)
}

// TestRegistries compares the registries with the analyser's lists, which are older by some years.
func TestRegistries(t *testing.T) {
	lists := map[string]map[uint16]string{}
	for line := range strings.Lines(analyser(t, "-G", "values")) {
		f := strings.Split(strings.TrimRight(line, "\n"), "\t")
		if len(f) < 4 || f[0] != "V" {
			continue
		}
		number, err := strconv.ParseUint(f[2], 0, 32)
		if err != nil || number > 0xffff {
			continue
		}
		if lists[f[1]] == nil {
			lists[f[1]] = map[uint16]string{}
		}
		lists[f[1]][uint16(number)] = f[3]
	}
	// the others were drafts
	registered := func(name string) bool {
		return strings.HasPrefix(name, "TLS_") &&
			!strings.Contains(name, "SALSA20")
	}
	t.Run("suites", func(t *testing.T) {
		seen := 0
		for n, name := range lists["tls.handshake.ciphersuite"] {
			if n < 0xff00 && registered(name) {
				seen++
				assert.Equal(t, name, tlswire.Suite(n).String())
			}
		}
		assert.Equal(t, 365, seen)
		assert.Len(t, tlswire.Suites(), 365,
			"two are newer than the analyser, and one of its list is a signal; the other signal it does not list")
	})
	t.Run("groups", func(t *testing.T) {
		seen := 0
		for n, name := range lists["tls.handshake.extensions_supported_group"] {
			if n <= 0x29 || n >= 0x100 && n < 0x105 { // above are experiments of one library
				seen++
				assert.Equal(t, name, tlswire.Group(n).String())
			}
		}
		assert.Equal(t, 36, seen)
		assert.Len(t, tlswire.Groups(), 54)
	})
	t.Run("signature schemes", func(t *testing.T) {
		seen := 0
		for n, name := range lists["tls.handshake.sig_hash_alg"] {
			if n < 0xfe00 {
				seen++
				assert.Equal(t, name, tlswire.SignatureScheme(n).String())
			}
		}
		assert.Equal(t, 17, seen)
		assert.Len(t, tlswire.SignatureSchemes(), 37)
	})
	t.Run("extensions", func(t *testing.T) {
		seen := 0
		for n, name := range lists["tls.handshake.extension.type"] {
			if n > 61 && n != 0xff01 || strings.HasPrefix(name, "Reserved") || strings.Contains(name, "deprecated") {
				continue
			}
			seen++
			assert.Equal(t, name, tlswire.Extension(n).String())
		}
		assert.Equal(t, 48, seen)
		assert.Len(t, tlswire.Extensions(), 64)
	})
	t.Run("alerts", func(t *testing.T) {
		for n, name := range lists["tls.alert_message.desc"] {
			want := strings.ToLower(strings.ReplaceAll(name, " ", "_"))
			assert.Equal(t, want, tlswire.Alert{Description: byte(n)}.Name())
		}
	})
}

func TestSuiteProperties(t *testing.T) {
	tests := []struct {
		name string
		want tlswire.SuiteProperties
	}{
		{"TLS_AES_128_GCM_SHA256", tlswire.SuiteProperties{KeyExchange: "any", Authentication: "any",
			Cipher: "AES-128-GCM", Strength: 128, Hash: "SHA256", ForwardSecrecy: true, Authenticated: true,
			Status: tlswire.Recommended}},
		{"TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384", tlswire.SuiteProperties{KeyExchange: "ECDHE", Authentication: "RSA",
			Cipher: "AES-256-GCM", Strength: 256, Hash: "SHA384", ForwardSecrecy: true, Authenticated: true,
			Status: tlswire.Recommended}},
		{"TLS_RSA_WITH_AES_128_CBC_SHA", tlswire.SuiteProperties{KeyExchange: "RSA", Authentication: "RSA",
			Cipher: "AES-128-CBC", Strength: 128, Hash: "SHA", Status: tlswire.Legacy}},
		{"TLS_DHE_DSS_WITH_3DES_EDE_CBC_SHA", tlswire.SuiteProperties{KeyExchange: "DHE", Authentication: "DSS",
			Cipher: "3DES-CBC", Strength: 112, Hash: "SHA", ForwardSecrecy: true, Status: tlswire.Weak}},
		{"TLS_RSA_EXPORT_WITH_RC4_40_MD5", tlswire.SuiteProperties{KeyExchange: "RSA", Authentication: "RSA",
			Cipher: "RC4-40", Strength: 40, Hash: "MD5", Export: true, Status: tlswire.Broken}},
		{"TLS_RSA_EXPORT1024_WITH_DES_CBC_SHA", tlswire.SuiteProperties{KeyExchange: "RSA", Authentication: "RSA",
			Cipher: "DES-CBC", Strength: 56, Hash: "SHA", Export: true, Status: tlswire.Broken}},
		{"TLS_DH_anon_WITH_AES_128_GCM_SHA256", tlswire.SuiteProperties{KeyExchange: "DH", Authentication: "anonymous",
			Cipher: "AES-128-GCM", Strength: 128, Hash: "SHA256", ForwardSecrecy: true, Authenticated: true,
			Status: tlswire.Broken}},
		{"TLS_RSA_WITH_NULL_SHA256", tlswire.SuiteProperties{KeyExchange: "RSA", Authentication: "RSA", Cipher: "none",
			Hash: "SHA256", Status: tlswire.Broken}},
		{"TLS_ECDHE_RSA_WITH_RC4_128_SHA", tlswire.SuiteProperties{KeyExchange: "ECDHE", Authentication: "RSA",
			Cipher: "RC4-128", Strength: 128, Hash: "SHA", ForwardSecrecy: true, Status: tlswire.Weak}},
		{"TLS_ECDHE_ECDSA_WITH_AES_128_CCM_8", tlswire.SuiteProperties{KeyExchange: "ECDHE", Authentication: "ECDSA",
			Cipher: "AES-128-CCM-8", Strength: 128, Hash: "SHA256", ForwardSecrecy: true, Authenticated: true,
			Status: tlswire.Recommended}},
		{"TLS_PSK_WITH_AES_128_GCM_SHA256", tlswire.SuiteProperties{KeyExchange: "PSK", Authentication: "PSK",
			Cipher: "AES-128-GCM", Strength: 128, Hash: "SHA256", Authenticated: true, Status: tlswire.Legacy}},
		{"TLS_EMPTY_RENEGOTIATION_INFO_SCSV", tlswire.SuiteProperties{Signalling: true}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			suite, ok := tlswire.SuiteNamed(tt.name)
			require.True(t, ok)
			assert.Equal(t, tt.want, suite.Properties())
		})
	}
	for _, s := range tlswire.Suites() {
		p := s.Properties()
		assert.NotEmpty(t, p.KeyExchange, s)
		assert.NotEmpty(t, p.Authentication, s)
		assert.True(t, p.Cipher == "none" == (p.Strength == 0), "%s: %+v", s, p)
		assert.False(t, p.Cipher == "none" && !strings.Contains(s.String(), "NULL") &&
			!strings.HasPrefix(s.String(), "TLS_SHA"), "the cipher of %s is not read", s)
	}
}

// TestRecordings reads what servers sent in the recordings that the Go distribution carries.
func TestRecordings(t *testing.T) {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join(strings.TrimSpace(string(root)), "src/crypto/tls/testdata/*-TLSv1*"))
	require.NoError(t, err)
	read := 0
	for _, path := range files {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		server := serverBytes(t, string(text))
		if len(server) == 0 {
			continue
		}
		read++
		t.Run(filepath.Base(path), func(t *testing.T) {
			version := map[string]tlswire.Version{"10": tlswire.TLS10, "11": tlswire.TLS11, "12": tlswire.TLS12,
				"13": tlswire.TLS13}[strings.Split(filepath.Base(path), "-TLSv")[1][:2]]
			answer, err := tlswire.Exchange(&scripted{Reader: bytes.NewReader(server)},
				tlswire.Ordinary(tlswire.TLS13, tlswire.TLS12), tlswire.Options{})
			var alert *tlswire.AlertError
			if strings.Contains(path, "FallbackSCSV") || strings.Contains(path, "TooSmall") ||
				strings.Contains(path, "NotFound") && err != nil || strings.Contains(path, "NoMatch") && err != nil {
				require.ErrorAs(t, err, &alert)
				return
			}
			if strings.Contains(path, "Resume") && err != nil { // a session that goes on sends no certificate
				return
			}
			require.NoError(t, err)
			assert.Equal(t, version, answer.Hello.Version)
			if version < tlswire.TLS13 {
				assert.NotEmpty(t, answer.Chain.Certificates)
				assert.Equal(t, answer.Hello.Suite.Properties().ForwardSecrecy, answer.Exchange != nil)
			} else {
				assert.NotZero(t, answer.Hello.Share.Group)
			}
		})
	}
	assert.Greater(t, read, 100)
}

// serverBytes are the flows from server to client of a recording.
func serverBytes(t *testing.T, text string) []byte {
	t.Helper()
	var out []byte
	from := false
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, ">>>") {
			from = strings.Contains(line, "(server to client)")
			continue
		}
		if !from || len(line) < 58 {
			continue
		}
		part, err := hex.DecodeString(strings.ReplaceAll(line[10:58], " ", ""))
		require.NoError(t, err)
		out = append(out, part...)
	}
	return out
}

// capture writes flows as packets between two loopback addresses.
func capture(flows []flow) []byte {
	var out bytes.Buffer
	put := func(order binary.ByteOrder, values ...any) {
		for _, v := range values {
			_ = binary.Write(&out, order, v) // a buffer refuses nothing
		}
	}
	// raw IP
	put(binary.LittleEndian, uint32(0xa1b2c3d4), uint16(2), uint16(4), uint32(0), uint32(0), uint32(1<<18), uint32(101))
	ports, sequence := [2]uint16{40000, 443}, [2]uint32{1, 1}
	for i, f := range flows {
		for part := f.data; len(part) > 0; {
			piece := part[:min(len(part), 16000)]
			part = part[len(piece):]
			side := 1
			if f.out {
				side = 0
			}
			put(binary.LittleEndian, uint32(i), uint32(0), uint32(40+len(piece)), uint32(40+len(piece)))
			put(binary.BigEndian, uint8(0x45), uint8(0), uint16(40+len(piece)), uint32(0), uint8(64), uint8(6),
				uint16(0), [4]byte{127, 0, 0, byte(side + 1)}, [4]byte{127, 0, 0, byte(2 - side)})
			put(binary.BigEndian, ports[side], ports[1-side], sequence[side], sequence[1-side], uint16(0x5018),
				uint16(0xffff), uint32(0))
			out.Write(piece)
			sequence[side] += uint32(len(piece))
		}
	}
	return out.Bytes()
}

// TestAnalyserReadsOurConnections decrypts connections of ours with the secrets that they logged.
func TestAnalyserReadsOurConnections(t *testing.T) {
	certificate := identity(t, "RSA")
	tests := []struct {
		name  string
		hello tlswire.ClientHello
		share tlswire.Group
	}{
		{"TLS 1.3", hello(t, tlswire.TLS13), tlswire.X25519},
		{"TLS 1.3 after a retry", hello(t, tlswire.TLS13), tlswire.P521},
		{"TLS 1.2 AES-GCM", hello(t, tlswire.TLS12), 0},
		{"TLS 1.2 AES-CBC", func() tlswire.ClientHello {
			h := hello(t,
				tlswire.TLS12)
			h.Suites = []tlswire.Suite{0xc014}
			return h
		}(), 0},
		{"TLS 1.0 AES-CBC", func() tlswire.ClientHello {
			h := hello(t,
				tlswire.TLS10)
			h.Suites = []tlswire.Suite{0x002f}
			return h
		}(), 0},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			config := &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS10,
				CurvePreferences: []tls.CurveID{tls.X25519, tls.CurveP256},
				CipherSuites:     []uint16{0x002f, 0xc014, 0xc02f}}
			var keys bytes.Buffer
			var flows []flow
			tt.hello.Shares = nil
			o := tlswire.Options{Random: rand.Reader, EncryptRSA: encryptRSA, KeyLog: &keys}
			if tt.share != 0 {
				o.Shares = []tlswire.Group{tt.share}
			}
			s, err, _ := handshake(t, config, tt.hello, o, &flows)
			require.NoError(t, err)
			require.True(t, s.Finished, s.Unfinished)
			directory := t.TempDir()
			packets, log := filepath.Join(directory, "visit.pcap"), filepath.Join(directory, "keys.txt")
			require.NoError(t, os.WriteFile(packets, capture(flows), 0o600))
			require.NoError(t, os.WriteFile(log, keys.Bytes(), 0o600))
			out := analyser(t, "-r", packets, "-o", "tls.keylog_file:"+log, "-q", "-z", "follow,tls,ascii,0")
			assert.Contains(t, out, "ping")
			assert.Contains(t, out, "ong", "some servers send the first byte in a record of its own")
			assert.NotContains(t, analyser(t, "-r", packets, "-V"), "Malformed")
		})
	}
}
