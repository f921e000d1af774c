package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"

	"nurvik/core/endpoint"
	"nurvik/core/forge"
	"nurvik/internal/report"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
	"nurvik/internal/vantage"
	"nurvik/internal/version"
)

// What is measured of worker processes.
const (
	workerVisits = 16 // at once, of each
	moreWorkers  = 4
	leastGain    = 3.6 // of four workers over one
	answerDelay  = 200 * time.Millisecond
)

// workers has the same estate audited by one worker process and by four. Its servers are real ones on loopback, and
// answer each connection after a delay, as servers far away do. ENDPOINTS is how many there are.
func workers(ctx context.Context) (missed bool, err error) {
	count := 384
	if text := os.Getenv("ENDPOINTS"); text != "" {
		if _, err := fmt.Sscan(text, &count); err != nil || count < 16 || count > 4000 {
			return false, fmt.Errorf("ENDPOINTS=%s is no number between 16 and 4000", text)
		}
	}
	silent := slog.New(slog.NewTextHandler(io.Discard, nil))
	server, s, end, err := opened(ctx, "workers", silent)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, end()) }()
	endpoints, closeAll, err := delayed(count)
	if err != nil {
		return false, err
	}
	defer closeAll()
	if err := s.Tx(ctx, func(tx *store.Tx) error {
		_, err := tx.PutEndpoints(endpoints, true, time.Now())
		return err
	}); err != nil {
		return false, err
	}
	network, err := vantage.Network(vantage.NameServer{})
	if err != nil {
		return false, err
	}
	q, err := jobs.Open(ctx, s, jobs.Options{Network: network, Log: silent, Now: s.Clock.Stamp, Visits: 1})
	if err != nil {
		return false, err
	}
	if err := q.Start(ctx, func(error) {}); err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, q.Stop(context.WithoutCancel(ctx))) }()
	var times []time.Duration
	for _, n := range []int{1, moreWorkers} {
		stop, err := started(ctx, s, server.URL(), n)
		if err != nil {
			return false, err
		}
		_, took, err := audited(ctx, s, q)
		if err = errors.Join(err, stop()); err != nil {
			return false, err
		}
		times = append(times, took)
	}
	gain := times[0].Seconds() / times[1].Seconds()
	out := report.NewTable("what", "measured", "limit", "")
	verdict := "met"
	if missed = gain < leastGain; missed {
		verdict = "MISSED"
	}
	out.AppendRow([]any{"an audit with one worker", times[0].Round(100 * time.Millisecond), "", ""})
	out.AppendRow([]any{fmt.Sprintf("with %d", moreWorkers), times[1].Round(100 * time.Millisecond), "", ""})
	out.AppendRow([]any{"so many times as fast", fmt.Sprintf("%.2f", gain), fmt.Sprint(leastGain), verdict})
	today := time.Now().UTC().Format(time.DateOnly)
	fmt.Printf("%s; %d endpoints that answer after %s, %d processors, %s\n\n%s\n", today,
		count, answerDelay, runtime.NumCPU(), version.Go(), out.Render())
	return missed, nil
}

// started starts so many worker processes, and waits until all of them work.
func started(ctx context.Context, s *store.Store, url string, n int) (end func() error, err error) {
	var all []*exec.Cmd
	end = func() (err error) {
		for _, c := range all {
			err = errors.Join(err, c.Process.Signal(syscall.SIGTERM))
		}
		for _, c := range all {
			err = errors.Join(err, c.Wait())
		}
		return err
	}
	for i := range n {
		c := exec.CommandContext(ctx, "bin/nurvikd", "work", "--vantage", "bench",
			"--instance", fmt.Sprint("bench-", i), "--visits", fmt.Sprint(workerVisits),
			"--allow-visit", "127.0.0.0/8", "--no-revocation", "--log-level", "warn")
		c.Env, c.Stderr = append(os.Environ(), "NURVIK_DATABASE="+url), os.Stderr
		if err := c.Start(); err != nil {
			return nil, errors.Join(err, end())
		}
		all = append(all, c)
	}
	for deadline := time.Now().Add(time.Minute); ; {
		list, err := s.Workers(ctx)
		if err != nil || time.Now().After(deadline) {
			return nil, errors.Join(err, errors.New("the workers did not begin"), end())
		}
		if len(list) == n+1 { // and this process
			return end, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// delayed starts servers, each at an address of its own, and makes an estate of them.
func delayed(count int) (out []store.Endpoint, closeAll func(), err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	now := time.Now()
	top, err := forge.NewAuthority(nil, key, forge.ECDSASHA256, forge.Template{Name: "Skerry Root",
		From: now.AddDate(-1, 0, 0), Until: now.AddDate(5, 0, 0)})
	if err != nil {
		return nil, nil, err
	}
	spki, err := forge.PublicInfo(key)
	if err != nil {
		return nil, nil, err
	}
	der, err := forge.Issue(top, key, forge.Template{Name: "berth.tarnholm.example", SPKI: spki,
		Names: []string{"*.tarnholm.example"}, Serial: big.NewInt(1), From: now.AddDate(0, 0, -5),
		Until: now.AddDate(0, 0, 60)})
	if err != nil {
		return nil, nil, err
	}
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	var listeners []net.Listener
	closeAll = func() {
		for _, l := range listeners {
			_ = l.Close()
		}
	}
	for i := range count {
		l, err := net.Listen("tcp", fmt.Sprintf("127.60.%d.%d:0", i/250, i%250+1))
		if err != nil {
			closeAll()
			return nil, nil, err
		}
		listeners = append(listeners, l)
		go answer(l, config)
		name := fmt.Sprintf("berth-%d.tarnholm.example:443", i)
		out = append(out, store.Endpoint{Target: name, Settings: endpoint.Settings{Endpoint: name,
			VisitAt: []string{l.Addr().String()}, Vantages: []string{"bench"}},
			Latest: store.Latest{Codes: []string{}}})
	}
	return out, closeAll, nil
}

// answer answers each connection after the delay.
func answer(l net.Listener, config *tls.Config) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			time.Sleep(answerDelay)
			_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
			_ = tls.Server(conn, config).Handshake() // what the peer makes of it is not our matter
		}()
	}
}
