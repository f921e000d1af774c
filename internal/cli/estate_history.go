package cli

import (
	"context"
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
	cmd := &cobra.Command{
		Use: "history ENDPOINT", Short: "Show what has changed at an endpoint from audit to audit",
		Args:    cobra.ExactArgs(1),
		Example: "  nurvik estate history tides.tarnholm.example",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			target, err := endpoint.Parse(args[0])
			if err != nil {
				return usage(err)
			}
			e, err := c.FindEndpoint(ctx, target.String())
			if err != nil {
				return err
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
	return cmd
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
