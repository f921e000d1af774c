package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/inputfile"
	"nurvik/core/plain"
	"nurvik/core/probe"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/outbound"
	"nurvik/internal/service/remote"
	"nurvik/internal/vantage"
	"nurvik/internal/version"
)

// Pauses of a worker that uses the API.
const (
	againTime = 2 * time.Second // after a call that failed
	aliveTime = 8 * time.Second // in which it says that it lives, while it has no room for tasks
)

// remoteWorker visits for a service that is reached through its API alone.
type remoteWorker struct {
	start   api.RemoteStart
	vantage string // which it was told to be; "" for whatever the token says
	client  *client.Client
	prober  *probe.Prober
	gate    *outbound.Gate
	log     *slog.Logger

	mutex sync.Mutex
	holds map[int64]bool
}

// workThrough makes the visits of the token's vantage until the context ends.
func (c Config) workThrough(ctx context.Context, told settled, ready func()) error {
	token, err := c.token()
	if err != nil {
		return err
	}
	a := &remoteWorker{vantage: c.Vantage, gate: outbound.Visits(netip.AddrPort{}, told.visitable), log: c.Log}
	if a.client, err = client.New(c.Through, token); err != nil {
		return fmt.Errorf("--through: %w", err)
	}
	report := c.report()
	network, limits := told.network, vantage.Afford(c.Limits)
	network.Report, network.Dial = report, gated(a.gate, network.Dial)
	a.prober = probe.New(network, limits)
	longest := limits.Longest()/time.Second + 1
	if longest > api.LongestTask {
		return fmt.Errorf("one visit could take %d seconds, and a worker through the API has %d: lower --visit-timeout",
			longest, api.LongestTask)
	}
	host, _ := os.Hostname() // without one it is told without
	a.start = api.RemoteStart{Name: cmp.Or(c.Instance, host), Host: host, Version: version.Number,
		Schema: facts.Schema, Effort: told.effort, Visits: cmp.Or(c.Visits, 50),
		Longest: int(longest)}
	for first := true; ; {
		err := a.work(ctx, func() {
			if first {
				ready()
			}
			first = false
		})
		if ctx.Err() != nil || final(err) {
			return err
		}
		c.Log.Warn("the service cannot be worked for; trying again", "service", c.Through, "error", err)
		if !pause(ctx, againTime) {
			return nil
		}
	}
}

// token reads the worker's token.
func (c Config) token() (string, error) {
	if c.TokenFile == "" {
		return "", errors.New("--through needs --token-file with a token of the role worker: " +
			"\"nurvik token add NAME --role worker --vantage VANTAGE\" makes one")
	}
	data, err := inputfile.Read(c.TokenFile)
	if err != nil {
		return "", fmt.Errorf("--token-file: %w", err)
	}
	line, _, _ := strings.Cut(string(data), "\n")
	if line = strings.TrimSpace(line); line == "" {
		return "", fmt.Errorf("--token-file: the first line of %s is empty", c.TokenFile)
	}
	return line, nil
}

func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// errVantage says that the token is for another vantage than the machine.
var errVantage = errors.New("the token is for another vantage")

// final reports whether another try is in vain: the service has refused the worker.
func final(err error) bool {
	var p *client.Problem
	return errors.Is(err, errVantage) || errors.As(err, &p) && p.Status < 500 &&
		p.Status != http.StatusNotFound && p.Status != http.StatusTooManyRequests
}

// work takes tasks until the context ends, or the service does not know this work any more.
func (a *remoteWorker) work(ctx context.Context, ready func()) error {
	begun, err := a.client.BeginRemoteWork(ctx, a.start)
	if err != nil {
		return err
	}
	last := context.WithoutCancel(ctx)
	if a.vantage != "" && a.vantage != begun.Vantage {
		_ = a.client.EndRemoteWork(last, begun.Session) // it would be given up soon anyway
		return fmt.Errorf("--vantage %s: %w, %s", a.vantage, errVantage, begun.Vantage)
	}
	ready()
	a.log.Info("works for the service", "vantage", begun.Vantage)
	a.holds = map[int64]bool{}
	visiting, stop := context.WithCancel(last)
	defer stop()
	var running sync.WaitGroup
	room := make(chan struct{}, a.start.Visits)
	err = a.take(ctx, begun.Session, room, func(t api.Task) {
		running.Go(func() {
			defer func() { <-room }()
			a.do(visiting, begun.Session, t)
		})
	})
	if ctx.Err() == nil { // its results are wanted by nobody
		stop()
		running.Wait()
		return err
	}
	return a.drain(last, begun.Session, &running, stop)
}

// drain lets visits end for a moment, and tells which did not.
func (a *remoteWorker) drain(ctx context.Context, session string, running *sync.WaitGroup, stop func()) error {
	if err := a.client.EndRemoteWork(ctx, session); err != nil {
		a.log.Warn("the service was not told that this worker stops", "error", err)
	}
	ended := make(chan struct{})
	go func() {
		running.Wait()
		close(ended)
	}()
	alive := time.NewTicker(aliveTime)
	defer alive.Stop()
	over := time.After(drainTime)
	for {
		select {
		case <-ended:
			return nil
		case <-over:
			stop()
		case <-alive.C:
			_, _ = a.client.TakeTasks(ctx, session, api.TaskWish{Holds: a.held()}) // what it says is that we live
		}
	}
}

