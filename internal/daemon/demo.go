package daemon

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nurvik/console"
	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/keystore"
	"nurvik/core/pbe"
	"nurvik/core/policy"
	"nurvik/internal/api"
	"nurvik/internal/audit"
	"nurvik/internal/client"
	"nurvik/internal/estatefile"
	"nurvik/internal/harbour"
	"nurvik/internal/report"
	"nurvik/internal/service"
	"nurvik/internal/service/auth"
	"nurvik/internal/vantage"
)

// demoHandshake is shorter than usual: the harbour is on this machine, and one
// of its endpoints never answers.
const demoHandshake = 2 * time.Second

// demoPassword is that of everybody in the demo, which listens on this machine only.
const demoPassword = "lantern over the quay"

// demoPeople have an account in the demo. Whoever is on this machine is taken for the first.
var demoPeople = []service.Account{
	{Name: "harbour-master", Password: demoPassword, Role: auth.Administrator},
	{Name: "pilot", Password: demoPassword, Role: auth.Auditor},
	{Name: "tide-clerk", Password: demoPassword, Role: auth.Viewer},
}

// demoVantages are where the demo looks from: the service is at the first.
var demoVantages = []string{"harbour", "outside"}

func (a *app) demoCommand() *cobra.Command {
	c := service.Config{Console: console.Files()}
	var port uint16
	var once bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Start a simulated estate, the database and the service, run an audit and print the result",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if !cmd.Flags().Changed("log-level") {
				a.logLevel = "warn"
			}
			if c.Log, err = a.log(); err != nil {
				return err
			}
			if c.Data == "" {
				c.Data = demoDirectory()
			}
			if err := a.settleData(&c); err != nil {
				return err
			}
			if !cmd.Flags().Changed("handshake-timeout") {
				c.Limits.Handshake = demoHandshake
			}
			return a.demo(cmd.Context(), c, port, once)
		},
	}
	a.serviceFlags(cmd, &c)
	cmd.Flags().Lookup("data").Usage = "keep the demo's database and harbour in this `DIRECTORY` (default " +
		demoDirectory() + ")"
	cmd.Flags().Uint16Var(&port, "harbour-port", harbour.DefaultPort,
		"let the harbour's endpoints listen on this `PORT`; 0 for one that is free")
	cmd.Flags().BoolVar(&once, "once", false, "exit after the result is printed")
	return cmd
}

// demoDirectory is beside the data of a service that runs here, not among them; empty when there is none.
func demoDirectory() string {
	if directory := dataDirectory(); directory != "" {
		return directory + "-demo"
	}
	return ""
}

func (a *app) demo(ctx context.Context, c service.Config, port uint16, once bool) error {
	if err := os.MkdirAll(c.Data, 0o711); err != nil {
		return fmt.Errorf("data directory: %w; choose another with --data", err)
	}
	h, err := harbour.Start(harbour.Options{Directory: filepath.Join(c.Data, "harbour"), Port: port, Now: time.Now()})
	if err != nil {
		return err
	}
	defer h.Close()
	fmt.Fprintf(a.stderr, "The Tarnholm Harbour Authority is up: %d endpoints on port %d.\n", h.Endpoints, port)
	if c.Resolver.Address == "" {
		c.Resolver = vantage.NameServer{Address: h.NameServer, Validates: true}
	}
	c.Vantage = demoVantages[0]
	leads := map[netip.AddrPort]netip.AddrPort{}
	for _, way := range h.Outside {
		leads[way[0]] = way[1]
	}
	c.Elsewhere = []service.Elsewhere{{Vantage: demoVantages[1], Leads: leads}}
	c.SignIn.Accounts, c.SignIn.LetIn = demoPeople, demoPeople[0].Name
	c.Issuers, c.Networks = true, append(c.Networks, fmt.Sprintf("127.0.0.0/8=%d", h.Port))
	c.Visitable = append(c.Visitable, "127.0.0.0/8")
	c.Searchable = append(c.Searchable, fmt.Sprintf("127.30.7.0/24=%d", h.Port))

	ctx, stop := context.WithCancel(ctx)
	defer stop()
	ready := make(chan string, 1)
	ended := make(chan error, 1)
	go func() { ended <- service.Run(ctx, c, func(address, _ string) { ready <- address }) }()
	select {
	case err := <-ended:
		return err
	case address := <-ready:
		err := a.show(ctx, h, address)
		if err != nil || once {
			stop()
			return errors.Join(err, <-ended)
		}
	}
	return <-ended
}

// addSchedule lets the harbour be audited once a day, at a time that is far off when the demo starts.
func addSchedule(ctx context.Context, c *client.Client, now time.Time) error {
	known, err := c.Schedules(ctx)
	if err != nil || len(known) > 0 {
		return err
	}
	_, err = c.AddSchedule(ctx, api.ScheduleStart{Name: "harbour every day", ScheduleSettings: api.ScheduleSettings{
		At: []string{now.UTC().Add(11 * time.Hour).Format("15:00")},
		Quiet: now.UTC().Add(2*time.Hour).Format("15:00-") +
			now.UTC().Add(4*time.Hour).Format("15:00"), Spread: 30}})
	return err
}

