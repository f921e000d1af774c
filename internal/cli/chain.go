package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/core/pki"
	"nurvik/internal/audit"
	"nurvik/internal/outfile"
	"nurvik/internal/report"
)

// chainFlags are the flags of "nurvik chain".
type chainFlags struct {
	targetFlags
	distrust []string
	write    string
	force    bool
}

func (a *app) chainCommand() *cobra.Command {
	f := &chainFlags{}
	cmd := &cobra.Command{
		Use:     "chain PATH|ENDPOINT...",
		GroupID: "alone",
		Short:   "Show order, completeness and every path of a chain, for each trust store",
		Long: `Draws the chain as given beside the chain as it should be, with what is missing, and
every path to the trust stores named, with the day it breaks or the first reason why
it is not valid. Files named together are read as one set, in the
order given. With --write the repaired bundle is written.

Status 1 when no valid path leads to one of the stores (to each --audience), a
--name is not covered, or a finding is at or above --fail-from.

Issuers are asked about revocation for endpoints; for files only with --fetch.`,
		Example: `  nurvik chain tides.crt issuing.crt
  nurvik chain pilots.tarnholm.example --audience system --audience private:inner-root.pem
  nurvik chain bundle.pem --write repaired.pem
  nurvik chain tides.tarnholm.example --at +90d --distrust 5f0c…`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			f.request.Targets, f.request.Stdin, f.request.Heap = args, a.stdin, true
			return a.chain(cmd.Context(), f)
		},
	}
	a.addTargets(cmd, &f.targetFlags)
	flags := cmd.Flags()
	flags.StringArrayVar(&f.distrust, "distrust", nil, distrustHelp)
	flags.StringVar(&f.write, "write", "", "write the complete, ordered bundle to `FILE`")
	flags.BoolVar(&f.force, "force", false, "let --write replace an existing file")
	return cmd
}

func (a *app) chain(ctx context.Context, f *chainFlags) error {
	u, err := a.understand(&f.targetFlags)
	if err != nil {
		return err
	}
	distrust, err := parseFingerprints(f.distrust)
	if err != nil {
		return usage(fmt.Errorf("--distrust: %w", err))
	}
	if f.force && f.write == "" {
		return usage(errors.New("--force goes with --write"))
	}
	if _, err := os.Lstat(f.write); f.write != "" && err == nil && !f.force {
		return usage(fmt.Errorf("--write: %s exists; choose another file, or add --force to replace it", f.write))
	}
	plan, err := a.planOf(ctx, &f.request, &f.material)
	if err != nil {
		return err
	}
	visiting, finish := a.progress(plan.Steps(), "visiting")
	asking, finishAsking := a.phase("asking issuers")
	options, err := a.options(&f.targetFlags, u, plan)
	if err != nil {
		return err
	}
	options.Progress, options.Asking, options.AskFiles, options.Distrust = visiting, asking, f.asking.issuers, distrust
	a.interruption.visited.Store(plan.Steps() > 0)
	result := plan.Run(ctx, options)
	finish()
	finishAsking()
	for _, d := range distrust {
		if !plan.Knows(d) && !result.Knows(d) {
			return usage(fmt.Errorf("--distrust: no certificate or key that was met or that a trust store holds "+
				"has the SHA-256 %s", d))
		}
	}
	chains := report.NewChains(result)
	if len(chains.All()) == 0 && len(chains.Unexamined) == 0 {
		chains.Unexamined = append(chains.Unexamined, audit.Unexamined{Target: strings.Join(f.request.Targets, ", "),
			Reason: "no certificate is in it"})
	}
	if err := a.write(report.Chain(chains)); err != nil {
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
	case !u.never && chains.Reaches(u.limit), !chains.Yes() && !chains.Unverifiable():
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
		return usage(fmt.Errorf("--write wants exactly one chain, and there are %d; name the files of one leaf",
			len(all)))
	case len(all[0].Bundle) == 0:
		return &statusError{statusFindings, fmt.Errorf("%s is not written: no complete and valid chain is known",
			f.write)}
	}
	bundle := []byte(strings.Join(all[0].Bundle, ""))
	if err := outfile.Write(f.force, outfile.File{Path: f.write, Data: bundle, Mode: 0o644}); err != nil {
		return fmt.Errorf("--write: %w", err)
	}
	_, err := fmt.Fprintf(a.stderr, "Wrote %d certificates, leaf first, to %s.\n", len(all[0].Bundle), f.write)
	return err
}
