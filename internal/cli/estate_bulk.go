package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/core/endpoint"
	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/estatefile"
	"nurvik/internal/report"
)

func (a *app) estateBulkChange(server *string) *cobra.Command {
	var c api.BulkChange
	var policyName, scheduleName, owner string
	var trusted, audiences, vantages, labels []string
	var authenticated bool
	cmd := &cobra.Command{
		Use: "bulk-change", Short: "Change settings of all endpoints that match a filter", Args: cobra.NoArgs,
		Long: `Changes all endpoints that match every --match-… given, or none of them if one cannot be
changed. Settings that are not named stay as they are. --dry-run shows what would change.`,
		Example: `  nurvik estate bulk-change --match-owner "crane crew" --policy internal --dry-run
  nurvik estate bulk-change --match-owner "crane crew" --policy internal
  nurvik estate bulk-change --match-label quay=north --owner "crane crew"
  nurvik estate bulk-change --all --label quay=`,
	}
	cmd.RunE = a.remote(server, func(ctx context.Context, cl *client.Client, _ []string) error {
		flags := cmd.Flags()
		if flags.Changed("policy") {
			c.Set.Policy = &policyName
		}
		if flags.Changed("schedule") {
			c.Set.Schedule = &scheduleName
		}
		if flags.Changed("owner") {
			c.Set.Owner = &owner
		}
		for _, x := range []struct {
			flag string
			list *[]string
			set  **[]string
		}{{"trust", &trusted, &c.Set.Trust}, {"audience", &audiences, &c.Set.Audiences},
			{"vantage", &vantages, &c.Set.Vantages}} {
			if flags.Changed(x.flag) {
				*x.list = slices.DeleteFunc(*x.list, func(s string) bool { return s == "" })
				*x.set = x.list
			}
		}
		if flags.Changed("authenticated") {
			c.Set.Authenticated = &authenticated
		}
		var err error
		if c.Set.Labels, err = labelsOf(labels); err != nil {
			return err
		}
		if c.Set.Empty() {
			return usage(errors.New("nothing is to be changed: name --policy, --owner, --trust, --audience, " +
				"--vantage, --schedule, --authenticated or --label"))
		}
		if c.Filter == (api.EndpointFilter{}) {
			return usage(errors.New("say which endpoints: --match-label, --match-owner, --match-text, " +
				"--match-verdict, --match-policy or --all"))
		}
		done, err := cl.BulkChange(ctx, c)
		if err != nil {
			return err
		}
		return a.write(report.Document{Value: done, Text: func(w io.Writer, _ report.Style) error {
			return printBulk(w, done, c.Preview)
		}})
	})
	a.addOutput(cmd)
	flags := cmd.Flags()
	flags.StringVar(&c.Filter.Label, "match-label", "", "change those with this label, `KEY=VALUE`")
	flags.StringVar(&c.Filter.Search, "match-text", "", "change those with this `TEXT` in target, issuer, owner or a label")
	flags.StringVar(&c.Filter.Owner, "match-owner", "", "change those of this `OWNER`")
	flags.StringVar(&c.Filter.Verdict, "match-verdict", "", "change those of this `VERDICT`: sound, at-risk, faulty or unreachable")
	flags.StringVar(&c.Filter.Policy, "match-policy", "", "change those to which this `POLICY` is assigned")
	flags.BoolVar(&c.Filter.All, "all", false, "change the whole estate")
	flags.BoolVar(&c.Preview, "dry-run", false, "show what would change, and change nothing")
	flags.StringVar(&policyName, "policy", "", "judge them by this `POLICY`; an empty one is the usual")
	flags.StringVar(&scheduleName, "schedule", "",
		"have them audited by this `SCHEDULE` and by no other one; an empty one is any that selects them")
	flags.StringVar(&owner, "owner", "", "say that this `PERSON` or team sees to them")
	flags.StringArrayVar(&trusted, "trust", nil, "one of these trust `STORES` must accept; repeat for more")
	flags.StringArrayVar(&audiences, "audience", nil, "all of these trust `STORES` must accept; repeat for more")
	flags.StringArrayVar(&vantages, "vantage", nil, "visit them from this `VANTAGE`; repeat for more")
	flags.BoolVar(&authenticated, "authenticated", false, "clients verify certificates, even on port 25")
	flags.StringArrayVar(&labels, "label", nil, "set this label, `KEY=VALUE`; KEY= takes it away; repeat for more")
	return cmd
}

func printBulk(w io.Writer, done api.BulkResult, preview bool) error {
	var before, after []endpoint.Settings
	for _, x := range done.Items {
		before, after = append(before, x.Before), append(after, x.After)
	}
	form, sum := "    %s: was %s, is now %s", "%s matched, %d changed"
	if preview {
		form, sum = "    %s: %s, would be %s", "%s matched, %d would be changed"
	}
	var lines []string
	for _, c := range estatefile.Difference(before, after, false) {
		lines = append(lines, "~ "+c.Endpoint)
		for _, key := range slices.Sorted(maps.Keys(c.Settings)) {
			x := c.Settings[key]
			lines = append(lines, fmt.Sprintf(form, key, valueWords(x.From), valueWords(x.To)))
		}
	}
	if more := done.Changed - len(done.Items); more > 0 {
		lines = append(lines, fmt.Sprintf("… and %d more", more))
	}
	lines = append(lines, fmt.Sprintf(sum, report.Plural(done.Matched, "endpoint"), done.Changed))
	_, err := fmt.Fprintln(w, strings.Join(lines, "\n"))
	return err
}

// labelsOf reads labels as they stand in a call, KEY=VALUE; with an empty value one is taken away.
func labelsOf(given []string) (map[string]string, error) {
	var out map[string]string
	for _, text := range given {
		key, value, found := strings.Cut(text, "=")
		if !found || key == "" {
			return nil, usage(fmt.Errorf("the label %q is not of the form KEY=VALUE", text))
		}
		if out == nil {
			out = map[string]string{}
		}
		out[key] = value
	}
	return out, nil
}
