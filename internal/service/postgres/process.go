package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// process is a server that was proven to be ours. Its handle means this process
// and no later one of the same number.
type process struct {
	pid int
	fd  int
}

// errNotOurs says that a number in a pid file is of something else.
var errNotOurs = errors.New("it is no PostgreSQL of this data directory")

// prove looks at the process of the number: a PostgreSQL of the database's user
// that works in this data directory.
func (p *place) prove(pid int) (*process, error) {
	fd, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		return nil, errNotOurs
	}
	proof := &process{pid, fd}
	if !p.isOurs(pid) || unix.PidfdSendSignal(fd, 0, nil,
		0) != nil { // gone meanwhile: what was looked at may be another
		proof.close()
		return nil, errNotOurs
	}
	return proof, nil
}

func (p *place) isOurs(pid int) bool {
	proc := filepath.Join("/proc", strconv.Itoa(pid))
	own, err := p.base.Stat(dataName)
	if err != nil {
		return false
	}
	works, err := os.Stat(filepath.Join(proc, "cwd"))
	if err != nil || !os.SameFile(own, works) {
		return false
	}
	program, err := os.Readlink(filepath.Join(proc, "exe"))
	if name := filepath.Base(strings.TrimSuffix(program, " (deleted)")); err != nil || name != "postgres" {
		return false
	}
	info, err := os.Stat(proc)
	if err != nil {
		return false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == p.uid()
}

// pid reads the pid file.
func (p *place) pid() (int, bool) {
	text, err := small(p.base, filepath.Join(dataName, "postmaster.pid"))
	if err != nil {
		return 0, false
	}
	line, _, _ := strings.Cut(text, "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(line))
	return pid, err == nil && pid > 1
}

func (p *process) close() { _ = unix.Close(p.fd) }

// signal reaches this process alone.
func (p *process) signal(s syscall.Signal) error {
	err := unix.PidfdSendSignal(p.fd, s, nil, 0)
	if errors.Is(err, unix.ESRCH) {
		return nil
	}
	return err
}

// ended reports whether the process has ended, waiting for it as long.
func (p *process) ended(wait time.Duration) bool {
	for deadline := time.Now().Add(wait); ; {
		left := max(time.Until(deadline), 0)
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(p.fd), Events: unix.POLLIN}}, int(left/time.Millisecond))
		if !errors.Is(err, unix.EINTR) {
			return n > 0
		}
	}
}

// await waits until the process has ended.
func (p *process) await(ctx context.Context) error {
	for !p.ended(50 * time.Millisecond) {
		if ctx.Err() != nil {
			return fmt.Errorf("PostgreSQL (process %d) has not stopped yet: %w", p.pid, ctx.Err())
		}
	}
	return nil
}
