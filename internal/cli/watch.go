package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/internal/audit"
	"nurvik/internal/report"
)

// watchFlags are the flags of "nurvik watch".
type watchFlags struct {
	targetFlags
	until string
	most  time.Duration
	every time.Duration
}

// shortest is how often an address is asked at most: each asking is a connection of somebody's server.
const shortest = 5 * time.Second

func (a *app) watchCommand() *cobra.Command {
	f := &watchFlags{}
	cmd := &cobra.Command{
		Use:     "watch ENDPOINT...",
		GroupID: "alone",
		Short:   "Wait until every address of an endpoint serves the new certificate",
		Long: `Asks every address of the endpoints again and again, and ends when each of them serves
what is awaited: the leaf of a file, a certificate by its fingerprint, or any other
than the one that is served first ("changed"). Names are looked up anew each time, so that
a change of DNS is seen too.

Status 1 when the time is over first.`,
		Example: `  nurvik watch tides.tarnholm.example --until /etc/ssl/tides.pem
  nurvik watch tides.tarnholm.example smtp://mx.tarnholm.example --until changed --for 30m`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			f.request.Targets = args
			return a.watch(cmd.Context(), f)
		},
	}
	a.addOutput(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.until, "until", "changed", "wait for the leaf in `FILE|FINGERPRINT|changed`")
	flags.DurationVar(&f.most, "for", 2*time.Hour, "wait `DURATION` at most")
	flags.DurationVar(&f.every, "every", 30*time.Second, "ask every `DURATION`, not more often than every 5s")
	f.addVisits(flags)
	return cmd
}

// awaited is the certificate that is waited for; nil for any other than the first.
func awaited(until string) (*pki.Fingerprint, error) {
	if until == "changed" {
		return nil, nil
	}
	if f, err := pki.ParseFingerprint(strings.ToLower(strings.ReplaceAll(until, ":", ""))); err == nil {
		return &f, nil
	}
	if _, err := os.Stat(until); err != nil {
		return nil, fmt.Errorf("--until is a file, the SHA-256 fingerprint of a certificate, or the word changed: %w",
			err)
	}
	leaf, err := audit.LeafOf(until)
	if err != nil {
		return nil, fmt.Errorf("--until: %w", err)
	}
	f := leaf.Fingerprint()
	return &f, nil
}

func (a *app) watch(ctx context.Context, f *watchFlags) error {
	want, err := awaited(f.until)
	if err != nil {
		return usage(err)
	}
	switch {
	case f.every < shortest:
		return usage(fmt.Errorf("--every: from %s on, so that nobody's server is asked without end", shortest))
	case f.most <= 0 || f.most > 48*time.Hour:
		return usage(errors.New("--for: from 1s to 48h"))
	}
	u, err := a.understand(&f.targetFlags)
	if err != nil {
		return err
	}
	f.request.Effort = facts.Quick
	plan, err := audit.NewPlan(ctx, f.request)
	if err != nil {
		return err
	}
	if plan.Steps() == 0 || len(plan.Files()) > 0 {
		return usage(errors.New("watch takes endpoints; the file that is waited for goes with --until"))
	}
	options, finish, err := a.visits(&f.targetFlags, u, plan)
	if err != nil {
		return err
	}
	finish()
	options.Progress = nil
	began := time.Now()
	limited, cancel := context.WithTimeout(ctx, f.most)
	defer cancel()
	w := audit.NewWatch(plan, want)
	for {
		for _, line := range w.Ask(limited, options) {
			fmt.Fprintf(a.stderr, "%s  %s\n", time.Since(began).Round(time.Second), line)
		}
		result := w.Result(time.Since(began))
		switch {
		case result.Done:
			return a.write(report.Watch(result))
		case ctx.Err() != nil:
			return errors.Join(a.write(report.Watch(result)), &statusError{statusUnexamined, errors.New("interrupted")})
		case limited.Err() != nil:
			return errors.Join(a.write(report.Watch(result)), &statusError{status: statusFindings})
		}
		select {
		case <-limited.Done():
		case <-time.After(f.every):
		}
	}
}
