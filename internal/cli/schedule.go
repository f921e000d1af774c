package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/report"
)

func (a *app) scheduleCommand() *cobra.Command {
	var server string
	cmd := &cobra.Command{
		Use:     "schedule",
		GroupID: "service",
		Short:   "Let audits begin by themselves, and show when",
		Long: `A schedule begins an audit of the estate, or of the endpoints with a label, every
so many hours or at times of the day. While its last audit is still under way, none
begins. What somebody starts with "nurvik run" goes first.`,
		Example: `  nurvik schedule add nightly --at 02:00 --zone Europe/Oslo --spread 2h
  nurvik schedule add cranes --every 6h --label owner=cranes --quiet 07:00-09:00
  nurvik schedule list
  nurvik schedule pause cranes`,
	}
	addServer(cmd, &server)
	cmd.AddCommand(a.scheduleList(&server), a.scheduleAdd(&server), a.scheduleChange(&server),
		a.schedulePause(&server, true), a.schedulePause(&server, false), a.scheduleRemove(&server))
	return cmd
}

func (a *app) scheduleList(server *string) *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List schedules with their last and next audits", Args: cobra.NoArgs,
		Example: "  nurvik schedule list",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Schedules(ctx)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, _ report.Style) error { return printSchedules(w, list) }})
		}),
	}
	a.addOutput(cmd)
	return cmd
}

func printSchedules(w io.Writer, list []api.Schedule) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "no audit begins by itself; \"nurvik schedule add\" lets them")
		return err
	}
	out := report.NewTable("name", "when", "of", "next", "last")
	for _, s := range list {
		out.AppendRow(table.Row{text.WrapSoft(s.Name, 20), text.WrapSoft(s.Words, 36), text.WrapSoft(scheduled(s), 24),
			nextWords(s), text.WrapSoft(lastWords(s), 40)})
	}
	_, err := fmt.Fprintln(w, out.Render())
	return err
}

func scheduled(s api.Schedule) string {
	count := report.Plural(s.Endpoints, "endpoint")
	if s.Label == "" {
		return count
	}
	return s.Label + ": " + count
}

func nextWords(s api.Schedule) string {
	switch {
	case s.Paused:
		return "paused"
	case s.Next == nil:
		return "never"
	}
	return s.Next.Local().Format("2006-01-02 15:04")
}

func lastWords(s api.Schedule) string {
	words := ""
	if s.Audit != nil {
		v := s.Audit.Verdicts
		words = fmt.Sprintf("audit %d of %s: %s", s.Audit.ID, s.Audit.CreatedAt.Local().Format("2006-01-02 15:04"),
			s.Audit.State)
		if s.Audit.State == "finished" {
			words += fmt.Sprintf(", %d faulty, %d at risk, %d unreachable", v.Faulty, v.AtRisk, v.Unreachable)
		}
	}
	if s.Skipped != "" && s.Last != nil {
		words += fmt.Sprintf("\nnone at %s: %s", s.Last.Local().Format("2006-01-02 15:04"), s.Skipped)
	}
	return words
}

// scheduleFlags are the settings as flags. Those that are named are put into settings by apply.
type scheduleFlags struct {
	every, spread           time.Duration
	at, days                []string
	zone, quiet, label, new string
}

func (f *scheduleFlags) add(flags *pflag.FlagSet) {
	flags.DurationVar(&f.every, "every", 0, "begin an audit every so many hours, `DURATION` such as 6h")
	flags.StringSliceVar(&f.at, "at", nil, "or at this `TIME` of the day, such as 02:30; repeat for more")
	flags.StringSliceVar(&f.days, "days", nil, "only on these `DAYS`: mon,tue,wed,thu,fri,sat,sun (default every day)")
	flags.StringVar(&f.zone, "zone", "", "times and days are those of this time `ZONE`, such as Europe/Oslo (default UTC)")
	flags.StringVar(&f.quiet, "quiet", "", "begin no visit in these `HOURS`, such as 07:00-09:30")
	flags.DurationVar(&f.spread, "spread", 0, "spread the visits over this `DURATION`, such as 2h")
	flags.StringVar(&f.label, "label", "", "only endpoints with this label, `KEY=VALUE` (default the whole estate)")
}

