package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nurvik/core/endpoint"
	"nurvik/core/policy"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) findingsCommand() *cobra.Command {
	var server, target, note string
	var filter client.FindingFilter
	var acknowledge, byCause bool
	cmd := &cobra.Command{
		Use:     "findings",
		GroupID: "service",
		Short:   "List what is wrong in the estate and its holdings, since when and what to do",
		Example: "  nurvik findings --severity fault\n  nurvik findings --endpoint tides.tarnholm.example\n  " +
			"nurvik findings --state gone\n  nurvik findings --by-cause\n  " +
			"nurvik findings --code time.renewal-due --acknowledge --note \"renewals are on Thursday\"",
		Args: cobra.NoArgs,
		RunE: a.remote(&server, func(ctx context.Context, c *client.Client, _ []string) error {
			if byCause {
				return a.causes(ctx, c, filter, target != "" || acknowledge)
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
				filter.EndpointID = e.ID
			}
			if note != "" && !acknowledge {
				return usage(errors.New("--note goes with --acknowledge"))
			}
			list, err := c.Findings(ctx, filter)
			if err != nil {
				return err
			}
			for i := range list {
				if acknowledge {
					if list[i], err = c.Acknowledge(ctx, list[i].ID, note); err != nil {
						return err
					}
				}
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, s report.Style) error { return printFindings(w, list, s) }})
		}),
	}
	addServer(cmd, &server)
	a.addOutput(cmd)
	cmd.Flags().StringVar(&target, "endpoint", "", "show only those of this `ENDPOINT`")
	cmd.Flags().StringVar(&filter.Code, "code", "", "show only those of this `CODE`")
	cmd.Flags().StringVar(&filter.Severity, "severity", "",
		"show only those of this `SEVERITY`: fault, risk, note or none")
	cmd.Flags().StringVar(&filter.State, "state", "",
		"show only those in this `STATE`: new, standing, back or gone (default all but gone)")
	cmd.Flags().StringVar(&filter.Waived, "waived", "",
		"show only those that are waived or not, `YES|NO` (default both)")
	cmd.Flags().StringVar(&filter.Owner, "owner", "", "show only those of endpoints of this `OWNER`")
	cmd.Flags().StringVar(&filter.Label, "label", "", "show only those of endpoints with this label, `KEY=VALUE`")
	cmd.Flags().BoolVar(&byCause, "by-cause", false,
		"list what findings have in common instead, such as a certificate that many endpoints serve")
	cmd.Flags().StringVar(&filter.Cause, "cause", "", "show only those of this `CAUSE`, as --by-cause names it")
	cmd.Flags().BoolVar(&acknowledge, "acknowledge", false, "say that you have seen those that are listed")
	cmd.Flags().StringVar(&note, "note", "", "with this `TEXT`")
	cmd.Flags().StringVar(&filter.Search, "search", "", "show only those with this `TEXT` in endpoint, path or message")
	return cmd
}

func printFindings(w io.Writer, list []api.Finding, s report.Style) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "no findings")
		return err
	}
	width := s.Width
	if width <= 0 {
		width = 120
	}
	longest := 0
	for _, f := range list {
		longest = max(longest, len(f.Place()))
	}
	longest = min(longest, width/3)
	rest := max(width-longest-32, 30)
	out := report.NewTable("severity", "place", "state, since", "what is wrong, and what to do")
	for _, f := range list {
		what := text.WrapSoft(f.Code+": "+f.Message, rest)
		if f.Waived != nil {
			what += "\n" + text.WrapSoft(waivedWords(f.Waived), rest)
		} else {
			what += "\n" + text.WrapSoft("Do: "+f.Remedy, rest)
			for _, e := range f.Edits {
				what += "\n" + text.WrapSoft(e.Server+": "+e.Text(), rest)
			}
		}
		if x := f.Acknowledged; x != nil {
			what += "\n" + text.WrapSoft(strings.TrimSuffix(fmt.Sprintf("Seen by %s on %s: %s", x.By,
				x.At.Format(time.DateOnly), x.Note), ": "), rest)
		}
		out.AppendRow(table.Row{f.Severity, text.WrapSoft(f.Place(), longest),
			f.State + "\n" + f.FirstSeen.Format("2006-01-02"), what})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}

// waivedWords says until when, why and by whom a finding is waived.
func waivedWords(w *policy.Waiver) string {
	by := ""
	if w.By != "" {
		by = " by " + w.By
	}
	return fmt.Sprintf("Waived%s until %s: %s", by, w.Until, w.Reason)
}
