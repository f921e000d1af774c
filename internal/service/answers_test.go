package service_test

import (
	"bytes"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

// TestAnswersAreKept: what the harbour's issuers said outlives the process, and goes when it has ended.
func TestAnswersAreKept(t *testing.T) {
	importHarbour(t)
	auditOf(t, api.AuditStart{})
	assert.Positive(t, count(t, shared.data, "SELECT count(*) FROM answers"))

	server, data := other(t)
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	var log bytes.Buffer
	one := s.Shelf(slog.New(slog.NewTextHandler(&log, nil)))
	ends := s.Clock.Stamp().Add(time.Hour).Truncate(time.Microsecond)
	one.Save(t.Context(), "list", []byte("first"), s.Clock.Stamp().Add(-time.Second))
	one.Save(t.Context(), "list", []byte("second"), ends)
	got, until := s.Shelf(silent).Load(t.Context(), "list")
	assert.Equal(t, "second", string(got))
	assert.True(t, until.Equal(ends))
	got, _ = one.Load(t.Context(), "answer")
	assert.Empty(t, got)
	one.Save(t.Context(), "answer", []byte("over"), s.Clock.Stamp().Add(-time.Second))
	one.Save(t.Context(), "issuer", []byte("new"), ends)
	assert.Equal(t, 2, count(t, data, "SELECT count(*) FROM answers"), "what has ended goes")
	assert.Empty(t, log.String())
	execute(t, data, "DROP TABLE answers")
	one.Save(t.Context(), "list", []byte("third"), ends)
	got, _ = one.Load(t.Context(), "list")
	assert.Empty(t, got, "what cannot be read is asked again")
	assert.Contains(t, log.String(), "could not be kept")
	assert.Contains(t, log.String(), "could not be read")
}
