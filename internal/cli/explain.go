package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"nurvik/core/judge"
	"nurvik/internal/report"
	"nurvik/internal/version"
)

func (a *app) explainCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "explain [CODE]",
		GroupID: "alone",
		Short:   "Say what a code means, why it matters and what to do",
		Example: "  nurvik explain chain.incomplete\n  nurvik explain",
		Args:    cobra.MaximumNArgs(1),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var codes []string
			for _, e := range judge.Catalogue() {
				codes = append(codes, e.Code+"\t"+e.Title)
			}
			return codes, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.explain(args) },
	}
	a.addOutput(cmd)
	return cmd
}

func (a *app) explain(args []string) error {
	if len(args) == 0 {
		if a.output == "json" {
			return report.JSON(a.stdout, judge.Catalogue())
		}
		return report.Codes(a.stdout, judge.Catalogue())
	}
	entry, err := judge.Explain(args[0])
	if err != nil {
		return usage(err)
	}
	if a.output == "json" {
		return report.JSON(a.stdout, entry)
	}
	return report.Explanation(a.stdout, entry, a.style())
}

func (a *app) versionCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "version",
		GroupID: "alone",
		Short:   "Say which version this is",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.output == "json" {
				return report.JSON(a.stdout, map[string]string{"version": version.Number, "go": version.Go()})
			}
			_, err := fmt.Fprintf(a.stdout, "nurvik %s (%s)\n", version.Number, version.Go())
			return err
		},
	}
	a.addOutput(cmd)
	return cmd
}
