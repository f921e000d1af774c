package outfile

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func read(t *testing.T, path string) (string, fs.FileMode) {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	return string(data), info.Mode().Perm()
}

func TestAllOrNone(t *testing.T) {
	d := t.TempDir()
	key, other := filepath.Join(d, "tides.key"), filepath.Join(d, "tides.csr")
	require.NoError(t, Write(false, File{key, []byte("key"), 0o600}, File{other, []byte("request"), 0o644}))
	text, mode := read(t, key)
	assert.Equal(t, "key", text)
	assert.Equal(t, fs.FileMode(0o600), mode)
	_, mode = read(t, other)
	assert.Equal(t, fs.FileMode(0o644), mode)

	more := filepath.Join(d, "ebb.csr")
	require.ErrorIs(t, Write(false, File{more, []byte("new"), 0o644}, File{key, []byte("new"), 0o600}), ErrExists)
	require.Error(t, Write(false, File{more, nil, 0o644}, File{filepath.Join(d, "none", "x"), nil, 0o644}))
	require.Error(t, Write(true, File{more, nil, 0o644}, File{d + "/./ebb.csr", nil, 0o644}), "the same file twice")
	require.Error(t, Write(true, File{d, nil, 0o644}), "a directory")
	text, _ = read(t, key)
	assert.Equal(t, "key", text)
	left, err := os.ReadDir(d)
	require.NoError(t, err)
	assert.Len(t, left, 2, "nothing unfinished is left behind, and nothing of what was refused")
}

func TestReplaceKeepsOwnerAndLink(t *testing.T) {
	d := t.TempDir()
	path, link := filepath.Join(d, "tides.crt"), filepath.Join(d, "current.crt")
	require.NoError(t, os.WriteFile(path, []byte("old"), 0o640))
	require.NoError(t, os.Symlink("tides.crt", link))
	root := os.Geteuid() == 0
	if root {
		require.NoError(t, os.Chown(path, 65534, 65534))
	}
	require.NoError(t, Write(true, File{link, []byte("new"), 0o644}))
	text, mode := read(t, path)
	assert.Equal(t, "new", text)
	assert.Equal(t, fs.FileMode(0o644), mode)
	to, err := os.Readlink(link)
	require.NoError(t, err)
	assert.Equal(t, "tides.crt", to)
	info, err := os.Stat(path)
	require.NoError(t, err)
	if owner, ok := info.Sys().(*syscall.Stat_t); root && ok {
		assert.EqualValues(t, 65534, owner.Uid)
	}
}
