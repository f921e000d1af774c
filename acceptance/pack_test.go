package acceptance

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/report"
)

func TestPack(t *testing.T) {
	base := filepath.Dir(estate.EstateFile)
	replies, chain := filepath.Join(base, "hosts/replies"), filepath.Join(estate.Files, "tides-fullchain.pem")
	secret := filepath.Join(t.TempDir(), "secret.txt")
	require.NoError(t, os.WriteFile(secret, []byte("Lodestar 8\n"), 0o600))
	ebb := []string{replies, "--name", "ebb.tarnholm.example", "--trust", anchors("outer")}
	with := func(call []string, more ...string) []string { return append(slices.Clone(call), more...) }
	for name, tt := range map[string]struct {
		call   []string
		status int
		files  []string
		line   string // of the configuration, "" for none
	}{
		"bundle": {[]string{chain, "--trust", anchors("outer"), "--shape", "bundle"}, 0,
			[]string{"tides.tarnholm.example-bundle.pem"}, "ssl_certificate {}/tides.tarnholm.example-bundle.pem;"},
		"a root among the files will do": {[]string{chain, anchors("outer"), "--shape", "split"}, 0,
			[]string{"tides.tarnholm.example-chain.pem", "tides.tarnholm.example.crt"}, ""},
		"as for nginx": {with(ebb, "--as-for", "nginx"), 0,
			[]string{"ebb.tarnholm.example-bundle.pem", "ebb.tarnholm.example.key"},
			"ssl_certificate_key {}/ebb.tarnholm.example.key;"},
		"as for HAProxy": {with(ebb, "--as-for", "HAProxy", "--file", "site"), 0, []string{"site.pem"},
			"bind :443 ssl crt {}/site.pem"},
		"as for httpd": {with(ebb, "--as-for", "httpd", "--file", "site"), 0, []string{"site-bundle.pem", "site.key"},
			"SSLCertificateFile {}/site-bundle.pem"},
		"a keystore": {with(ebb, "--as-for", "tomcat", "--new-password-file", secret), 0,
			[]string{"ebb.tarnholm.example.p12"}, ""},
		"a key out of a keystore": {[]string{filepath.Join(base, "hosts/gatehouse/stores/barrier.p12"),
			"--password-file",
			filepath.Join(base, "passwords.txt"),
			"--shape", "combined", "--file", "x"}, 0, []string{"x.pem"}, "bind :443 ssl crt {}/x.pem"},
		"no key":        {[]string{chain, "--trust", anchors("outer"), "--shape", "combined"}, 1, nil, ""},
		"no chain":      {with(ebb[:3], "--shape", "bundle"), 1, nil, ""},
		"no such name":  {with(ebb, "--name", "flood.tarnholm.example", "--shape", "bundle"), 1, nil, ""},
		"which of them": {[]string{replies, "--trust", anchors("outer"), "--shape", "bundle"}, 1, nil, ""},
		"a weak signature": {[]string{filepath.Join(estate.Files, "foghorn-md5.pem"), "--trust", anchors("outer"),
			"--shape", "bundle"}, 1, nil, ""},
		"expired by then":    {with(ebb, "--shape", "bundle", "--at", "+400d"), 1, nil, ""},
		"no certificate":     {[]string{filepath.Join(estate.Files, "README.txt"), "--shape", "bundle"}, 3, nil, ""},
		"no password":        {with(ebb, "--shape", "keystore"), 2, nil, ""},
		"no shape":           {ebb, 2, nil, ""},
		"two shapes":         {with(ebb, "--shape", "bundle", "--as-for", "nginx"), 2, nil, ""},
		"no such shape":      {with(ebb, "--shape", "sphere"), 2, nil, ""},
		"no such server":     {with(ebb, "--as-for", "lodestar"), 2, nil, ""},
		"a path as the name": {with(ebb, "--shape", "bundle", "--file", "../x"), 2, nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			into := t.TempDir()
			o := nurvik(t, append([]string{"pack", "-o", "json", "--out", into}, tt.call...)...)
			assert.Equal(t, tt.status, o.status, o.stderr+o.stdout)
			assert.NotContains(t, o.stdout+o.stderr, "PRIVATE KEY")
			entries, err := os.ReadDir(into)
			require.NoError(t, err)
			var files []string
			for _, e := range entries {
				files = append(files, e.Name())
			}
			assert.Equal(t, tt.files, files)
			if tt.status != 0 {
				assert.NotEmpty(t, o.stderr)
				return
			}
			packed := decoded[report.Packed](t, o.stdout)
			if tt.line != "" {
				var lines []string
				for _, s := range packed.Servers {
					lines = append(lines, s.Lines...)
				}
				assert.Contains(t, lines, strings.ReplaceAll(tt.line, "{}", into))
			}
			again := nurvik(t, append([]string{"pack", "--out", into}, tt.call...)...)
			assert.Equal(t, 2, again.status, "nothing is replaced")
			again = nurvik(t, append([]string{"pack", "--out", into, "--force"}, tt.call...)...)
			assert.Equal(t, 0, again.status, again.stderr)
			if slices.Contains(tt.call, "split") {
				return // a file with the leaf alone is no whole chain
			}
			judged := nurvik(t, "audit", into, "--trust", anchors("outer"), "--password-file", secret)
			assert.Equal(t, 0, judged.status, judged.stdout)
		})
	}
}
