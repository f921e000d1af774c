package main

import (
	"context"
	"crypto"
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
	"net/netip"
	"os"
	"runtime"
	"strings"
	"time"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/internal/report"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
	"nurvik/internal/vantage"
	"nurvik/internal/version"
)

// Limits of what ingest measures.
const (
	leastIngest = 2000             // judged visits a second, of an audit in which 95 of 100 endpoints are as before
	mostMemory  = 300 << 20        // bytes of the process while it does
	planTime    = 2 * time.Minute  // of a million endpoints
	changedOf   = 20               // one endpoint of so many shows something new
	waitTime    = 30 * time.Minute // for one audit
)

// ingest has audits made of an estate whose visits cost nothing: what is measured is everything else, from planning to
// the end of the audit, on one worker. The first audit is new in everything, in the second 95 of 100 show what they
// did. ENDPOINTS is how many there are.
func ingest(ctx context.Context) (missed bool, err error) {
	count := 10_000
	if text := os.Getenv("ENDPOINTS"); text != "" {
		if _, err := fmt.Sscan(text, &count); err != nil || count < 100 {
			return false, fmt.Errorf("ENDPOINTS=%s is no number of 100 or more", text)
		}
	}
	silent := slog.New(slog.NewTextHandler(io.Discard, nil))
	_, s, end, err := opened(ctx, "ingest", silent)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, end()) }()
	estate, err := newShown(ctx, count)
	if err != nil {
		return false, err
	}
	network, err := vantage.Network(vantage.NameServer{})
	if err != nil {
		return false, err
	}
	network.HasRoute = func(netip.Addr) bool { return true }
	q, err := jobs.Open(ctx, s, jobs.Options{Network: network, Log: slog.New(slog.NewTextHandler(os.Stderr,
		&slog.HandlerOptions{Level: slog.LevelWarn})), Now: s.Clock.Stamp, Visit: estate.visit, Visits: 50,
		Limits: limits.Limits{HostPerSecond: 1000}})
	if err != nil {
		return false, err
	}
	if err := s.Tx(ctx, func(tx *store.Tx) error {
		_, err := tx.PutEndpoints(estate.endpoints, true, time.Now())
		return err
	}); err != nil {
		return false, err
	}
	if err := q.Start(ctx, func(error) {}); err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, q.Stop(context.WithoutCancel(ctx))) }()
	out := report.NewTable("what", "measured", "limit", "")
	row := func(what, measured, limit string, met bool) {
		verdict := "met"
		switch missed = missed || !met; {
		case limit == "":
			verdict = ""
		case !met:
			verdict = "MISSED"
		}
		out.AppendRow([]any{what, measured, limit, verdict})
	}
	for round, name := range []string{"everything new", "95 of 100 as before"} {
		estate.round = round
		planned, took, err := audited(ctx, s, q)
		if err != nil {
			return missed, err
		}
		rate, limit := float64(count)/took.Seconds(), ""
		if round > 0 {
			limit = fmt.Sprint(leastIngest)
		}
		row("judged visits a second, "+name, fmt.Sprintf("%.0f", rate), limit, limit == "" || rate >= leastIngest)
		all := time.Duration(float64(planned) * million / float64(count))
		row("planning a million, "+name, all.Round(time.Second).String(), planTime.String(), all <= planTime)
	}
	most, err := peak()
	if err != nil {
		return missed, err
	}
	row("memory of the process", fmt.Sprintf("%d MB", most>>20), fmt.Sprintf("%d MB", mostMemory>>20),
		most <= mostMemory)
	fmt.Printf("%s; %d endpoints, %d processors, %s\n\n%s\n", time.Now().UTC().Format(time.DateOnly), count,
		runtime.NumCPU(), version.Go(), out.Render())
	return missed, nil
}

