package cli

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"nurvik/core/judge"
	"nurvik/internal/audit"
	"nurvik/internal/report"
	"nurvik/internal/vantage"
)

// auditFlags are the flags of "nurvik audit".
type auditFlags struct {
	targetFlags
	long, diff bool
	alsoAsk    []string // name servers
	shared     sharedFlag
}

func (a *app) auditCommand() *cobra.Command {
	f := &auditFlags{}
	cmd := &cobra.Command{
		Use:     "audit TARGET...",
		GroupID: "alone",
		Short:   "Examine endpoints, files and estate files, and report what is wrong",
		Long: `Examines every target, judges it and reports the findings by target.

A target is an endpoint (host, host:port, imaps://host), a file of any kind that
"nurvik identify" knows, a directory, or - for standard input. A target with a /
in it, or that exists as a path, is a file; name:443 never is.

An estate file is obeyed, with the networks, the name server and the trust stores
that it names, when it is the only target and is called .yaml or .yml, or with
--estate. Among other targets, or below a directory, it is a file like any other.`,
		Example: `  nurvik audit tides.tarnholm.example
  nurvik audit estate.yaml -o json
  nurvik audit /etc/ssl/harbour --name pilots.tarnholm.example
  nurvik audit pilots.tarnholm.example --visit-at 192.0.2.7 --trust private:inner-root.pem
  nurvik audit pilots.tarnholm.example --renewal
  nurvik audit estate.yaml --at +30d --fail-from risk`,
		Args: f.orEstate,
		RunE: func(cmd *cobra.Command, args []string) error {
			f.request.Targets, f.request.Stdin, f.request.Servers = args, a.stdin, true
			return a.audit(cmd.Context(), f)
		},
	}
	a.addTargets(cmd, &f.targetFlags)
	f.shared.add(cmd)
	flags := cmd.Flags()
	flags.BoolVar(&f.long, "long", false, "show everything that was learnt about each endpoint")
	flags.BoolVar(&f.request.Visits, "with-visits", false,
		"visit what the configuration that was read says is listening, and compare disk, configuration and wire")
	flags.BoolVar(&f.request.Renewal, "renewal", false,
		"look at what the next renewal of each endpoint's certificate will meet: names, port 80, CAA, DNS challenges")
	flags.StringArrayVar(&f.alsoAsk, "also-resolver", nil,
		"with --renewal, ask the DNS server at `ADDRESS[:PORT]` too where the names lead; repeat for more")
	flags.BoolVar(&f.diff, "diff", false, "print only what repairs configuration, as one patch for \"patch -p0 -d /\"")
	flags.StringVar(&f.request.Estate, "estate", "", "audit the estate in this `FILE`, beside the targets")
	return cmd
}

func (a *app) audit(ctx context.Context, f *auditFlags) error {
	u, err := a.understand(&f.targetFlags)
	if err != nil {
		return err
	}
	if len(f.alsoAsk) > 0 && !f.request.Renewal {
		return usage(errors.New("--also-resolver is for --renewal"))
	}
	plan, err := a.planOf(ctx, &f.request, &f.material)
	if err != nil {
		return err
	}
	for _, note := range plan.Notes() {
		fmt.Fprintln(a.stderr, "nurvik: "+note)
	}
	visiting, finish := a.progress(plan.Steps(), "visiting")
	asking, finishAsking := a.phase("asking issuers")
	shared, finishShared := a.phase("shared prime factors")
	options, err := a.options(&f.targetFlags, u, plan)
	if err != nil {
		return err
	}
	if f.request.Renewal {
		if options.Renewals, err = a.renewals(f, plan, options); err != nil {
			return err
		}
	}
	options.Bare = a.output == "table" // which shows no chains of files
	options.Progress, options.Asking, options.Shared = visiting, asking, f.shared.step(shared)
	a.interruption.visited.Store(plan.Steps() > 0)
	result := plan.Run(ctx, options)
	finish()
	finishAsking()
	finishShared()
	if f.diff {
		_, err = io.WriteString(a.stdout, result.Patch())
	} else {
		err = a.write(report.Audit(result, f.long))
	}
	switch {
	case err != nil:
		return err
	case ctx.Err() != nil:
		return &statusError{statusUnexamined, errors.New("interrupted; the report holds what was known until then")}
	case !u.never && result.Reaches(u.limit):
		return &statusError{status: statusFindings}
	case len(result.Unexamined) > 0:
		return &statusError{status: statusUnexamined}
	}
	return nil
}

// renewals asks the name server that visits ask, and the others that are named.
func (a *app) renewals(f *auditFlags, plan *audit.Plan, o audit.Options) (audit.Renewals, error) {
	server := f.resolver
	if r := plan.Resolver(); r != nil && server.Address == "" {
		server = vantage.NameServer(*r)
	}
	out, err := vantage.NewRenewals(server, f.alsoAsk, o.Prober)
	if err != nil {
		return nil, usage(fmt.Errorf("--renewal: %w", err))
	}
	return out, nil
}

// planOf reads what the call names. Where files are locked and somebody is
// there to ask, they are read once more with the password.
func (a *app) planOf(ctx context.Context, request *audit.Request, material *materialFlags) (*audit.Plan, error) {
	var err error
	if request.Passwords, err = a.passwords(material); err != nil {
		return nil, err
	}
	reading, finish := a.counter("reading")
	defer finish()
	request.Read = reading
	plan, err := audit.NewPlan(ctx, *request)
	if err != nil {
		return nil, err
	}
	password, ok := a.unlock(request.Targets, request.Passwords, plan.Files())
	if !ok {
		return plan, nil
	}
	request.Passwords = []string{password}
	return audit.NewPlan(ctx, *request)
}

func parseFailFrom(text string) (limit judge.Severity, never bool, err error) {
	switch s := judge.Severity(text); s {
	case judge.Fault, judge.Risk, judge.Note:
		return s, false, nil
	case "never":
		return "", true, nil
	}
	return "", false, fmt.Errorf("--fail-from is fault, risk, note or never, not %q", text)
}
