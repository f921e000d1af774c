package cli

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/youmark/pkcs8"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/internal/report"
)

const password = "Lodestar 7"

// desk is a directory with a sound set, an encrypted set, and a key that fits nothing.
func desk(t *testing.T) string {
	t.Helper()
	directory := t.TempDir()
	write := func(name, label string, der []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(directory, name),
			pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der}), 0o600))
	}
	for _, name := range []string{"tides", "pilots", "spare"} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		der, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		if name == "pilots" {
			der, err = pkcs8.MarshalPrivateKey(key, []byte(password),
				&pkcs8.Opts{Cipher: pkcs8.AES256CBC, KDFOpts: pkcs8.PBKDF2Opts{SaltSize: 8, IterationCount: 1000,
					HMACHash: crypto.SHA256}})
			require.NoError(t, err)
			write(name+".key", "ENCRYPTED PRIVATE KEY", der)
		} else {
			write(name+".key", "PRIVATE KEY", der)
		}
		if name == "spare" {
			continue
		}
		spki, err := forge.PublicInfo(key)
		require.NoError(t, err)
		certificate, err := forge.Issue(nil, key, forge.Template{Name: name,
			Names: []string{name + ".tarnholm.example"}, SPKI: spki, From: time.Now().AddDate(0, -1, 0),
			Until: time.Now().AddDate(0, 5, 0)})
		require.NoError(t, err)
		write(name+".crt", "CERTIFICATE", certificate)
	}
	return directory
}

// run calls the program as a person does, without a terminal.
func run(t *testing.T, stdin string, arguments ...string) (status int, stdout, stderr string) {
	t.Helper()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	var out, complaints bytes.Buffer
	a := &app{stdin: strings.NewReader(stdin), stdout: &out, stderr: &complaints, now: time.Now,
		ask: func(string) (string, error) {
			t.Error("nobody is there to ask")
			return "", nil
		}}
	status = a.execute(context.Background(), arguments)
	return status, out.String(), complaints.String()
}

