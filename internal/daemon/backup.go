package daemon

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	osuser "os/user"
	"path/filepath"

	"github.com/spf13/cobra"

	"nurvik/core/inputfile"
	"nurvik/internal/service"
	"nurvik/internal/service/postgres"
	"nurvik/internal/service/store"
)

// databaseFlags say which database a command beside the service is about.
func (a *app) databaseFlags(cmd *cobra.Command, c *service.Config) {
	flags := cmd.PersistentFlags()
	flags.StringVar(&c.Data, "data", "", "the private database is in this `DIRECTORY` (default "+dataDirectory()+")")
	flags.StringVar(&c.Database, "database", "", "use the PostgreSQL database at this `URL` instead")
	flags.StringVar(&c.PostgresBin, "postgres-bin", "", "find PostgreSQL's programs in this `DIRECTORY`")
	flags.StringVar(&a.user, "user", "",
		"started as root, do it as the user `NAME` (default "+usualUser+", where that user exists)")
}

// beside prepares a command beside the service: with a quiet log, as the service's user.
func (a *app) beside(cmd *cobra.Command, c *service.Config) (err error) {
	if !cmd.Flags().Changed("log-level") {
		a.logLevel = slog.LevelWarn.String()
	}
	if c.Log, err = a.log(); err != nil {
		return err
	}
	return a.settleData(c)
}

// self is who runs this process.
func self() string {
	if user, err := osuser.Current(); err == nil {
		return user.Username
	}
	return fmt.Sprint("user ", os.Geteuid())
}

func (a *app) backupCommand() *cobra.Command {
	c := service.Config{}
	var replace bool
	cmd := &cobra.Command{
		Use:   "backup FILE",
		Short: "Write the whole database into a file, while the service runs or not",
		Long: `Writes the database as it is at one moment, in pg_dump's own form, readable for
its owner alone. "nurvikd restore" reads it, and so does pg_restore.

The file holds no private key and no password; of passwords, sessions and tokens
it holds what is kept of them, with which nobody can sign in.`,
		Example: "  nurvikd backup /var/backups/nurvik-$(date +%F).dump",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			path, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			if _, err := os.Lstat(path); err == nil && !replace {
				return fmt.Errorf("%s is there already; name another file, or say --replace", path)
			}
			if err := a.beside(cmd, &c); err != nil {
				return err
			}
			return service.WithTools(cmd.Context(), c, func(t postgres.Tools) error {
				size, err := backup(cmd.Context(), t, path)
				if err != nil {
					return err
				}
				_, err = fmt.Fprintf(a.stdout, "%s: %d KiB\n", path, (size+1023)>>10)
				return err
			})
		},
	}
	a.databaseFlags(cmd, &c)
	cmd.Flags().BoolVar(&replace, "replace", false, "replace the file")
	return cmd
}

// backup writes the dump beside its place and moves it there when it is whole.
func backup(ctx context.Context, t postgres.Tools, path string) (size int64, err error) {
	fresh, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-") // with mode 0600
	if err != nil {
		return 0, err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(fresh.Name())
		}
	}()
	err = t.Dump(ctx, fresh)
	if info, statErr := fresh.Stat(); statErr == nil {
		size = info.Size()
	}
	if err = errors.Join(err, fresh.Sync(), fresh.Close()); err != nil {
		return 0, err
	}
	return size, os.Rename(fresh.Name(), path)
}

func (a *app) restoreCommand() *cobra.Command {
	c := service.Config{}
	var replace bool
	cmd := &cobra.Command{
		Use:   "restore FILE",
		Short: "Put a backup in the place of what is in the database; the service must be stopped",
		Long: `Puts all that "nurvikd backup" wrote in the place of what is in the database, or
changes nothing. Sessions, tokens and passwords are those of the backup. A backup
of an earlier version is brought up to date.`,
		Example: "  nurvikd restore /var/backups/nurvik-2026-11-28.dump --replace",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			path, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			if err := isBackup(path); err != nil {
				return err
			}
			if err := a.beside(cmd, &c); err != nil {
				return err
			}
			return service.Stopped(cmd.Context(), c, func(t postgres.Tools, empty bool) error {
				if !empty && !replace {
					return errors.New("there is something in the database; say --replace to put the backup in its " +
						"place")
				}
				return t.Restore(cmd.Context(), path)
			}, func(s *store.Store) error {
				people, err := s.People(cmd.Context())
				if err != nil {
					return err
				}
				if err := s.BeginActivity(cmd.Context(), &store.Activity{At: s.Clock.Stamp(), Who: self(),
					Through: "nurvikd restore", Operation: "restore", Object: path, Status: 200}); err != nil {
					return err
				}
				_, err = fmt.Fprintf(a.stdout, "restored %s; people who may sign in: %d\n", path, len(people))
				return err
			})
		},
	}
	a.databaseFlags(cmd, &c)
	cmd.Flags().BoolVar(&replace, "replace", false, "replace what is in the database")
	return cmd
}

// isBackup refuses what pg_dump has not written.
func isBackup(path string) error {
	f, _, err := inputfile.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, len(postgres.Magic))
	if _, err := io.ReadFull(bufio.NewReader(f), head); err != nil || string(head) != postgres.Magic {
		return fmt.Errorf("%s is no backup: it does not begin as \"nurvikd backup\" writes it", path)
	}
	return nil
}
