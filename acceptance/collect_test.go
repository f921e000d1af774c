package acceptance

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
)

// planted is a password in testdata/planted, where people write one into configuration and where a mistake puts it.
const planted = "Wreck-Buoy-77!Xq"

// dresses are the encodings in which a secret could leave.
func dresses(secret []byte) map[string][]byte {
	return map[string][]byte{
		"as it is":    secret,
		"hexadecimal": []byte(hex.EncodeToString(secret)),
		"base64":      []byte(strings.TrimRight(base64.StdEncoding.EncodeToString(secret), "=")),
		"base64 url":  []byte(base64.RawURLEncoding.EncodeToString(secret)),
		"escaped":     []byte(url.QueryEscape(string(secret))),
	}
}

// TestCollectKeepsSecrets: no secret part of a key and no password of a configuration is in what is shown to leave, in
// what does leave, or in the files of the database.
func TestCollectKeepsSecrets(t *testing.T) {
	machine := filepath.Join(t.TempDir(), "machine")
	ca := newSmallCA(t)
	set := ca.set("a.tarnholm.example", 5)
	put := func(path string, data []byte) {
		at := filepath.Join(machine, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o700))
		require.NoError(t, os.WriteFile(at, data, 0o600))
	}
	require.NoError(t, os.CopyFS(machine, os.DirFS("testdata/planted")))
	put("etc/nginx/a.pem", set.certificate)
	put("etc/nginx/a.key", set.key)
	block, _ := pem.Decode(set.key)
	require.NotNil(t, block)
	secret := block.Bytes[len(block.Bytes)-110 : len(block.Bytes)-72] // of PKCS#8: the octets before the public half
	data := dataDirectory(t)
	d := serve(t, data)

	var mutex sync.Mutex
	var traffic bytes.Buffer
	target, err := url.Parse(d.address)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	recorder := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		mutex.Lock()
		traffic.WriteString(r.URL.String())
		traffic.Write(body)
		mutex.Unlock()
		r.Host = target.Host
		r.Header.Del("Origin")
		proxy.ServeHTTP(w, r)
	}))
	defer recorder.Close()
	tokens.Store(recorder.URL, d.token)

	shown := nurvik(t, "collect", machine, "--dry-run")
	require.Equal(t, 0, shown.status, shown.stderr)
	sent := nurvik(t, "collect", machine, "--holding", "planted", "--server", recorder.URL)
	require.Equal(t, 0, sent.status, sent.stderr)
	list := nurvik(t, "holding", "show", "planted", "--server", d.address, "-o", "json")
	require.Equal(t, 0, list.status, list.stderr)
	view := decoded[api.HoldingView](t, list.stdout)
	codes := map[string]bool{}
	for _, f := range view.Findings {
		codes[f.Code] = true
	}
	judged := codes["config.broken"] || codes["config.not-understood"]
	assert.True(t, judged, "the configuration is judged there: %v", codes)
	assert.Greater(t, strings.Count(shown.stdout, `"configuration"`), 11)

	var stored bytes.Buffer
	require.NoError(t, filepath.WalkDir(data, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			content, _ := os.ReadFile(path)
			stored.Write(content)
		}
		return nil
	}))
	require.Contains(t, traffic.String(), "a.tarnholm.example")
	require.Contains(t, stored.String(), "a.tarnholm.example")
	for place, all := range map[string][]byte{"the dry run": []byte(shown.stdout), "the traffic": traffic.Bytes(),
		"the answers": []byte(list.stdout), "the database": stored.Bytes()} {
		for name, dress := range dresses([]byte(planted)) {
			assert.False(t, bytes.Contains(all, dress), "the password, %s, is in %s", name, place)
		}
		for name, dress := range dresses(secret) {
			assert.False(t, bytes.Contains(all, dress), "the key, %s, is in %s", name, place)
		}
	}
	again := nurvik(t, "collect", machine, "--dry-run")
	assert.Equal(t, shown.stdout, again.stdout, "the same machine gives the same facts")
}