func (f *scheduleFlags) apply(flags *pflag.FlagSet, s *api.ScheduleStart) error {
	if f.every%time.Hour != 0 || f.spread%time.Minute != 0 {
		return usage(errors.New("--every is in whole hours, such as 6h, and --spread in whole minutes, such as 90m"))
	}
	if flags.Changed("every") {
		s.Every, s.At = int(f.every/time.Hour), nil
	}
	if flags.Changed("at") {
		s.At = f.at
		if !flags.Changed("every") {
			s.Every = 0
		}
	}
	if flags.Changed("spread") {
		s.Spread = int(f.spread / time.Minute)
	}
	if flags.Changed("days") {
		s.Days = f.days
	}
	for name, to := range map[string]*string{"zone": &s.Zone, "quiet": &s.Quiet, "label": &s.Label, "name": &s.Name} {
		if flags.Changed(name) {
			*to = flags.Lookup(name).Value.String()
		}
	}
	return nil
}

func (a *app) scheduleAdd(server *string) *cobra.Command {
	var f scheduleFlags
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Let audits begin by themselves", Args: cobra.ExactArgs(1),
		Example: "  nurvik schedule add nightly --at 02:00 --zone Europe/Oslo --spread 2h\n" +
			"  nurvik schedule add cranes --every 6h --label owner=cranes --quiet 07:00-09:00",
	}
	cmd.RunE = a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
		in := api.ScheduleStart{Name: args[0]}
		if err := f.apply(cmd.Flags(), &in); err != nil {
			return err
		}
		s, err := c.AddSchedule(ctx, in)
		if err != nil {
			return err
		}
		return a.saySchedule(s)
	})
	a.addOutput(cmd)
	f.add(cmd.Flags())
	return cmd
}

func (a *app) saySchedule(s api.Schedule) error {
	next := "the next audit begins " + nextWords(s)
	if s.Paused {
		next = "paused"
	}
	return a.write(say(s, fmt.Sprintf("%s: %s, of %s; %s", s.Name, s.Words, scheduled(s), next)))
}

func (a *app) scheduleChange(server *string) *cobra.Command {
	var f scheduleFlags
	cmd := &cobra.Command{
		Use: "change NAME", Short: "Change a schedule; what is not named stays", Args: cobra.ExactArgs(1),
		Example: "  nurvik schedule change nightly --at 03:00 --days mon,tue,wed,thu,fri",
	}
	cmd.RunE = a.changeSchedule(server, func(in *api.ScheduleStart) error { return f.apply(cmd.Flags(), in) })
	a.addOutput(cmd)
	f.add(cmd.Flags())
	cmd.Flags().StringVar(&f.new, "name", "", "call it this `NAME`")
	return cmd
}

func (a *app) schedulePause(server *string, paused bool) *cobra.Command {
	cmd := &cobra.Command{
		Use: "resume NAME", Short: "Let audits of a paused schedule begin again", Args: cobra.ExactArgs(1),
		Example: "  nurvik schedule resume nightly",
	}
	if paused {
		cmd.Use, cmd.Example = "pause NAME", "  nurvik schedule pause nightly"
		cmd.Short = "Let no audit begin until \"resume\"; one that is under way goes on"
	}
	cmd.RunE = a.changeSchedule(server, func(in *api.ScheduleStart) error {
		in.Paused = paused
		return nil
	})
	a.addOutput(cmd)
	return cmd
}

// changeSchedule reads a schedule, changes it and says what it is then.
func (a *app) changeSchedule(server *string, change func(*api.ScheduleStart) error) func(*cobra.Command,
	[]string) error {
	return a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
		s, err := c.FindSchedule(ctx, args[0])
		if err != nil {
			return err
		}
		if err := change(&s.ScheduleStart); err != nil {
			return err
		}
		if s, err = c.If(s.Tag).ChangeSchedule(ctx, s.ID, s.ScheduleStart); err != nil {
			return err
		}
		return a.saySchedule(s)
	})
}

func (a *app) scheduleRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove a schedule; its audits stay", Args: cobra.ExactArgs(1),
		Example: "  nurvik schedule remove nightly",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.FindSchedule(ctx, args[0])
			if err != nil {
				return err
			}
			return c.RemoveSchedule(ctx, s.ID)
		}),
	}
}
