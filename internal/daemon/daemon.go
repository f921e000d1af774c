// Package daemon holds the commands of nurvikd, the service.
package daemon

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nurvik/console"
	"nurvik/internal/service"
	"nurvik/internal/service/openid"
	"nurvik/internal/service/web"
	"nurvik/internal/settings"
	"nurvik/internal/version"
)

// Main runs the call and returns the exit status: 0, 1 for a failure, 2 for a wrong call.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{stdout: os.Stdout, stderr: os.Stderr}
	root := a.root()
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "nurvikd: "+err.Error())
		if a.began {
			return 1
		}
		return 2
	}
	return 0
}

// app is what the commands share.
type app struct {
	stdout, stderr io.Writer
	configFile     string
	logLevel       string
	logForm        string
	user           string   // whom the service runs as
	files          []string // that the configuration names, and itself
	began          bool     // the call was understood; what fails now is no wrong call
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "nurvikd",
		Short: "The service of Nurvik: API, console and the jobs of audits",
		Long: "The service of Nurvik.\n\nEvery flag can also be set in the environment (NURVIK_LISTEN " +
			"for --listen) or in the configuration file.",
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.settle(cmd); err != nil {
				return err
			}
			a.began = true
			return nil
		},
	}
	flags := root.PersistentFlags()
	flags.StringVar(&a.configFile, "config", settings.DefaultFile("nurvikd"), "read the configuration from `FILE`")
	flags.StringVar(&a.logLevel, "log-level", "info", "log from this `LEVEL` on: debug, info, warn or error")
	flags.StringVar(&a.logForm, "log-form", "text", "write the log in this `FORM`: text or json")
	root.AddCommand(a.serveCommand(), a.workCommand(), a.adminCommand(), a.checkCommand(), a.backupCommand(),
		a.restoreCommand(),
		a.demoCommand(), a.openAPICommand(), a.versionCommand())
	return root
}

func (a *app) settle(cmd *cobra.Command) error {
	var known []string
	for _, c := range append(cmd.Root().Commands(), cmd.Root()) {
		c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
		c.PersistentFlags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
	}
	named := cmd.Flags().Changed("config")
	if path := os.Getenv("NURVIK_CONFIG"); path != "" && !named {
		a.configFile, named = path, true
	}
	_, err := settings.Apply(cmd.Flags(), known, a.configFile, named)
	if path, absErr := filepath.Abs(a.configFile); err == nil && absErr == nil && named {
		a.files = append(a.files, path)
	}
	return err
}

// log makes the structured log on standard error.
func (a *app) log() (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(a.logLevel)); err != nil {
		return nil, fmt.Errorf("--log-level is debug, info, warn or error, not %q", a.logLevel)
	}
	options := &slog.HandlerOptions{Level: level}
	switch a.logForm {
	case "text":
		return slog.New(slog.NewTextHandler(a.stderr, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(a.stderr, options)), nil
	}
	return nil, fmt.Errorf("--log-form is text or json, not %q", a.logForm)
}

// serviceFlags are the flags that decide how the service runs.
func (a *app) serviceFlags(cmd *cobra.Command, c *service.Config) {
	flags := cmd.Flags()
	flags.StringVar(&c.Listen, "listen", "127.0.0.1:8410", "listen on this `ADDRESS:PORT`; beyond this machine only with a certificate")
	flags.StringVar(&c.SignIn.Certificate, "tls-certificate", "",
		"serve HTTPS with the certificate chain in this `FILE`, which is read anew when it changes")
	flags.StringVar(&c.SignIn.Key, "tls-key", "", "the private key of --tls-certificate is in this `FILE`")
	flags.StringVar(&c.SignIn.PublicURL, "public-url", "",
		"browsers reach the service at this `URL`, through a proxy")
	flags.StringArrayVar(&c.SignIn.Proxies, "trusted-proxy", nil,
		"believe X-Forwarded-For of this address or `NETWORK`; repeat for more")
	openIDFlags(flags, &c.OpenID)
	flags.StringVar(&c.Data, "data", "", "keep the private database in this `DIRECTORY` (default "+dataDirectory()+")")
	flags.StringVar(&c.Database, "database", "", "use the PostgreSQL database at this `URL` instead of a private one")
	flags.StringVar(&c.PostgresBin, "postgres-bin", "",
		"find PostgreSQL's programs in this `DIRECTORY` (default Debian's newest)")
	flags.StringArrayVar(&c.PublicHosts, "public-host", nil,
		"accept requests for this host `NAME` too; repeat for more")
	flags.IntVar(&c.KeepDays, "keep-days", 400,
		"remove what the estate no longer shows after `N` days: audits, findings that are gone, certificates that were "+
			"replaced; 0 keeps all for ever")
	flags.StringArrayVar(&c.Searchable, "search-network", nil,
		"let people search this `NETWORK` for endpoints that the estate lacks, such as 10.20.0.0/24, or on other ports "+
			"than the usual ones with 10.20.0.0/24=443,9443; off by default; repeat for more")
	a.workFlags(cmd, c)
	flags.BoolVar(&c.UnsafeDisk, "unsafe-disk", false, "do not wait for the disk; for tests only")
	_ = flags.MarkHidden("unsafe-disk")
}

