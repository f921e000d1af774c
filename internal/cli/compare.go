package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/core/compare"
	"nurvik/core/keystore"
	"nurvik/core/pbe"
	"nurvik/core/trust"
	"nurvik/internal/audit"
	"nurvik/internal/report"
)

// compareFlags are the flags of "nurvik compare".
type compareFlags struct {
	targetFlags
	ignore []string
}

func (a *app) compareCommand() *cobra.Command {
	f := &compareFlags{}
	var aspects []string
	for _, aspect := range compare.Ignorable {
		aspects = append(aspects, string(aspect))
	}
	cmd := &cobra.Command{
		Use:     "compare FIRST SECOND",
		GroupID: "alone",
		Short:   "Compare two certificates, requests (CSR), keystores, bundles, trust stores or endpoints",
		Long: `Shows two things side by side and says what changed from the first to the second: a
certificate request (CSR) and the certificate that was issued for it, an old
certificate and its successor, a file and an endpoint, two endpoints, a keystore and a
file, two bundles, two trust stores, or the results of two audits of an endpoint
(saved with "nurvik audit ENDPOINT -o json").

Status 1 when they differ in what matters: a name is gone, the key is not the request's,
the CA flag or a usage was granted or lost, a CA certificate is gone, or a key or hash is
weaker. New names, certificates, serial numbers, dates and keys are only told.

A trust store is "system", or a file or directory with public:, private: or rehearsal:
in front.`,
		Example: `  nurvik compare tides.csr tides.crt
  nurvik compare old/tides.crt new/tides.crt --ignore chain
  nurvik compare /etc/ssl/tides.pem tides.tarnholm.example
  nurvik compare tides.tarnholm.example tides.tarnholm.example --visit-at 127.30.0.7
  nurvik compare system private:/etc/ssl/anchors`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			var ignored []compare.Aspect
			for _, text := range f.ignore {
				if !slices.Contains(aspects, text) {
					return usage(fmt.Errorf("--ignore: %q is none of %s", text, strings.Join(aspects, ", ")))
				}
				ignored = append(ignored, compare.Aspect(text))
			}
			return a.compare(cmd.Context(), f, args, ignored)
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	flags := cmd.Flags()
	flags.StringSliceVar(&f.ignore, "ignore", nil,
		"do not count differences of this `ASPECT`: "+strings.Join(aspects, ", ")+"; repeat for more")
	f.addVisits(flags)
	flags.Lookup("visit-at").Usage = "visit this `ADDRESS[:PORT]` instead of the name's, for the last endpoint named; " +
		"repeat for more"
	_ = flags.MarkHidden("estate")
	flags.StringVar(&f.effort, "effort", f.effort, "set how much each visit asks, `EFFORT`: quick, normal or full")
	_ = cmd.RegisterFlagCompletionFunc("ignore", cobra.FixedCompletions(aspects, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *app) compare(ctx context.Context, f *compareFlags, args []string, ignored []compare.Aspect) error {
	if readOnce(args[0]) && args[0] == args[1] {
		return usage(errors.New("a stream can be read once only; name another thing to compare it with"))
	}
	if f.request.Estate != "" {
		return usage(errors.New("compare does not take an estate file; name two endpoints of it"))
	}
	stores := isStore(args[0]) || isStore(args[1])
	last := -1
	for i, target := range args {
		if !stores && !audit.IsPath(target) {
			last = i
		}
	}
	if len(f.request.VisitAt) > 0 && last < 0 {
		return usage(errors.New("--visit-at says where to visit an endpoint, and no endpoint is named"))
	}
	visitAt := f.request.VisitAt
	var sides [2]compare.Side
	for i, target := range args {
		var err error
		if f.request.VisitAt = nil; i == last {
			f.request.VisitAt = visitAt
		}
		if stores {
			sides[i], err = a.storeSide(f, target)
		} else {
			sides[i], err = a.side(ctx, f, target)
		}
		if err != nil {
			return err
		}
	}
	result := compare.Compare(sides[0], sides[1], ignored...)
	err := a.write(report.Compare(result))
	switch {
	case err != nil:
		return err
	case result.Matters:
		return &statusError{status: statusFindings}
	case len(result.Unknown) > 0:
		return &statusError{status: statusUnexamined}
	}
	return nil
}

// isStore reports whether the text can only be a trust store.
func isStore(text string) bool {
	if _, err := os.Stat(text); err == nil {
		return false
	}
	kind, _, ok := strings.Cut(text, ":")
	return text == trust.SystemName || ok && slices.Contains([]trust.Kind{trust.Public, trust.Private, trust.Rehearsal},
		trust.Kind(kind))
}

func (a *app) storeSide(f *compareFlags, text string) (compare.Side, error) {
	passwords, err := a.passwords(&f.material)
	if err != nil {
		return compare.Side{}, err
	}
	loader := &trust.Loader{Opener: keystore.Opener{Passwords: passwords, Budget: &pbe.Budget{}}}
	store, err := loader.Load(text)
	if err != nil {
		return compare.Side{}, err
	}
	return compare.OfStore(text, store), nil
}

// side reads or visits one of the two. What cannot be examined at all cannot be compared.
func (a *app) side(ctx context.Context, f *compareFlags, target string) (compare.Side, error) {
	if e, saved, err := audit.Saved(target); err != nil {
		return compare.Side{}, err
	} else if saved {
		return compare.OfEndpoint(target, e), nil
	}
	f.request.Targets, f.request.Stdin = []string{target}, a.stdin
	u, err := a.understand(&f.targetFlags)
	if err != nil {
		return compare.Side{}, err
	}
	plan, err := a.planOf(ctx, &f.request, &f.material)
	if err != nil {
		return compare.Side{}, err
	}
	options, finish, err := a.visits(&f.targetFlags, u, plan)
	if err != nil {
		return compare.Side{}, err
	}
	endpoints, unexamined := plan.Endpoints(ctx, options)
	finish()
	var side compare.Side
	if len(endpoints) > 0 {
		side = compare.OfEndpoint(target, endpoints[0])
	} else {
		side = compare.OfFiles(target, plan.Files())
	}
	if !side.Empty() {
		return side, nil
	}
	for _, u := range unexamined {
		return side, fmt.Errorf("%s cannot be compared: %s", u.Target, u.Reason)
	}
	return side, fmt.Errorf("%s cannot be compared: it has no certificate, certificate request (CSR) or key", target)
}
