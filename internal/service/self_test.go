package service_test

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/service"
	"nurvik/internal/service/auth"
)

// TestOwnEndpoint: a service with TLS watches itself, visits itself where it listens, and adds what was removed never
// again.
func TestOwnEndpoint(t *testing.T) {
	t.Parallel()
	files, data := t.TempDir(), shortDirectory(t)
	issued(t, files, 1)
	listen := free()
	insecure := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	ask := func(method, path string) int {
		r, err := http.NewRequestWithContext(t.Context(), method, "https://"+listen+"/api/v1"+path,
			strings.NewReader("{}"))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		answer, err := insecure.Do(r)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	start := func() (stop func()) {
		ctx, cancel := context.WithCancel(context.Background())
		ready, ended := make(chan struct{}), make(chan error, 1)
		go func() {
			ended <- service.Run(ctx, service.Config{Data: data, Listen: listen, Silent: true, UnsafeDisk: true,
				Log: silent, SignIn: service.SignIn{Certificate: filepath.Join(files, "chain.pem"),
					Key: filepath.Join(files, "key.pem"), PublicURL: "https://nurvik.tarnholm.example",
					LetIn: "master", Accounts: []service.Account{{Name: "master", Password: password,
						Role: auth.Administrator}}}}, func(string, string) { close(ready) })
		}()
		select {
		case <-ready:
		case err := <-ended:
			require.NoError(t, err)
		}
		return func() { cancel(); assert.NoError(t, <-ended) }
	}
	stop := start()
	require.Equal(t, 1, count(t, data, "SELECT count(*) FROM endpoints WHERE target LIKE '%nurvik.tarnholm.example:%' "+
		"AND settings #>> '{visit_at,0}' = '"+listen+"'"))
	require.Equal(t, 201, ask("POST", "/audits"))
	require.Eventually(t, func() bool {
		return count(t, data, "SELECT count(*) FROM endpoints WHERE NOT provisional AND verdict = 'faulty' "+
			"AND codes::text LIKE '%name.uncovered%'") == 1
	}, time.Minute, 100*time.Millisecond, "its name is not in the certificate")
	id := count(t, data, "SELECT id FROM endpoints")
	require.Equal(t, 204, ask("DELETE", fmt.Sprint("/endpoints/", id)))
	stop()
	stop = start()
	defer stop()
	assert.Zero(t, count(t, data, "SELECT count(*) FROM endpoints"), "who removes it is rid of it")
}
