//go:build unix

package cli

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge/maze"
)

// TestMain is the program itself where a test wants one in a process of its own.
func TestMain(m *testing.M) {
	if os.Getenv("NURVIK_TEST_PROGRAM") != "" {
		os.Exit(Main())
	}
	os.Exit(m.Run())
}

// program is a call in a process of its own.
func program(t *testing.T, arguments ...string) (cmd *exec.Cmd, stdout, stderr *bytes.Buffer) {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd = exec.Command(self, arguments...)
	cmd.Env = append(os.Environ(), "NURVIK_TEST_PROGRAM=1", "XDG_CONFIG_HOME="+t.TempDir())
	stdout, stderr = new(bytes.Buffer), new(bytes.Buffer)
	cmd.Stdout, cmd.Stderr = stdout, stderr
	return cmd, stdout, stderr
}

func TestSignalsAlwaysTakeEffect(t *testing.T) {
	for _, command := range []string{"identify", "pair", "chain", "audit"} {
		for name, signal := range map[string]os.Signal{"Ctrl-C": os.Interrupt, "SIGTERM": syscall.SIGTERM} {
			t.Run(command+" "+name, func(t *testing.T) {
				t.Parallel()
				cmd, _, stderr := program(t, command, "-")
				silent, err := cmd.StdinPipe() // from which nothing ever comes
				require.NoError(t, err)
				defer silent.Close()
				require.NoError(t, cmd.Start())
				time.Sleep(time.Second) // until the program listens
				require.NoError(t, cmd.Process.Signal(signal))
				sent := time.Now()
				_ = cmd.Wait()
				assert.Less(t, time.Since(sent), 2*time.Second)
				assert.Equal(t, statusUnexamined, cmd.ProcessState.ExitCode())
				assert.Contains(t, stderr.String(), "interrupted")
			})
		}
	}
}

// TestInterruptedJudging: a file that takes long to judge ends within a second, and what is known is printed.
func TestInterruptedJudging(t *testing.T) {
	m, err := maze.Make(0, time.Now())
	require.NoError(t, err)
	hostile, small := filepath.Join(t.TempDir(), "maze.pem"), filepath.Join(t.TempDir(), "root.pem")
	require.NoError(t, os.WriteFile(hostile, m.PEM, 0o600))
	require.NoError(t, os.WriteFile(small, m.Root, 0o600))
	for _, command := range []string{"chain", "audit"} {
		t.Run(command, func(t *testing.T) {
			t.Parallel()
			cmd, stdout, stderr := program(t, command, hostile, small, "--trust", small)
			require.NoError(t, cmd.Start())
			time.Sleep(1500 * time.Millisecond) // it takes many seconds
			require.NoError(t, cmd.Process.Signal(os.Interrupt))
			sent := time.Now()
			_ = cmd.Wait()
			assert.Less(t, time.Since(sent), 2*time.Second)
			assert.Equal(t, statusUnexamined, cmd.ProcessState.ExitCode())
			assert.Contains(t, stderr.String(), "interrupted")
			assert.Contains(t, stdout.String(), "it was interrupted")
		})
	}
}

// TestStreamsAreReadOnceAndWhole: what a shell puts in the place of <(command) is no file.
func TestStreamsAreReadOnceAndWhole(t *testing.T) {
	directory := desk(t)
	read := func(name string) string {
		data, err := os.ReadFile(filepath.Join(directory, name))
		require.NoError(t, err)
		return string(data)
	}
	tests := []struct {
		name      string
		arguments []string
		streams   []string // from descriptor 3 on
		status    int
		says      string
	}{
		{"identify", []string{"identify", "/dev/fd/3"}, []string{read("tides.crt")}, 0, "1 × certificate"},
		{"identify what needs a password", []string{"identify", "/dev/fd/3", "--password-file", "/dev/fd/4"},
			[]string{read("pilots.key"), password + "\n"}, 0, "encrypted private key"},
		{"pair", []string{"pair", "--key", "/dev/fd/3", "--certificate", "/dev/fd/4"},
			[]string{read("tides.key"), read("tides.crt")}, 0, "They belong together"},
		{"pair, one stream for both", []string{"pair", "--key", "/dev/fd/3", "--certificate", "/dev/fd/3"},
			[]string{read("tides.key") + read("tides.crt")}, 2, "nurvik pair /dev/fd/3"},
		{"chain", []string{"chain", "/dev/fd/3", "--trust", "/dev/fd/4"},
			[]string{read("tides.crt"), read("tides.crt")}, 0, "tides"},
		{"audit", []string{"audit", "/dev/fd/3", "--policy", "/dev/fd/4", "--trust", "/dev/fd/5"},
			[]string{read("tides.crt"), "name: harbour\nabout: ours\ninherits: internal\n", read("tides.crt")}, 0,
			"1 judged"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			cmd, stdout, stderr := program(t, tt.arguments...)
			for _, text := range tt.streams {
				out, in, err := os.Pipe()
				require.NoError(t, err)
				defer out.Close()
				cmd.ExtraFiles = append(cmd.ExtraFiles, out)
				go func() {
					_, _ = in.WriteString(text)
					_ = in.Close()
				}()
			}
			_ = cmd.Run()
			assert.Equal(t, tt.status, cmd.ProcessState.ExitCode(), "%s%s", stdout, stderr)
			assert.Contains(t, stdout.String()+stderr.String(), tt.says)
		})
	}
}

// TestWhatIsNoFile: each ends at once, with one sentence.
func TestWhatIsNoFile(t *testing.T) {
	directory := t.TempDir()
	fifo := filepath.Join(directory, "fifo")
	require.NoError(t, syscall.Mkfifo(fifo, 0o600))
	for _, what := range []string{fifo, "/dev/zero"} {
		for _, tt := range []struct {
			arguments []string
			status    int
		}{
			{[]string{"identify", what}, 3}, {[]string{"pair", what}, 3}, {[]string{"chain", what}, 3},
			{[]string{"audit", what}, 3}, {[]string{"audit", directory, "--trust", what}, 3},
			{[]string{"pair", "--key", what, "--certificate", what}, 3},
			{[]string{"audit", directory, "--policy", what}, 2}, {[]string{"audit", "--estate", what}, 2},
			{[]string{"identify", directory, "--password-file", what}, 2},
			{[]string{"identify", directory, "--password-file", directory}, 2},
			{[]string{"audit", directory, "--policy", directory}, 2},
		} {
			t.Run(strings.Join(tt.arguments, " "), func(t *testing.T) {
				status, stdout, stderr := run(t, "", tt.arguments...)
				assert.Equal(t, tt.status, status)
				assert.Contains(t, stdout+stderr, ", not a file")
			})
		}
	}
	endless, err := os.Open("/dev/zero")
	require.NoError(t, err)
	defer endless.Close()
	cmd, stdout, _ := program(t, "identify", "-")
	cmd.Stdin = endless
	_ = cmd.Run()
	assert.Equal(t, statusUnexamined, cmd.ProcessState.ExitCode())
	assert.Contains(t, stdout.String(), "64 MiB")
}