// show audits the harbour through the API and prints the result.
func (a *app) show(ctx context.Context, h *harbour.Harbour, address string) error {
	c, err := client.New(address, "")
	if err != nil {
		return err
	}
	file, err := estatefile.Read(h.EstateFile)
	if err != nil {
		return err
	}
	estate, err := file.ForService()
	if err != nil {
		return err
	}
	if _, err := c.Import(ctx, api.EstateImport{Estate: estate, Replace: true}); err != nil {
		return err
	}
	if err := sendHoldings(ctx, h, c); err != nil {
		return err
	}
	if err := lookFromBoth(ctx, h, c); err != nil {
		return err
	}
	if err := addSchedule(ctx, c, time.Now()); err != nil {
		return err
	}
	started, err := c.StartAudit(ctx, api.AuditStart{})
	if err != nil {
		return err
	}
	done, err := c.Follow(ctx, started.ID, nil)
	if err != nil {
		return err
	}
	if done.State != "finished" {
		return fmt.Errorf("the audit is %s: %s", done.State, done.Failure)
	}
	result, err := collect(ctx, c, done)
	if err != nil {
		return err
	}
	style := report.Style{}
	if file, ok := a.stdout.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		style.Colour = os.Getenv("NO_COLOR") == ""
		if width, _, err := term.GetSize(int(file.Fd())); err == nil {
			style.Width = width
		}
	}
	if err := report.Audit(result, false).Text(a.stdout, style); err != nil {
		return err
	}
	_, err = fmt.Fprintf(a.stdout, `
Console:  %[11]s/
Findings: nurvik findings --server %[1]s
Files:    nurvik audit --estate %[2]s %[3]s %[4]s --password-file %[5]s
Servers:  nurvik audit %[6]s
Sort out: nurvik identify %[4]s
          nurvik pair %[4]s --password-file %[5]s
Sign-in:  the demo takes everybody on this machine for %[7]s. To be somebody else, sign in
          as %[8]s or %[9]s with the password "%[10]s".
`, address, h.EstateFile, h.Files, h.Hosts, h.Passwords, h.Machines, demoPeople[0].Name, demoPeople[1].Name,
		demoPeople[2].Name, demoPassword,
		strings.Replace(address, "//127.0.0.1:", "//localhost:", 1)) // where browsers take passkeys
	return err
}

// lookFromBoth has those endpoints visited from both vantages that may differ.
func lookFromBoth(ctx context.Context, h *harbour.Harbour, c *client.Client) error {
	for target := range h.Outside {
		e, err := c.FindEndpoint(ctx, target)
		if err != nil {
			return err
		}
		e.EndpointSettings.Vantages = demoVantages
		if _, err := c.ChangeEndpoint(ctx, e.ID, e.EndpointSettings); err != nil {
			return err
		}
	}
	return nil
}

// sendHoldings sends what lies on each machine of the harbour, as its client would.
func sendHoldings(ctx context.Context, h *harbour.Harbour, c *client.Client) error {
	machines, err := os.ReadDir(h.Hosts)
	if err != nil {
		return err
	}
	reader := &intake.Reader{Opener: keystore.Opener{Passwords: []string{harbour.Password}, Budget: &pbe.Budget{}}}
	for _, machine := range machines {
		root := filepath.Join(h.Hosts, machine.Name())
		holding := api.HoldingFacts{HoldingHeader: api.HoldingHeader{Name: machine.Name() + ".tarnholm.example",
			Trust: []string{"outer"}}}
		var unread error
		err := reader.Walk(ctx, root, func(f facts.File) {
			f.Path, f.Archive = strings.TrimPrefix(f.Path, root), strings.TrimPrefix(f.Archive, root)
			holding.Files = append(holding.Files, f)
		}, func(_ string, err error) { unread = err })
		if err := errors.Join(err, unread); err != nil {
			return err
		}
		if _, err := c.SendHolding(ctx, holding, nil); err != nil {
			return fmt.Errorf("holding %s: %w", holding.Name, err)
		}
	}
	return sendMachines(ctx, h, c)
}

// sendMachines sends what the machines with configuration hold, as "nurvik collect" does.
func sendMachines(ctx context.Context, h *harbour.Harbour, c *client.Client) error {
	machines, err := os.ReadDir(h.Machines)
	if err != nil {
		return err
	}
	for _, machine := range machines {
		plan, err := audit.NewPlan(ctx, audit.Request{Targets: []string{filepath.Join(h.Machines, machine.Name())},
			Servers: true})
		if err != nil {
			return err
		}
		files, err := plan.Holding()
		if err != nil {
			return err
		}
		holding := api.HoldingFacts{HoldingHeader: api.HoldingHeader{Name: machine.Name() + ".tarnholm.example",
			Trust: []string{"outer"}}, Files: files}
		if _, err := c.SendHolding(ctx, holding, nil); err != nil {
			return fmt.Errorf("holding %s: %w", holding.Name, err)
		}
	}
	return nil
}

// collect gathers the judgements of the whole estate into a report.
func collect(ctx context.Context, c *client.Client, done api.Audit) (*audit.Report, error) {
	r := &audit.Report{Schema: audit.Schema, At: *done.FinishedAt, Policy: policy.Default}
	endpoints, err := c.Endpoints(ctx, client.EndpointFilter{})
	if err != nil {
		return nil, err
	}
	for _, e := range endpoints {
		x, err := c.Examination(ctx, e.ID)
		if err != nil {
			return nil, err
		}
		if x.Judgement == nil {
			r.Unexamined = append(r.Unexamined, audit.Unexamined{Target: e.Endpoint,
				Reason: "no address has a route from here"})
			continue
		}
		r.Targets = append(r.Targets, audit.Target{Judgement: *x.Judgement, Facts: x.Facts})
		r.Summary.Count(x.Judgement.Verdict)
	}
	return r, nil
}
