// Package cli holds the commands of nurvik, the client.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"nurvik/core/plain"
	"nurvik/core/rescue"
	"nurvik/internal/audit"
	"nurvik/internal/report"
	"nurvik/internal/settings"
)

// Exit statuses; where several apply, the call ends with the first in this order.
const (
	statusUsage      = 2 // the call is wrong
	statusFindings   = 1 // findings at or above --fail-from, or the answer is no
	statusUnexamined = 3 // a thing named in the call could not be examined
)

// statusError ends the program with a status. With no error inside nothing is printed.
type statusError struct {
	status int
	err    error
}

func (e *statusError) Error() string {
	if e.err == nil {
		return fmt.Sprintf("status %d", e.status)
	}
	return e.err.Error()
}

func (e *statusError) Unwrap() error { return e.err }

func usage(err error) error { return &statusError{statusUsage, err} }

// app is what the commands share.
type app struct {
	stdin          io.Reader
	stdout, stderr io.Writer
	now            func() time.Time
	token          string
	password       string // from the environment
	ask            func(prompt string) (string, error)
	output         string
	configFile     string
	interruption   interruption
}

// Main runs the call and returns the exit status.
func Main() int {
	a := &app{stdin: os.Stdin, stdout: os.Stdout, stderr: os.Stderr, now: time.Now, ask: askPassword}
	ctx, stop := a.interruption.watch(os.Stderr, os.Exit)
	defer stop()
	return a.execute(ctx, os.Args[1:])
}

func (a *app) execute(ctx context.Context, args []string) int {
	root := a.root()
	root.SetArgs(args)
	root.SetIn(a.stdin)
	root.SetOut(a.stdout)
	root.SetErr(a.stderr)
	strict(root)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	var status *statusError
	var wrong *audit.UsageError
	switch {
	case errors.As(err, &status):
	case errors.As(err, &wrong):
		status = &statusError{statusUsage, err}
	default:
		status = &statusError{statusUnexamined, err}
	}
	if status.err != nil {
		fmt.Fprintln(a.stderr, "nurvik: "+plain.Lines(status.err.Error()))
	}
	return status.status
}

// strict makes what cobra finds wrong with arguments a wrong call, and gives
// commands that only hold others a help text and a word about unknown names.
func strict(cmd *cobra.Command) {
	if !cmd.Runnable() {
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			hint := ""
			cmd.SuggestionsMinimumDistance = 2
			if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
				hint = fmt.Sprintf("; %q may be meant", near[0])
			}
			return fmt.Errorf("there is no command %q%s; see %q", args[0], hint, cmd.CommandPath()+" --help")
		}
		cmd.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
	}
	if check := cmd.Args; check != nil {
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return usage(err)
			}
			return nil
		}
	}
	for _, sub := range cmd.Commands() {
		strict(sub)
	}
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "nurvik",
		Short: "Audit TLS certificates where they live: on the wire and in files",
		Long: `Nurvik audits TLS certificates: it visits endpoints and reads certificate files,
judges what it finds, and says for each what is wrong and what to do.

Exit status: 2 the call is wrong; 1 findings at or above --fail-from, or the
answer is no; 3 something named in the call could not be examined; 0 otherwise.

Every flag can also be set in the environment (NURVIK_FAIL_FROM for --fail-from)
or in the configuration file.`,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return a.settle(cmd) },
	}
	root.PersistentFlags().StringVar(&a.configFile, "config", settings.DefaultFile("nurvik"),
		"read the configuration from `FILE`")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return usage(fmt.Errorf("%w; see %q", err, cmd.CommandPath()+" --help"))
	})
	root.AddGroup(&cobra.Group{ID: "alone", Title: "Without a service:"},
		&cobra.Group{ID: "service", Title: "With a service:"})
	root.AddCommand(a.identifyCommand(), a.pairCommand(), a.chainCommand(), a.coverCommand(),
		a.compareCommand(), a.draftCommand(), a.packCommand(),
		a.expiryCommand(), a.whereCommand(), a.watchCommand(),
		a.auditCommand(),
		a.explainCommand(),
		a.versionCommand())
	root.AddCommand(a.estateCommand(), a.runCommand(), a.whatIfCommand(), a.findingsCommand(), a.policyCommand(),
		a.holdingCommand(), a.collectCommand(), a.waiverCommand(), a.scheduleCommand(), a.workersCommand(),
		a.loginCommand(), a.logoutCommand(), a.tokenCommand())
	return root
}

// settle fills in flags from environment and configuration file.
func (a *app) settle(cmd *cobra.Command) error {
	var known []string
	collect(cmd.Root(), func(f *pflag.Flag) { known = append(known, f.Name) })
	flag := cmd.Flags().Lookup("config")
	named := flag.Changed
	if path := os.Getenv("NURVIK_CONFIG"); path != "" && !named {
		a.configFile, named = path, true
	}
	secrets, err := settings.Apply(cmd.Flags(), known, a.configFile, named)
	if err != nil {
		return usage(err)
	}
	a.token, a.password = secrets.Token, secrets.Password
	if f := cmd.Flags().Lookup("output"); f != nil {
		if _, err := report.FormatNamed(a.output); err != nil {
			return usage(err)
		}
	}
	return nil
}

func collect(cmd *cobra.Command, each func(*pflag.Flag)) {
	cmd.Flags().VisitAll(each)
	cmd.PersistentFlags().VisitAll(each)
	for _, sub := range cmd.Commands() {
		collect(sub, each)
	}
}

func (a *app) addOutput(cmd *cobra.Command) {
	cmd.Flags().StringVarP(&a.output, "output", "o", "table",
		"write the result in this `FORM`: "+strings.Join(report.Formats(), " or "))
	_ = cmd.RegisterFlagCompletionFunc("output", cobra.FixedCompletions(report.Formats(),
		cobra.ShellCompDirectiveNoFileComp))
}

// write writes a result in the form that the call asks for.
func (a *app) write(d report.Document) error {
	format, err := report.FormatNamed(a.output)
	if err != nil {
		return usage(err)
	}
	a.interruption.writing.Store(true)
	if err = format.Write(a.stdout, d, a.style()); errors.Is(err, report.ErrNoCalendar) {
		return usage(err)
	}
	return err
}

// say makes a document of one or more lines for people.
func say(value any, lines ...string) report.Document {
	return report.Document{Value: value, Text: func(w io.Writer, _ report.Style) error {
		_, err := fmt.Fprintln(w, strings.Join(lines, "\n"))
		return err
	}}
}

// style looks at the terminal that the result goes to.
func (a *app) style() report.Style {
	file, ok := a.stdout.(*os.File)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		return report.Style{}
	}
	width, _, err := term.GetSize(int(file.Fd()))
	if err != nil {
		width = 0
	}
	return report.Style{Width: width, Colour: os.Getenv("NO_COLOR") == "", Terminal: true}
}

// report tells of a defect of Nurvik itself, which ended one examination.
func (a *app) report(d rescue.Defect) {
	fmt.Fprintf(a.stderr, "nurvik: a defect of Nurvik itself ended the examination of %s (reference %s): %s\n%s\n",
		plain.Text(d.Target), d.Reference, plain.Lines(d.Cause), plain.Lines(d.Stack))
}

// interactive reports whether progress can be shown.
func (a *app) interactive() bool {
	file, ok := a.stderr.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}
