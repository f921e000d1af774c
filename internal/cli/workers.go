package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) workersCommand() *cobra.Command {
	var server string
	cmd := &cobra.Command{
		Use:     "workers",
		GroupID: "service",
		Short:   "List the processes that visit and judge for the service",
		Long: `Lists the service and every "nurvikd work" for it, with what they do now. One that
is not in the list any more has stopped, or has not been heard of for 15 seconds; the others
do its work.`,
		Example: "  nurvik workers",
		Args:    cobra.NoArgs,
		RunE: a.remote(&server, func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Workers(ctx)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, _ report.Style) error { return printWorkers(w, list) }})
		}),
	}
	addServer(cmd, &server)
	a.addOutput(cmd)
	return cmd
}

func printWorkers(w io.Writer, list []api.Worker) error {
	out := report.NewTable("name", "does", "vantage", "on", "version", "since", "visits now")
	for _, x := range list {
		does := "serves and works"
		switch {
		case x.Kind == "work" && x.Vantage != "":
			does = "visits"
		case x.Kind == "work":
			does = "works"
		}
		if x.Through != "" {
			does += " through " + x.Through
		}
		out.AppendRow(table.Row{x.Name, does, x.Vantage, x.Host, x.Version,
			x.Started.Local().Format("2006-01-02 15:04"),
			fmt.Sprintf("%d of %d", x.Running, x.Visits)})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}