// audited makes one audit of all, and says how long planning took and how long the whole.
func audited(ctx context.Context, s *store.Store, q *jobs.Queue) (planned, took time.Duration, err error) {
	ctx, cancel := context.WithTimeout(ctx, waitTime)
	defer cancel()
	a := &store.Audit{}
	started := time.Now()
	if err := q.Begin(ctx, a, store.Selection{}); err != nil {
		return 0, 0, err
	}
	for {
		now, err := s.Audit(ctx, a.ID)
		switch {
		case err != nil:
			return 0, 0, err
		case now.State == store.Failed:
			return 0, 0, fmt.Errorf("the audit failed: %s", now.Failure)
		case now.State == store.Finished:
			return planned, time.Since(started), nil
		case planned == 0 && now.State != store.Planning:
			planned = time.Since(started)
		}
		select {
		case <-ctx.Done():
			return 0, 0, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// shown is an estate with what each endpoint shows.
type shown struct {
	endpoints []store.Endpoint
	round     int
	seen      facts.Observation // of a real visit
	leaves    map[netip.AddrPort][][]byte
	above     [][]byte
}

// newShown visits one real server, and gives every endpoint of the estate a certificate of its own, and some a second
// one for later.
func newShown(ctx context.Context, count int) (*shown, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	top, err := forge.NewAuthority(nil, key, forge.ECDSASHA256, forge.Template{Name: "Skerry Root",
		From: now.AddDate(-1, 0, 0), Until: now.AddDate(5, 0, 0)})
	if err != nil {
		return nil, err
	}
	issuing, err := forge.NewAuthority(top, key, forge.ECDSASHA256, forge.Template{Name: "Skerry Issuing",
		From: now.AddDate(-1, 0, 0), Until: now.AddDate(5, 0, 0)})
	if err != nil {
		return nil, err
	}
	spki, err := forge.PublicInfo(key)
	if err != nil {
		return nil, err
	}
	out := &shown{leaves: map[netip.AddrPort][][]byte{}, above: [][]byte{issuing.DER}}
	for i := range count {
		name := fmt.Sprintf("berth-%d.tarnholm.example", i)
		at := netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), 443)
		e := store.Endpoint{Target: name + ":443", Settings: endpoint.Settings{Endpoint: name + ":443",
			VisitAt: []string{at.String()}}, Latest: store.Latest{Codes: []string{}}}
		out.endpoints = append(out.endpoints, e)
		for n := range 2 {
			der, err := forge.Issue(issuing, key, forge.Template{Name: name, Names: []string{name}, SPKI: spki,
				Serial: big.NewInt(int64(2*i + n + 1)), From: now.AddDate(0, 0, -5), Until: now.AddDate(0, 0, 60)})
			if err != nil {
				return nil, err
			}
			out.leaves[at] = append(out.leaves[at], der)
		}
	}
	first := out.leaves[netip.MustParseAddrPort("10.0.0.0:443")][0]
	out.seen, err = real(ctx, key, append([][]byte{first}, out.above...))
	return out, err
}

// real visits a server that shows the certificates.
func real(ctx context.Context, key crypto.Signer, certificates [][]byte) (facts.Observation, error) {
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{
		Certificates: []tls.Certificate{{Certificate: certificates, PrivateKey: key}}})
	if err != nil {
		return facts.Observation{}, err
	}
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { _ = conn.(*tls.Conn).Handshake(); _ = conn.Close() }()
		}
	}()
	network, err := vantage.Network(vantage.NameServer{})
	if err != nil {
		return facts.Observation{}, err
	}
	return probe.New(network, limits.Limits{}).Visit(ctx, listener.Addr().(*net.TCPAddr).AddrPort(),
		probe.Call{ServerName: "berth-0.tarnholm.example"})
}

// visit is what an endpoint shows in this round.
func (s *shown) visit(_ context.Context, at netip.AddrPort, call probe.Call) (facts.Observation, error) {
	o := s.seen
	o.Address, o.ServerName = at, call.ServerName
	leaf, last := s.leaves[at][0], at.Addr().As4()[3]
	if s.round > 0 && last%changedOf == 0 {
		leaf = s.leaves[at][1]
	}
	o.Certificates = append([][]byte{leaf}, s.above...)
	return o, nil
}

// peak is the most memory that the process has had (proc(5), VmHWM).
func peak() (int64, error) {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, found := strings.CutPrefix(line, "VmHWM:"); found {
			var kilobytes int64
			_, err := fmt.Sscan(rest, &kilobytes)
			return kilobytes << 10, err
		}
	}
	return 0, errors.New("/proc/self/status does not tell the memory")
}
