package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"nurvik/core/judge"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) holdingCommand() *cobra.Command {
	var server string
	cmd := &cobra.Command{
		Use:     "holding",
		GroupID: "service",
		Short:   "List, show, change and remove what machines have sent",
		Long: `A holding is what one machine holds on disk, as facts that "nurvik collect"
sent. It is judged by a policy of its own.`,
		Example: `  nurvik holding list
  nurvik holding show quay
  nurvik holding change quay --policy internal`,
	}
	addServer(cmd, &server)
	cmd.AddCommand(a.holdingList(&server), a.holdingShow(&server), a.holdingChange(&server), a.holdingRemove(&server))
	return cmd
}

func (a *app) holdingList(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List holdings with their latest verdicts", Args: cobra.NoArgs,
		Example: "  nurvik holding list",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Holdings(ctx)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, s report.Style) error { return printHoldings(w, list, s) }})
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func printHoldings(w io.Writer, list []api.Holding, s report.Style) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "no holdings; send one with \"nurvik collect /etc\"")
		return err
	}
	out := report.NewTable("verdict", "holding", "files", "policy", "sent", "findings")
	for _, h := range list {
		out.AppendRow(table.Row{report.VerdictWord(judge.Verdict(h.Verdict), s), h.Name, h.Files, h.Policy,
			h.SentAt.Local().Format("2006-01-02 15:04"), worst(h.Codes)})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}

func (a *app) holdingShow(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "show NAME", Short: "Show what is wrong in a holding", Args: cobra.ExactArgs(1),
		Example: "  nurvik holding show quay",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			h, err := c.FindHolding(ctx, args[0])
			if err != nil {
				return err
			}
			view, err := c.Holding(ctx, h.ID)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: view, Text: func(w io.Writer, s report.Style) error {
				if err := printHoldings(w, []api.Holding{view.Holding}, s); err != nil {
					return err
				}
				fmt.Fprintln(w)
				return printFindings(w, view.Findings, s)
			}})
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func (a *app) holdingChange(server *string) *cobra.Command {
	var policyName string
	var trusted, audiences []string
	cmd := &cobra.Command{
		Use: "change NAME", Short: "Change how a holding is judged; what is not named stays", Args: cobra.ExactArgs(1),
		Example: "  nurvik holding change quay --policy internal --trust inner",
	}
	cmd.RunE = a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
		h, err := c.FindHolding(ctx, args[0])
		if err != nil {
			return err
		}
		var s api.HoldingSettings
		if cmd.Flags().Changed("policy") {
			s.Policy = &policyName
		}
		if cmd.Flags().Changed("trust") {
			s.Trust = &trusted
		}
		if cmd.Flags().Changed("audience") {
			s.Audiences = &audiences
		}
		if _, err := c.If(h.Tag).ChangeHolding(ctx, h.ID, s); err != nil {
			return err
		}
		if h, err = c.JudgedHolding(ctx, h.ID); err != nil {
			return err
		}
		return a.write(say(h, fmt.Sprintf("changed %s; by the policy %s it is %s", h.Name, h.Policy, h.Verdict)))
	})
	a.addOutput(cmd)
	cmd.Flags().StringVar(&policyName, "policy", "", "judge by this `POLICY` of the service")
	cmd.Flags().StringArrayVar(&trusted, "trust", nil,
		"accept with this trust `STORE` of the service; repeat for alternatives")
	cmd.Flags().StringArrayVar(&audiences, "audience", nil, "require this trust `STORE` to accept; repeat for more")
	return cmd
}

func (a *app) holdingRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove a holding and its findings", Args: cobra.ExactArgs(1),
		Example: "  nurvik holding remove quay",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			h, err := c.FindHolding(ctx, args[0])
			if err != nil {
				return err
			}
			if err := c.RemoveHolding(ctx, h.ID); err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.stdout, "removed the holding %s\n", h.Name)
			return err
		}),
	}
}
