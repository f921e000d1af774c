package service_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nurvik/core/limits"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/estatefile"
	"nurvik/internal/harbour"
	"nurvik/internal/service"
	"nurvik/internal/service/auth"
	"nurvik/internal/vantage"
)

// running is the one service that the tests of this package share.
type running struct {
	address string
	client  *client.Client
	harbour *harbour.Harbour
	log     *syncBuffer
	data    string
}

var shared *running

// letIn takes whoever is on this machine for an administrator.
var letIn = service.SignIn{LetIn: "harbour-master", Accounts: []service.Account{{Name: "harbour-master",
	Password: password, Role: auth.Administrator}}}

// password is that of everybody in these tests.
const password = "lantern over the quay"

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	directory, err := os.MkdirTemp("/tmp", "nurvik-service-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(directory)
	if err := os.Chmod(directory, 0o755); err != nil {
		panic(err)
	}
	h, err := harbour.Start(harbour.Options{Directory: filepath.Join(directory, "harbour"), Now: time.Now()})
	if err != nil {
		panic(err)
	}
	defer h.Close()
	log := &syncBuffer{}
	ctx, cancel := context.WithCancel(context.Background())
	ended, ready := make(chan error, 1), make(chan string, 1)
	config := service.Config{Data: filepath.Join(directory, "data"), Listen: free(), Visits: 50,
		Resolver: vantage.NameServer{Address: h.NameServer,
			Validates: true}, Networks: []string{fmt.Sprintf("127.0.0.0/8=%d", h.Port)},
		Issuers: true, UnsafeDisk: true, Visitable: []string{"127.0.0.0/8"},
		Limits: limits.Limits{Handshake: 20 * time.Second},
		SignIn: letIn,
		Log:    slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug}))}
	go func() { ended <- service.Run(ctx, config, func(address, _ string) { ready <- address }) }()
	select {
	case err := <-ended:
		panic(err)
	case address := <-ready:
		c, err := client.New(address, "")
		if err != nil {
			panic(err)
		}
		shared = &running{address: address, client: c, harbour: h, log: log, data: config.Data}
	}
	status := m.Run()
	cancel()
	if err := <-ended; err != nil {
		panic(err)
	}
	return status
}

func free() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// syncBuffer is a log that can be read while it is written.
type syncBuffer struct {
	mutex sync.Mutex
	data  []byte
}

func (b *syncBuffer) Write(p []byte) (int, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.data = append(b.data, p...)
	return len(p), nil
}

func (b *syncBuffer) String() string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return string(b.data)
}

var _ io.Writer = (*syncBuffer)(nil)

// importHarbour makes the harbour the whole estate, but for the endpoint that
// never answers: every audit would wait for it.
func importHarbour(t *testing.T) api.Imported {
	t.Helper()
	file, err := estatefile.Read(shared.harbour.EstateFile)
	require.NoError(t, err)
	estate, err := file.ForService()
	require.NoError(t, err)
	estate.Endpoints = slices.DeleteFunc(estate.Endpoints, func(e api.EndpointSettings) bool {
		return e.Endpoint == "breakwater.tarnholm.example:443" || e.Endpoint == "eddy.tarnholm.example:443"
	})
	done, err := shared.client.Import(t.Context(), api.EstateImport{Estate: estate, Replace: true})
	require.NoError(t, err)
	return done
}

// auditOf audits the endpoints, or all, and waits for the end.
func auditOf(t *testing.T, start api.AuditStart) api.Audit {
	t.Helper()
	a, err := shared.client.StartAudit(t.Context(), start)
	require.NoError(t, err)
	done, err := shared.client.Follow(t.Context(), a.ID, nil)
	require.NoError(t, err)
	return done
}
