package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"nurvik/core/inputfile"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
	"nurvik/internal/settings"
)

func (a *app) loginCommand() *cobra.Command {
	var server, name, role, passwordFile, tokenFile string
	var days int
	cmd := &cobra.Command{
		Use:     "login",
		GroupID: "service",
		Short:   "Sign in to a service and store a token for it",
		Long: `Signs in with name and password, makes a token for this machine and stores it in
credentials.json beside the configuration file, readable for its owner only.
The password is not kept. A token is sent only to the service that it is for.

The password is asked for, or read from --password-file or NURVIK_PASSWORD. Who
has a token already stores it with --token-file.`,
		Example: `  nurvik login --name pilot
  nurvik login --server https://nurvik.tarnholm.example --name pilot --role viewer --days 90
  nurvik login --server https://nurvik.tarnholm.example --token-file /run/token`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			if tokenFile != "" {
				return refused(a.keepToken(ctx, server, tokenFile))
			}
			if name == "" {
				return usage(errors.New("say who you are with --name, or give a token with --token-file"))
			}
			password, err := a.signInPassword(passwordFile, "Password of "+name+": ")
			if err != nil {
				return err
			}
			return refused(a.login(ctx, server, name, password, api.TokenStart{Role: role, Days: days}))
		},
	}
	addServer(cmd, &server)
	flags := cmd.Flags()
	flags.StringVar(&name, "name", "", "sign in as `NAME`")
	flags.StringVar(&role, "role", "", "give the token this `ROLE` at most (default your own): viewer, auditor, "+
		"administrator, collect or metrics")
	flags.IntVar(&days, "days", 0, "let the token expire after `N` days (default never)")
	flags.StringVar(&passwordFile, "password-file", "", "read the password from the first line of `FILE`")
	flags.StringVar(&tokenFile, "token-file", "", "store the token in the first line of `FILE`")
	return cmd
}

// signInPassword is the password from the file, the environment, or whoever sits there.
func (a *app) signInPassword(file, prompt string) (string, error) {
	switch {
	case file != "":
		return firstLine(file)
	case a.password != "":
		return a.password, nil
	case a.attended():
		return a.ask(prompt)
	}
	return "", usage(errors.New("there is nobody to ask for the password: give --password-file or NURVIK_PASSWORD"))
}

func firstLine(path string) (string, error) {
	data, err := inputfile.Read(path)
	if err != nil {
		return "", usage(err)
	}
	line, _, _ := strings.Cut(string(data), "\n")
	if line = strings.TrimSuffix(line, "\r"); line == "" {
		return "", usage(fmt.Errorf("%s: the first line is empty", path))
	}
	return line, nil
}

func (a *app) login(ctx context.Context, server, name, password string, want api.TokenStart) error {
	c, err := client.New(server, "")
	if err != nil {
		return usage(err)
	}
	in, err := c.SignIn(ctx, name, password)
	if err != nil {
		return err
	}
	session := in.Session
	if session == nil {
		return usage(fmt.Errorf("%s has a passkey, which only a browser can ask for: make a token at %s/account and "+
			"store it with --token-file", name, strings.TrimSuffix(server, "/")))
	}
	defer func() { _ = c.SignOut(context.WithoutCancel(ctx)) }() // it ends by itself too
	host, err := os.Hostname()
	if err != nil {
		return err
	}
	if want.Name = "nurvik on " + host; want.Role == "" {
		want.Role = session.Role
	}
	made, err := c.AddToken(ctx, want)
	if err != nil {
		return err
	}
	return a.store(server, settings.Credential{Name: session.Name, ID: made.ID, Token: made.Secret}, made.Role)
}

// keepToken stores a token that somebody has, when the service knows it.
func (a *app) keepToken(ctx context.Context, server, path string) error {
	token, err := firstLine(path)
	if err != nil {
		return err
	}
	c, err := client.New(server, token)
	if err != nil {
		return usage(err)
	}
	session, err := c.Session(ctx)
	if err != nil {
		return err
	}
	return a.store(server, settings.Credential{Name: session.Name, Token: token}, session.Role)
}

func (a *app) store(server string, c settings.Credential, role string) error {
	path := settings.CredentialsFile(a.configFile)
	all, err := settings.ReadCredentials(path)
	if err != nil {
		return err
	}
	if all == nil {
		all = settings.Credentials{}
	}
	all[strings.TrimSuffix(server, "/")] = c
	if err := settings.WriteCredentials(path, all); err != nil {
		return fmt.Errorf("the token could not be stored: %w", err)
	}
	who := c.Name
	if role != "" {
		who += " (" + role + ")"
	}
	_, err = fmt.Fprintf(a.stdout, "Signed in to %s as %s; the token is in %s.\n", server, who, path)
	return err
}

