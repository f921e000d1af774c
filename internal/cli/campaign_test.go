package cli

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/harbour"
)

// campaign is how long files are mutated. "make fuzz-files TIME=10m" says longer.
func campaign(t *testing.T) time.Duration {
	text := os.Getenv("NURVIK_CAMPAIGN")
	if text == "" {
		return 8 * time.Second
	}
	d, err := time.ParseDuration(text)
	require.NoError(t, err)
	return d
}

// TestMutatedFiles changes the files of every machine of the harbour, one after
// the other and in many ways, and gives each to the five commands: none may fall
// over, hang or say what is no JSON, and what the standard library reads of a
// file is found in it.
func TestMutatedFiles(t *testing.T) {
	h, err := harbour.Start(harbour.Options{Directory: t.TempDir(), Now: time.Now()})
	require.NoError(t, err)
	defer h.Close()
	var names []string
	var files [][]byte
	require.NoError(t, filepath.WalkDir(h.Hosts, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		data, err := os.ReadFile(path)
		if len(data) > 0 && len(data) < 1<<17 {
			names, files = append(names, filepath.Base(path)), append(files, data)
		}
		return err
	}))
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 0))
	directory := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	rounds := 0
	for end := time.Now().Add(campaign(t)); time.Now().Before(end) && !t.Failed(); rounds++ {
		i := random.IntN(len(files))
		data := files[i]
		for range 1 + random.IntN(4) {
			data = mutated(random, data, files[random.IntN(len(files))])
		}
		path := filepath.Join(directory, names[i])
		if len(data) == 0 {
			continue
		}
		require.NoError(t, os.WriteFile(path, data, 0o600))
		commands(t, path, h.Passwords)
		compared(t, path, data, h.Passwords)
		if t.Failed() {
			kept := filepath.Join(os.TempDir(), "nurvik-campaign-"+names[i])
			_ = os.WriteFile(kept, data, 0o600)
			t.Errorf("seed %d, round %d: the file is kept as %s", seed, rounds, kept)
		}
		require.NoError(t, os.Remove(path))
	}
	t.Logf("%d files in five commands, seed %d", rounds, seed)
	assert.Positive(t, rounds)
}

// mutated changes something at random.
func mutated(random *rand.Rand, data, other []byte) []byte {
	out := bytes.Clone(data)
	if len(out) < 2 {
		return bytes.Clone(other)
	}
	at := random.IntN(len(out))
	size := min(len(out)-at, 1+random.IntN(1<<random.IntN(9)))
	switch random.IntN(12) {
	case 0:
		out[at] ^= 1 << random.IntN(8)
	case 1:
		out[at] = byte(random.Uint32())
	case 2:
		return out[:at]
	case 3:
		return out[at:]
	case 4:
		return append(out[:at], out[at+size:]...)
	case 5:
		return bytes.Join([][]byte{out[:at+size], out[at:]}, nil)
	case 6:
		from := random.IntN(len(other))
		return bytes.Join([][]byte{out[:at], other[from:min(len(other), from+size)], out[at:]}, nil)
	case 7:
		return bytes.Join([][]byte{out, other}, nil)
	case 8:
		lines := bytes.SplitAfter(out, []byte("\n"))
		a, b := random.IntN(len(lines)), random.IntN(len(lines))
		lines[a], lines[b] = lines[b], lines[a]
		return bytes.Join(lines, nil)
	case 9:
		lines := bytes.SplitAfter(out, []byte("\n"))
		a := random.IntN(len(lines))
		return bytes.Join(append(lines[:a:a], lines[a+1:]...), nil)
	case 10:
		spoilers := []string{"\n", "\r\n", " ", "-", "-----BEGIN CERTIFICATE-----\n", "> ", "=3D", "\x00", "=\n", "\t",
			"—"}
		return bytes.Join([][]byte{out[:at], []byte(spoilers[random.IntN(len(spoilers))]), out[at:]}, nil)
	case 11: // a length or a tag of DER
		out[at] = []byte{0x00, 0x30, 0x80, 0x82, 0x83, 0x84, 0x02, 0x7f, 0xff}[random.IntN(9)]
	}
	return out
}