// take gives tasks to do while there is room.
func (a *remoteWorker) take(ctx context.Context, session string, room chan struct{}, do func(api.Task)) error {
	for {
		wish := api.TaskWish{}
		select {
		case <-ctx.Done():
			return nil
		case room <- struct{}{}:
			wish.Most = 1
		case <-time.After(aliveTime):
		}
		for more := wish.Most > 0; more; {
			select {
			case room <- struct{}{}:
				wish.Most++
			default:
				more = false
			}
		}
		wish.Holds = a.held()
		limited, cancel := context.WithTimeout(ctx, remote.TakeTime+20*time.Second)
		tasks, err := a.client.TakeTasks(limited, session, wish)
		cancel()
		tasks = tasks[:min(len(tasks), wish.Most)]
		for range wish.Most - len(tasks) {
			<-room
		}
		for _, t := range tasks {
			a.hold(t.ID, true)
			do(t)
		}
		switch {
		case err == nil || ctx.Err() != nil:
		case client.IsNotFound(err) || final(err):
			return err
		default:
			a.log.Warn("no tasks were to be had; trying again", "error", err)
			pause(ctx, againTime)
		}
	}
}

// resultTries is how often a result is sent; after that the service has the task done again.
const resultTries = 5

// do does a task and tells what came of it.
func (a *remoteWorker) do(ctx context.Context, session string, t api.Task) {
	defer a.hold(t.ID, false)
	result := a.result(ctx, t)
	result.ID = t.ID
	for range resultTries {
		err := a.client.PutTaskResult(context.WithoutCancel(ctx), session, result)
		switch {
		case err == nil || client.IsNotFound(err):
			return
		case final(err): // it is the result that is refused
			a.log.Error("the service refused a result", "error", err)
			result = api.TaskResult{ID: t.ID, Failure: &api.TaskFailure{Why: "refused",
				Words: "the service refused the result: " + plain.Text(err.Error())}}
		case !pause(ctx, againTime):
			return
		}
	}
	a.log.Warn("a result could not be sent; its task will be done again")
}

// result does a task.
func (a *remoteWorker) result(ctx context.Context, t api.Task) api.TaskResult {
	var out api.TaskResult
	var err error
	switch {
	case t.Visit != nil:
		out.Observation, err = a.visit(ctx, *t.Visit)
	case t.Lookup != nil:
		out.Lookup, err = a.lookUp(ctx, *t.Lookup)
	default:
		err = errors.New("the task is of a kind that this worker does not know")
	}
	if err == nil {
		return out
	}
	failure := &api.TaskFailure{Why: "refused", Words: plain.Text(err.Error())}
	switch {
	case errors.Is(err, probe.ErrBusy):
		failure.Why = "busy"
	case ctx.Err() != nil:
		failure.Why = "stopped"
	case probe.Exhausted(err) != nil:
		failure.Why = "exhausted"
	}
	return api.TaskResult{Failure: failure}
}

func (a *remoteWorker) visit(ctx context.Context, t api.VisitTask) (*facts.Observation, error) {
	at, err := netip.ParseAddrPort(t.Address)
	if err != nil {
		return nil, err
	}
	if err := a.gate.Check(at); err != nil {
		return nil, err
	}
	o, err := a.prober.Visit(ctx, at, probe.Call{ServerName: t.ServerName, Scheme: t.Scheme, Effort: t.Effort,
		Web: t.Web, Plain: t.PlainPort, NoQueue: true})
	return &o, err
}

func (a *remoteWorker) lookUp(ctx context.Context, t api.LookupTask) (*api.LookupResult, error) {
	parsed, err := endpoint.Parse(t.Endpoint)
	if err != nil {
		return nil, err
	}
	target := probe.Target{Endpoint: parsed}
	for _, text := range t.VisitAt {
		at, err := endpoint.ParseVisitAt(text)
		if err != nil {
			return nil, err
		}
		target.VisitAt = append(target.VisitAt, at)
	}
	plan, err := a.prober.Plan(ctx, target)
	switch {
	case ctx.Err() != nil, probe.Exhausted(err) != nil:
		return nil, err
	case err != nil:
		return &api.LookupResult{ResolveError: probe.Unresolved(err)}, nil
	}
	return &api.LookupResult{Visit: texts(plan.Visit), NoRoute: texts(plan.NoRoute), DNS: plan.DNS}, nil
}

func texts(list []netip.AddrPort) []string {
	out := make([]string, len(list))
	for i, at := range list {
		out[i] = at.String()
	}
	return out
}

func (a *remoteWorker) hold(id int64, yes bool) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if delete(a.holds, id); yes {
		a.holds[id] = true
	}
}

func (a *remoteWorker) held() []int64 {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	return slices.Collect(maps.Keys(a.holds))
}
