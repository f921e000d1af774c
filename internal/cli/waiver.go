package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nurvik/core/endpoint"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) waiverCommand() *cobra.Command {
	var server string
	cmd := &cobra.Command{
		Use:     "waiver",
		GroupID: "service",
		Short:   "Take findings out of verdicts until a day, and list what is waived",
		Long: `A waiver takes the findings of a code out of verdicts until a day, with a reason:
everywhere, or of one endpoint, one holding, or the endpoints with a label. After
that day they count again by themselves. Policies can waive too; their waivers
are in their text.`,
		Example: `  nurvik waiver add time.renewal-due --endpoint tides.tarnholm.example --until 2027-01-31 --reason "renewed on the 20th"
  nurvik waiver add proto.without-tls12 --label owner=cranes --until 2027-03-31 --reason "new firmware in March"
  nurvik waiver list
  nurvik waiver remove 3`,
	}
	addServer(cmd, &server)
	cmd.AddCommand(a.waiverList(&server), a.waiverAdd(&server), a.waiverRemove(&server))
	return cmd
}

func (a *app) waiverList(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List waivers, the first to end in front", Args: cobra.NoArgs,
		Example: "  nurvik waiver list",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Waivers(ctx)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, _ report.Style) error { return printWaivers(w, list) }})
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func printWaivers(w io.Writer, list []api.Waiver) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "nothing is waived in the service; policies may waive, too")
		return err
	}
	out := report.NewTable("id", "until", "days left", "code", "of", "reason", "by")
	for _, x := range list {
		about := x.About
		if about == "" {
			about = "everything"
		}
		out.AppendRow(table.Row{x.ID, x.Until, x.Days, x.Code, text.WrapSoft(about, 40), text.WrapSoft(x.Reason, 40),
			x.By})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}

func (a *app) waiverAdd(server *string) *cobra.Command {
	var want api.WaiverStart
	var target, holding string
	cmd := &cobra.Command{
		Use: "add CODE", Short: "Waive the findings of a code", Args: cobra.ExactArgs(1),
		Example: "  nurvik waiver add time.renewal-due --endpoint tides.tarnholm.example --until 2027-01-31 " +
			"--reason \"renewed on the 20th\"",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			want.Code = args[0]
			if want.Until == "" || want.Reason == "" {
				return usage(errors.New("a waiver needs --until, its last day, and --reason"))
			}
			if target != "" {
				parsed, err := endpoint.Parse(target)
				if err != nil {
					return usage(err)
				}
				e, err := c.FindEndpoint(ctx, parsed.String())
				if err != nil {
					return err
				}
				want.EndpointID = &e.ID
			}
			if holding != "" {
				h, err := c.FindHolding(ctx, holding)
				if err != nil {
					return err
				}
				want.HoldingID = &h.ID
			}
			w, err := c.AddWaiver(ctx, want)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.stdout, "waiver %d: %s until %s\n", w.ID, w.Code, w.Until)
			return err
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&target, "endpoint", "", "waive only those of this `ENDPOINT`")
	flags.StringVar(&holding, "holding", "", "waive only those of this `HOLDING`")
	flags.StringVar(&want.Label, "label", "", "waive only those of endpoints with this label, `KEY=VALUE`")
	flags.StringVar(&want.Until, "until", "", "waive them until this `DATE`, the last day included")
	flags.StringVar(&want.Reason, "reason", "", "say why, `TEXT`")
	return cmd
}

func (a *app) waiverRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove ID...", Short: "Take waivers back; their findings count again", Args: cobra.MinimumNArgs(1),
		Example: "  nurvik waiver remove 3",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			for _, arg := range args {
				id, err := strconv.ParseInt(arg, 10, 64)
				if err != nil {
					return usage(fmt.Errorf("%q is no number of a waiver; \"nurvik waiver list\" shows them", arg))
				}
				if err := c.RemoveWaiver(ctx, id); err != nil {
					return fmt.Errorf("waiver %d: %w", id, err)
				}
			}
			return nil
		}),
	}
}
