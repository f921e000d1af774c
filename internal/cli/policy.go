package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"nurvik/core/inputfile"
	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) policyCommand() *cobra.Command {
	var server string
	cmd := &cobra.Command{
		Use:     "policy",
		GroupID: "service",
		Short:   "List, show, save and remove the policies of the service",
		Long: `Policies say what is expected of endpoints and files; docs/policy-file.md describes
them. They are assigned to endpoints in the estate file or with "nurvik estate
change --policy", and to holdings with "nurvik holding change --policy".`,
		Example: `  nurvik policy list
  nurvik policy show strict > harbour.yaml
  nurvik policy save harbour.yaml`,
	}
	addServer(cmd, &server)
	cmd.AddCommand(a.policyList(&server), a.policyShow(&server), a.policySave(&server), a.policyRemove(&server))
	return cmd
}

func (a *app) policyList(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List policies and how many are judged by each", Args: cobra.NoArgs,
		Example: "  nurvik policy list",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Policies(ctx)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, _ report.Style) error { return printPolicies(w, list) }})
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func printPolicies(w io.Writer, list []api.Policy) error {
	out := report.NewTable("policy", "version", "endpoints", "holdings", "about")
	for _, p := range list {
		version := "built in"
		if !p.Builtin {
			version = fmt.Sprint(p.Version)
		}
		out.AppendRow(table.Row{p.Name, version, p.Endpoints, p.Holdings, p.About})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}

func (a *app) policyShow(server *string) *cobra.Command {
	var version int
	cmd := &cobra.Command{
		Use: "show NAME", Short: "Write a policy as it was saved", Args: cobra.ExactArgs(1),
		Example: "  nurvik policy show strict > harbour.yaml",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Policy(ctx, args[0], version)
			if err != nil {
				return err
			}
			return a.write(say(p, strings.TrimRight(p.Text, "\n")))
		}),
	}
	a.addOutput(cmd)
	cmd.Flags().IntVar(&version, "version", 0, "show this older version, `N`")
	return cmd
}

func (a *app) policySave(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "save FILE", Short: "Save a policy file as a new version, under the name that is in it",
		Args:    cobra.ExactArgs(1),
		Example: "  nurvik policy save harbour.yaml",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			data, err := inputfile.Read(args[0])
			if err != nil {
				return &statusError{statusUnexamined, err}
			}
			p, err := policy.Parse(args[0], data)
			if err == nil {
				err = judge.CheckPolicy(p)
			}
			if err != nil {
				return usage(err)
			}
			saved, err := c.SavePolicy(ctx, p.Name, string(data))
			if err != nil {
				return err
			}
			return a.write(say(saved, fmt.Sprintf("saved %s as the policy %s, version %d", filepath.Base(args[0]),
				saved.Name, saved.Version)))
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func (a *app) policyRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove a policy that nothing is assigned to", Args: cobra.ExactArgs(1),
		Example: "  nurvik policy remove harbour",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RemovePolicy(ctx, args[0]); err != nil {
				return err
			}
			_, err := fmt.Fprintf(a.stdout, "removed the policy %s\n", args[0])
			return err
		}),
	}
}
