package cli

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

// causes lists what findings have in common.
func (a *app) causes(ctx context.Context, c *client.Client, f client.FindingFilter, more bool) error {
	if more || f.State != "" || f.Cause != "" {
		return usage(errors.New("--by-cause goes with none of --endpoint, --state, --cause and --acknowledge"))
	}
	list, err := c.Causes(ctx, client.CauseFilter{Code: f.Code, Severity: f.Severity, Search: f.Search,
		Owner: f.Owner, Label: f.Label,
		Waived: f.Waived == "yes"})
	if err != nil {
		return err
	}
	return a.write(report.Document{Value: list,
		Text: func(w io.Writer, s report.Style) error { return printCauses(w, list, s) }})
}

func printCauses(w io.Writer, list []api.Cause, s report.Style) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "no findings")
		return err
	}
	width := s.Width
	if width <= 0 {
		width = 120
	}
	rest := max(width-52, 30)
	out := report.NewTable("severity", "where", "cause", "what is wrong, and what to do")
	for _, x := range list {
		what := text.WrapSoft(causeWords(x), rest) + "\n" + text.WrapSoft("Do: "+x.Remedy, rest)
		out.AppendRow(table.Row{x.Severity, whereWords(x), x.ID, what})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}

// causeWords say what is wrong: what all of the findings say, or what they have in common.
func causeWords(x api.Cause) string {
	switch {
	case x.Message != "":
		return x.Code + ": " + x.Message
	case x.About == "":
		return x.Code + ": " + x.Title + "."
	}
	return x.Code + ": " + x.Title + ": " + x.About + "."
}

func whereWords(x api.Cause) string {
	endpoints, holdings := report.Plural(x.Endpoints, "endpoint"), report.Plural(x.Holdings, "holding")
	switch {
	case x.Holdings == 0:
		return endpoints
	case x.Endpoints > 0:
		return endpoints + "\n" + holdings
	case x.Findings > x.Holdings:
		return report.Plural(x.Findings, "finding") + "\nin " + holdings
	}
	return holdings
}