// called runs a command within its time.
func called(t *testing.T, arguments ...string) (status int, stdout string) {
	var out, complaints bytes.Buffer
	a := &app{stdin: strings.NewReader(""), stdout: &out, stderr: &complaints, now: time.Now,
		ask: func(string) (string, error) { return "", nil }}
	started := time.Now()
	status = a.execute(context.Background(), arguments)
	call := strings.Join(arguments, " ")
	assert.Less(t, time.Since(started), 20*time.Second, call)
	assert.Contains(t, []int{0, 1, 3}, status, "%s: %s", call, complaints.String())
	assert.NotContains(t, complaints.String(), "a defect of Nurvik itself", call)
	return status, out.String()
}

// commands gives the file to each.
func commands(t *testing.T, path, passwords string) {
	for _, call := range [][]string{{"identify", path, "-o", "json"}, {"identify", path, "--long"},
		{"pair", path, "-o", "jsonl"}, {"pair", "--key", path, "--certificate", path}, {"audit", path, "-o", "json"},
		{"audit", path}, {"chain", path, "-o", "json"}} {
		_, stdout := called(t, append(call, "--password-file", passwords)...)
		switch call[len(call)-1] {
		case "json":
			assert.True(t, stdout == "" || json.Valid([]byte(stdout)), "%v", call)
		case "jsonl":
			for line := range strings.Lines(stdout) {
				assert.True(t, json.Valid([]byte(line)), "%v: %s", call, line)
			}
		}
	}
}

// compared holds what is identified in a file against what the standard library reads in it.
func compared(t *testing.T, path string, data []byte, passwords string) {
	_, stdout := called(t, "identify", path, "-o", "json", "--password-file", passwords)
	found := func(der []byte) bool {
		sum := sha256.Sum256(der)
		return strings.Contains(stdout, hex.EncodeToString(sum[:]))
	}
	for _, magic := range []string{"PK\x03\x04", "\x1f\x8b", "\xfe\xed\xfe\xed", "\xce\xce\xce\xce"} {
		if bytes.HasPrefix(data, []byte(magic)) { // what is behind archives and Java keystores no program reads
			return
		}
	}
	if len(data) > 262 && string(data[257:262]) == "ustar" {
		return
	}
	if c, err := x509.ParseCertificate(data); err == nil {
		assert.True(t, found(c.Raw), "%s: the certificate in DER", path)
	}
	if data[0] == 0x30 { // PEM that got into the midst of a keystore was never meant
		return
	}
	for rest := data; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return
		}
		switch block.Type {
		case "CERTIFICATE":
			if _, err := x509.ParseCertificate(block.Bytes); err == nil {
				assert.True(t, found(block.Bytes), "%s: a certificate", path)
			}
		case "CERTIFICATE REQUEST":
			if _, err := x509.ParseCertificateRequest(block.Bytes); err == nil {
				assert.True(t, found(block.Bytes), "%s: a request", path)
			}
		case "PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY":
			if spki := publicHalf(block); spki != nil {
				assert.True(t, found(spki), "%s: a private key", path)
			}
		}
	}
}

// publicHalf is the SubjectPublicKeyInfo of a private key that the standard library reads, nil for none.
func publicHalf(block *pem.Block) []byte {
	if len(block.Headers) > 0 {
		return nil
	}
	var key any
	err := fmt.Errorf("unknown")
	for _, parse := range []func([]byte) (any, error){x509.ParsePKCS8PrivateKey,
		func(der []byte) (any, error) { return x509.ParsePKCS1PrivateKey(der) },
		func(der []byte) (any, error) { return x509.ParseECPrivateKey(der) }} {
		if key, err = parse(block.Bytes); err == nil {
			break
		}
	}
	signer, ok := key.(crypto.Signer)
	if err != nil || !ok {
		return nil
	}
	spki, err := x509.MarshalPKIXPublicKey(signer.Public())
	if err != nil {
		return nil
	}
	return spki
}
