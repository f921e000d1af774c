package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/limits"
	"nurvik/core/policy"
	"nurvik/core/probe"
	"nurvik/internal/audit"
	"nurvik/internal/inquiry"
	"nurvik/internal/settings"
	"nurvik/internal/vantage"
)

// targetFlags are the flags of commands that examine and judge what they are given.
type targetFlags struct {
	at, failFrom, effort string
	resolver             vantage.NameServer
	request              audit.Request
	limits               limits.Limits
	material             materialFlags
	asking               askingFlags
}

func (a *app) addTargets(cmd *cobra.Command, f *targetFlags) {
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	f.asking.add(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.at, "at", "", atHelp)
	flags.StringVar(&f.request.Policy, "policy", "",
		"judge everything by this `POLICY`, built in or a file (default: what the estate file assigns, else "+
			""+policy.Default+", and "+policy.Opportunistic+" for mail and messages between servers)")
	flags.StringArrayVar(&f.request.Trust, "trust", nil,
		"accept with this trust `STORE`: system, a name, a file or a directory, with public:, private: or "+
			"rehearsal: in front where needed; repeat for alternatives (default system)")
	flags.StringArrayVar(&f.request.Audiences, "audience", nil, "require this trust `STORE` to accept; repeat for more")
	flags.StringArrayVar(&f.request.Names, "name", nil,
		"require the certificate to cover `NAME`; repeat for more. The first is sent as SNI")
	flags.StringVar(&f.request.Purpose, "purpose", "",
		"judge certificates in files for this `PURPOSE`: server, client, mail or any (default: what each is for)")
	flags.StringArrayVar(&f.request.VisitAt, "visit-at", nil,
		"visit this `ADDRESS[:PORT]` instead of the name's; repeat for more")
	flags.StringVar(&f.failFrom, "fail-from", "fault", failFromHelp+": fault, risk, note or never")
	flags.StringVar(&f.resolver.Address, "resolver", "",
		"ask the DNS server at `ADDRESS[:PORT]` instead of the system's, for CAA and TLSA records too")
	flags.BoolVar(&f.resolver.Validates, "resolver-validates", false,
		"trust the DNS server to validate DNSSEC, so that TLSA records count")
	flags.Uint16Var(&f.request.HTTPPort, "http-port", 0,
		"look for plain HTTP on this `PORT` (default 80 for an endpoint on 443)")
	flags.StringVar(&f.effort, "effort", "", effortUsage)
	settings.AddLimits(flags, &f.limits)
	_ = cmd.RegisterFlagCompletionFunc("fail-from", cobra.FixedCompletions([]string{"fault", "risk", "note", "never"},
		cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("policy", cobra.FixedCompletions(policy.Names(),
		cobra.ShellCompDirectiveNoFileComp))
}

// effortUsage explains the effort, and what it risks at databases that count what ends before the login.
const effortUsage = "set how much each visit asks, `EFFORT`: quick, normal or full (default normal, and quick for " +
	"mysql: MySQL locks out a host after 100 connections that end before the login, and normal makes about 25)"

// addVisits are the flags of commands that only look at what is served.
func (f *targetFlags) addVisits(flags *pflag.FlagSet) {
	flags.StringVar(&f.request.Estate, "estate", "", "visit the estate in this `FILE`, beside the targets")
	flags.StringArrayVar(&f.request.VisitAt, "visit-at", nil,
		"visit this `ADDRESS[:PORT]` instead of the name's; repeat for more")
	flags.StringVar(&f.resolver.Address, "resolver", "", "ask the DNS server at `ADDRESS[:PORT]` instead of the system's")
	settings.AddLimits(flags, &f.limits)
	f.effort, f.failFrom = string(facts.Quick), "never"
}

// visits prepares the visits of such a command; finish ends what is shown of their progress.
func (a *app) visits(f *targetFlags, u understood, plan *audit.Plan) (options audit.Options, finish func(), err error) {
	options, err = a.options(f, u, plan)
	if err != nil {
		return options, nil, err
	}
	options.Progress, finish = a.progress(plan.Steps(), "visiting")
	a.interruption.visited.Store(plan.Steps() > 0)
	return options, finish, nil
}

// orEstate wants a target, unless an estate file is named.
func (f *targetFlags) orEstate(cmd *cobra.Command, args []string) error {
	if f.request.Estate == "" {
		return cobra.MinimumNArgs(1)(cmd, args)
	}
	return nil
}

// understood is what the flags mean.
type understood struct {
	at      time.Time
	limit   judge.Severity
	never   bool // no finding is bad enough
	network probe.Network
}

// understand checks the flags; its errors are wrong calls.
func (a *app) understand(f *targetFlags) (u understood, err error) {
	if u.at, err = parseMoment(f.at, a.now()); err != nil {
		return u, usage(fmt.Errorf("--at: %w", err))
	}
	if u.limit, u.never, err = parseFailFrom(f.failFrom); err != nil {
		return u, usage(err)
	}
	if u.network, err = vantage.Network(f.resolver); err != nil {
		return u, usage(fmt.Errorf("--resolver: %w", err))
	}
	if err := f.limits.Check(); err != nil {
		return u, usage(err)
	}
	f.request.Networks, f.request.Report = f.asking.networks, a.report
	if f.request.Effort, err = facts.ParseEffort(f.effort); err != nil {
		return u, usage(fmt.Errorf("--effort: %w", err))
	}
	return u, nil
}

// options are those of every audit; its issuers are asked as the flags say.
func (a *app) options(f *targetFlags, u understood, plan *audit.Plan) (audit.Options, error) {
	network := u.network
	if r := plan.Resolver(); r != nil && f.resolver.Address == "" {
		var err error
		if network, err = vantage.Network(vantage.NameServer(*r)); err != nil {
			return audit.Options{}, usage(fmt.Errorf("resolver of the estate file: %w", err))
		}
	}
	network.Report = a.report
	bounds := f.limits.Over(plan.Limits()).Over(plan.Policy().Limits)
	return audit.Options{Prober: probe.New(network, vantage.Afford(bounds)), At: u.at,
		Desk: inquiry.New(inquiry.Options{Revocation: !f.asking.none, Issuers: f.asking.issuers,
			Networks: plan.Networks(), Lookup: network.Lookup, Now: a.now})}, nil
}
