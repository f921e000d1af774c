package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/core/inputfile"
	"nurvik/core/plain"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/estatefile"
	"nurvik/internal/report"
	"nurvik/internal/spreadsheet"
)

func (a *app) estateImport(server *string) *cobra.Command {
	var replace, dryRun bool
	var columns []string
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Import an estate file, or a table as CSV, all of it or nothing",
		Long: `Imports an estate file with its trust stores and policies, or a table as spreadsheets
write it (a file called .csv): a line of headings, then a line for each endpoint. A
heading is a key of the estate file (endpoint, names, trust, policy …), port or
labels.NAME, or what --column says. Settings that a table has no column for stay as
they are in the service.`,
		Args: cobra.ExactArgs(1),
		Example: "  nurvik estate import estate.yaml\n  nurvik estate import --dry-run --replace estate.yaml\n" +
			"  nurvik estate import hosts.csv --column endpoint=Host --column labels.owner=Team",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			estate, err := a.estateOf(ctx, c, args[0], columns)
			if err != nil {
				return err
			}
			if dryRun {
				now, err := c.Export(ctx)
				if err != nil {
					return err
				}
				changes := estatefile.Difference(now.Endpoints, estate.Endpoints, replace)
				return a.write(report.Document{Value: changes, Text: func(w io.Writer, _ report.Style) error {
					return printChanges(w, changes, estate)
				}})
			}
			done, err := c.Import(ctx, api.EstateImport{Estate: estate, Replace: replace})
			if err != nil {
				return err
			}
			return a.write(say(done, fmt.Sprintf("%s added, %d changed, %d unchanged, %d removed",
				report.Plural(done.Added, "endpoint"), done.Changed, done.Unchanged, done.Removed)))
		}),
	}
	a.addOutput(cmd)
	cmd.Flags().BoolVar(&replace, "replace", false, "remove endpoints that are not in the file")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "show what would change, and change nothing")
	cmd.Flags().StringArrayVar(&columns, "column", nil,
		"take `KEY=HEADING` from a table, such as labels.owner=Team; repeat for more")
	return cmd
}

// estateOf reads what is to be imported.
func (a *app) estateOf(ctx context.Context, c *client.Client, path string, columns []string) (api.Estate, error) {
	failed := func(err error) (api.Estate, error) {
		if errors.Is(err, os.ErrNotExist) {
			return api.Estate{}, &statusError{statusUnexamined, err}
		}
		return api.Estate{}, usage(err)
	}
	if !strings.HasSuffix(strings.ToLower(path), ".csv") {
		if len(columns) > 0 {
			return failed(fmt.Errorf("--column is for tables, and %s is not called .csv", path))
		}
		e, err := estatefile.Read(path)
		if err != nil {
			return failed(err)
		}
		return e.ForService()
	}
	by := map[string]string{}
	for _, text := range columns {
		key, heading, ok := strings.Cut(text, "=")
		if !ok || heading == "" {
			return failed(fmt.Errorf("--column %s: say KEY=HEADING, such as endpoint=Host", text))
		}
		by[key] = heading
	}
	data, err := inputfile.Read(path)
	if err != nil {
		return failed(err)
	}
	sheet, err := spreadsheet.Parse(path, data, by)
	if err != nil {
		return failed(err)
	}
	now, err := c.Export(ctx)
	if err != nil {
		return api.Estate{}, err
	}
	endpoints, err := sheet.Over(now.Endpoints)
	if err != nil {
		return failed(err)
	}
	if len(sheet.Unused) > 0 {
		fmt.Fprintf(a.stderr, "nothing is taken from the columns %s; --column KEY=HEADING says what they are\n",
			plain.Text(strings.Join(sheet.Unused, ", ")))
	}
	return api.Estate{Stores: []api.TrustStore{}, Endpoints: endpoints}, nil
}

// printChanges shows what an import would do.
func printChanges(w io.Writer, list []estatefile.Change, estate api.Estate) error {
	var lines []string
	counts := map[string]int{}
	marks := map[string]string{"added": "+", "changed": "~", "removed": "-"}
	for _, c := range list {
		counts[c.What]++
		lines = append(lines, marks[c.What]+" "+c.Endpoint)
		for _, key := range slices.Sorted(maps.Keys(c.Settings)) {
			x := c.Settings[key]
			lines = append(lines, fmt.Sprintf("    %s: %s, would be %s", key, valueWords(x.From), valueWords(x.To)))
		}
	}
	lines = append(lines, fmt.Sprintf("%s would be added, %d changed, %d unchanged, %d removed",
		report.Plural(counts["added"], "endpoint"), counts["changed"],
		len(estate.Endpoints)-counts["added"]-counts["changed"], counts["removed"]))
	if n, m := len(estate.Stores), len(estate.Policies); n+m > 0 {
		lines = append(lines, fmt.Sprintf("trust stores and policies that would be saved: %d and %d", n, m))
	}
	_, err := fmt.Fprintln(w, strings.Join(lines, "\n"))
	return err
}

func valueWords(x any) string {
	if x == nil {
		return "none"
	}
	text, err := json.Marshal(x)
	if err != nil {
		return fmt.Sprint(x)
	}
	return plain.Text(string(text))
}
