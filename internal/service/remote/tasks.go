package remote

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"nurvik/core/facts"
	"nurvik/core/plain"
	"nurvik/core/probe"
	"nurvik/internal/api"
	"nurvik/internal/service/jobs"
)

// taskQueue is where one worker takes tasks and leaves results.
type taskQueue struct {
	mutex   sync.Mutex
	last    int64 // number of a task
	waiting []*task
	taken   map[int64]*task
	came    chan struct{} // one is waiting; holds one signal
	closed  bool          // takes no tasks any more
	heard   time.Time     // of the worker
	calls   int           // of the worker that are under way
}

// task is one that a job waits for.
type task struct {
	api.Task
	done chan answer // holds one
}

type answer struct {
	result api.TaskResult
	err    error
}

// newTaskQueue makes a queue whose worker was heard of at that time.
func newTaskQueue(now time.Time) *taskQueue {
	return &taskQueue{taken: map[int64]*task{}, came: make(chan struct{}, 1), heard: now}
}

// Plan has the worker look up a target: jobs.Plan.
func (p *taskQueue) Plan(ctx context.Context, t probe.Target) (probe.Plan, error) {
	wish := &api.LookupTask{Endpoint: t.Endpoint.String()}
	for _, at := range t.VisitAt {
		wish.VisitAt = append(wish.VisitAt, at.On(t.Endpoint).String())
	}
	result, err := p.ask(ctx, api.Task{Lookup: wish})
	if err != nil {
		return probe.Plan{}, err
	}
	if err := failure(result.Failure); err != nil {
		return probe.Plan{}, err
	}
	return planOf(*result.Lookup)
}

// Visit has the worker visit an address: jobs.Visit.
func (p *taskQueue) Visit(ctx context.Context, at netip.AddrPort, call probe.Call) (facts.Observation, error) {
	result, err := p.ask(ctx, api.Task{Visit: &api.VisitTask{Address: at.String(), ServerName: call.ServerName,
		Scheme: call.Scheme, Effort: call.Effort, Web: call.Web, PlainPort: call.Plain}})
	if err != nil {
		return facts.Observation{}, err
	}
	if err := failure(result.Failure); err != nil {
		return facts.Observation{}, err
	}
	return *result.Observation, nil
}

// failure is the error that a worker told.
func failure(f *api.TaskFailure) error {
	switch {
	case f == nil:
		return nil
	case f.Why == "stopped":
		return jobs.ErrAway
	case f.Why == "busy":
		return probe.ErrBusy
	case f.Why == "exhausted":
		return &probe.ExhaustedError{Words: "the worker there: " + f.Words}
	}
	return fmt.Errorf("the worker there: %s", f.Words)
}

// planOf reads where a name leads.
func planOf(r api.LookupResult) (probe.Plan, error) {
	if r.ResolveError.Given() {
		return probe.Plan{}, &probe.NowhereError{Reason: r.ResolveError}
	}
	out := probe.Plan{DNS: r.DNS}
	for _, list := range []struct {
		from []string
		to   *[]netip.AddrPort
	}{{r.Visit, &out.Visit}, {r.NoRoute, &out.NoRoute}} {
		for _, text := range list.from {
			at, err := netip.ParseAddrPort(text)
			if err != nil {
				return probe.Plan{}, err
			}
			*list.to = append(*list.to, at)
		}
	}
	return out, nil
}

// ask puts a task and waits for its result.
func (p *taskQueue) ask(ctx context.Context, t api.Task) (api.TaskResult, error) {
	asked := &task{Task: t, done: make(chan answer, 1)}
	p.mutex.Lock()
	if p.closed {
		p.mutex.Unlock()
		return api.TaskResult{}, jobs.ErrNotTaken
	}
	p.last++
	asked.ID = p.last
	p.waiting = append(p.waiting, asked)
	p.mutex.Unlock()
	p.signal()
	select {
	case got := <-asked.done:
		return got.result, got.err
	case <-ctx.Done():
		p.forget(asked)
		return api.TaskResult{}, ctx.Err()
	}
}

