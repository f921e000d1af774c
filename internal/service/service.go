// Package service is the long-running service: database, jobs and web server
// brought up in order, and taken down in the reverse.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"golang.org/x/net/netutil"

	"nurvik/core/limits"
	"nurvik/internal/outbound"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/openid"
	"nurvik/internal/service/postgres"
	"nurvik/internal/service/store"
	"nurvik/internal/service/web"
	"nurvik/internal/vantage"
)

// Config is what can be chosen.
type Config struct {
	Data        string // data directory
	Database    string // URL of a database; "" for a private one
	PostgresBin string // directory of PostgreSQL's programs
	Listen      string // ADDRESS:PORT
	SignIn      SignIn
	OpenID      openid.Settings    // where else people sign in
	PublicHosts []string           // further host names under which the service is reached
	Elsewhere   []Elsewhere        // vantages that this process has besides, for trying it out on one machine
	Through     string             // URL of the service whose API a worker uses; "" for the database
	TokenFile   string             // holds the worker's token for it
	Vantage     string             // from where it visits too, or alone where it only works; "" for none
	Instance    string             // name among the processes on one database
	Resolver    vantage.NameServer // to ask instead of the system's
	Visits      int                // visits under way at once
	KeepDays    int                // how long old records are kept; 0 for ever
	Limits      limits.Limits      // of visits
	Effort      string             // of each visit: quick, normal or full
	Silent      bool               // do not ask issuers about revocation
	Issuers     bool               // fetch issuers' certificates that chains lack
	Networks    []string           // that issuers may be asked in, beside the public ones
	Visitable   []string           // networks that may be visited, beside public and private ones
	Searchable  []string           // networks that may be searched for endpoints, with ports
	Console     fs.FS
	Log         *slog.Logger
	UnsafeDisk  bool // tests only: do not wait for the disk
}

// maxConnections is how many connections of callers there may be at once.
const maxConnections = 512

// stopTime bounds an orderly stop.
const stopTime = 30 * time.Second

// Run serves until the context ends, then stops in order. Ready is called once
// everything works, with the address and, where there is no administrator yet, the
// one-time address for the first administrator.
func Run(ctx context.Context, c Config, ready func(address, setUp string)) (err error) {
	told, err := c.check()
	if err != nil {
		return err
	}
	provider, err := c.Provider()
	if err != nil {
		return err
	}
	opened, err := openListener(c)
	if err != nil {
		return err
	}
	defer func() { _ = opened.listener.Close() }()
	stopping := func() (context.Context, context.CancelFunc) {
		return context.WithTimeout(context.WithoutCancel(ctx), stopTime)
	}
	url := c.Database
	var dial store.Dial
	trouble := func() []string { return nil }
	if url == "" {
		server, err := postgres.Start(ctx, postgres.Options{Directory: c.Data, Binaries: c.PostgresBin, Log: c.Log,
			Unsafe: c.UnsafeDisk})
		if err != nil {
			return err
		}
		defer func() {
			stop, cancel := stopping()
			defer cancel()
			err = errors.Join(err, server.Stop(stop))
		}()
		url, dial, trouble = server.URL(), server.Dial, server.Trouble
	}
	s, err := store.Open(ctx, url, dial)
	if err != nil {
		return err
	}
	defer s.Close()
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		&gauges{store: s, log: c.Log, now: s.Clock.Stamp})
	own := opened.listener.Addr().(*net.TCPAddr).AddrPort()
	gate := outbound.Visits(own, told.visitable)
	if err := visitable(told.searchable, gate); err != nil {
		return err
	}
	queue, err := c.queue(ctx, s, told, jobs.Options{Gate: gate,
		Searchable: told.searchable, Metrics: jobs.NewMetrics(registry),
		Keep: time.Duration(c.KeepDays) * 24 * time.Hour})
	if err != nil {
		return err
	}
	// The jobs' context must outlive the interrupt: Stop lets them end in order.
	serving, lost := context.WithCancelCause(ctx)
	defer lost(nil)
	if err := queue.Start(context.WithoutCancel(ctx), func(err error) { lost(err) }); err != nil {
		return err
	}
	defer func() {
		stop, cancel := stopping()
		defer cancel()
		err = errors.Join(err, queue.Stop(stop))
	}()
	for _, e := range c.Elsewhere {
		end, err := c.elsewhere(context.WithoutCancel(ctx), s, e, lost)
		if err != nil {
			return err
		}
		defer end()
	}
	door, setUp, err := openDoor(ctx, c, opened, s)
	if err != nil {
		return err
	}
	c.addSelf(ctx, opened, s)
	bounded := netutil.LimitListener(opened.listener, maxConnections)
	progress := web.NewProgress()
	go progress.Listen(serving, s, c.Log)
	remotes := c.remoteSessions(told, url, dial)
	defer func() {
		stop, cancel := stopping()
		defer cancel()
		remotes.stop(stop)
	}()
	handler := web.New(web.Options{Progress: progress, Remote: remotes.Sessions, Store: s, Queue: queue,
		Auth: door, Console: c.Console, OpenID: provider, Passkeys: c.passkeys(opened),
		Hosts: opened.hosts, Registry: registry, Log: c.Log, Now: s.Clock.Stamp, Trouble: trouble})
	if err := serve(serving, bounded, opened.tls, handler, c.Log, func() { ready(opened.address, setUp) }); err != nil {
		return err
	}
	if ctx.Err() == nil { // it was not asked to stop
		return context.Cause(serving)
	}
	return nil
}

func host(l net.Listener) string {
	h, _, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		return ""
	}
	return h
}

// gated connects only where the gate lets through, whatever led to the address.
func gated(gate *outbound.Gate,
	dial func(context.Context, netip.AddrPort) (net.Conn, error)) func(context.Context, netip.AddrPort) (net.Conn,
	error) {
	return func(ctx context.Context, at netip.AddrPort) (net.Conn, error) {
		if err := gate.Check(at); err != nil {
			return nil, err
		}
		return dial(ctx, at)
	}
}

// serve answers until the context ends. Streams end with the context; other
// requests get a moment.
func serve(ctx context.Context, listener net.Listener, secure *tls.Config, handler http.Handler, log *slog.Logger,
	ready func()) error {
	server := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 60 * time.Second,
		IdleTimeout:    2 * time.Minute,
		MaxHeaderBytes: 64 << 10, BaseContext: func(net.Listener) context.Context { return ctx },
		TLSConfig: secure, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}
	failed := make(chan error, 1)
	go func() {
		if secure != nil {
			failed <- server.ServeTLS(listener, "", "")
			return
		}
		failed <- server.Serve(listener)
	}()
	log.Info("serving", "address", listener.Addr().String())
	ready()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	log.Info("stopping")
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := server.Shutdown(stop); err != nil {
		return server.Close()
	}
	return nil
}
