package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/probe"
	"nurvik/internal/audit"
	"nurvik/internal/inquiry"
	"nurvik/internal/report"
	"nurvik/internal/vantage"
)

// chainFlags are the flags of "nurvik chain".
type chainFlags struct {
	at, policy, failFrom, resolver string
	request                        audit.Request
	deadlines                      probe.Deadlines
	material                       materialFlags
	asking                         askingFlags
	distrust                       []string
	write                          string
	force                          bool
}

func (a *app) chainCommand() *cobra.Command {
	f := &chainFlags{}
	cmd := &cobra.Command{
		Use:     "chain PATH|ENDPOINT...",
		GroupID: "alone",
		Short:   "Show order, completeness and every path of a chain, for each trust store",
		Long: `Draws the chain as it was given or served beside the right one, with what is missing,
and every path to the trust stores named, with the day on which it breaks or the
first reason why it is not valid. Files named together are one heap, in the order
of the call. With --write the repaired bundle is written.

Status 1 when no valid path leads to one of the stores (to each --audience), a
--name is not covered, or a finding is at or above --fail-from.

Issuers are asked about revocation for endpoints; for files only with --fetch.`,
		Example: `  nurvik chain tides.crt issuing.crt
  nurvik chain pilots.tarnholm.example --audience system --audience private:inner-root.pem
  nurvik chain bundle.pem --write repaired.pem
  nurvik chain tides.tarnholm.example --at +90d --distrust 5f0c…
  nurvik chain differences system ./anchors`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			f.request.Targets, f.request.Stdin, f.request.Heap = args, a.stdin, true
			return a.chain(cmd.Context(), f)
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	f.asking.add(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.at, "at", "", "judge as of this `TIME`: a date, RFC 3339, or an offset such as +30d")
	flags.StringVar(&f.policy, "policy", policy.Default, "`POLICY` to judge by")
	flags.StringArrayVar(&f.request.Trust, "trust", nil, "trust `STORE`; repeat for alternatives: system, a name, a file or a directory, with public:, private: or rehearsal: in front where needed (default system)")
	flags.StringArrayVar(&f.request.Audiences, "audience", nil, "trust `STORE` that must accept; repeat for each that must")
	flags.StringArrayVar(&f.request.Names, "name", nil, "`NAME` that must be covered; repeat for more. The first is sent as the server name")
	flags.StringArrayVar(&f.request.Connect, "connect", nil, "visit this `ADDRESS[:PORT]` instead of the name's; repeat for more")
	flags.StringArrayVar(&f.distrust, "distrust", nil, "what if the certificate or key of this SHA-256 `FINGERPRINT` were not trusted; repeat for more")
	flags.StringVar(&f.write, "write", "", "write the complete, ordered bundle to `FILE`")
	flags.BoolVar(&f.force, "force", false, "let --write replace an existing file")
	flags.StringVar(&f.failFrom, "fail-from", "fault", "end with 1 from this `SEVERITY` on: fault, risk, note or never")
	flags.StringVar(&f.resolver, "resolver", "", "name server `ADDRESS[:PORT]` to ask instead of the system's")
	flags.DurationVar(&f.deadlines.Connect, "connect-timeout", probe.DefaultConnect, "`TIME` for one connection")
	flags.DurationVar(&f.deadlines.Handshake, "handshake-timeout", probe.DefaultHandshake, "`TIME` for the answer to one hello")
	flags.DurationVar(&f.deadlines.Visit, "visit-timeout", probe.DefaultVisit, "`TIME` for the visit of one address")
	_ = cmd.RegisterFlagCompletionFunc("fail-from", cobra.FixedCompletions([]string{"fault", "risk", "note", "never"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.AddCommand(a.chainDifferences())
	return cmd
}

func (a *app) chain(ctx context.Context, f *chainFlags) error {
	at, err := parseMoment(f.at, a.now())
	if err != nil {
		return usage(fmt.Errorf("--at: %w", err))
	}
	limit, never, err := parseFailFrom(f.failFrom)
	if err != nil {
		return usage(err)
	}
	p, err := policy.Builtin(f.policy)
	if err != nil {
		return usage(fmt.Errorf("--policy: %w", err))
	}
	distrust, err := parseFingerprints(f.distrust)
	if err != nil {
		return usage(fmt.Errorf("--distrust: %w", err))
	}
	network, err := vantage.Network(f.resolver)
	if err != nil {
		return usage(fmt.Errorf("--resolver: %w", err))
	}
	if f.force && f.write == "" {
		return usage(errors.New("--force goes with --write"))
	}
	if _, err := os.Lstat(f.write); f.write != "" && err == nil && !f.force {
		return usage(fmt.Errorf("--write: %s exists; choose another file, or add --force to replace it", f.write))
	}
	f.request.Networks = f.asking.networks
	plan, err := a.planOf(ctx, &f.request, &f.material)
	if err != nil {
		return err
	}
	visiting, finish := a.progress(plan.Steps(), "visiting")
	asking, finishAsking := a.phase("asking issuers")
	result := plan.Run(ctx, audit.Options{
		Prober: probe.New(network, f.deadlines), Policy: p, At: at, Progress: visiting, Asking: asking, AskFiles: f.asking.issuers, Distrust: distrust,
		Desk: inquiry.New(inquiry.Options{Revocation: !f.asking.none, Issuers: f.asking.issuers, Networks: plan.Networks(), Lookup: network.Lookup, Now: a.now}),
	})
	finish()
	finishAsking()
	for _, d := range distrust {
		if !plan.Knows(d) && !result.Knows(d) {
			return usage(fmt.Errorf("--distrust: no certificate or key that was met or that a trust store holds has the SHA-256 %s", d))
		}
	}
	chains := report.NewChains(result)
	if len(chains.All()) == 0 && len(chains.Unexamined) == 0 {
		chains.Unexamined = append(chains.Unexamined, audit.Unexamined{Target: strings.Join(f.request.Targets, ", "), Reason: "no certificate is in it"})
	}
	if a.output == "json" {
		err = report.JSON(a.stdout, chains)
	} else {
		err = report.Chain(a.stdout, chains, a.style())
	}
	if err != nil {
		return err
	}
	if f.write != "" && ctx.Err() == nil {
		if err := a.writeBundle(f, chains); err != nil {
			return err
		}
	}
	switch {
	case ctx.Err() != nil:
		return &statusError{statusUnexamined, errors.New("interrupted; what is shown was known until then")}
	case !never && chains.Reaches(limit), !chains.Yes() && !chains.Unverifiable():
		return &statusError{status: statusFindings}
	case !chains.Yes(), len(chains.Unexamined) > 0: // what could not be computed or found out is no no
		return &statusError{status: statusUnexamined}
	}
	return nil
}

func parseFingerprints(texts []string) ([]pki.Fingerprint, error) {
	var out []pki.Fingerprint
	for _, text := range texts {
		f, err := pki.ParseFingerprint(text)
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// writeBundle writes the repaired chain, all of it or nothing.
func (a *app) writeBundle(f *chainFlags, chains *report.Chains) error {
	all := chains.All()
	switch {
	case len(all) != 1:
		return usage(fmt.Errorf("--write wants exactly one chain, and there are %d; name the files of one leaf", len(all)))
	case len(all[0].Bundle) == 0:
		return &statusError{statusFindings, fmt.Errorf("%s is not written: no complete and valid chain is known", f.write)}
	}
	bundle := []byte(strings.Join(all[0].Bundle, ""))
	if err := writeFile(f.write, bundle, f.force); err != nil {
		return fmt.Errorf("--write: %w", err)
	}
	_, err := fmt.Fprintf(a.stderr, "Wrote %d certificates, leaf first, to %s.\n", len(all[0].Bundle), f.write)
	return err
}

// writeFile makes the file anew beside its place and then moves it there, so
// that a server never reads half of one.
func writeFile(path string, data []byte, replace bool) error {
	temporary, err := os.CreateTemp(filepath.Dir(path), ".nurvik-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(temporary.Name()) }() // gone already when all went well
	_, err = temporary.Write(data)
	err = errors.Join(err, temporary.Chmod(0o644), temporary.Sync(), temporary.Close())
	if err != nil {
		return err
	}
	if replace {
		return os.Rename(temporary.Name(), path)
	}
	return os.Link(temporary.Name(), path) // fails when a file has come there meanwhile
}
