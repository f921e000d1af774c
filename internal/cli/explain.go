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
		return a.write(report.Codes(judge.Catalogue()))
	}
	entry, err := judge.Explain(args[0])
	if err != nil {
		return usage(err)
	}
	return a.write(report.Explanation(entry))
}

func (a *app) versionCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "version",
		GroupID: "alone",
		Short:   "Say which version this is",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			value := map[string]string{"version": version.Number, "go": version.Go()}
			return a.write(say(value, fmt.Sprintf("nurvik %s (%s)", version.Number, version.Go())))
		},
	}
	a.addOutput(cmd)
	return cmd
}
