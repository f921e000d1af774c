package postgres

import (
	"context"
	"fmt"
	"time"

	"golang.org/x/sys/unix"
)

// Times of watching.
const (
	lookInterval  = 500 * time.Millisecond
	tidyInterval  = 10 * time.Second // for the log's size and the space on the disk
	shortestPause = time.Second
	longestPause  = 30 * time.Second
)

// leastSpace is how many bytes should be free on the disk: below, the database
// soon cannot write.
const leastSpace = 200 << 20

// watch starts the server again when it has ended, with growing pauses, until the context ends.
func (s *Server) watch(ctx context.Context) {
	tidy := time.Now()
	for ctx.Err() == nil {
		if s.process.ended(lookInterval) {
			s.startAgain(ctx)
		}
		if time.Since(tidy) > tidyInterval {
			tidy = time.Now()
			if err := s.place.rotate(); err != nil {
				s.options.Log.Warn("the log of PostgreSQL cannot be put aside", "error", err)
			}
			if reason := s.space(); reason != "" {
				s.options.Log.Warn("the disk is nearly full", "reason", reason)
			}
		}
	}
}

func (s *Server) startAgain(ctx context.Context) {
	s.options.Log.Error("PostgreSQL has ended, and is started again", "last_words", s.place.lastWords())
	s.setTrouble("the database has ended and is being started again")
	for pause, attempt := shortestPause, 1; ctx.Err() == nil; pause, attempt = min(2*pause, longestPause), attempt+1 {
		limited, cancel := context.WithTimeout(ctx, startTime)
		err := s.runOnce(limited, time.Now().Add(startTime))
		cancel()
		if err == nil {
			s.options.Log.Info("PostgreSQL runs again", "attempts", attempt)
			s.setTrouble("")
			return
		}
		if ctx.Err() != nil {
			return
		}
		s.options.Log.Error("PostgreSQL does not start", "attempt", attempt, "next_in", pause.String(), "error", err)
		s.setTrouble(fmt.Sprintf("the database does not start (attempt %d); the log says why", attempt))
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

func (s *Server) setTrouble(text string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.trouble = text
}

// Trouble says what is wrong with the server, nothing when it is well.
func (s *Server) Trouble() []string {
	s.mutex.Lock()
	down := s.trouble
	s.mutex.Unlock()
	var out []string
	for _, reason := range []string{down, s.space()} {
		if reason != "" {
			out = append(out, reason)
		}
	}
	return out
}

// space says how little is left on the disk.
func (s *Server) space() string {
	var stat unix.Statfs_t
	if err := unix.Statfs(s.place.path, &stat); err != nil {
		return ""
	}
	if free := int64(stat.Bavail) * stat.Bsize; free < s.options.Space {
		return fmt.Sprintf("only %d MiB are free on the disk of %s", free>>20, s.place.path)
	}
	return ""
}
