package acceptance

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/harbour"
	"nurvik/internal/report"
)

// TestPairTellsTheTruth holds "nurvik pair" to the list of truths, but for what only chains show.
func TestPairTellsTheTruth(t *testing.T) {
	o := nurvik(t, "pair", estate.Hosts, "--password-file", estate.Passwords, "-o", "json")
	assert.Equal(t, 1, o.status, o.stderr)
	pairs := decoded[struct {
		Files  []report.PairFile
		Groups []struct{ Keys, Certificates, Requests []any }
	}](t, o.stdout)
	got := map[string][]string{}
	for _, f := range pairs.Files {
		relative, err := filepath.Rel(filepath.Dir(estate.Hosts), f.Path)
		require.NoError(t, err)
		got[relative] = []string{}
		for _, x := range f.Findings {
			got[relative] = append(got[relative], x.Code+" "+string(x.Severity))
		}
	}
	for path, s := range readTruth(t).Files {
		if !strings.HasPrefix(path, "hosts/") {
			continue
		}
		want := []string{}
		for _, f := range s.Findings {
			if area, _, _ := strings.Cut(f, "."); area != "chain" && area != "time" && area != "name" {
				want = append(want, f)
			}
		}
		assert.ElementsMatch(t, want, got[path], path)
		delete(got, path)
	}
	assert.Empty(t, got, "files that the list does not know")
	assert.Greater(t, len(pairs.Groups), 30)

	without := nurvik(t, "pair", estate.Hosts, "--password-file", estate.Passwords, "--no-shared-primes", "-o", "json")
	assert.NotContains(t, without.stdout, "key.shared-prime", "that search was left out")
}

// TestIdentifyKnowsEverything reads every form that lies on the machines.
func TestIdentifyKnowsEverything(t *testing.T) {
	o := nurvik(t, "identify", estate.Hosts, "--password-file", estate.Passwords, "-o", "json")
	assert.Equal(t, 0, o.status, o.stderr)
	v := decoded[report.Inventory](t, o.stdout)
	kinds, forms, containers := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, f := range v.Files {
		for _, e := range f.Entries {
			kinds[e.What], forms[e.Form], containers[e.Container] = true, true, true
		}
	}
	for _, what := range []string{"certificate", "root certificate", "certificate request", "private key",
		"encrypted private key", "public key", "CRL", "parameters", "secret key", "encrypted entry"} {
		assert.True(t, kinds[what], what)
	}
	for _, form := range []string{"PEM", "DER", "base64", "PEM in base64", "PEM with escaped line ends", "PKCS#12",
		"JKS", "JCEKS"} {
		assert.True(t, forms[form], form)
	}
	for _, container := range []string{"PKCS#7", "PKCS#12", "JKS", "JCEKS"} {
		assert.True(t, containers[container], container)
	}
	says := func(text string, arguments ...string) bool { // past the breaks of lines
		o := nurvik(t, append([]string{"identify", estate.Hosts, "--password-file", estate.Passwords}, arguments...)...)
		return strings.Contains(strings.Join(strings.Fields(o.stdout), " "), text)
	}
	assert.True(t, says("Windows line ends (CRLF)", "--long"))
	assert.True(t, says("old-Mac line ends (CR)", "--long"))
	assert.False(t, says("line ends (CR"), "what hurts nobody is told only in full")
}

func TestArchiveOnStandardInput(t *testing.T) {
	var archive bytes.Buffer
	w := zip.NewWriter(&archive)
	for _, name := range []string{"quay.crt", "quay.key"} {
		data, err := os.ReadFile(filepath.Join(estate.Hosts, "quay/etc/ssl", name))
		require.NoError(t, err)
		f, err := w.Create("offer/" + name)
		require.NoError(t, err)
		_, err = f.Write(data)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	o := call(t, archive.String(), "nurvik", "pair", "-")
	assert.Equal(t, 0, o.status, o.stdout)
	assert.Contains(t, o.stdout, "standard input/offer/quay.key")
	assert.Contains(t, o.stdout, "1 group, 0 left over")
}

// TestPasswordPrompt answers at a terminal, as a person does.
func TestPasswordPrompt(t *testing.T) {
	key, certificate := filepath.Join(estate.Hosts, "gatehouse/keys/lock.key"),
		filepath.Join(estate.Hosts, "gatehouse/keys/lock.crt")
	for answer, want := range map[string]string{harbour.Password: "They belong together",
		"nope": "the password is wrong", "": "none was given"} {
		t.Run("answer "+answer, func(t *testing.T) {
			cmd := exec.Command("script", "-qec", filepath.Join(binaries,
				"nurvik")+" pair --key "+key+" --certificate "+certificate, "/dev/null")
			cmd.Env = append(os.Environ(), "HOME="+t.TempDir(), "XDG_CONFIG_HOME="+t.TempDir(), "TERM=xterm")
			stdin, err := cmd.StdinPipe()
			require.NoError(t, err)
			output := &syncBuffer{}
			cmd.Stdout = output
			require.NoError(t, cmd.Start())
			require.Eventually(t, func() bool { return strings.Contains(output.String(), "Password") },
				10*time.Second, 20*time.Millisecond, "it asks")
			_, err = stdin.Write([]byte(answer + "\n"))
			require.NoError(t, err)
			require.Eventually(t, func() bool { return strings.Contains(output.String(), want) },
				20*time.Second, 20*time.Millisecond, want)
			require.NoError(t, stdin.Close())
			_ = cmd.Wait()
			assert.Contains(t, output.String(), "Files that need a password: 1.")
			assert.Contains(t, output.String(), want)
			if answer != "" {
				assert.NotContains(t, output.String(), answer, "the password is not shown")
			}
		})
	}
}

// TestWhatStaysClosed: wrong, damaged and not supported are three different messages.
func TestWhatStaysClosed(t *testing.T) {
	store, err := os.ReadFile(filepath.Join(estate.Hosts, "gatehouse/stores/barrier.p12"))
	require.NoError(t, err)
	damaged := filepath.Join(t.TempDir(), "damaged.p12")
	require.NoError(t, os.WriteFile(damaged, store[:len(store)-40], 0o600))
	for name, tt := range map[string]struct{ path, says string }{
		"wrong password": {filepath.Join(estate.Hosts, "gatehouse/stores/forgotten.p12"), "the password is wrong"},
		"damaged":        {damaged, "cut off"},
		"not supported":  {filepath.Join(estate.Hosts, "desk/sealed.zip"), "it is encrypted, and compressed in a way"},
	} {
		t.Run(name, func(t *testing.T) {
			o := nurvik(t, "audit", tt.path, "--password-file", estate.Passwords, "-o", "json")
			assert.Contains(t, []int{1, 3}, o.status)
			assert.True(t, json.Valid([]byte(o.stdout)))
			assert.Contains(t, o.stdout, tt.says)
		})
	}
}
