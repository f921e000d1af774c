package daemon

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	osuser "os/user"
	"path/filepath"
	"strconv"
	"syscall"
)

// usualUser is whom a service that root starts runs as, where that user exists.
const usualUser = "nurvik"

// account is a user of this machine.
type account struct {
	name, home string
	uid, gid   int
	groups     []int
}

// become makes this process, with everything that it starts, the user's. Started
// as root without a name, it is that of usualUser where there is one; otherwise
// it stays root's, and the private database alone is the user postgres's.
func (a *app) become(name string, directory string) error {
	if os.Geteuid() != 0 {
		if self, err := osuser.Current(); name != "" && (err != nil || self.Username != name) {
			return fmt.Errorf("--user %s: only root can run the service as another user; start it as root, or as %s",
				name, name)
		}
		return nil
	}
	who, err := accountOf(name)
	if err != nil || who == nil {
		return err
	}
	if directory != "" {
		if err := who.own(directory); err != nil {
			return err
		}
	}
	if err := who.assume(); err != nil {
		return fmt.Errorf("--user %s: %w", who.name, err)
	}
	return a.readable(who.name)
}

// accountOf is the account of the name, nil for none.
func accountOf(name string) (*account, error) {
	named := name != ""
	if !named {
		name = usualUser
	}
	found, err := osuser.Lookup(name)
	var unknown osuser.UnknownUserError
	switch {
	case errors.As(err, &unknown) && !named:
		return nil, nil
	case err != nil:
		return nil, fmt.Errorf(
			"--user %s: there is no such user; make it with adduser --system --group %s, or name another",
			name, name)
	}
	out := &account{name: name, home: found.HomeDir}
	ids, err := found.GroupIds()
	if err != nil {
		return nil, err
	}
	for _, text := range append([]string{found.Uid, found.Gid}, ids...) {
		id, err := strconv.Atoi(text)
		if err != nil {
			return nil, err
		}
		out.groups = append(out.groups, id)
	}
	out.uid, out.gid, out.groups = out.groups[0], out.groups[1], out.groups[2:]
	if out.uid == 0 {
		return nil, fmt.Errorf("--user %s is root, who shall not run the service; name another user", name)
	}
	return out, nil
}

// own makes the data directory of the user's, or refuses one that is another's.
func (u *account) own(directory string) error {
	if err := os.MkdirAll(filepath.Dir(directory), 0o755); err != nil {
		return fmt.Errorf("data directory: %w; choose another with --data", err)
	}
	err := os.Mkdir(directory, 0o700)
	if err == nil {
		return os.Lchown(directory, u.uid, u.gid)
	}
	if !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("data directory: %w; choose another with --data", err)
	}
	info, err := os.Lstat(directory)
	if err != nil {
		return err
	}
	if stat, ok := info.Sys().(*syscall.Stat_t); !ok || !info.IsDir() || int(stat.Uid) != u.uid {
		return fmt.Errorf("the data directory %s is not one of the user %s, whom the service runs as; nothing was "+
			"changed. "+
			"If it is from a time when the service ran as another user, stop that one and say chown -R %s: %s; "+
			"otherwise "+
			"choose another with --data", directory, u.name, u.name, directory)
	}
	return nil
}

// assume gives up root's rights for good.
func (u *account) assume() error {
	if err := errors.Join(syscall.Setgroups(u.groups), syscall.Setgid(u.gid), syscall.Setuid(u.uid)); err != nil {
		return err
	}
	if syscall.Setuid(0) == nil {
		return errors.New("root's rights could not be given up")
	}
	for name, value := range map[string]string{"HOME": u.home, "USER": u.name, "LOGNAME": u.name} {
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	for _, name := range []string{"XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_RUNTIME_DIR", "XDG_CACHE_HOME"} {
		_ = os.Unsetenv(name) // root's, of no use here
	}
	return os.Chdir("/")
}

// readable refuses to go on without files that the configuration names, which
// would be missed only at the next start or in the middle of the work.
func (a *app) readable(name string) error {
	for _, path := range a.files {
		f, err := os.Open(path)
		if err != nil {
			return fmt.Errorf("the user %s, whom the service runs as, cannot read %s, which its configuration names "+
				"(%w); let "+
				"that user read it", name, path, err)
		}
		_ = f.Close()
	}
	return nil
}
