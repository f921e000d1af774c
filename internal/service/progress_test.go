package service_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/service/store"
	"nurvik/internal/service/web"
)

// TestProgress: whoever follows an audit is woken when it comes further, and when what was told may have been missed.
func TestProgress(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	defer s.Close()
	execute(t, data, `INSERT INTO endpoints (id, target, settings, created_at, updated_at)
		VALUES (1, 'a.example:443', '{}', now(), now())`)
	a := &store.Audit{State: store.Visiting, CreatedAt: s.Clock.Stamp()}
	require.NoError(t, s.Tx(t.Context(), func(tx *store.Tx) error {
		_, err := tx.CreateAudit(a, store.Selection{})
		return err
	}))
	progress := web.NewProgress()
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { progress.Listen(ctx, s, silent); close(ended) }()
	first, leaveFirst := progress.Follow(a.ID)
	second, leaveSecond := progress.Follow(a.ID)
	other, leaveOther := progress.Follow(a.ID + 1)
	defer leaveOther()
	heard := func(c <-chan struct{}, why string) {
		t.Helper()
		select {
		case <-c:
		case <-time.After(20 * time.Second):
			assert.Fail(t, "nothing was heard", why)
		}
	}
	listening := "SELECT count(*) FROM pg_stat_activity WHERE query = 'LISTEN nurvik_audit'"
	require.Eventually(t, func() bool { return count(t, data, listening) == 1 }, 20*time.Second, 20*time.Millisecond)
	for _, c := range []<-chan struct{}{first, second, other} { // what was told before it listened
		heard(c, "it begins to listen")
	}
	further := func(do func(tx *store.Tx) error) { require.NoError(t, s.Tx(t.Context(), do)) }
	further(func(tx *store.Tx) error {
		held, err := tx.HoldAudit(a.ID, store.Visiting)
		require.NoError(t, err)
		return tx.Count(held, func(s *store.Summary) {
			s.Add(store.Summary{Judged: 1, Done: 2, Verdicts: map[string]int{"sound": 1}})
		})
	})
	heard(first, "an endpoint was judged")
	heard(second, "one connection hears for all")
	kept, err := s.Audit(t.Context(), a.ID)
	require.NoError(t, err)
	assert.Equal(t, &store.Summary{Endpoints: 1, Judged: 1, Done: 2, Verdicts: map[string]int{"sound": 1}},
		kept.Summary)
	leaveSecond()
	execute(t, data, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query = 'LISTEN nurvik_audit'")
	heard(other, "it listens again, and something may have been missed")
	heard(first, "it listens again, and something may have been missed")
	further(func(tx *store.Tx) error {
		_, err := tx.Fail(a.ID, "the tide was out", s.Clock.Stamp())
		return err
	})
	heard(first, "it failed")
	assert.Empty(t, other, "another audit")
	assert.Empty(t, second, "nobody follows")
	leaveFirst()
	cancel()
	<-ended
}
