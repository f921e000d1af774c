//go:build unix

package inputfile_test

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/inputfile"
)

// TestWhatIsNoFileIsRefused opens nothing that would block or never end.
func TestWhatIsNoFileIsRefused(t *testing.T) {
	fifo, socket := filepath.Join(t.TempDir(), "fifo"), filepath.Join(t.TempDir(), "s")
	require.NoError(t, syscall.Mkfifo(fifo, 0o600))
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer listener.Close()
	for path, says := range map[string]string{fifo: "a named pipe (FIFO)", socket: "a socket",
		t.TempDir(): "a directory",
		"/dev/zero": "a device", "/dev/null": "a device"} {
		_, err := inputfile.Read(path)
		require.ErrorIs(t, err, inputfile.ErrNoFile)
		assert.Equal(t, path+": it is "+says+", not a file", err.Error())
	}
	_, err = inputfile.Read(filepath.Join(t.TempDir(), "none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestStreams(t *testing.T) {
	out, in, err := os.Pipe()
	require.NoError(t, err)
	defer out.Close()
	_, err = io.WriteString(in, "a policy")
	require.NoError(t, err)
	require.NoError(t, in.Close())
	path := fmt.Sprintf("/dev/fd/%d", out.Fd())
	descriptor, ok := inputfile.Stream(path)
	assert.Equal(t, [2]any{int(out.Fd()), true}, [2]any{descriptor, ok})
	data, err := inputfile.Read(path)
	require.NoError(t, err)
	assert.Equal(t, "a policy", string(data))

	regular := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(regular, []byte("text"), 0o600))
	redirected, err := os.Open(regular)
	require.NoError(t, err)
	defer redirected.Close()
	for range 2 { // it can be read again, so it is no stream
		_, ok = inputfile.Stream(fmt.Sprintf("/dev/fd/%d", redirected.Fd()))
		assert.False(t, ok)
		data, err = inputfile.Read(fmt.Sprintf("/dev/fd/%d", redirected.Fd()))
		require.NoError(t, err)
		assert.Equal(t, "text", string(data))
	}
}
