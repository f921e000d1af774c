package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"nurvik/core/facts"
	"nurvik/internal/api"
	"nurvik/internal/audit"
)

// collectFlags are the flags of "nurvik collect".
type collectFlags struct {
	targetFlags
	server, holding string
	dryRun          bool
}

func (a *app) collectCommand() *cobra.Command {
	f := &collectFlags{}
	cmd := &cobra.Command{
		Use:     "collect PATH...",
		GroupID: "service",
		Short:   "Send what this machine holds to the service, as facts: never a key, never a password",
		Long: `Reads certificates, keys, requests and the configuration of servers below the paths, and
sends the facts of them to the service as a holding under this machine's name. What is
gone since the last time is gone there too.

Of a private key only the public half leaves the machine. Of configuration only what
concerns TLS is read: files, versions, cipher lists, names and addresses; values that may be anything are
left out. --dry-run prints exactly what would be sent, a line each file, and sends nothing.

A holding that was interrupted goes on where it was. deploy/ has a systemd service and
timer.`,
		Example: `  nurvik collect /etc --dry-run
  nurvik collect /etc /srv/tls --server https://nurvik.tarnholm.example`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			f.request.Targets, f.request.Stdin, f.request.Servers = args, a.stdin, true
			return a.collect(cmd.Context(), f)
		},
	}
	a.addMaterial(cmd, &f.material)
	flags := cmd.Flags()
	flags.StringVar(&f.request.Policy, "policy", "", "judge a new holding by `POLICY`, which the service knows by this name")
	flags.StringArrayVar(&f.request.Trust, "trust", nil, "judge a new holding by the trust store `NAME` of the service; repeat for more")
	flags.StringArrayVar(&f.request.Audiences, "audience", nil,
		"a trust store `NAME` of the service that must accept what a new holding has; repeat for more")
	flags.StringVar(&f.holding, "holding", "", "call the holding `NAME` (default this machine's)")
	flags.BoolVar(&f.dryRun, "dry-run", false, "print what would be sent, and send nothing")
	addServer(cmd, &f.server)
	return cmd
}

func (a *app) collect(ctx context.Context, f *collectFlags) error {
	for _, target := range f.request.Targets {
		if !audit.IsPath(target) {
			return usage(fmt.Errorf("%s is no file and no directory here; collect reads what lies on this machine",
				target))
		}
	}
	targets := make([]string, len(f.request.Targets)) // there, only whole paths tell where a file is
	for i, target := range f.request.Targets {
		var err error
		if targets[i], err = filepath.Abs(target); err != nil {
			return err
		}
	}
	sent := f.request // what the service knows by name is nothing to be read here
	sent.Targets, sent.Policy, sent.Trust, sent.Audiences = targets, "", nil, nil
	plan, err := a.planOf(ctx, &sent, &f.material)
	if err != nil {
		return err
	}
	for _, note := range plan.Notes() {
		fmt.Fprintln(a.stderr, "nurvik: "+note)
	}
	for _, u := range plan.Unexamined() {
		fmt.Fprintln(a.stderr, "nurvik: not read: "+u.String())
	}
	files, err := plan.Holding()
	if err != nil {
		return err
	}
	if len(files) == 0 {
		return usage(errors.New("nothing to collect: no certificate, key, request or configuration was recognised"))
	}
	if f.dryRun {
		out := json.NewEncoder(a.stdout)
		for i := range files {
			if err := out.Encode(files[i]); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
	if ctx.Err() != nil {
		return &statusError{statusUnexamined, errors.New("interrupted before everything was read; nothing was sent")}
	}
	if err := a.sendHolding(ctx, f, files); err != nil {
		return err
	}
	if len(plan.Unexamined()) > 0 {
		return &statusError{status: statusUnexamined}
	}
	return nil
}

// sendHolding gives the service the facts, and waits until they are judged.
func (a *app) sendHolding(ctx context.Context, f *collectFlags, files []facts.File) error {
	c, err := a.connect(f.server)
	if err != nil {
		return err
	}
	holding := api.HoldingFacts{HoldingHeader: api.HoldingHeader{Name: f.holding, Policy: f.request.Policy,
		Trust: f.request.Trust, Audiences: f.request.Audiences}, Files: files}
	if holding.Name == "" {
		if holding.Name, err = os.Hostname(); err != nil {
			return usage(fmt.Errorf("this machine has no name; give one with --holding: %w", err))
		}
	}
	sent, finish := a.progress(len(files), "sending")
	taken, changed, err := c.SendChanges(ctx, holding, func(files int) {
		if sent != nil {
			sent(files, len(holding.Files))
		}
	})
	finish()
	if err != nil {
		return refused(err)
	}
	if taken, err = c.JudgedHolding(ctx, taken.ID); err != nil {
		return refused(err)
	}
	_, err = fmt.Fprintf(a.stderr, "Sent the facts of %d files as the holding %q, of which %d have changed; it is %s "+
		"there: %s/holdings/%d\n", taken.Files, taken.Name, changed, taken.Verdict,
		strings.TrimSuffix(f.server, "/"), taken.ID)
	return err
}