// openIDFlags are the flags for signing in at an OpenID provider.
func openIDFlags(flags *pflag.FlagSet, s *openid.Settings) {
	flags.StringVar(&s.Issuer, "openid-issuer", "",
		"let people sign in at the OpenID provider at this `URL` too; needs --public-url")
	flags.StringVar(&s.Client, "openid-client", "", "the provider knows this service by the client `ID`")
	flags.StringVar(&s.SecretFile, "openid-secret-file", "", "the client's secret is in this `FILE`")
	flags.StringVar(&s.Title, "openid-title", "", "call the provider `NAME` on the sign-in page (default its host name)")
	flags.StringVar(&s.NameClaim, "openid-name-claim", "preferred_username",
		"accounts are called by this `CLAIM` of the ID token, or else by the verified email address")
	flags.StringVar(&s.RoleClaim, "openid-role-claim", "groups", "roles come from this `CLAIM` of the ID token")
	flags.StringArrayVar(&s.Roles, "openid-role", nil,
		"give who has the value in that claim the role: `ROLE=VALUE`, such as auditor=tls-team, or viewer=* for everybody; "+
			"repeat for more")
	flags.StringArrayVar(&s.Scopes, "openid-scope", nil,
		"ask the provider for this `SCOPE` too, beside openid, profile and email; repeat for more")
	flags.StringVar(&s.Authority, "openid-ca", "",
		"trust the CA certificates in this `FILE` for the provider, instead of the system's")
}

// workFlags are the flags that decide how visits are made.
func (a *app) workFlags(cmd *cobra.Command, c *service.Config) {
	flags := cmd.Flags()
	flags.StringVar(&a.user, "user", "",
		"started as root, run everything as the user `NAME` (default "+usualUser+", where that user exists)")
	flags.StringVar(&c.Instance, "instance", "",
		"call this process `NAME` among those on one database (default the host's name)")
	flags.StringVar(&c.Vantage, "vantage", "",
		"also visit the endpoints that name this vantage, `NAME`; \"nurvikd work\" then does nothing else")
	flags.StringVar(&c.Resolver.Address, "resolver", "",
		"ask the DNS server at `ADDRESS[:PORT]` instead of the system's, for CAA and TLSA records too")
	flags.BoolVar(&c.Resolver.Validates, "resolver-validates", false,
		"trust the DNS server to validate DNSSEC, so that TLSA records count")
	flags.BoolVar(&c.Silent, "no-revocation", false, "do not ask issuers about revocation")
	flags.BoolVar(&c.Issuers, "fetch", false, "fetch missing intermediates from the URLs in the certificates")
	flags.StringArrayVar(&c.Networks, "allow-network", nil,
		"also ask issuers in this `NETWORK` on ports 80 and 443, such as 10.0.0.0/8, or on others with "+
			"10.0.0.0/8=80,8080; public addresses are always allowed; repeat for more")
	flags.StringArrayVar(&c.Visitable, "allow-visit", nil,
		"also visit endpoints in this `NETWORK`, such as 127.0.0.0/8, or on some ports with 127.0.0.1/32=636,993; "+
			"public and private addresses are always allowed, and this machine and its link are not; repeat for more")
	flags.StringVar(&c.Effort, "effort", "",
		"set how much each visit asks, `EFFORT`: quick, normal or full (default normal, and quick for mysql: MySQL "+
			"locks out a host after 100 connections that end before the login, and normal makes about 25)")
	flags.IntVar(&c.Visits, "visits", 50, "visit at most `N` endpoints at once")
	settings.AddLimits(flags, &c.Limits)
}

