package fetch_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"nurvik/internal/fetch"
	"nurvik/internal/outbound"
)

func lookup(_ context.Context, host string) ([]netip.Addr, error) {
	switch host {
	case "lists.tarnholm.example":
		return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
	case "inside.tarnholm.example":
		return []netip.Addr{netip.MustParseAddr("10.1.2.3"), netip.MustParseAddr("::ffff:192.168.1.1")}, nil
	}
	return nil, errors.New("the name server knows no address of " + host)
}

func TestFetch(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/list", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		_, _ = io.WriteString(w, r.Method+" "+r.Header.Get("Content-Type")+" "+string(body))
	})
	mux.HandleFunc("/long", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(make([]byte, 5000)) })
	mux.HandleFunc("/moved", func(w http.ResponseWriter,
		r *http.Request) {
		http.Redirect(w, r, "/list", http.StatusFound)
	})
	mux.HandleFunc("/inward", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://169.254.169.254/keys", http.StatusFound)
	})
	mux.HandleFunc("/other", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "https://lists.tarnholm.example/", http.StatusFound)
	})
	mux.HandleFunc("/round", func(w http.ResponseWriter,
		r *http.Request) {
		http.Redirect(w, r, "/round", http.StatusFound)
	})
	mux.HandleFunc("/slow", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	server := httptest.NewServer(mux)
	defer server.Close()
	_, port, err := net.SplitHostPort(strings.TrimPrefix(server.URL, "http://"))
	require.NoError(t, err)
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := "http://" + closed.Addr().String() + "/"
	require.NoError(t, closed.Close())
	_, closedPort, err := net.SplitHostPort(closed.Addr().String())
	require.NoError(t, err)
	allowed, err := outbound.ParseNetworks([]string{"127.0.0.0/8=" + port + "," + closedPort})
	require.NoError(t, err)
	f := fetch.New(fetch.Options{Allowed: allowed, Lookup: lookup, Timeout: 2 * time.Second})
	tests := []struct {
		name, address, want, failure string
	}{
		{"by address", server.URL + "/list", "GET  ", ""},
		{"by name", "http://lists.tarnholm.example:" + port + "/list", "GET  ", ""},
		{"moved", server.URL + "/moved", "GET  ", ""},
		{"moved inward", server.URL + "/inward", "",
			"169.254.169.254 is neither public nor in a network that is allowed"},
		{"moved to another protocol", server.URL + "/other", "", "moved too often or to another protocol"},
		{"moved for ever", server.URL + "/round", "", "moved too often"},
		{"too long", server.URL + "/long", "", "more than 1000 bytes"},
		{"missing", server.URL + "/none", "", "status 404"},
		{"nobody there", nobody, "", "nothing listens there"},
		{"no answer", server.URL + "/slow", "", "no answer came in time"},
		{"not allowed", "http://inside.tarnholm.example/", "", "10.1.2.3 is neither public"},
		{"a private address in other clothes", "http://[::ffff:10.0.0.1]/", "", "neither public"},
		{"unknown name", "http://none.tarnholm.example/", "", "knows no address"},
		{"other protocol", "ldap://lists.tarnholm.example/cn=list", "", "only http is used"},
		{"a file", "file:///etc/passwd", "", "no address of the web"},
		{"nonsense", "://", "", "no address of the web"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			data, err := f.Get(t.Context(), tt.address, 1000)
			if tt.failure != "" {
				assert.ErrorContains(t, err, tt.failure)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, tt.want, string(data))
		})
	}
	t.Run("post", func(t *testing.T) {
		data, err := f.Post(t.Context(), server.URL+"/list", "application/ocsp-request", []byte("question"), 1000)
		require.NoError(t, err)
		assert.Equal(t, "POST application/ocsp-request question", string(data))
	})
	t.Run("nothing but public addresses unless allowed", func(t *testing.T) {
		strict := fetch.New(fetch.Options{Lookup: lookup})
		for _, address := range []string{"127.0.0.1", "[::1]", "0.0.0.0", "169.254.1.1", "100.64.0.1", "[fe80::1]",
			"[fc00::1]", "224.0.0.1", "255.255.255.255", "[::10.0.0.1]", "[::198.41.0.4]", "[fec0::1]", "192.88.99.1",
			"[3fff::1]", "[5f00::1]", "[64:ff9b::10.0.0.1]", "[64:ff9b::127.0.0.1]", "[64:ff9b:1::1]", "[2002::1]"} {
			_, err := strict.Get(t.Context(), "http://"+address+"/", 10)
			assert.ErrorContains(t, err, "neither public nor", address)
		}
	})
	t.Run("an allowed network on its ports alone", func(t *testing.T) {
		usual := fetch.New(fetch.Options{Allowed: networks(t, "127.0.0.0/8"), Lookup: lookup, Timeout: 2 * time.Second})
		_, err := usual.Get(t.Context(), server.URL+"/list", 1000)
		assert.ErrorContains(t, err, "allowed on port "+port)
		_, err = usual.Get(t.Context(), "http://127.77.0.1/list", 1000)
		assert.NotContains(t, err.Error(), "allowed on port", "80 is one of the usual ports")
		translated := fetch.New(fetch.Options{Allowed: networks(t, "10.0.0.0/8=81"), Timeout: time.Millisecond})
		_, err = translated.Get(t.Context(), "http://[64:ff9b::10.0.0.1]:81/", 10)
		assert.NotContains(t, err.Error(), "allowed on port", "it counts as the address in it")
	})
	for text, want := range map[string]string{"10.0.0.0": "ADDRESS/BITS", "10.0.0.0/8=": "no port",
		"10.0.0.0/8=80,": "no port", "10.0.0.0/8=0": "no port", "10.0.0.0/8=70000": "no port"} {
		_, err = outbound.ParseNetworks([]string{text})
		assert.ErrorContains(t, err, want, text)
	}
	for text, want := range map[string]string{"10.1.2.3/8": "[{10.0.0.0/8 []}]",
		"{network: 10.0.0.0/8}":                    "[{10.0.0.0/8 []}]",
		"{network: 10.0.0.0/8, ports: [80, 8080]}": "[{10.0.0.0/8 [80 8080]}]", "fd00::/8=81": "[{fd00::/8 [81]}]"} {
		var entry outbound.NetworkEntry
		require.NoError(t, yaml.Unmarshal([]byte(text), &entry))
		n, err := entry.Parse()
		require.NoError(t, err)
		assert.Equal(t, want, fmt.Sprint([]outbound.Network{n}))
	}
}

func networks(t *testing.T, texts ...string) []outbound.Network {
	t.Helper()
	out, err := outbound.ParseNetworks(texts)
	require.NoError(t, err)
	return out
}
