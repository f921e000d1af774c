package web

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"nurvik/internal/service/store"
)

// Progress wakes those who follow audits. One connection hears for all of them.
type Progress struct {
	mutex   sync.Mutex
	waiting map[int64]map[chan struct{}]bool
}

// NewProgress is without anybody who follows.
func NewProgress() *Progress { return &Progress{waiting: map[int64]map[chan struct{}]bool{}} }

// Follow returns a channel on which something comes when the audit may have come further; leave ends that.
func (n *Progress) Follow(audit int64) (news <-chan struct{}, leave func()) {
	c := make(chan struct{}, 1)
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if n.waiting[audit] == nil {
		n.waiting[audit] = map[chan struct{}]bool{}
	}
	n.waiting[audit][c] = true
	return c, func() {
		n.mutex.Lock()
		defer n.mutex.Unlock()
		if delete(n.waiting[audit], c); len(n.waiting[audit]) == 0 {
			delete(n.waiting, audit)
		}
	}
}

// wake wakes those who follow the audit.
func (n *Progress) wake(audit int64) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	for c := range n.waiting[audit] {
		select {
		case c <- struct{}{}:
		default: // it is awake already
		}
	}
}

// wakeAll wakes everybody: what was told meanwhile has not been heard.
func (n *Progress) wakeAll() {
	n.mutex.Lock()
	audits := make([]int64, 0, len(n.waiting))
	for audit := range n.waiting {
		audits = append(audits, audit)
	}
	n.mutex.Unlock()
	for _, audit := range audits {
		n.wake(audit)
	}
}

// pause is how long a lost connection is left alone.
const pause = time.Second

// Listen hears what the database tells, until the context ends.
func (n *Progress) Listen(ctx context.Context, s *store.Store, log *slog.Logger) {
	for ctx.Err() == nil {
		err := s.ListenProgress(ctx, n.wakeAll, n.wake)
		if ctx.Err() != nil {
			return
		}
		log.Debug("progress of audits is not heard; trying again", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}
