package acceptance

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/compare"
)

func TestCompare(t *testing.T) {
	base := filepath.Dir(estate.EstateFile)
	host := func(name string) string { return filepath.Join(base, "hosts", name) }
	served := fmt.Sprintf("tides.tarnholm.example:%d", estate.Port)
	saved := filepath.Join(t.TempDir(), "yesterday.json")
	o := nurvik(t, "audit", served, "--trust", anchors("outer"), "--fail-from", "never", "-o", "json")
	require.Equal(t, 0, o.status, o.stderr)
	require.NoError(t, os.WriteFile(saved, []byte(o.stdout), 0o600))
	for name, tt := range map[string]struct {
		call     []string
		status   int
		sentence string
	}{
		"names dropped": {[]string{host("replies/ebb.csr"), host("replies/ebb.crt")}, 1,
			"The key of the request, two names fewer."},
		"names dropped, and they do not count": {[]string{host("replies/ebb.csr"), host("replies/ebb.crt"), "--ignore",
			"names,chain"}, 0, "The key of the request, two names fewer."},
		"a usage too many": {[]string{host("replies/overreach.csr"), host("replies/overreach.crt")}, 1,
			"The key of the request, all its names, one usage too many."},
		"the old key again": {[]string{host("quay/etc/ssl/lantern-2025.crt"), host("quay/etc/ssl/lantern-2026.crt")}, 0,
			"The same key, the same names."},
		"keystore and file": {[]string{host("gatehouse/turnstile/turnstile.p12"),
			host("gatehouse/turnstile/turnstile.crt"),
			"--password-file", filepath.Join(base, "passwords.txt")}, 1,
			"A new key, the same names, one chain certificate fewer."},
		"file and endpoint": {[]string{filepath.Join(estate.Files, "tides-fullchain.pem"), served}, 0,
			"The same key, the same names."},
		"an endpoint and what it was": {[]string{saved, served, "--effort", "normal"}, 0, "The same certificate."},
		"two trust stores": {[]string{"public:" + anchors("outer"), anchors("inner")}, 1,
			"Two roots fewer, one root more."},
		"the same store": {[]string{"public:" + anchors("outer"), "private:" + anchors("outer")}, 0,
			"Two roots in common, roots of another kind."},
		"a store that is none": {[]string{"public:" + host("none.pem"), anchors("inner")}, 3, ""},
		"nothing to compare":   {[]string{filepath.Join(estate.Files, "README.txt"), anchors("inner")}, 3, ""},
		"a locked keystore":    {[]string{host("gatehouse/stores/forgotten.p12"), anchors("inner")}, 3, ""},
		"no such aspect":       {[]string{saved, saved, "--ignore", "colour"}, 2, ""},
		"one thing":            {[]string{saved}, 2, ""},
		"visit what":           {[]string{saved, saved, "--visit-at", "127.0.0.1"}, 2, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := nurvik(t, append([]string{"compare", "-o", "json"}, tt.call...)...)
			assert.Equal(t, tt.status, o.status, o.stderr+o.stdout)
			if tt.sentence == "" {
				assert.NotEmpty(t, o.stderr)
				return
			}
			assert.Equal(t, tt.sentence, decoded[compare.Result](t, o.stdout).Sentence)
		})
	}
	o = nurvik(t, "compare", host("replies/ebb.csr"), host("replies/ebb.crt"))
	assert.Contains(t, o.stdout,
		"■ Asked for and not in the certificate: low.ebb.tarnholm.example, neap.ebb.tarnholm.example.")
}
