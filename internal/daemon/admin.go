package daemon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nurvik/core/inputfile"
	"nurvik/internal/api"
	"nurvik/internal/report"
	"nurvik/internal/service"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/store"
	"nurvik/internal/service/web"
)

// passwordName is the variable of the environment that a password is read from.
const passwordName = "NURVIK_PASSWORD"

func (a *app) adminCommand() *cobra.Command {
	c := service.Config{}
	cmd := &cobra.Command{
		Use:   "admin",
		Short: "Manage who may sign in, on the machine itself",
		Long: `Manages accounts and tokens in the database, whether the service runs or not. It
is for the first administrator, for tokens of machines, and for the day on which
nobody can sign in any more.

A password is asked for, or read from --password-file or NURVIK_PASSWORD.`,
		Example: `  nurvikd admin add harbour-master --role administrator
  nurvikd admin token harbour-master "collect on quay" --role collect
  nurvikd admin change pilot --disable`,
	}
	a.databaseFlags(cmd, &c)
	cmd.AddCommand(a.adminList(&c), a.adminAdd(&c), a.adminChange(&c), a.adminRemove(&c), a.adminToken(&c))
	return cmd
}

// administer makes the body of a command on the database. What it says was done goes into the activity log.
func (a *app) administer(c *service.Config, do func(ctx context.Context, s *store.Store,
	args []string) (told *store.Activity,
	err error)) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) (err error) {
		if err := a.beside(cmd, c); err != nil {
			return err
		}
		return service.WithStore(cmd.Context(), *c, func(s *store.Store) error {
			told, err := do(cmd.Context(), s, args)
			if err != nil || told == nil {
				return said(err, args)
			}
			told.At, told.Who, told.Through, told.Status = s.Clock.Stamp(), self(), "nurvikd admin", 200
			return s.BeginActivity(cmd.Context(), told)
		})
	}
}

// said names who is not there.
func said(err error, args []string) error {
	if errors.Is(err, store.ErrNotFound) && len(args) > 0 {
		return fmt.Errorf("nobody has the name %q; \"nurvikd admin list\" shows who has an account", args[0])
	}
	return err
}

func (a *app) adminList(c *service.Config) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List who may sign in", Args: cobra.NoArgs,
		RunE: a.administer(c, func(ctx context.Context, s *store.Store, _ []string) (*store.Activity, error) {
			people, err := s.People(ctx)
			if err != nil {
				return nil, err
			}
			if len(people) == 0 {
				_, err := fmt.Fprintln(a.stdout,
					"nobody; make the first one with \"nurvikd admin add NAME --role administrator\"")
				return nil, err
			}
			out := report.NewTable("name", "role", "may sign in", "passkeys", "signed in last")
			for _, p := range people {
				last, may := "never", "yes"
				if p.SignedInAt != nil {
					last = p.SignedInAt.Local().Format("2006-01-02 15:04")
				}
				if p.Disabled {
					may = "no"
				}
				out.AppendRow(table.Row{p.Name, p.Role, may, p.Passkeys, last})
			}
			_, err = fmt.Fprintln(a.stdout, out.Render())
			return nil, err
		}),
	}
}

func (a *app) adminAdd(c *service.Config) *cobra.Command {
	var role, file string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Let somebody sign in", Args: cobra.ExactArgs(1),
		RunE: a.administer(c, func(ctx context.Context, s *store.Store, args []string) (*store.Activity, error) {
			if !auth.Role(role).IsPersons() {
				return nil, fmt.Errorf("--role is viewer, auditor or administrator, not %q", role)
			}
			if args[0] != strings.TrimSpace(args[0]) || args[0] == "" {
				return nil, errors.New("a name begins and ends with no space")
			}
			hash, err := a.newPassword(ctx, file)
			if err != nil {
				return nil, err
			}
			p := store.Person{Name: args[0], Role: role, Password: hash, CreatedAt: s.Clock.Stamp()}
			if err := s.AddPerson(ctx, &p); err != nil {
				return nil, err
			}
			return &store.Activity{Operation: "add-person", Object: p.Name, After: web.PersonOf(p)}, nil
		}),
	}
	cmd.Flags().StringVar(&role, "role", string(auth.Viewer), "give this `ROLE`: viewer, auditor or administrator")
	cmd.Flags().StringVar(&file, "password-file", "", "read the password from the first line of `FILE`")
	return cmd
}

