package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"nurvik/core/endpoint"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) runCommand() *cobra.Command {
	var server, failFrom string
	var follow bool
	cmd := &cobra.Command{
		Use:     "run [ENDPOINT...]",
		GroupID: "service",
		Short:   "Start an audit of the whole estate or of some endpoints, and follow it",
		Long: `Starts an audit on the service: visits, judged as of now by the policies that are
assigned to the endpoints. For other times and policies see "nurvik what-if". With
--follow the call waits until it has ended; Ctrl-C then leaves the audit running and
says how to follow or cancel it.`,
		Example: `  nurvik run --follow
  nurvik run tides.tarnholm.example pilots.tarnholm.example
  nurvik run follow 7
  nurvik run cancel 7`,
		RunE: a.remote(&server, func(ctx context.Context, c *client.Client, args []string) error {
			limit, err := parseLimit(failFrom)
			if err != nil {
				return err
			}
			var start api.AuditStart
			if start.EndpointIDs, err = endpointIDs(ctx, c, args); err != nil {
				return err
			}
			audit, err := c.StartAudit(ctx, start)
			if err != nil {
				return err
			}
			if !follow {
				return a.printAudit(audit)
			}
			return a.follow(ctx, c, audit.ID, limit)
		}),
	}
	addServer(cmd, &server)
	a.addOutput(cmd)
	cmd.Flags().BoolVar(&follow, "follow", false, "wait until the audit has ended, with progress")
	cmd.Flags().StringVar(&failFrom, "fail-from", "fault", "with --follow, "+failFromHelp+": fault, risk or never")
	cmd.AddCommand(a.runFollow(&server), a.runCancel(&server), a.runList(&server))
	return cmd
}

// limits of --fail-from for an audit, of which only the verdicts are counted.
type verdictLimit string

func parseLimit(text string) (verdictLimit, error) {
	switch text {
	case "fault", "risk", "never":
		return verdictLimit(text), nil
	}
	return "", usage(fmt.Errorf("--fail-from is fault, risk or never here, not %q", text))
}

// reached reports whether the verdicts contain what the limit names.
func (l verdictLimit) reached(v api.Verdicts) bool {
	return l != "never" && v.Faulty > 0 || l == "risk" && v.AtRisk > 0
}

func endpointIDs(ctx context.Context, c *client.Client, targets []string) ([]int64, error) {
	var ids []int64
	for _, target := range targets {
		parsed, err := endpoint.Parse(target)
		if err != nil {
			return nil, usage(err)
		}
		e, err := c.FindEndpoint(ctx, parsed.String())
		if err != nil {
			return nil, err
		}
		ids = append(ids, e.ID)
	}
	return ids, nil
}

// follow shows progress until the audit has ended. An interrupt leaves it running.
func (a *app) follow(ctx context.Context, c *client.Client, id int64, limit verdictLimit) error {
	var step func(done, total int)
	finish := func() {}
	audit, err := c.Follow(ctx, id, func(now api.Audit) {
		if step == nil && now.Visits > 0 {
			if step, finish = a.progress(now.Visits, fmt.Sprintf("audit %d", id)); step == nil {
				step = func(int, int) {}
			}
		}
		if step != nil {
			step(now.Done, now.Visits)
		}
	})
	finish()
	if errors.Is(err, context.Canceled) {
		return &statusError{statusUnexamined,
			fmt.Errorf("audit %d goes on without you; follow it with \"nurvik run follow %d\", cancel it with "+
				"\"nurvik run cancel %d\"", id, id, id)}
	}
	if err != nil {
		return err
	}
	if err := a.printAudit(audit); err != nil {
		return err
	}
	switch {
	case audit.State != "finished":
		return &statusError{statusUnexamined, fmt.Errorf("audit %d is %s", id, audit.State)}
	case limit.reached(audit.Verdicts):
		return &statusError{status: statusFindings}
	case audit.Verdicts.Unreachable > 0 || len(audit.Unexamined) > 0:
		return &statusError{status: statusUnexamined}
	}
	return nil
}

func (a *app) printAudit(audit api.Audit) error {
	lines := []string{auditLine(audit)}
	for _, u := range audit.Unexamined {
		lines = append(lines, fmt.Sprintf("  not examined: %s: %s", u.Target, u.Unexamined))
	}
	return a.write(say(audit, lines...))
}

func auditLine(a api.Audit) string {
	line := fmt.Sprintf("audit %d: %s, %s", a.ID, a.State, report.Plural(a.Endpoints, "endpoint"))
	if a.Schedule != "" {
		line = fmt.Sprintf("audit %d, by the schedule %s: %s, %s", a.ID, a.Schedule, a.State,
			report.Plural(a.Endpoints, "endpoint"))
	}
	switch a.State {
	case "finished":
		v := a.Verdicts
		line += fmt.Sprintf(": %d faulty, %d at risk, %d unreachable, %d sound; \"nurvik findings\" lists what is "+
			"wrong", v.Faulty, v.AtRisk, v.Unreachable, v.Sound)
	case "failed":
		line += ": " + a.Failure
	case "cancelled":
		line += fmt.Sprintf(", after %d of %d visits; what was judged until then stands", a.Done, a.Visits)
	default:
		line += fmt.Sprintf(", %d of %d visits; \"nurvik run follow %d\" follows it", a.Done, a.Visits, a.ID)
	}
	return line
}

func parseAuditID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usage(fmt.Errorf("%q is no number of an audit; \"nurvik run list\" shows them", text))
	}
	return id, nil
}

func (a *app) runFollow(server *string) *cobra.Command {
	var failFrom string
	cmd := &cobra.Command{
		Use: "follow AUDIT", Short: "Follow a running audit until it has ended", Args: cobra.ExactArgs(1),
		Example: "  nurvik run follow 7",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			limit, err := parseLimit(failFrom)
			if err != nil {
				return err
			}
			id, err := parseAuditID(args[0])
			if err != nil {
				return err
			}
			return a.follow(ctx, c, id, limit)
		}),
	}
	a.addOutput(cmd)
	cmd.Flags().StringVar(&failFrom, "fail-from", "fault", failFromHelp+": fault, risk or never")
	return cmd
}

func (a *app) runCancel(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "cancel AUDIT", Short: "Cancel a running audit; what was judged until then stands",
		Args:    cobra.ExactArgs(1),
		Example: "  nurvik run cancel 7",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			id, err := parseAuditID(args[0])
			if err != nil {
				return err
			}
			audit, err := c.CancelAudit(ctx, id)
			if err != nil {
				return err
			}
			return a.printAudit(audit)
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func (a *app) runList(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List the newest audits", Args: cobra.NoArgs, Example: "  nurvik run list",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
			audits, err := c.Audits(ctx, 20)
			if err != nil {
				return err
			}
			var lines []string
			for _, audit := range audits {
				lines = append(lines, audit.CreatedAt.Local().Format("2006-01-02 15:04")+"  "+auditLine(audit))
			}
			return a.write(say(audits, lines...))
		}),
	}
	a.addOutput(cmd)
	return cmd
}
