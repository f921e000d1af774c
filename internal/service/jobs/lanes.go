package jobs

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"nurvik/internal/service/store"
)

// lanes are this process's turns at hosts. A host is visited by one process at a time, which is polite to it by itself;
// all visits of the process share the turn.
type lanes struct {
	store  *store.Store
	holder string
	lasts  time.Duration // of a turn that nobody ends

	mutex sync.Mutex
	hosts map[netip.Addr]*lane
}

type lane struct {
	users int // visits that have the turn or ask for it; guarded by the lanes' mutex

	mutex  sync.Mutex
	inside int
	taken  time.Time
}

// renewal is how old a turn may be before a visit that joins it takes it anew.
const renewal = 10 * time.Second

func newLanes(s *store.Store, holder string, visit time.Duration) *lanes {
	return &lanes{store: s, holder: holder, lasts: visit + time.Minute, hosts: map[netip.Addr]*lane{}}
}

// enter joins the turn at the host. It returns nil where another process has it, or had it until now: then rest is for
// how long the host is left in peace.
func (l *lanes) enter(ctx context.Context, host netip.Addr) (leave func(), rest time.Duration, err error) {
	l.mutex.Lock()
	at := l.hosts[host]
	if at == nil {
		at = &lane{}
		l.hosts[host] = at
	}
	at.users++
	l.mutex.Unlock()
	forget := func() {
		l.mutex.Lock()
		defer l.mutex.Unlock()
		if at.users--; at.users == 0 {
			delete(l.hosts, host)
		}
	}
	at.mutex.Lock()
	defer at.mutex.Unlock()
	if at.inside == 0 || time.Since(at.taken) > renewal {
		ours, rest, err := l.store.TakeLane(ctx, host.String(), l.holder, l.lasts)
		if err != nil || !ours {
			forget()
			return nil, rest, err
		}
		at.taken = time.Now()
	}
	at.inside++
	return func() {
		defer forget()
		at.mutex.Lock()
		defer at.mutex.Unlock()
		if at.inside--; at.inside == 0 { // left in vain, the turn ends with its time
			_ = l.store.LeaveLane(context.WithoutCancel(ctx), host.String(), l.holder)
		}
	}, 0, nil
}