func (a *app) adminChange(c *service.Config) *cobra.Command {
	var role, file string
	var password, disable, enable, passkeys bool
	cmd := &cobra.Command{
		Use:   "change NAME",
		Short: "Change somebody's role or password, whether they may sign in, or remove their passkeys",
		Args:  cobra.ExactArgs(1),
		RunE: a.administer(c, func(ctx context.Context, s *store.Store, args []string) (*store.Activity, error) {
			hash := ""
			switch {
			case role != "" && !auth.Role(role).IsPersons():
				return nil, fmt.Errorf("--role is viewer, auditor or administrator, not %q", role)
			case disable && enable:
				return nil, errors.New("--disable and --enable exclude each other")
			case role == "" && !disable && !enable && !password && file == "" && !passkeys:
				return nil, errors.New("say what to change: --role, --new-password, --remove-passkeys, --disable " +
					"or --enable")
			case password || file != "":
				var err error
				if hash, err = a.newPassword(ctx, file); err != nil {
					return nil, err
				}
			}
			p, err := s.PersonNamed(ctx, args[0])
			if err != nil {
				return nil, err
			}
			before, after, err := s.ChangePerson(ctx, p.ID, nil, func(p *store.Person) {
				if role != "" {
					p.Role = role
				}
				if hash != "" {
					p.Password = hash
				}
				p.Disabled = disable || p.Disabled && !enable
				if passkeys {
					p.Passkeys = 0
				}
			})
			return &store.Activity{Operation: "change-person", Object: after.Name, Before: web.PersonOf(before),
				After: web.PersonOf(after)}, err
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&role, "role", "", "give this `ROLE`: viewer, auditor or administrator")
	flags.BoolVar(&password, "new-password", false, "set a new password, which is asked for")
	flags.StringVar(&file, "password-file", "", "set the password in the first line of `FILE`")
	flags.BoolVar(&passkeys, "remove-passkeys", false,
		"remove their passkeys, for somebody who has lost them; the password is enough then")
	flags.BoolVar(&disable, "disable", false, "let them sign in no more; sessions and tokens end at once")
	flags.BoolVar(&enable, "enable", false, "let them sign in again")
	return cmd
}

func (a *app) adminRemove(c *service.Config) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove somebody with sessions and tokens", Args: cobra.ExactArgs(1),
		RunE: a.administer(c, func(ctx context.Context, s *store.Store, args []string) (*store.Activity, error) {
			p, err := s.PersonNamed(ctx, args[0])
			if err != nil {
				return nil, err
			}
			before, err := s.RemovePerson(ctx, p.ID)
			return &store.Activity{Operation: "remove-person", Object: before.Name, Before: web.PersonOf(before)}, err
		}),
	}
}

func (a *app) adminToken(c *service.Config) *cobra.Command {
	want := api.TokenStart{}
	cmd := &cobra.Command{
		Use: "token OWNER NAME", Short: "Make a token of somebody and print it, this once", Args: cobra.ExactArgs(2),
		RunE: a.administer(c, func(ctx context.Context, s *store.Store, args []string) (*store.Activity, error) {
			p, err := s.PersonNamed(ctx, args[0])
			if err != nil {
				return nil, err
			}
			if !auth.Role(p.Role).Includes(auth.Role(want.Role)) {
				return nil, fmt.Errorf("a token has at most its owner's role, and %s is %s", p.Name, p.Role)
			}
			if field, err := web.CheckToken(want); err != nil {
				return nil, fmt.Errorf("--%s: %w", field, err)
			}
			want.Name = args[1]
			secret, t := web.NewToken(p.ID, want, s.Clock.Stamp())
			if err := s.AddToken(ctx, &t); err != nil {
				return nil, err
			}
			_, err = fmt.Fprintln(a.stdout, secret)
			return &store.Activity{Operation: "add-token", Object: t.Name, After: map[string]string{"owner": p.Name,
				"role": t.Role, "label": t.Label, "vantage": t.Vantage}}, err
		}),
	}
	cmd.Flags().StringVar(&want.Role, "role", string(auth.Viewer), "the token has this `ROLE`: viewer, auditor, "+
		"administrator, collect, metrics or worker")
	cmd.Flags().StringVar(&want.Vantage, "vantage", "", "let a worker visit from the vantage `NAME` with it")
	cmd.Flags().StringVar(&want.Label, "label", "", "let it see and change endpoints with this label alone, `KEY=VALUE`")
	cmd.Flags().IntVar(&want.Days, "days", 0, "let it expire after `N` days (default never)")
	return cmd
}

// newPassword reads a new password and returns its hash.
func (a *app) newPassword(ctx context.Context, file string) (string, error) {
	password := os.Getenv(passwordName)
	switch {
	case file != "":
		data, err := inputfile.Read(file)
		if err != nil {
			return "", err
		}
		password, _, _ = strings.Cut(string(data), "\n")
	case password == "" && term.IsTerminal(int(os.Stdin.Fd())):
		var err error
		if password, err = askTwice(a.stderr); err != nil {
			return "", err
		}
	case password == "":
		return "", errors.New("there is nobody to ask for the password: give --password-file or " + passwordName)
	}
	if wrong := auth.CheckPassword(password); wrong != "" {
		return "", errors.New(wrong)
	}
	return auth.Hash(ctx, password)
}

func askTwice(out io.Writer) (string, error) {
	var answers [2]string
	for i, prompt := range []string{"New password: ", "Once more: "} {
		fmt.Fprint(out, prompt)
		answer, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(out)
		if err != nil {
			return "", err
		}
		answers[i] = string(answer)
	}
	if answers[0] != answers[1] {
		return "", errors.New("the two are not the same; nothing was changed")
	}
	return answers[0], nil
}