func (a *app) logoutCommand() *cobra.Command {
	var server string
	cmd := &cobra.Command{
		Use:     "logout",
		GroupID: "service",
		Short:   "Take back the token that login stored",
		Example: "  nurvik logout --server https://nurvik.tarnholm.example",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			path := settings.CredentialsFile(a.configFile)
			all, err := settings.ReadCredentials(path)
			if err != nil {
				return err
			}
			key := strings.TrimSuffix(server, "/")
			kept, ok := all[key]
			if !ok {
				return usage(fmt.Errorf("no token is stored for %s", server))
			}
			c, err := client.New(server, kept.Token)
			if err != nil {
				return usage(err)
			}
			if kept.ID != 0 {
				// A service that does not know the token any more has nothing to take back.
				if err := c.RemoveToken(cmd.Context(), kept.ID); err != nil && !client.IsUnknown(err) {
					return refused(err)
				}
			}
			delete(all, key)
			return settings.WriteCredentials(path, all)
		},
	}
	addServer(cmd, &server)
	return cmd
}

func (a *app) tokenCommand() *cobra.Command {
	var server string
	cmd := &cobra.Command{
		Use:     "token",
		GroupID: "service",
		Short:   "List, make and take back tokens of the API",
		Long: `A token lets a program in without a password. Give each machine its own: one of
the role collect can send what the machine holds, and one of the role worker lets it visit
from a vantage ("nurvikd work --through"); they can nothing else.`,
		Example: `  nurvik token add "collect on quay" --role collect --days 365
  nurvik token add "cranes in the pipeline" --role auditor --label team=cranes --days 90
  nurvik token add "worker outside" --role worker --vantage outside
  nurvik token list
  nurvik token remove 12`,
	}
	addServer(cmd, &server)
	list := &cobra.Command{
		Use: "list", Short: "List tokens; administrators see everybody's", Args: cobra.NoArgs,
		Example: "  nurvik token list",
		RunE: a.remote(&server, func(ctx context.Context, c *client.Client, _ []string) error {
			tokens, err := c.Tokens(ctx)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: tokens,
				Text: func(w io.Writer, _ report.Style) error { return printTokens(w, tokens) }})
		}),
	}
	a.addOutput(list)
	var want api.TokenStart
	add := &cobra.Command{
		Use: "add NAME", Short: "Make a token and print it, this once", Args: cobra.ExactArgs(1),
		Example: "  nurvik token add \"collect on quay\" --role collect --days 365",
		RunE: a.remote(&server, func(ctx context.Context, c *client.Client, args []string) error {
			want.Name = args[0]
			made, err := c.AddToken(ctx, want)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.stdout, made.Secret)
			return err
		}),
	}
	add.Flags().StringVar(&want.Role, "role", "viewer", "the token has this `ROLE`: viewer, auditor, administrator, "+
		"collect, metrics or worker")
	add.Flags().StringVar(&want.Vantage, "vantage", "", "let a worker visit from the vantage `NAME` with it")
	add.Flags().StringVar(&want.Label, "label", "", "let it see and change endpoints with this label alone, `KEY=VALUE`")
	add.Flags().IntVar(&want.Days, "days", 0, "let it expire after `N` days (default never)")
	remove := &cobra.Command{
		Use: "remove ID...", Short: "Take tokens back", Args: cobra.MinimumNArgs(1),
		Example: "  nurvik token remove 12",
		RunE: a.remote(&server, func(ctx context.Context, c *client.Client, args []string) error {
			for _, arg := range args {
				id, err := strconv.ParseInt(arg, 10, 64)
				if err != nil {
					return usage(fmt.Errorf("%q is no number of a token; \"nurvik token list\" shows them", arg))
				}
				if err := c.RemoveToken(ctx, id); err != nil {
					return fmt.Errorf("token %d: %w", id, err)
				}
			}
			return nil
		}),
	}
	cmd.AddCommand(list, add, remove)
	return cmd
}

func printTokens(w io.Writer, tokens []api.Token) error {
	if len(tokens) == 0 {
		_, err := fmt.Fprintln(w, "no tokens; make one with \"nurvik token add NAME\"")
		return err
	}
	const form = "2006-01-02 15:04"
	out := report.NewTable("id", "name", "owner", "role", "begins with", "made", "expires", "last used")
	for _, t := range tokens {
		expires, used := "never", "never"
		if t.ExpiresAt != nil {
			expires = t.ExpiresAt.Local().Format(form)
		}
		if t.UsedAt != nil {
			used = t.UsedAt.Local().Format(form)
		}
		role := t.Role
		if t.Label != "" {
			role += " of " + t.Label
		}
		if t.Vantage != "" {
			role += " at " + t.Vantage
		}
		out.AppendRow(table.Row{t.ID, t.Name, t.Owner, role, t.Prefix, t.CreatedAt.Local().Format(form), expires,
			used})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}
