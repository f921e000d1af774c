package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"nurvik/core/endpoint"
	"nurvik/core/judge"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/estatefile"
	"nurvik/internal/report"
)

func (a *app) estateCommand() *cobra.Command {
	var server string
	cmd := &cobra.Command{
		Use:     "estate",
		GroupID: "service",
		Short:   "List, add, change, remove, import and export the service's endpoints",
		Example: `  nurvik estate import estate.yaml
  nurvik estate list --verdict faulty
  nurvik estate add pilots.tarnholm.example --trust inner --label quay=north
  nurvik estate export > estate.yaml`,
	}
	addServer(cmd, &server)
	cmd.AddCommand(a.estateList(&server), a.estateAdd(&server), a.estateChange(&server), a.estateBulkChange(&server),
		a.estateRemove(&server),
		a.estateProposals(&server), a.estateSearch(&server),
		a.estateImport(&server), a.estateExport(&server), a.estateHistory(&server), a.estateUnlocked(&server))
	return cmd
}

func (a *app) estateList(server *string) *cobra.Command {
	var filter client.EndpointFilter
	cmd := &cobra.Command{
		Use: "list", Short: "List endpoints with their latest verdicts", Args: cobra.NoArgs,
		Example: "  nurvik estate list --verdict at-risk --sort not_after\n  nurvik estate list --owner \"crane crew\"",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Endpoints(ctx, filter)
			if err != nil {
				return err
			}
			return a.write(report.Document{Value: list,
				Text: func(w io.Writer, s report.Style) error { return a.printEndpoints(w, list, s) }})
		}),
	}
	a.addOutput(cmd)
	cmd.Flags().StringVar(&filter.Search, "search", "", "show only those with this `TEXT` in target, issuer, owner or a label")
	cmd.Flags().StringVar(&filter.Owner, "owner", "", "show only those of this `OWNER`")
	cmd.Flags().StringVar(&filter.Label, "label", "", "show only those with this label, `KEY=VALUE`")
	cmd.Flags().StringVar(&filter.Policy, "policy", "", "show only those to which this `POLICY` is assigned")
	cmd.Flags().StringVar(&filter.Verdict, "verdict", "",
		"show only those of this `VERDICT`: sound, at-risk, faulty or unreachable")
	cmd.Flags().StringVar(&filter.Sort, "sort", "target",
		"order by this `COLUMN`: target, verdict, not_after or issuer")
	return cmd
}

func (a *app) printEndpoints(w io.Writer, list []api.Endpoint, style report.Style) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "no endpoints; add some with \"nurvik estate add\" or \"nurvik estate import\"")
		return err
	}
	provisional := false
	out := report.NewTable("verdict", "endpoint", "days left", "issuer", "findings")
	for _, e := range list {
		days := "–"
		if e.NotAfter != nil && e.NotAfter.Before(a.now()) {
			days = "expired"
		} else if e.NotAfter != nil {
			days = fmt.Sprint(int(e.NotAfter.Sub(a.now()) / (24 * time.Hour)))
		}
		verdict := report.VerdictWord(judge.Verdict(e.Verdict), style)
		if e.Provisional {
			provisional = true
			verdict += "\n(provisional)"
		}
		out.AppendRow(table.Row{verdict, e.Endpoint, days, e.Issuer,
			worst(e.Codes)})
	}
	_, err := fmt.Fprintln(w, out.Render())
	if err == nil && provisional {
		_, err = fmt.Fprintln(w, "Provisional: the audit has not ended. What other endpoints and the machines show "+
			"is still to come.")
	}
	return err
}

// settingsFlags are what can be set of an endpoint.
type settingsFlags struct {
	api.EndpointSettings
	labels []string
}

// worst are the first codes, the gravest of them in front, as many as a line can show.
func worst(codes []string) string {
	const line = 45 // what is left of 140 columns, without the words at the end
	shown, length := 0, 0
	for _, code := range codes {
		if length += len(code) + 2; length > line && shown > 0 {
			return fmt.Sprintf("%s and %d more", strings.Join(codes[:shown], ", "), len(codes)-shown)
		}
		shown++
	}
	return strings.Join(codes, ", ")
}

func (f *settingsFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringArrayVar(&f.Names, "name", nil, "require the certificate to cover `NAME`; repeat for more")
	flags.StringArrayVar(&f.VisitAt, "visit-at", nil,
		"visit this `ADDRESS[:PORT]` instead of the name's; repeat for more")
	flags.Uint16Var(&f.HTTPPort, "http-port", 0,
		"look for plain HTTP on this `PORT` (default 80 for an endpoint on 443)")
	flags.BoolVar(&f.Authenticated, "authenticated", false, "say that clients verify certificates, even on port 25")
	flags.StringVar(&f.Policy, "policy", "", "judge by this `POLICY` of the service")
	flags.StringVar(&f.ServerName, "server-name", "", "send `NAME` as SNI instead of the first name")
	flags.StringArrayVar(&f.Trust, "trust", nil,
		"accept with this trust `STORE` of the service; repeat for alternatives")
	flags.StringArrayVar(&f.Audiences, "audience", nil, "require this trust `STORE` to accept; repeat for more")
	flags.StringArrayVar(&f.Vantages, "vantage", nil,
		"visit it from this `VANTAGE`, where a \"nurvikd work --vantage\" runs; repeat for more")
	flags.StringVar(&f.Schedule, "schedule", "", "have it audited by this `SCHEDULE` of the service, and by no other one")
	flags.StringVar(&f.Owner, "owner", "", "say that this `PERSON` or team sees to it")
	flags.StringVar(&f.Notes, "notes", "", "keep this `TEXT` with it for people to read")
	flags.StringArrayVar(&f.labels, "label", nil, "label the endpoint with `KEY=VALUE`; repeat for more")
}

