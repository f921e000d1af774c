package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"nurvik/core/endpoint"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) estateHistory(server *string) *cobra.Command {
	var from, to int64
	cmd := &cobra.Command{
		Use: "history ENDPOINT", Short: "Show what has changed at an endpoint from audit to audit",
		Long: `Shows the audits in which something was not as in the one before. With --from, only what is
different between that audit and the newest, or the one of --to, whatever was in between.`,
		Args: cobra.ExactArgs(1),
		Example: `  nurvik estate history tides.tarnholm.example
  nurvik estate history tides.tarnholm.example --from 12 --to 40`,
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			target, err := endpoint.Parse(args[0])
			if err != nil {
				return usage(err)
			}
			e, err := c.FindEndpoint(ctx, target.String())
			if err != nil {
				return err
			}
			if to > 0 && from == 0 {
				return usage(errors.New("--to is the later audit; --from names the earlier one"))
			}
			if from > 0 {
				d, err := c.Difference(ctx, e.ID, from, to)
				if err != nil {
					return err
				}
				return a.write(report.Document{Value: d,
					Text: func(w io.Writer, _ report.Style) error { return printDifference(w, d) }})
			}
			list, err := c.History(ctx, e.ID)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, s report.Style) error { return printHistory(w, list, s) }})
		}),
	}
	a.addOutput(cmd)
	cmd.Flags().Int64Var(&from, "from", 0, "compare how it was in this `AUDIT`")
	cmd.Flags().Int64Var(&to, "to", 0, "with how it was in this `AUDIT` (default the newest)")
	return cmd
}

func printDifference(w io.Writer, d api.HistoryEntry) error {
	lines := historyWords(d)
	if len(lines) == 0 {
		lines = []string{"Nothing is different, as far as both audits saw it."}
	}
	_, err := fmt.Fprintln(w, strings.Join(lines, "\n"))
	return err
}

func printHistory(w io.Writer, list []api.HistoryEntry, s report.Style) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "it has not been examined yet")
		return err
	}
	rest := max(s.Width, 120) - 50
	out := report.NewTable("audit", "began", "verdict", "what changed")
	for _, e := range list {
		lines := historyWords(e)
		for i := range lines {
			lines[i] = text.WrapSoft(lines[i], rest)
		}
		out.AppendRow(table.Row{e.AuditID, e.At.Local().Format("2006-01-02 15:04"), e.Verdict,
			strings.Join(lines, "\n")})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}

func historyWords(e api.HistoryEntry) []string {
	if e.First {
		return []string{"Examined for the first time."}
	}
	lines := e.Changes
	if len(e.Appeared) > 0 {
		lines = append(lines, "+ "+strings.Join(e.Appeared, ", "))
	}
	if len(e.Gone) > 0 {
		lines = append(lines, "- "+strings.Join(e.Gone, ", "))
	}
	if e.Before != "" {
		lines = append(lines, "It was "+e.Before+".")
	}
	return lines
}