// dataDirectory is where the service keeps its data unless told otherwise: for
// root under /var/lib, for others under their state directory (XDG).
func dataDirectory() string {
	if os.Geteuid() == 0 {
		return "/var/lib/nurvik"
	}
	if state := os.Getenv("XDG_STATE_HOME"); state != "" {
		return filepath.Join(state, "nurvik")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	return filepath.Join(home, ".local", "state", "nurvik")
}

// settleData finds the data directory, and makes this process that of the user who runs the service.
func (a *app) settleData(c *service.Config) (err error) {
	if c.Data == "" {
		c.Data = dataDirectory()
	}
	if c.Data, err = filepath.Abs(c.Data); err != nil {
		return err
	}
	directory := c.Data
	if c.Database != "" {
		directory = ""
	}
	return a.become(a.user, directory)
}

func (a *app) serveCommand() *cobra.Command {
	c := service.Config{Console: console.Files()}
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Serve the API and the console, and run audits",
		Example: `  nurvikd serve
  nurvikd serve --listen 127.0.0.1:9000 --data /srv/nurvik
  nurvikd serve --listen 0.0.0.0:8443 --tls-certificate chain.pem --tls-key key.pem
  nurvikd serve --database postgres://nurvik@db.tarnholm.example/nurvik`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if c.Log, err = a.log(); err != nil {
				return err
			}
			if err := a.settleData(&c); err != nil {
				return err
			}
			return service.Run(cmd.Context(), c, func(address, setUp string) {
				fmt.Fprintf(a.stdout, "Console and API: %s/\n", address)
				if setUp != "" {
					fmt.Fprintf(a.stdout,
						"There is no administrator yet. Make the first one within a day, at "+
							"this address, which works once:\n  %s\n", setUp)
				}
			})
		},
	}
	a.serviceFlags(cmd, &c)
	return cmd
}

func (a *app) workCommand() *cobra.Command {
	var c service.Config
	cmd := &cobra.Command{
		Use:   "work",
		Short: "Visit and judge for a service that runs elsewhere",
		Long: `Takes jobs from the PostgreSQL database of a service, on this machine, beside that service
and any number of others. A host is visited by one of them at a time. It serves nobody, and
needs nothing but the database. At a stop it lets visits that are under way end for half a
minute; what has not ended then, the others do.

With --vantage it makes the visits of the endpoints that name this vantage in their
settings, and nothing else: their names are looked up on this machine, and the service
compares what each vantage sees. Several workers may share one vantage.

Where the database must not be reached from, --through names the service itself: the
worker then needs nothing but its API and a token of the role worker, which says for
which vantage it visits ("nurvik token add outside --role worker --vantage outside").`,
		Example: `  nurvikd work --database postgres://nurvik@db.tarnholm.example/nurvik
  nurvikd work --database postgres://nurvik@db.tarnholm.example/nurvik --instance pier --visits 100
  nurvikd work --database postgres://nurvik@db.tarnholm.example/nurvik --vantage outside
  nurvikd work --through https://nurvik.tarnholm.example --token-file /etc/nurvik/token`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if c.Log, err = a.log(); err != nil {
				return err
			}
			if err := a.become(a.user, ""); err != nil {
				return err
			}
			return service.Work(cmd.Context(), c, func() {
				fmt.Fprintln(a.stdout, "Working. \"nurvik workers\" lists all that do.")
			})
		},
	}
	cmd.Flags().StringVar(&c.Database, "database", "", "the service uses the PostgreSQL database at this `URL`")
	cmd.Flags().StringVar(&c.Through, "through", "",
		"work through the API of the service at this `URL` instead of on its database, for one vantage")
	cmd.Flags().StringVar(&c.TokenFile, "token-file", "", "the token for --through is in the first line of `FILE`")
	a.workFlags(cmd, &c)
	return cmd
}

func (a *app) openAPICommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Write the OpenAPI document of the API", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			document, err := web.Document()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.stdout, string(document))
			return err
		},
	}
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Say which version this is", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprintf(a.stdout, "nurvikd %s (%s)\n", version.Number, version.Go())
			return err
		},
	}
}
