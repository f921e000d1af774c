package postgres

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	osuser "os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Names below the data directory. What the database's user may write lies below
// database and run alone; everything else belongs to whoever runs the service.
const (
	baseName   = "database"
	dataName   = "data" // below baseName
	freshName  = "fresh"
	runName    = "run"
	secretName = "secret"
	lockName   = "lock"
	logName    = "postgresql.log"
	socketName = ".s.PGSQL.5432"
)

// maxSocket is the longest path of a Unix socket (sun_path of unix(7), less its end), in bytes.
const maxSocket = 107

// place is the data directory, held by handles: nothing that lies in it is
// reached by a path that somebody else could bend.
type place struct {
	path  string
	root  *os.Root            // the data directory
	base  *os.Root            // of the database
	owner *syscall.Credential // whom the server runs as; nil for this user
}

// uid is the number of the database's user.
func (p *place) uid() int {
	if p.owner != nil {
		return int(p.owner.Uid)
	}
	return os.Geteuid()
}

// openPlace makes the data directory and what is in it, or checks what is there.
func openPlace(path string) (*place, error) {
	p := &place{path: path}
	if n := len(p.socket()) - maxSocket; n > 0 {
		return nil, fmt.Errorf(
			"the data directory %s is too long for a Unix socket by %d characters; choose a shorter "+
				"one with --data", path, n)
	}
	if err := p.findOwner(); err != nil {
		return nil, err
	}
	if err := p.openRoot(); err != nil {
		return nil, err
	}
	for _, name := range []string{baseName, runName} {
		if err := p.lend(name); err != nil {
			p.close()
			return nil, err
		}
	}
	var err error
	if p.base, err = p.root.OpenRoot(baseName); err != nil {
		p.close()
		return nil, err
	}
	return p, nil
}

func (p *place) close() {
	_ = p.root.Close()
	if p.base != nil {
		_ = p.base.Close()
	}
}

func (p *place) socket() string { return filepath.Join(p.path, runName, socketName) }
func (p *place) data() string   { return filepath.Join(p.path, baseName, dataName) }

// findOwner decides whom the server runs as: PostgreSQL refuses to run as
// root, so root lends it to the user postgres.
func (p *place) findOwner() error {
	if os.Geteuid() != 0 {
		return nil
	}
	account, err := osuser.Lookup("postgres")
	if err != nil {
		return errors.New("PostgreSQL does not run as root and there is no user postgres; install the package " +
			"postgresql, name another user with --user, or start nurvikd as an ordinary user")
	}
	uid, errU := strconv.ParseUint(account.Uid, 10, 32)
	gid, errG := strconv.ParseUint(account.Gid, 10, 32)
	p.owner = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return errors.Join(errU, errG)
}

// openRoot makes the data directory, or refuses one that others can read or write.
func (p *place) openRoot() error {
	mode := fs.FileMode(0o700)
	if p.owner != nil {
		mode = 0o711 // the database's user must pass through, and see nothing
	}
	if err := os.MkdirAll(filepath.Dir(p.path), 0o755); err != nil {
		return fmt.Errorf("data directory: %w; choose another with --data", err)
	}
	if err := os.Mkdir(p.path, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("data directory: %w; choose another with --data", err)
	}
	fd, err := unix.Open(p.path, unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC|unix.O_RDONLY, 0)
	if err != nil {
		return fmt.Errorf("the data directory %s is a link or no directory (%w); name the directory itself with --data",
			p.path, err)
	}
	defer unix.Close(fd)
	var stat unix.Stat_t
	if err := unix.Fstat(fd, &stat); err != nil {
		return err
	}
	switch {
	case int(stat.Uid) != os.Geteuid():
		return fmt.Errorf("the data directory %s belongs to another user (number %d); give it to the one that "+
			"nurvikd runs "+
			"as, or choose another with --data", p.path, stat.Uid)
	case stat.Mode&0o066 != 0:
		return fmt.Errorf("others can read or write the data directory %s (mode %04o), which holds the secret of the "+
			"database; say chmod %04o %s", p.path, stat.Mode&0o7777, mode, p.path)
	}
	if err := unix.Fchmod(fd, uint32(mode)); err != nil {
		return err
	}
	// The handle is reached through the one that was looked at.
	p.root, err = os.OpenRoot(fmt.Sprintf("/proc/self/fd/%d", fd))
	return err
}

