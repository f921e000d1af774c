package jobs

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/core/proposal"
	"nurvik/internal/service/store"
)

// searchQueue is worked by the processes that may search networks.
const searchQueue = "searches"

// How a search goes: so many hosts at once, one connection to each, and so many places in one portion. An address at
// which nothing answers costs the time of one connection.
const (
	searchedAtOnce = 32
	searchPortion  = 256
	searchConnect  = 2 * time.Second
	searchVisit    = 20 * time.Second
)

// searchArgs is the job that searches networks for endpoints.
type searchArgs struct {
	SearchID int64 `json:"search_id"`
}

// Kind implements river.JobArgs.
func (searchArgs) Kind() string { return "search" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (searchArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: searchQueue, MaxAttempts: otherAttempts}
}

type searchWorker struct {
	river.WorkerDefaults[searchArgs]
	queue  *Queue
	prober *probe.Prober
}

func newSearchWorker(q *Queue) *searchWorker {
	short := limits.Limits{Connect: searchConnect, Visit: searchVisit}
	return &searchWorker{queue: q, prober: probe.New(q.options.Network, short.Over(q.options.Limits))}
}

// Searchable are the networks that this process may search.
func (q *Queue) Searchable() proposal.Ranges { return q.options.Searchable }

// Search inserts a search with its job.
func (q *Queue) Search(ctx context.Context, ranges proposal.Ranges, by string) (store.Search, error) {
	s := store.Search{Ranges: ranges, ByName: by, CreatedAt: q.options.Now()}
	err := q.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.CreateSearch(&s); err != nil {
			return err
		}
		return q.put(ctx, tx, searchArgs{SearchID: s.ID})
	})
	return s, err
}

// Work looks at one portion of places after another. What was met is kept, and a search that is cut off goes on there.
func (w *searchWorker) Work(ctx context.Context, job *river.Job[searchArgs]) error {
	q, id, started := w.queue, job.Args.SearchID, time.Now()
	err := w.search(ctx, id, func() (bool, error) { return q.over(ctx, started, job.Args) })
	if err == nil || ctx.Err() != nil {
		return err
	}
	q.options.Log.Error("job failed", "search", id, "error", err)
	if job.Attempt >= job.MaxAttempts {
		_, err = q.store.EndSearch(context.WithoutCancel(ctx), id, "failed", err.Error(), q.options.Now())
	}
	return err
}

func (w *searchWorker) search(ctx context.Context, id int64, over func() (bool, error)) error {
	q := w.queue
	for {
		x, err := q.store.Search(ctx, id)
		if err != nil || x.State != store.Searching {
			return ignoreMissing(err)
		}
		if x.Done >= x.Size {
			_, err := q.store.EndSearch(ctx, id, "finished", "", q.options.Now())
			return err
		}
		for _, r := range x.Ranges { // another process, or the one before, may have been allowed more
			if _, err := proposal.Choose(q.options.Searchable, []netip.Prefix{r.Network}, r.Ports); err != nil {
				_, err = q.store.EndSearch(ctx, id, "failed", err.Error(), q.options.Now())
				return err
			}
		}
		to := min(x.Done+searchPortion, x.Size)
		found, others, err := w.look(ctx, x.Ranges.Slice(x.Done, to))
		if err != nil {
			return err
		}
		if goes, err := q.store.Advance(ctx, x, to, found, others, q.options.Now()); err != nil || !goes {
			return err
		}
		if done, err := over(); err != nil || done {
			return err
		}
	}
}

// look visits places: which answered TLS, and how many something else.
func (w *searchWorker) look(ctx context.Context, places []netip.AddrPort) (found []store.FoundCertificate, others int,
	err error) {
	var hosts [][]netip.AddrPort
	for i, at := range places {
		if i == 0 || places[i-1].Addr() != at.Addr() {
			hosts = append(hosts, nil)
		}
		hosts[len(hosts)-1] = append(hosts[len(hosts)-1], at)
	}
	var mutex sync.Mutex
	var group sync.WaitGroup
	slots := make(chan struct{}, searchedAtOnce)
	for _, host := range hosts {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			seen, met, failed := w.lookAt(ctx, host)
			mutex.Lock()
			defer mutex.Unlock()
			found, others, err = append(found, seen...), others+met, errors.Join(err, failed)
		})
	}
	group.Wait()
	return found, others, errors.Join(err, ctx.Err())
}

// lookAt visits the places of one host, one after another, when no other process is there. The error is one of this
// machine.
func (w *searchWorker) lookAt(ctx context.Context, host []netip.AddrPort) (found []store.FoundCertificate, others int,
	err error) {
	host = slices.DeleteFunc(host, func(at netip.AddrPort) bool {
		return w.queue.options.Gate != nil && w.queue.options.Gate.Check(at) != nil
	})
	if len(host) == 0 {
		return nil, 0, nil
	}
	leave, err := w.turn(ctx, host[0].Addr())
	if err != nil {
		return nil, 0, err
	}
	defer leave()
	for _, at := range host {
		e, err := endpoint.Parse(at.String())
		if err != nil {
			return nil, 0, err
		}
		o, err := w.prober.Visit(ctx, at, probe.Call{Scheme: e.Scheme, Effort: facts.Quick})
		if err != nil {
			return nil, 0, err
		}
		switch o.Outcome {
		case facts.Answered:
			f := store.FoundCertificate{Address: at, Scheme: e.Scheme}
			if len(o.Certificates) > 0 {
				f.DER = o.Certificates[0]
			}
			found = append(found, f)
		case facts.Refused, facts.Timeout:
		default:
			others++
		}
	}
	return found, others, nil
}

// turn waits until no other process is at the host.
func (w *searchWorker) turn(ctx context.Context, host netip.Addr) (leave func(), err error) {
	for {
		leave, rest, err := w.queue.lanes.enter(ctx, host)
		if err != nil || leave != nil {
			return leave, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(min(max(rest, 100*time.Millisecond), 5*time.Second)):
		}
	}
}
