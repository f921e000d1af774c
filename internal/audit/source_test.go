package audit_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/intake"
	"nurvik/internal/audit"
)

func keyPEM(t *testing.T) string {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

func TestSource(t *testing.T) {
	directory := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(directory, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	key := write("keys/tides.key", keyPEM(t))
	write("keys/notes.txt", "nothing")
	notes, empty := write("notes.txt", "no material"), write("empty.pem", "")
	bare := filepath.Join(directory, "bare")
	require.NoError(t, os.Mkdir(bare, 0o755))
	tests := []struct {
		name, target string
		files        int
		unexamined   string // part of the reason; "" for none
	}{
		{"a file", key, 1, ""},
		{"a directory, in which other files are passed over", filepath.Dir(key), 1, ""},
		{"standard input", "-", 1, ""},
		{"a file without material", notes, 0, "nothing was recognised in it"},
		{"an empty file", empty, 0, "nothing was recognised in it"},
		{"a directory without material", bare, 0, "nothing was recognised below it"},
		{"a path that is not there", filepath.Join(directory, "none"), 0, "no such file or directory"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			counted := 0
			s := &audit.Source{Reader: new(intake.Reader), Stdin: strings.NewReader(keyPEM(t)),
				Progress: func(n int) { counted = n }}
			isPath, err := s.Add(t.Context(), tt.target)
			require.NoError(t, err)
			assert.True(t, isPath)
			assert.Len(t, s.Files, tt.files)
			assert.Equal(t, tt.files, counted, "progress counts what was read")
			assert.Len(t, s.Of(tt.target), tt.files)
			if tt.unexamined == "" {
				assert.Empty(t, s.Unexamined)
				return
			}
			require.Len(t, s.Unexamined, 1)
			assert.Equal(t, tt.target, s.Unexamined[0].Target)
			assert.Contains(t, s.Unexamined[0].Reason, tt.unexamined)
			assert.NotContains(t, s.Unexamined[0].Reason, tt.target, "the path stands beside it already")
		})
	}
	t.Run("an endpoint is no path", func(t *testing.T) {
		s := &audit.Source{Reader: new(intake.Reader)}
		for _, target := range []string{"tides.tarnholm.example", "tides.tarnholm.example:443",
			"imaps://mail.tarnholm.example"} {
			isPath, err := s.Add(t.Context(), target)
			require.NoError(t, err)
			assert.False(t, isPath, target)
		}
		assert.Empty(t, s.Unexamined)
	})
	t.Run("several targets are kept apart", func(t *testing.T) {
		s := &audit.Source{Reader: new(intake.Reader), Stdin: strings.NewReader(keyPEM(t))}
		for _, target := range []string{key, "-"} {
			_, err := s.Add(t.Context(), target)
			require.NoError(t, err)
		}
		assert.Equal(t, key, s.Of(key)[0].Path)
		assert.Equal(t, "standard input", s.Of("-")[0].Path)
	})
	t.Run("what was read before an interruption is kept", func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		s := &audit.Source{Reader: new(intake.Reader)}
		_, err := s.Add(ctx, filepath.Dir(key))
		require.NoError(t, err)
		require.Len(t, s.Unexamined, 1)
		assert.Contains(t, s.Unexamined[0].String(), "interrupted before all of it was read")
	})
}