func TestMaterialCommands(t *testing.T) {
	d := desk(t)
	in := func(name string) string { return filepath.Join(d, name) }
	passwords := filepath.Join(t.TempDir(), "passwords")
	require.NoError(t, os.WriteFile(passwords, []byte("one\r\n"+password+"\r\n"), 0o600))
	certificate, err := os.ReadFile(in("tides.crt"))
	require.NoError(t, err)
	tests := []struct {
		name, stdin string
		call        []string
		status      int
		stdout      string
		stderr      string
	}{
		{"identify a directory", "", []string{"identify", d}, 0,
			"5 things in 5 files: 2 × certificate, 2 × private key, 1 × encrypted private key.", ""},
		{"identify one file in full", "", []string{"identify", in("tides.crt"), "--long"}, 0,
			"dns:tides.tarnholm.example", ""},
		{"identify standard input", string(certificate), []string{"identify", "-"}, 0, "standard input:1  certificate",
			""},
		{"identify what is locked", "", []string{"identify", in("pilots.key")}, 3, "locked: it needs a password", ""},
		{"identify it with passwords from a file", "", []string{"identify", in("pilots.key"), "--password-file",
			passwords}, 0, "EC P-256", ""},
		{"identify a file that is not there", "", []string{"identify", in("none"), in("tides.crt")}, 3,
			"not examined: " + in("none"), ""},
		{"identify nothing", "", []string{"identify"}, 2, "", "requires at least 1 arg"},
		{"a password file that is not there", "", []string{"identify", d, "--password-file", in("none")}, 2, "",
			"--password-file"},
		{"pair a directory", "", []string{"pair", d}, 0, "pair.no-certificate  note", ""},
		{"notes count when asked for", "", []string{"pair", d, "--fail-from", "note"}, 1, "spare.key", ""},
		{"pair without shared primes", "", []string{"pair", d, "--no-shared-primes"}, 0, "BELONG TOGETHER", ""},
		{"they belong together", "", []string{"pair", "--key", in("tides.key"), "--certificate", in("tides.crt")}, 0,
			"They belong together: the certificate of tides", ""},
		{"they do not", "", []string{"pair", "--key", in("spare.key"), "--certificate", in("tides.crt")}, 1,
			"They do not belong together", ""},
		{"no password", "", []string{"pair", "--key", in("pilots.key"), "--certificate", in("pilots.crt")}, 3,
			"--password-file", ""},
		{"with the password", "", []string{"pair", "--key", in("pilots.key"), "--certificate", in("pilots.crt"),
			"--password-file", passwords}, 0, "They belong together", ""},
		{"the certificate from standard input", string(certificate),
			[]string{"pair", "--key", in("tides.key"), "--certificate", "-"}, 0, "They belong together", ""},
		{"no key in it", "", []string{"pair", "--key", in("tides.crt"), "--certificate", in("tides.crt")}, 3,
			"There is no private key in", ""},
		{"a key file that is not there", "", []string{"pair", "--key", in("none"), "--certificate", in("tides.crt")}, 3,
			"could not be read", ""},
		{"half a question", "", []string{"pair", "--key", in("tides.key")}, 2, "", "used together"},
		{"question and paths", "", []string{"pair", d, "--key", in("tides.key"), "--certificate", in("tides.crt")}, 2,
			"", "leave out"},
		{"pair nothing", "", []string{"pair"}, 2, "", "name a file or a directory"},
		{"both from standard input", "", []string{"pair", "--key", "-", "--certificate", "-"}, 2, "", "not both"},
		{"nothing to send", "", []string{"collect", "tides.tarnholm.example"}, 2, "", "no file and no directory"},
		{"no severity", "", []string{"pair", d, "--fail-from", "bad"}, 2, "", "fault, risk, note or never"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			status, stdout, stderr := run(t, tt.stdin, tt.call...)
			assert.Equal(t, tt.status, status, "%s\n%s", stdout, stderr)
			assert.Contains(t, strings.Join(strings.Fields(stdout), " "), strings.Join(strings.Fields(tt.stdout), " "))
			assert.Contains(t, stderr, tt.stderr)
		})
	}
	t.Run("a password from the environment", func(t *testing.T) {
		t.Setenv("NURVIK_PASSWORD", password)
		status, stdout, _ := run(t, "", "pair", "--key", in("pilots.key"), "--certificate", in("pilots.crt"))
		assert.Equal(t, 0, status, stdout)
	})
	t.Run("JSON", func(t *testing.T) {
		_, stdout, _ := run(t, "", "identify", d, "-o", "json")
		var v report.Inventory
		require.NoError(t, json.Unmarshal([]byte(stdout), &v))
		require.Len(t, v.Files, 5)
		assert.Equal(t, facts.PrivateKey, v.Files[1].Entries[0].Kind)
		assert.NotEmpty(t, v.Files[0].Entries[0].SHA256)
		_, stdout, _ = run(t, "", "pair", d, "-o", "json")
		var p struct {
			Groups, Unpaired []any
			Files            []report.PairFile
		}
		require.NoError(t, json.Unmarshal([]byte(stdout), &p))
		assert.Equal(t, [3]int{1, 3, 5}, [3]int{len(p.Groups), len(p.Unpaired), len(p.Files)})
		_, stdout, _ = run(t, "", "pair", "--key", in("spare.key"), "--certificate", in("tides.crt"), "-o", "json")
		var a struct{ Belong, Known bool }
		require.NoError(t, json.Unmarshal([]byte(stdout), &a))
		assert.False(t, a.Belong)
		assert.True(t, a.Known)
	})
}

// TestInterruptedReading shows what was read until then, and says so.
func TestInterruptedReading(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	for _, command := range []string{"identify", "pair"} {
		var out, complaints bytes.Buffer
		a := &app{stdin: strings.NewReader(""), stdout: &out, stderr: &complaints, now: time.Now}
		assert.Equal(t, 3, a.execute(ctx, []string{command, desk(t)}), command)
		assert.Contains(t, complaints.String(), "interrupted")
		assert.Contains(t, out.String(), "interrupted before all of it was read")
	}
}