// lend makes a directory of the database's user, or refuses one that is not.
func (p *place) lend(name string) error {
	err := p.root.Mkdir(name, 0o700)
	if err == nil && p.owner != nil { // it is new, and nobody else can write where it lies
		err = p.root.Lchown(name, int(p.owner.Uid), int(p.owner.Gid))
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	info, err := p.root.Lstat(name)
	if err != nil {
		return err
	}
	stat, _ := info.Sys().(*syscall.Stat_t)
	full := filepath.Join(p.path, name)
	switch {
	case !info.IsDir():
		return fmt.Errorf("%s is no directory; something has put another thing in its place, and nothing was done "+
			"with "+
			"it: look at what it is, and move it away", full)
	case stat == nil || int(stat.Uid) != p.uid():
		return fmt.Errorf("%s does not belong to the user that the database runs as (number %d); nothing was "+
			"changed. If "+
			"nurvikd has been another user before, say chown -R %d %s", full, p.uid(), p.uid(), full)
	case info.Mode().Perm()&0o077 != 0:
		return fmt.Errorf("others can enter %s (mode %04o); say chmod 0700 %s", full, info.Mode().Perm(), full)
	}
	return nil
}

// ErrInUse says that another nurvikd runs on the data directory.
var ErrInUse = errors.New("another nurvikd uses the data directory")

// takeLock keeps other processes from the directory.
func (p *place) takeLock() (*os.File, error) {
	lock, err := p.root.OpenFile(lockName, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = lock.Close()
		return nil, fmt.Errorf("%w %s; stop it, or choose another directory with --data", ErrInUse, p.path)
	}
	return lock, nil
}

// passwords are those of the roles of the database.
type passwords struct{ admin, service string }

// secrets reads the passwords, or makes them where there is no database yet.
func (p *place) secrets() (passwords, error) {
	path := filepath.Join(p.path, secretName)
	info, err := p.root.Lstat(secretName)
	if errors.Is(err, fs.ErrNotExist) {
		return p.newSecrets()
	}
	if err != nil {
		return passwords{}, err
	}
	stat, _ := info.Sys().(*syscall.Stat_t)
	switch {
	case !info.Mode().IsRegular() || stat == nil || stat.Nlink != 1 || int(stat.Uid) != os.Geteuid():
		return passwords{}, fmt.Errorf("%s is no file of this user alone; something has put another thing in its place",
			path)
	case info.Mode().Perm()&0o077 != 0:
		return passwords{}, fmt.Errorf("others can read or write %s (mode %04o). Whoever has read it can enter the "+
			"database: say chmod 0600 %s, and find out who could", path, info.Mode().Perm(), path)
	}
	text, err := small(p.root, secretName)
	if err != nil {
		return passwords{}, err
	}
	fields := strings.Fields(text)
	if len(fields) != 2 {
		return passwords{}, fmt.Errorf("%s does not hold the two passwords of the database; restore the file", path)
	}
	return passwords{fields[0], fields[1]}, nil
}

func (p *place) newSecrets() (passwords, error) {
	if _, err := p.base.Lstat(dataName); err == nil {
		return passwords{}, fmt.Errorf(
			"%s is missing, and the database in %s opens only with it; restore the file, or "+
				"move the directory away to begin anew", filepath.Join(p.path, secretName), p.data())
	}
	random := make([]byte, 48)
	_, _ = rand.Read(random) // crypto/rand never fails
	s := passwords{hex.EncodeToString(random[:24]), hex.EncodeToString(random[24:])}
	return s, p.write(secretName, s.admin+"\n"+s.service+"\n", false)
}

// write makes a file with the text, for the database's user to read where it is lent.
func (p *place) write(name, text string, lent bool) error {
	f, err := p.root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.WriteString(f, text)
	if err == nil && lent && p.owner != nil {
		err = f.Chown(int(p.owner.Uid), int(p.owner.Gid))
	}
	return errors.Join(err, f.Sync(), f.Close())
}

// small reads a short regular file. Anything else is an error: a pipe would
// hold us for ever.
func small(root *os.Root, name string) (string, error) {
	f, err := root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() {
		return "", fmt.Errorf("%s is no regular file", name)
	}
	text, err := io.ReadAll(io.LimitReader(f, 4<<10))
	return strings.TrimSpace(string(text)), err
}
