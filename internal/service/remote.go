package service

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"nurvik/internal/service/jobs"
	"nurvik/internal/service/remote"
	"nurvik/internal/service/store"
)

// remoteSessions are those of workers that use this instance's API, with connections to the database of their own, so
// that they take none from people. There are none before the first worker.
type remoteSessions struct {
	*remote.Sessions
	mutex sync.Mutex
	store *store.Store
}

// sessionConnections are enough for the queues of as many workers as there may be.
const sessionConnections = 64

func (c Config) remoteSessions(told settled, url string, dial store.Dial) *remoteSessions {
	p := &remoteSessions{}
	through := c.Instance
	if through == "" {
		through, _ = os.Hostname() // without one it is told without
	}
	p.Sessions = remote.New(func(ctx context.Context, o jobs.Options, lost func(error)) (remote.Work, error) {
		s, err := p.opened(ctx, url, dial)
		if err != nil {
			return nil, err
		}
		o.Through, o.Log, o.Now, o.Network = through, c.Log, s.Clock.Stamp, told.network
		o.Network.Dial = func(context.Context, netip.AddrPort) (net.Conn, error) { return nil, errNotHere }
		queue, err := jobs.Open(ctx, s, o)
		if err != nil {
			return nil, err
		}
		if err := queue.Start(ctx, lost); err != nil {
			return nil, err
		}
		return queue, nil
	}, time.Now, c.Log)
	return p
}

// errNotHere ends whatever would be visited from here for a worker elsewhere.
var errNotHere = errors.New("it is the worker that visits, and not the service")

func (p *remoteSessions) opened(ctx context.Context, url string, dial store.Dial) (s *store.Store, err error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.store == nil {
		p.store, err = store.OpenWith(ctx, url, dial, sessionConnections)
	}
	return p.store, err
}

func (p *remoteSessions) stop(ctx context.Context) {
	p.Stop(ctx)
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.store != nil && ctx.Err() == nil { // else some of its connections are held still, and closing waits for them
		p.store.Close()
	}
}
