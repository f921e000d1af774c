package remote

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/internal/api"
	"nurvik/internal/service/jobs"
)

// Errors of a worker's calls.
var (
	ErrUnknown = errors.New("this work has ended here: begin anew")
	ErrOther   = errors.New("the worker is of another version than the service: install the service's version there")
	ErrFull    = fmt.Errorf("%d workers use this instance of the service already: use another instance", most)
	ErrMany    = fmt.Errorf("%d workers use this token already: give each its own", mostOfToken)
)

// most is how many workers there can be at one instance: each holds connections to the database.
const most = 16

// mostOfToken is how many of them can have the same token, so that one in the wrong hands does not keep others out.
const mostOfToken = 4

// silence is after how long a worker that was not heard of counts as gone. A worker asks again at least every TakeTime.
const silence = 30 * time.Second

// TakeTime is how long a call for tasks waits for the first.
const TakeTime = 10 * time.Second

// Begin makes the queue of a worker, whose jobs plan and visit by its tasks; lost is told when another process has
// taken over the worker's name.
type Begin func(ctx context.Context, o jobs.Options, lost func(error)) (Work, error)

// Work is a queue that works.
type Work interface {
	Stop(ctx context.Context) error
}

// Sessions are the workers that use the API of this instance.
type Sessions struct {
	begin Begin
	now   func() time.Time
	log   *slog.Logger

	mutex    sync.Mutex
	sessions map[string]*session
	ending   sync.WaitGroup
}

// session is the work of one worker, from its begin to its end.
type session struct {
	id, name, vantage string
	token             int64
	longest           time.Duration // that a visit can take there
	tasks             *taskQueue
	cancel            context.CancelFunc
	ended             chan struct{}
}

// New makes sessions for nobody yet. Now is any clock that goes on evenly.
func New(begin Begin, now func() time.Time, log *slog.Logger) *Sessions {
	return &Sessions{begin: begin, now: now, log: log, sessions: map[string]*session{}}
}

// Start begins the work of a worker with the token, which is for the vantage. An earlier work of the same name and
// token ends: the worker was started again.
func (p *Sessions) Start(ctx context.Context, token int64, vantage string, in api.RemoteStart) (api.RemoteWork, error) {
	if in.Schema != facts.Schema {
		return api.RemoteWork{}, ErrOther
	}
	if old := p.find(func(s *session) bool { return s.name == in.Name && s.token == token }); old != nil {
		old.tasks.close(true)
		old.cancel()
		select {
		case <-old.ended:
		case <-ctx.Done():
			return api.RemoteWork{}, ctx.Err()
		}
	}
	working, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s := &session{id: rand.Text(), name: in.Name, vantage: vantage, token: token, tasks: newTaskQueue(p.now()),
		longest: time.Duration(in.Longest) * time.Second, cancel: cancel, ended: make(chan struct{})}
	if err := p.add(s); err != nil {
		cancel()
		return api.RemoteWork{}, err
	}
	// The name stands beside the vantage, so that no worker outside can take the name of a process on the database.
	queue, err := p.begin(context.WithoutCancel(ctx), jobs.Options{Instance: vantage + "/" + in.Name, Kind: "work",
		Vantage: vantage, Host: in.Host, Version: in.Version, Effort: in.Effort, Visits: in.Visits,
		Plan: s.tasks.Plan, Visit: s.tasks.Visit, Limits: limits.Limits{Visit: s.longest}, Drain: s.longest},
		func(err error) {
			p.log.Warn("a worker lost its name", "worker", in.Name, "error", err)
			cancel()
		})
	if err != nil {
		cancel()
		p.remove(s)
		close(s.ended)
		return api.RemoteWork{}, err
	}
	p.log.Info("a worker works through the API", "worker", in.Name, "vantage", vantage, "host", in.Host)
	p.ending.Go(func() { p.watch(working, s, queue) })
	return api.RemoteWork{Session: s.id, Vantage: vantage}, nil
}

// watch ends the work when the worker has ended it, or is not heard of any more.
func (p *Sessions) watch(ctx context.Context, s *session, queue Work) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-tick.C:
			if s.tasks.silent(p.now()) > silence {
				p.log.Warn("a worker is not heard of any more", "worker", s.name)
				s.tasks.close(true)
				s.cancel()
			}
		}
	}
	s.tasks.close(false)
	stopped := make(chan struct{})
	go func() { // while the visits that it has begun end, it may fall silent
		for {
			select {
			case <-stopped:
				return
			case <-time.After(time.Second):
				if s.tasks.silent(p.now()) > silence {
					s.tasks.close(true)
				}
			}
		}
	}()
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), s.longest+silence)
	defer cancel()
	if err := queue.Stop(limited); err != nil {
		p.log.Warn("the work of a worker did not end in order", "worker", s.name, "error", err)
	}
	close(stopped)
	p.remove(s)
	close(s.ended)
	p.log.Info("the work of a worker through the API has ended", "worker", s.name)
}

// Take returns tasks for the worker, after TakeTime at most none.
func (p *Sessions) Take(ctx context.Context, token int64, id string, wish api.TaskWish) ([]api.Task, error) {
	s := p.of(token, id)
	if s == nil {
		return nil, ErrUnknown
	}
	defer s.tasks.call(p.now)()
	limited, cancel := context.WithTimeout(ctx, TakeTime)
	defer cancel()
	return s.tasks.Take(limited, wish), nil
}

// Put takes a result.
func (p *Sessions) Put(token int64, id string, result api.TaskResult) error {
	s := p.of(token, id)
	if s == nil {
		return ErrUnknown
	}
	defer s.tasks.call(p.now)()
	return s.tasks.Put(result)
}

// End takes no more tasks for the worker; results of those that it has begun are taken still.
func (p *Sessions) End(token int64, id string) error {
	s := p.of(token, id)
	if s == nil {
		return ErrUnknown
	}
	s.cancel()
	return nil
}

// Stop ends the work of all: whoever visits for this instance begins anew elsewhere or later. It waits until the
// context ends, as it may while the database is away.
func (p *Sessions) Stop(ctx context.Context) {
	p.mutex.Lock()
	for _, s := range p.sessions {
		s.tasks.close(true)
		s.cancel()
	}
	p.mutex.Unlock()
	ended := make(chan struct{})
	go func() {
		p.ending.Wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-ctx.Done():
	}
}

func (p *Sessions) of(token int64, id string) *session {
	return p.find(func(s *session) bool { return s.id == id && s.token == token })
}

func (p *Sessions) find(is func(*session) bool) *session {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	for _, s := range p.sessions {
		if is(s) {
			return s
		}
	}
	return nil
}

func (p *Sessions) add(s *session) error {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	same := 0
	for _, other := range p.sessions {
		if other.token == s.token {
			same++
		}
	}
	switch {
	case len(p.sessions) >= most:
		return ErrFull
	case same >= mostOfToken:
		return ErrMany
	}
	p.sessions[s.id] = s
	return nil
}

func (p *Sessions) remove(s *session) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	delete(p.sessions, s.id)
}
