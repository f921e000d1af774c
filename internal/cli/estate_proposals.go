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

	"nurvik/core/proposal"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) estateProposals(server *string) *cobra.Command {
	var answer api.ProposalAnswer
	var policyName, owner string
	var labels, trusted []string
	cmd := &cobra.Command{
		Use: "proposals", Short: "List endpoints that the estate may lack, and add or dismiss them", Args: cobra.NoArgs,
		Long: `Lists endpoints that the estate may lack: host names in certificates that are served or lie in
holdings, what servers in holdings are configured to serve, and what searches of networks found
("nurvik estate search"). Nothing is visited for it. --accept adds one to the estate, --dismiss keeps
one from being proposed again.`,
		Example: `  nurvik estate proposals
  nurvik estate proposals --accept tides2.tarnholm.example:443 --owner "web crew"
  nurvik estate proposals --dismiss old.tarnholm.example:443`,
	}
	cmd.RunE = a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
		if len(answer.Accept)+len(answer.Dismiss) == 0 {
			list, err := c.Proposals(ctx)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, _ report.Style) error { return printProposals(w, list) }})
		}
		if cmd.Flags().Changed("policy") {
			answer.Set.Policy = &policyName
		}
		if cmd.Flags().Changed("owner") {
			answer.Set.Owner = &owner
		}
		if cmd.Flags().Changed("trust") {
			answer.Set.Trust = &trusted
		}
		var err error
		if answer.Set.Labels, err = labelsOf(labels); err != nil {
			return err
		}
		if len(answer.Accept) == 0 && !answer.Set.Empty() {
			return usage(errors.New("--owner, --policy, --trust and --label go with --accept"))
		}
		done, err := c.AnswerProposals(ctx, answer)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.stdout, "%d added, %d dismissed\n", done.Added, done.Dismissed)
		return err
	})
	a.addOutput(cmd)
	flags := cmd.Flags()
	flags.StringArrayVar(&answer.Accept, "accept", nil, "add this `ENDPOINT` to the estate; repeat for more")
	flags.StringArrayVar(&answer.Dismiss, "dismiss", nil, "propose this `ENDPOINT` no more; repeat for more")
	flags.StringVar(&owner, "owner", "", "this `PERSON` or team sees to those that are added")
	flags.StringVar(&policyName, "policy", "", "judge them by this `POLICY`")
	flags.StringArrayVar(&trusted, "trust", nil, "accept with this trust `STORE`; repeat for alternatives")
	flags.StringArrayVar(&labels, "label", nil, "label them with `KEY=VALUE`; repeat for more")
	return cmd
}

func printProposals(w io.Writer, list api.Proposals) error {
	if len(list.Items) == 0 && !list.More {
		_, err := fmt.Fprintln(w, "no proposals: no certificate, configuration or search that was seen leads to an "+
			"endpoint that the estate lacks, or all were dismissed. Wildcards propose nothing.")
		return err
	}
	out := report.NewTable("endpoint", "seen in")
	for _, p := range list.Items {
		out.AppendRow(table.Row{p.Endpoint, metWords(p)})
	}
	if _, err := fmt.Fprintln(w, out.Render()); err != nil {
		return err
	}
	if list.More {
		_, err := fmt.Fprintln(w, "There are more: accept or dismiss some of these to see them.")
		return err
	}
	return nil
}

// metWords say where an endpoint was met: three places at most.
func metWords(p proposal.Proposal) string {
	const told, width = 3, 90
	var lines []string
	for _, s := range p.Sources[:min(told, len(p.Sources))] {
		lines = append(lines, text.WrapText(sourceWords(s), width))
	}
	if p.Places > told {
		lines = append(lines, fmt.Sprintf("and %d more", p.Places-told))
	}
	return strings.Join(lines, "\n")
}

func sourceWords(s proposal.Source) string {
	place := s.Holding + ":" + s.Path
	if s.Line > 0 {
		place += fmt.Sprintf(":%d", s.Line)
	}
	switch {
	case s.Server != "":
		return "the configuration of " + s.Server + ", " + place
	case s.Address != "":
		return "a search, at " + s.Address
	case s.Endpoint != "":
		return "the certificate of " + s.Endpoint
	}
	return "a certificate in " + place
}
