package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"nurvik/core/inputfile"
	"nurvik/core/judge"
	"nurvik/internal/api"
	"nurvik/internal/audit"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) whatIfCommand() *cobra.Command {
	var server, at, policyName, failFrom string
	var distrust []string
	cmd := &cobra.Command{
		Use:     "what-if [ENDPOINT...]",
		GroupID: "service",
		Short:   "Ask what would be wrong at another time, by another policy, or without a root",
		Long: `Judges the service's last observations as of another time, by another policy, or as
if a root were not trusted, and shows which findings would appear and which would go.
Nothing is visited, and the record stays as it is. The answer is kept as a report.

Status 1 when a finding at or above --fail-from would appear; 3 when some endpoints were
never visited, so that nothing is known of them.`,
		Example: `  nurvik what-if --at 2027-03-15
  nurvik what-if --policy strict
  nurvik what-if --policy harbour-policy.yaml tides.tarnholm.example
  nurvik what-if --distrust 5f0c…
  nurvik what-if show 3`,
		RunE: a.remote(&server, func(ctx context.Context, c *client.Client, args []string) error {
			limit, never, err := parseFailFrom(failFrom)
			if err != nil {
				return usage(err)
			}
			start, err := a.question(at, policyName, distrust)
			if err != nil {
				return err
			}
			if start.EndpointIDs, err = endpointIDs(ctx, c, args); err != nil {
				return err
			}
			view, err := c.WhatIf(ctx, start)
			if err != nil {
				return err
			}
			return a.whatIf(view, limit, never)
		}),
	}
	addServer(cmd, &server)
	a.addOutput(cmd)
	flags := cmd.Flags()
	flags.StringVar(&at, "at", "", atHelp)
	flags.StringVar(&policyName, "policy", "",
		"judge every endpoint by this `POLICY`: one of the service, or a file, which is sent")
	flags.StringArrayVar(&distrust, "distrust", nil, distrustHelp)
	flags.StringVar(&failFrom, "fail-from", "fault", failFromHelp+": fault, risk, note or never")
	cmd.AddCommand(a.whatIfList(&server), a.whatIfShow(&server), a.whatIfRemove(&server))
	return cmd
}

// question reads the flags.
func (a *app) question(at, policyName string, distrust []string) (api.WhatIfStart, error) {
	start := api.WhatIfStart{Policy: policyName}
	if at+policyName == "" && len(distrust) == 0 {
		return start, usage(errors.New("say what would be otherwise: --at, --policy or --distrust"))
	}
	if at != "" {
		moment, err := parseMoment(at, a.now())
		if err != nil {
			return start, usage(fmt.Errorf("--at: %w", err))
		}
		start.At = &moment
	}
	fingerprints, err := parseFingerprints(distrust)
	if err != nil {
		return start, usage(fmt.Errorf("--distrust: %w", err))
	}
	for _, f := range fingerprints {
		start.Distrust = append(start.Distrust, f.String())
	}
	if _, err := os.Stat(policyName); policyName != "" && err == nil { // a file that is there is sent
		if _, err := audit.LoadPolicy(policyName); err != nil {
			return start, err
		}
		data, err := inputfile.Read(policyName)
		if err != nil {
			return start, usage(fmt.Errorf("--policy: %w", err))
		}
		start.Policy, start.PolicyText = "", string(data)
	}
	return start, nil
}

// whatIf shows the answer and decides the status.
func (a *app) whatIf(view api.WhatIfView, limit judge.Severity, never bool) error {
	if err := a.write(report.WhatIf(view)); err != nil {
		return err
	}
	switch {
	case view.State == "failed":
		return &statusError{statusUnexamined, fmt.Errorf("what-if %d failed: %s", view.ID, view.Failure)}
	case !never && view.Answer != nil && view.Answer.Worst != "" && view.Answer.Worst != judge.None &&
		view.Answer.Worst.AtLeast(limit):
		return &statusError{status: statusFindings}
	case view.Answer != nil && view.Answer.Unseen > 0:
		return &statusError{status: statusUnexamined}
	}
	return nil
}

func (a *app) whatIfList(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List the newest what-ifs", Args: cobra.NoArgs, Example: "  nurvik what-if list",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.WhatIfs(ctx, 50)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, _ report.Style) error { return report.WhatIfList(w, list) }})
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func parseWhatIfID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usage(fmt.Errorf("%q is not the number of a what-if; \"nurvik what-if list\" shows them", text))
	}
	return id, nil
}

func (a *app) whatIfShow(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "show NUMBER", Short: "Show a what-if again", Args: cobra.ExactArgs(1), Example: "  nurvik what-if show 3",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseWhatIfID(args[0])
			if err != nil {
				return err
			}
			view, err := c.GetWhatIf(ctx, id)
			if err != nil {
				return err
			}
			return a.whatIf(view, "", true)
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func (a *app) whatIfRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove NUMBER", Short: "Remove a what-if", Args: cobra.ExactArgs(1), Example: "  nurvik what-if remove 3",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseWhatIfID(args[0])
			if err != nil {
				return err
			}
			if err := c.RemoveWhatIf(ctx, id); err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.stdout, "removed what-if %d\n", id)
			return err
		}),
	}
}
