package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/core/draft"
	"nurvik/core/inputfile"
	"nurvik/core/naming"
	"nurvik/internal/report"
)

// coverFlags are the flags of "nurvik cover".
type coverFlags struct {
	targetFlags
	names     []string
	namesFrom []string
	draft     string
	wildcards bool
}

func (a *app) coverCommand() *cobra.Command {
	f := &coverFlags{}
	cmd := &cobra.Command{
		Use:     "cover PATH|ENDPOINT...",
		GroupID: "alone",
		Short:   "Compare the names that are needed with those that certificates cover",
		Long: `Shows for each needed name which certificates cover it and by which entry, why the
others do not, which entries nobody needs, and the smallest set of entries that
would cover everything, with and without wildcards.

Needed are the names given with --name and --names-from (one a line, # for comments),
or else what the endpoints are expected to have: their names in the estate file, or
their own. Common names never count (RFC 9525). Names alone are compared: "nurvik audit" says
whether the certificates are trusted.

--draft makes a key and a request for that set, as "nurvik draft" does; with --wildcards
for the one that has wildcards.

Status 1 when a needed name is covered by none of the certificates.`,
		Example: `  nurvik cover tides.crt --name tides.tarnholm.example --name tarnholm.example
  nurvik cover estate.yaml
  nurvik cover ferries.tarnholm.example pilots.tarnholm.example
  nurvik cover /etc/ssl/harbour --names-from needed.txt --draft /etc/ssl/new`,
		Args: f.orEstate,
		RunE: func(cmd *cobra.Command, args []string) error {
			f.request.Targets, f.request.Stdin = args, a.stdin
			return a.cover(cmd.Context(), f)
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	flags := cmd.Flags()
	flags.StringArrayVar(&f.names, "name", nil, "`NAME` that is needed; repeat for more")
	flags.StringArrayVar(&f.namesFrom, "names-from", nil, "read needed names from `FILE`, one per line; repeat for more")
	flags.StringVar(&f.draft, "draft", "", "write a new key and a request for the fewest entries into `DIRECTORY`")
	flags.BoolVar(&f.wildcards, "wildcards", false,
		"let --draft ask for wildcards where one takes the place of several names")
	f.addVisits(flags)
	return cmd
}

func (a *app) cover(ctx context.Context, f *coverFlags) error {
	if f.wildcards && f.draft == "" {
		return usage(errors.New("--wildcards goes with --draft"))
	}
	needed, err := a.needed(f)
	if err != nil {
		return usage(err)
	}
	u, err := a.understand(&f.targetFlags)
	if err != nil {
		return err
	}
	plan, err := a.planOf(ctx, &f.request, &f.material)
	if err != nil {
		return err
	}
	if len(needed) == 0 {
		needed = plan.Needed()
	}
	if len(needed) == 0 {
		return usage(errors.New("say which names are needed, with --name or --names-from"))
	}
	options, finish, err := a.visits(&f.targetFlags, u, plan)
	if err != nil {
		return err
	}
	leaves, unexamined := plan.Leaves(ctx, options)
	finish()
	var columns []naming.Column
	for _, l := range leaves {
		columns = append(columns, naming.NewColumn(l.Target, l.Certificate))
	}
	matrix := naming.Compare(needed, columns)
	if err := a.write(report.Cover(matrix, unexamined, u.at)); err != nil {
		return err
	}
	if f.draft != "" && ctx.Err() == nil {
		if err := a.draftProposal(ctx, f, matrix.Proposal); err != nil {
			return err
		}
	}
	switch {
	case ctx.Err() != nil:
		return &statusError{statusUnexamined, errors.New("interrupted; what is shown was known until then")}
	case len(columns) == 0 && len(unexamined) > 0:
		return &statusError{status: statusUnexamined}
	case !matrix.Covers():
		return &statusError{status: statusFindings}
	case len(unexamined) > 0:
		return &statusError{status: statusUnexamined}
	}
	return nil
}

// draftProposal hands the fewest entries to "nurvik draft". The result on standard output is that of cover alone.
func (a *app) draftProposal(ctx context.Context, f *coverFlags, p naming.Proposal) error {
	w := draft.Wish{Names: p.Plain}
	if f.wildcards {
		w.Names = p.Wildcards
	}
	if err := w.Settle(); err != nil {
		return usage(err)
	}
	result, err := a.makeDrafts(ctx, []draft.Named{{Wish: w}}, f.draft, nil, "fault")
	if err != nil {
		return fmt.Errorf("--draft: %w", err)
	}
	if _, err := fmt.Fprint(a.stderr, "\nDRAFT\n\n"); err != nil {
		return err
	}
	if err := report.DraftsDocument(result).Text(a.stderr, a.style()); err != nil {
		return err
	}
	return unwritten(result)
}

// needed are the names of the flags and of the files.
func (a *app) needed(f *coverFlags) ([]naming.Reference, error) {
	var out []naming.Reference
	add := func(where, name string) error {
		r, err := naming.ParseIdentity(name)
		if err != nil {
			return fmt.Errorf("%s: %w", where, err)
		}
		out = append(out, r)
		return nil
	}
	for _, name := range f.names {
		if err := add("--name", name); err != nil {
			return nil, err
		}
	}
	for _, path := range f.namesFrom {
		text, err := inputfile.Read(path)
		if err != nil {
			return nil, fmt.Errorf("--names-from: %w", err)
		}
		lines := bufio.NewScanner(strings.NewReader(string(text)))
		for n := 1; lines.Scan(); n++ {
			name, _, _ := strings.Cut(lines.Text(), "#")
			if name = strings.TrimSpace(name); name == "" {
				continue
			}
			if err := add(fmt.Sprintf("%s, line %d", path, n), name); err != nil {
				return nil, err
			}
		}
		if err := lines.Err(); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return out, nil
}
