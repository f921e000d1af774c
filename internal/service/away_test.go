package service_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service"
	"nurvik/internal/service/postgres"
)

// TestDatabaseAway: the database of a service goes away during an audit and comes back.
func TestDatabaseAway(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	start := func() *postgres.Server {
		server, err := postgres.Start(t.Context(), postgres.Options{Directory: data, Unsafe: true, Log: silent})
		require.NoError(t, err)
		return server
	}
	stop := func(s *postgres.Server) { require.NoError(t, s.Stop(context.Background())) }
	server := start()
	defer func() { stop(server) }()
	address, setUp := begun(t, service.Config{Database: server.URL(), Visitable: []string{"127.0.0.0/8"}, Visits: 1})
	c := stranger(t, address)
	ctx := t.Context()
	_, err := c.SetUp(ctx, api.SetUp{Code: setUp[len(address+"/set-up#"):], Name: "harbour-master", Password: password})
	require.NoError(t, err)
	token, err := c.AddToken(ctx, api.TokenStart{Name: "watch", Role: "administrator"})
	require.NoError(t, err)
	release := make(chan struct{})
	for i := range 3 { // the first visit waits until the database is back
		listener, err := net.Listen("tcp", fmt.Sprintf("127.51.0.%d:0", i+1))
		require.NoError(t, err)
		defer listener.Close()
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				<-release
				_ = conn.Close()
			}
		}()
		_, err = c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: fmt.Sprintf("quay%d.tarnholm.example:443", i),
			VisitAt: []string{listener.Addr().String()}})
		require.NoError(t, err)
	}
	audit, err := c.StartAudit(ctx, api.AuditStart{})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		a, err := c.Audit(ctx, audit.ID)
		return err == nil && a.State == "visiting"
	}, 20*time.Second, 50*time.Millisecond)

	stop(server)
	for _, path := range []string{"/api/v1/endpoints", "/readyz", "/metrics"} {
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, address+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+token.Secret)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		assert.Equal(t, 503, response.StatusCode, path)
		assert.Equal(t, "5", response.Header.Get("Retry-After"), path)
	}
	_, err = c.Endpoints(ctx, client.EndpointFilter{})
	assert.ErrorContains(t, err, "the database does not answer")
	_, err = c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "late.tarnholm.example"})
	assert.Equal(t, 503, status(err))
	close(release)
	time.Sleep(2 * time.Second) // the visit that is under way ends without a database

	server = start()
	assert.Eventually(t, func() bool {
		a, err := c.Audit(ctx, audit.ID)
		return err == nil && a.State == "finished" && a.Done == 3 && a.Verdicts.Unreachable == 3
	}, 90*time.Second, 100*time.Millisecond, "nothing is lost, and the audit goes on by itself")
	list, err := c.Endpoints(ctx, client.EndpointFilter{})
	require.NoError(t, err)
	assert.Len(t, list, 3, "and nothing was half done")
}