// settle checks the endpoint and reads the labels.
func (f *settingsFlags) settle(target string) error {
	parsed, err := endpoint.Parse(target)
	if err != nil {
		return usage(err)
	}
	f.Endpoint = parsed.String()
	f.Labels, err = labelsOf(f.labels)
	return err
}

func (a *app) estateAdd(server *string) *cobra.Command {
	f := &settingsFlags{}
	cmd := &cobra.Command{
		Use: "add ENDPOINT", Short: "Add an endpoint", Args: cobra.ExactArgs(1),
		Example: "  nurvik estate add pilots.tarnholm.example --visit-at 192.0.2.7 --name pilots.tarnholm.example",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			if err := f.settle(args[0]); err != nil {
				return err
			}
			e, err := c.AddEndpoint(ctx, f.EndpointSettings)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.stdout, "added %s\n", e.Endpoint)
			return err
		}),
	}
	f.add(cmd)
	return cmd
}

func (a *app) estateChange(server *string) *cobra.Command {
	f := &settingsFlags{}
	cmd := &cobra.Command{
		Use: "change ENDPOINT", Short: "Change settings of an endpoint; what is not named stays",
		Args: cobra.ExactArgs(1),
		Example: "  nurvik estate change pilots.tarnholm.example --trust inner\n  nurvik estate change " +
			"pilots.tarnholm.example --visit-at=",
	}
	cmd.RunE = a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
		if err := f.settle(args[0]); err != nil {
			return err
		}
		present, err := c.FindEndpoint(ctx, f.Endpoint)
		if err != nil {
			return err
		}
		changed := merged(cmd, present.EndpointSettings, f.EndpointSettings)
		if _, err := c.If(present.Tag).ChangeEndpoint(ctx, present.ID, changed); err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.stdout, "changed %s\n", present.Endpoint)
		return err
	})
	f.add(cmd)
	return cmd
}

// merged takes from the call what was given; an empty value clears.
func merged(cmd *cobra.Command, present, given api.EndpointSettings) api.EndpointSettings {
	nonEmpty := func(list []string) []string {
		return slices.DeleteFunc(list, func(s string) bool { return s == "" })
	}
	for flag, take := range map[string]func(){
		"name":          func() { present.Names = nonEmpty(given.Names) },
		"visit-at":      func() { present.VisitAt = nonEmpty(given.VisitAt) },
		"http-port":     func() { present.HTTPPort = given.HTTPPort },
		"authenticated": func() { present.Authenticated = given.Authenticated },
		"server-name":   func() { present.ServerName = given.ServerName },
		"policy":        func() { present.Policy = given.Policy },
		"trust":         func() { present.Trust = nonEmpty(given.Trust) },
		"audience":      func() { present.Audiences = nonEmpty(given.Audiences) },
		"vantage":       func() { present.Vantages = nonEmpty(given.Vantages) },
		"schedule":      func() { present.Schedule = given.Schedule },
		"owner":         func() { present.Owner = given.Owner },
		"notes":         func() { present.Notes = given.Notes },
		"label":         func() { present.Labels = given.Labels },
	} {
		if cmd.Flags().Changed(flag) {
			take()
		}
	}
	return present
}

func (a *app) estateRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove ENDPOINT...", Short: "Remove endpoints and their history", Args: cobra.MinimumNArgs(1),
		Example: "  nurvik estate remove drydock.tarnholm.example",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			for _, target := range args {
				if err := a.remove(ctx, c, target); err != nil {
					return err
				}
			}
			return nil
		}),
	}
}

func (a *app) estateUnlocked(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "unlocked ENDPOINT...", Args: cobra.MinimumNArgs(1),
		Short: "Tell the service that a MySQL server counts its connections from zero again",
		Long: `A MySQL or MariaDB server counts connections that end before the login, and locks
out the client's host at 100 of them (max_connect_errors). The service stops
visiting it at 80. Its count goes back to zero when anybody logs in to it from the
service's machine, or when its administrator runs "mysqladmin flush-hosts". Say so
with this command, and the endpoint is visited again.`,
		Example: "  nurvik estate unlocked mysql://stores.tarnholm.example",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, args []string) error {
			for _, target := range args {
				parsed, err := endpoint.Parse(target)
				if err != nil {
					return usage(err)
				}
				e, err := c.FindEndpoint(ctx, parsed.String())
				if err != nil {
					return err
				}
				forgotten, err := c.ForgetUnfinishedLogins(ctx, e.ID)
				if err != nil {
					return err
				}
				if _, err = fmt.Fprintf(a.stdout, "%s: %d connections count no more\n", e.Endpoint,
					forgotten.Connections); err != nil {
					return err
				}
			}
			return nil
		}),
	}
}

func (a *app) remove(ctx context.Context, c *client.Client, target string) error {
	parsed, err := endpoint.Parse(target)
	if err != nil {
		return usage(err)
	}
	e, err := c.FindEndpoint(ctx, parsed.String())
	if err != nil {
		return err
	}
	if err := c.RemoveEndpoint(ctx, e.ID); err != nil {
		return err
	}
	_, err = fmt.Fprintf(a.stdout, "removed %s\n", e.Endpoint)
	return err
}

func (a *app) estateExport(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "export", Short: "Write the whole estate as an estate file", Args: cobra.NoArgs,
		Example: "  nurvik estate export > estate.yaml",
		RunE: a.remote(server, func(ctx context.Context, c *client.Client, _ []string) error {
			estate, err := c.Export(ctx)
			if err != nil {
				return err
			}
			file, err := estatefile.FromService(estate)
			if err != nil {
				return err
			}
			text, err := file.Write()
			if err != nil {
				return err
			}
			_, err = a.stdout.Write(text)
			return err
		}),
	}
}
