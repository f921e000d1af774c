package client_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/internal/api"
	"nurvik/internal/client"
)

func TestTokensStayPrivate(t *testing.T) {
	for address, allowed := range map[string]bool{
		"https://nurvik.tarnholm.example": true, "http://127.0.0.1:8410": true, "http://[::1]:8410": true,
		"http://localhost:8410": true, "http://127.8.8.8": true, "http://nurvik.tarnholm.example": false,
		"http://192.0.2.7": false, "http://localhost.tarnholm.example": false, "http://0.0.0.0:8410": false,
	} {
		_, err := client.New(address, "token")
		assert.Equal(t, allowed, err == nil, address)
		_, err = client.New(address, "")
		assert.NoError(t, err, "without a token there is nothing to read")
	}
	for _, address := range []string{"", "nurvik", "ftp://nurvik.tarnholm.example", "http://"} {
		_, err := client.New(address, "")
		assert.ErrorContains(t, err, "http://HOST:PORT", address)
	}
}

// TestRedirects: a service that sends elsewhere does not get the token there.
func TestRedirects(t *testing.T) {
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter,
		*http.Request) {
		t.Error("it was followed")
	}))
	defer elsewhere.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
	}))
	defer server.Close()
	c, err := client.New(server.URL, "token")
	require.NoError(t, err)
	_, err = c.Policies(t.Context())
	assert.ErrorContains(t, err, "sends elsewhere")
}

// TestSendingGoesOn: parts that are lost on the way are sent again, and those
// that were taken are not.
func TestSendingGoesOn(t *testing.T) {
	var taken []string
	fail := true
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path := r.Method + " " + r.URL.Path
		if path == "PUT /api/v1/deliveries/7/parts/2" && fail {
			fail = false
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		taken = append(taken, path)
		w.Header().Set("Content-Type", "application/json")
		answer := `{"id":7,"next_part":2,"holding":{"id":3}}`
		if r.Method == http.MethodGet {
			answer = "[]" // no holding is there yet
		}
		_, _ = w.Write([]byte(answer))
	}))
	defer server.Close()
	c, err := client.New(server.URL, "")
	require.NoError(t, err)
	wide := facts.File{Path: "/a", Defects: make([]facts.Defect, 60_000)}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	h, err := c.SendHolding(ctx, api.HoldingFacts{Files: []facts.File{wide, wide, wide}}, nil)
	require.NoError(t, err)
	assert.EqualValues(t, 3, h.ID)
	assert.Equal(t, []string{"GET /api/v1/holdings", "POST /api/v1/deliveries", "PUT /api/v1/deliveries/7/parts/2",
		"PUT /api/v1/deliveries/7/parts/3", "POST /api/v1/deliveries/7/finish"}, taken, "the first part was there "+
		"already")
}
