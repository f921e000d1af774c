// Package acceptance tests nurvik and nurvikd as built programs against the
// simulated harbour.
package acceptance

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nurvik/internal/harbour"
)

// binaries is the directory of the built programs; estate is the shared harbour.
var (
	binaries string
	estate   *harbour.Harbour
)

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	directory, err := os.MkdirTemp("/tmp", "nurvik-acceptance-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(directory)
	if err := os.Chmod(directory, 0o755); err != nil {
		panic(err)
	}
	binaries = filepath.Join(directory, "bin")
	build := exec.Command("go", "build", "-o", binaries+"/", "../cmd/...")
	if output, err := build.CombinedOutput(); err != nil {
		panic(string(output))
	}
	estate, err = harbour.Start(harbour.Options{Directory: filepath.Join(directory, "harbour"), Now: time.Now()})
	if err != nil {
		panic(err)
	}
	defer estate.Close()
	return m.Run()
}

// outcome is how a call ended.
type outcome struct {
	status         int
	stdout, stderr string
}

// call runs a program to its end.
func call(t *testing.T, stdin, program string, arguments ...string) outcome {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(binaries, program), arguments...)
	cmd.Stdin = strings.NewReader(stdin)
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir(), "XDG_CONFIG_HOME="+t.TempDir())
	if token := tokenFor(arguments); token != "" {
		cmd.Env = append(cmd.Env, "NURVIK_TOKEN="+token)
	}
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	err := cmd.Run()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		require.NoError(t, err)
	}
	return outcome{cmd.ProcessState.ExitCode(), stdout.String(), stderr.String()}
}

// nurvik calls the client; audits ask the harbour's name server and wait not too long.
func nurvik(t *testing.T, arguments ...string) outcome {
	t.Helper()
	if arguments[0] == "audit" {
		arguments = append(arguments, "--resolver", estate.NameServer, "--resolver-validates", "--handshake-timeout",
			"5s")
	}
	if arguments[0] == "compare" {
		arguments = append(arguments, "--resolver", estate.NameServer)
	}
	return call(t, "", "nurvik", arguments...)
}

// daemon is a running nurvikd.
type daemon struct {
	cmd     *exec.Cmd
	address string
	token   string // of an administrator
	log     *bytes.Buffer
	done    chan error
}

func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// dataDirectory is short and may be entered by the database's user.
func dataDirectory(t *testing.T) string {
	t.Helper()
	d, err := os.MkdirTemp("/tmp", "nurvik-a-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(d, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(d) })
	return filepath.Join(d, "data")
}

// serve starts nurvikd on the data directory and waits until it is ready.
func serve(t *testing.T, data string, arguments ...string) *daemon {
	t.Helper()
	address := freeAddress(t)
	d := &daemon{address: "http://" + address, log: &bytes.Buffer{}, done: make(chan error, 1)}
	arguments = append([]string{"serve", "--data", data, "--listen", address, "--resolver", estate.NameServer,
		"--resolver-validates", "--unsafe-disk", "--fetch", "--allow-visit", "127.0.0.0/8", "--allow-network",
		fmt.Sprintf("127.0.0.0/8=%d", estate.Port), "--search-network",
		fmt.Sprintf("127.30.7.0/24=%d", estate.Port)}, arguments...)
	d.cmd = exec.Command(filepath.Join(binaries, "nurvikd"), arguments...)
	d.cmd.Stderr = d.log
	stdout, err := d.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, d.cmd.Start())
	line := make([]byte, 200)
	n, err := stdout.Read(line)
	if err != nil {
		_ = d.cmd.Wait()
		require.NoError(t, err, d.log.String())
	}
	require.Contains(t, string(line[:n]), d.address)
	go func() { _, _ = io.Copy(io.Discard, stdout) }() // the set-up address
	go func() { d.done <- d.cmd.Wait() }()
	t.Cleanup(func() { d.stop(t) })
	d.letIn(t, data, arguments)
	return d
}

// stop ends nurvikd in order, if it still runs.
func (d *daemon) stop(t *testing.T) {
	t.Helper()
	if d.cmd.ProcessState != nil {
		return
	}
	_ = d.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case err := <-d.done:
		require.NoError(t, err, d.log.String())
	case <-time.After(40 * time.Second):
		_ = d.cmd.Process.Kill()
		t.Fatal("nurvikd does not stop")
	}
}

// kill ends nurvikd as a power cut does.
func (d *daemon) kill(t *testing.T) {
	t.Helper()
	require.NoError(t, d.cmd.Process.Kill())
	<-d.done
}

// decoded reads JSON that a program printed.
func decoded[T any](t *testing.T, text string) (value T) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), &value))
	return value
}

// syncBuffer is output that can be read while it is written.
type syncBuffer struct {
	mutex sync.Mutex
	data  bytes.Buffer
}

func (b *syncBuffer) Write(p []byte) (int, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.data.Write(p)
}

func (b *syncBuffer) String() string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.data.String()
}
