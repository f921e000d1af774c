package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"nurvik/core/facts"
	"nurvik/core/wanted"
	"nurvik/internal/api"
	"nurvik/internal/report"
)

// whereFlags are the flags of "nurvik where".
type whereFlags struct {
	targetFlags
	server string
}

func (a *app) whereCommand() *cobra.Command {
	f := &whereFlags{}
	cmd := &cobra.Command{
		Use:     "where WHAT [TARGET...]",
		GroupID: "alone",
		Short:   "Find every place of a certificate, key or name: endpoints, files and lines of configuration",
		Long: `Looks for WHAT in the targets (endpoints, files, directories, an estate file), or,
where none is named, in all that the service knows, now and before.

WHAT is a serial number (decimal, or hexadecimal with or without colons), the
SHA-256 fingerprint of a certificate, the SHA-256 digest of a public key, a host name
or a part of a subject. Digits alone are tried as decimal and as hexadecimal.

Also shown are other certificates on the same key, and those before and after it
for the same names. Status 1 when it is nowhere.`,
		Example: `  nurvik where 04:a1:7f:33
  nurvik where tides.tarnholm.example /etc
  nurvik where 77192001023 estate.yaml /etc/ssl`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			thing, err := wanted.Parse(args[0])
			if err != nil {
				return usage(err)
			}
			f.request.Targets, f.request.Stdin, f.request.Servers = args[1:], a.stdin, true
			if len(args) == 1 && f.request.Estate == "" {
				return a.whereInService(cmd.Context(), f, thing)
			}
			return a.where(cmd.Context(), f, thing)
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	f.addVisits(cmd.Flags())
	addServer(cmd, &f.server)
	return cmd
}

func (a *app) where(ctx context.Context, f *whereFlags, thing wanted.Thing) error {
	u, err := a.understand(&f.targetFlags)
	if err != nil {
		return err
	}
	if f.request.Effort == "" {
		f.request.Effort = facts.Quick
	}
	plan, err := a.planOf(ctx, &f.request, &f.material)
	if err != nil {
		return err
	}
	options, finish, err := a.visits(&f.targetFlags, u, plan)
	if err != nil {
		return err
	}
	found, unexamined := plan.Where(ctx, options, thing)
	finish()
	if err := a.write(report.Where(found, unexamined)); err != nil {
		return err
	}
	switch {
	case ctx.Err() != nil:
		return &statusError{statusUnexamined, errors.New("interrupted; what is shown was known until then")}
	case len(found.Places) == 0 && len(unexamined) == 0:
		return &statusError{status: statusFindings}
	case len(unexamined) > 0:
		return &statusError{status: statusUnexamined}
	}
	return nil
}

func (a *app) whereInService(ctx context.Context, f *whereFlags, thing wanted.Thing) error {
	c, err := a.connect(f.server)
	if err != nil {
		return err
	}
	var found api.Where
	if found, err = c.Where(ctx, thing.Text); err != nil {
		return refused(err)
	}
	if err := a.write(report.Where(found, nil)); err != nil {
		return err
	}
	if len(found.Places) == 0 {
		return &statusError{status: statusFindings}
	}
	return nil
}
