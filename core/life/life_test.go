package life_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"nurvik/core/life"
)

func TestTransitions(t *testing.T) {
	first := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	before, now := first.AddDate(0, 0, 7), first.AddDate(0, 0, 14)
	was := func(s life.State) life.Life {
		l := life.Life{State: s, FirstSeen: first, LastSeen: before}
		if s == life.Gone {
			l.GoneAt = &before
		}
		return l
	}
	seen := func(l life.Life) life.Life { return l.Seen(now) }
	unseen := func(l life.Life) life.Life { return l.Unseen(now, true) }
	silent := func(l life.Life) life.Life { return l.Unseen(now, false) }
	tests := []struct {
		name string
		was  life.Life
		then func(life.Life) life.Life
		want life.Life
	}{
		{"never seen, seen", life.Life{}, seen, life.Life{State: life.New, FirstSeen: now, LastSeen: now}},
		{"new, seen", was(life.New), seen, life.Life{State: life.Standing, FirstSeen: first, LastSeen: now}},
		{"standing, seen", was(life.Standing), seen, life.Life{State: life.Standing, FirstSeen: first, LastSeen: now}},
		{"gone, seen", was(life.Gone), seen, life.Life{State: life.Back, FirstSeen: first, LastSeen: now}},
		{"back, seen", was(life.Back), seen, life.Life{State: life.Standing, FirstSeen: first, LastSeen: now}},
		{"never seen, unseen", life.Life{}, unseen, life.Life{}},
		{"new, unseen", was(life.New), unseen, life.Life{State: life.Gone, FirstSeen: first, LastSeen: before,
			GoneAt: &now}},
		{"standing, unseen", was(life.Standing), unseen,
			life.Life{State: life.Gone, FirstSeen: first, LastSeen: before, GoneAt: &now}},
		{"back, unseen", was(life.Back), unseen, life.Life{State: life.Gone, FirstSeen: first, LastSeen: before,
			GoneAt: &now}},
		{"gone, unseen: it went before", was(life.Gone), unseen, was(life.Gone)},
		{"standing, nothing could be said", was(life.Standing), silent, was(life.Standing)},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) { assert.Equal(t, tt.want, tt.then(tt.was)) })
	}
}