// signal wakes whoever waits for tasks.
func (p *taskQueue) signal() {
	select {
	case p.came <- struct{}{}:
	default:
	}
}

func (p *taskQueue) forget(t *task) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	delete(p.taken, t.ID)
	p.waiting = slices.DeleteFunc(p.waiting, func(w *task) bool { return w == t })
}

// Take returns tasks and waits for the first until the context ends. A worker makes one such call at a time.
func (p *taskQueue) Take(ctx context.Context, wish api.TaskWish) []api.Task {
	for {
		if out := p.takeNow(wish); len(out) > 0 || wish.Most == 0 {
			return out
		}
		select {
		case <-p.came:
		case <-ctx.Done():
			return nil
		}
	}
}

func (p *taskQueue) takeNow(wish api.TaskWish) (out []api.Task) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	for id, t := range p.taken { // an answer that held it was lost
		if len(out) < wish.Most && !slices.Contains(wish.Holds, id) {
			out = append(out, t.Task)
		}
	}
	n := min(wish.Most-len(out), len(p.waiting))
	for _, t := range p.waiting[:n] {
		p.taken[t.ID] = t
		out = append(out, t.Task)
	}
	p.waiting = p.waiting[n:]
	if len(p.waiting) > 0 { // another call may be waiting for the rest
		p.signal()
	}
	return out
}

// Put takes the result of a task to the job that waits for it. One that nobody waits for any more is dropped. The error
// says what is wrong with it; then the worker is to send another one.
func (p *taskQueue) Put(result api.TaskResult) error {
	p.mutex.Lock()
	t := p.taken[result.ID]
	p.mutex.Unlock()
	if t == nil {
		return nil
	}
	if err := fits(t.Task, &result); err != nil {
		return &UnfitError{err}
	}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.taken[result.ID] != nil {
		delete(p.taken, result.ID)
		t.done <- answer{result: result}
	}
	return nil
}

// UnfitError says what is wrong with a result.
type UnfitError struct{ error }

// fits reports whether the result answers the task, and makes it fit to be kept.
func fits(t api.Task, result *api.TaskResult) error {
	given := 0
	for _, there := range []bool{result.Observation != nil, result.Lookup != nil, result.Failure != nil} {
		if there {
			given++
		}
	}
	o := result.Observation
	switch {
	case given != 1:
		return fmt.Errorf("the result of task %d has %d of observation, lookup and failure; one is wanted", t.ID, given)
	case result.Failure != nil:
	case (o != nil) != (t.Visit != nil):
		return fmt.Errorf("the result of task %d is not of its kind", t.ID)
	case o == nil:
		if _, err := planOf(*result.Lookup); err != nil && !result.Lookup.ResolveError.Given() {
			return fmt.Errorf("the result of task %d: %w", t.ID, err)
		}
	case o.Address.String() != t.Visit.Address || o.ServerName != t.Visit.ServerName:
		return fmt.Errorf("the result of task %d is of another address or server name", t.ID)
	}
	plain.Clean(result)
	return nil
}

// close takes no more tasks, and gives back those that the worker has not begun; with all, those that it has begun too.
func (p *taskQueue) close(all bool) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.closed = true
	for _, t := range p.waiting {
		t.done <- answer{err: jobs.ErrNotTaken}
	}
	p.waiting = nil
	if !all {
		return
	}
	for id, t := range p.taken {
		t.done <- answer{err: jobs.ErrAway}
		delete(p.taken, id)
	}
}

// call notes that the worker is heard of, until the end that it returns.
func (p *taskQueue) call(now func() time.Time) (end func()) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.calls++
	return func() {
		p.mutex.Lock()
		defer p.mutex.Unlock()
		p.calls--
		p.heard = now()
	}
}

// silent is how long nothing was heard of the worker.
func (p *taskQueue) silent(now time.Time) time.Duration {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.calls > 0 {
		return 0
	}
	return now.Sub(p.heard)
}
