package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"nurvik/core/lifetime"
	"nurvik/internal/report"
)

// expiryFlags are the flags of "nurvik expiry".
type expiryFlags struct {
	targetFlags
	renew, within string
	forecast      bool
	minutes       int
}

func (a *app) expiryCommand() *cobra.Command {
	f := &expiryFlags{}
	cmd := &cobra.Command{
		Use:     "expiry PATH|ENDPOINT|ESTATE...",
		GroupID: "alone",
		Short:   "List what ends when: certificates, CRLs and stapled responses",
		Long: `Lists leaves, intermediates, roots, CRLs and stapled OCSP responses by what ends
first, each once with the places that have it, and draws how much ends in each month.

With -o icalendar it is a calendar to subscribe to: a leaf stands on the day on which
its renewal is due, all else on the day on which it ends.

With --forecast it says how many renewals each month will bring until December 2029,
and what they cost, under today's lifetimes and under the coming limits of public CAs
(200 days from 2026-03-15, 100 from 2027-03-15, 47 from 2029-03-15).`,
		Example: `  nurvik expiry /etc/ssl
  nurvik expiry estate.yaml --within 60d
  nurvik expiry /etc/ssl --estate estate.yaml -o icalendar > due.ics
  nurvik expiry estate.yaml --forecast --minutes 20`,
		Args: f.orEstate,
		RunE: func(cmd *cobra.Command, args []string) error {
			f.request.Targets, f.request.Stdin, f.request.Forget = args, a.stdin, true
			return a.expiry(cmd.Context(), f)
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	flags := cmd.Flags()
	flags.StringVar(&f.at, "at", "", atHelp)
	flags.StringVar(&f.renew, "renew", "1/3", "say when leaves are due for renewal: `DAYS|SHARE` left, such as 30d or 1/3")
	flags.StringVar(&f.within, "within", "", "list only what ends until then, `TIME`, such as 60d")
	flags.BoolVar(&f.forecast, "forecast", false, "say how many renewals each month brings, and what they cost")
	flags.IntVar(&f.minutes, "minutes", 30, "`MINUTES` of work for a renewal")
	f.addVisits(flags)
	return cmd
}

func (a *app) expiry(ctx context.Context, f *expiryFlags) error {
	renewal, err := lifetime.ParseRenewal(f.renew)
	if err != nil {
		return usage(fmt.Errorf("--renew: %w", err))
	}
	if f.minutes < 1 || f.minutes > 100_000 {
		return usage(errors.New("--minutes: from 1 to 100000"))
	}
	u, err := a.understand(&f.targetFlags)
	if err != nil {
		return err
	}
	var last time.Time
	if f.within != "" {
		if last, err = parseMoment("+"+f.within, u.at); err != nil {
			return usage(fmt.Errorf("--within: %w", err))
		}
	}
	plan, err := a.planOf(ctx, &f.request, &f.material)
	if err != nil {
		return err
	}
	options, finish, err := a.visits(&f.targetFlags, u, plan)
	if err != nil {
		return err
	}
	dues, unexamined := plan.Dues(ctx, options, renewal)
	finish()
	var forecast *lifetime.Forecast
	if f.forecast {
		end := time.Date(2030, 1, 1, 0, 0, 0, 0, time.UTC)
		x := lifetime.Predict(dues, u.at, end, renewal, f.minutes, plan.Policy().Lifetimes.PublicDays)
		forecast = &x
	}
	if !last.IsZero() {
		kept := dues[:0]
		for _, d := range dues {
			if !d.Until.After(last) {
				kept = append(kept, d)
			}
		}
		dues = kept
	}
	return examined(ctx, a.write(report.Expiry(dues, unexamined, u.at, forecast)), len(unexamined))
}
