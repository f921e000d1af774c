package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"nurvik/core/assess"
	"nurvik/core/pairing"
	"nurvik/core/policy"
	"nurvik/internal/audit"
	"nurvik/internal/report"
)

// pairFlags are the flags of "nurvik pair".
type pairFlags struct {
	at, policy, failFrom, key, certificate string
	material                               materialFlags
	shared                                 sharedFlag
}

func (a *app) pairCommand() *cobra.Command {
	f := &pairFlags{}
	cmd := &cobra.Command{
		Use:     "pair PATH... | pair --key FILE --certificate FILE",
		GroupID: "alone",
		Short:   "Say which private keys, certificate requests (CSR) and certificates belong together",
		Long: `Reads files, directories, archives or standard input (-) and groups what is in them
by key. It shows what is left over, which sets for the same names followed one
another, and what is wrong: keys that do not fit, old sets, copies, exposed keys.

With --key and --certificate it answers only whether the two belong together:
status 0 they do, 1 they do not, 3 that could not be found out.`,
		Example: `  nurvik pair /etc/ssl/harbour
  nurvik pair from-the-issuer.zip /etc/ssl/private -o json
  nurvik pair --key tides.key --certificate tides.crt`,
		Args: func(cmd *cobra.Command, args []string) error {
			switch question := f.key != "" || f.certificate != ""; {
			case question && (f.key == "" || f.certificate == ""):
				return errors.New("--key and --certificate are used together")
			case question && len(args) > 0:
				return fmt.Errorf("with --key and --certificate no more paths are read; leave out %q", args[0])
			case !question && len(args) == 0:
				return errors.New("name a file or a directory, or --key and --certificate")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := parseMoment(f.at, a.now())
			if err != nil {
				return usage(fmt.Errorf("--at: %w", err))
			}
			if f.key != "" {
				return a.pairQuestion(cmd.Context(), f, at)
			}
			return a.pair(cmd.Context(), f, at, args)
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	f.shared.add(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.key, "key", "", "compare the private key in `FILE` with the --certificate")
	flags.StringVar(&f.certificate, "certificate", "", "compare the certificate or request in `FILE` with the --key")
	flags.StringVar(&f.at, "at", "", atHelp)
	flags.StringVar(&f.policy, "policy", "", "judge by this `POLICY`, built in or a file (default "+policy.Default+")")
	flags.StringVar(&f.failFrom, "fail-from", "fault", failFromHelp+": fault, risk, note or never")
	_ = cmd.RegisterFlagCompletionFunc("fail-from", cobra.FixedCompletions([]string{"fault", "risk", "note", "never"},
		cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *app) pair(ctx context.Context, f *pairFlags, at time.Time, paths []string) error {
	limit, never, err := parseFailFrom(f.failFrom)
	if err != nil {
		return usage(err)
	}
	p, err := audit.LoadPolicy(f.policy)
	if err != nil {
		return err
	}
	source, err := a.gather(ctx, &f.material, paths, true)
	if err != nil {
		return err
	}
	unexamined := source.Unexamined
	engine := assess.New(assess.Options{At: at, Memory: source.Reader.Memory, Material: true, Report: a.report})
	show, finish := a.phase("shared prime factors")
	if step := f.shared.step(show); step != nil {
		if err := engine.FindSharedPrimes(ctx, source.Files, nil, step); err != nil {
			unexamined = append(unexamined, audit.Unexamined{Target: "shared prime factors",
				Reason: "interrupted before the search ended"})
		}
	}
	finish()
	judgements, result := engine.Files(source.Files, assess.Expectation{Policy: p})
	pairs := report.NewPairs(result, judgements, unexamined, at, p.Name)
	err = a.write(report.Pair(pairs))
	if err == nil && ctx.Err() == nil && !never && pairs.Reaches(limit) {
		return &statusError{status: statusFindings}
	}
	return examined(ctx, err, len(unexamined))
}

// pairQuestion answers the single question; what is wrong beside never changes the answer.
func (a *app) pairQuestion(ctx context.Context, f *pairFlags, at time.Time) error {
	p, err := audit.LoadPolicy(f.policy)
	if err != nil {
		return err
	}
	if f.key == f.certificate && readOnce(f.key) {
		return usage(fmt.Errorf("a stream can be the key or the certificate, not both; \"nurvik pair %s\" sorts out "+
			"one stream", f.key))
	}
	both, err := a.gather(ctx, &f.material, []string{f.key, f.certificate}, true)
	if err != nil {
		return err
	}
	keys, certificates := both.Of(f.key), both.Of(f.certificate)
	answer := pairing.Ask(keys, certificates)
	for _, u := range both.Unexamined { // a file that could not be read at all says more than its absence
		if !answer.Known && len(both.Of(u.Target)) == 0 {
			answer.Sentence = fmt.Sprintf("%s could not be read: %s.", u.Target, u.Reason)
		}
	}
	// Each by itself: together they are the question.
	engine := assess.New(assess.Options{At: at, Memory: both.Reader.Memory, Material: true, Report: a.report})
	judgements := engine.Alone(both.Files, assess.Expectation{Policy: p})
	err = a.write(report.Answer(answer, judgements))
	switch {
	case err != nil:
		return err
	case !answer.Known:
		return &statusError{status: statusUnexamined}
	case !answer.Belong:
		return &statusError{status: statusFindings}
	}
	return nil
}
