package daemon

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/miekg/dns"
	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"nurvik/internal/service"
	"nurvik/internal/service/store"
)

// state is how something of an installation is.
type state string

const (
	fine  state = "fine"
	look  state = "look" // it works, and somebody should look at it
	wrong state = "wrong"
)

// checked is what was found out of one thing, and what to do.
type checked struct {
	what  string
	state state
	words string
}

// Limits of what is fine.
const (
	littleSpace   = 2 << 30   // bytes free on the disk of the database
	noSpace       = 200 << 20 // with which the service reports itself unwell
	soonExpired   = 21 * 24 * time.Hour
	clockDistance = 2 * time.Second
	lookupTime    = 3 * time.Second
)

func (a *app) checkCommand() *cobra.Command {
	c := service.Config{}
	cmd := &cobra.Command{
		Use:   "check",
		Short: "Say what is wrong with this installation, and what to do",
		Long: `Looks at what the service needs: its database, disk, clock, certificate, name
server, accounts and ways out. Say it with the flags, the configuration file and
the user of the service, while it runs or not. It ends with 1 when something is wrong.`,
		Example: "  nurvikd check\n  nurvikd check --config /etc/nurvik/nurvikd.yaml",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.beside(cmd, &c); err != nil {
				return err
			}
			return a.tell(check(cmd.Context(), c))
		},
	}
	a.serviceFlags(cmd, &c)
	return cmd
}

// check looks at everything; what cannot be looked at hides nothing else.
func check(ctx context.Context, c service.Config) []checked {
	out := checkDatabase(ctx, c)
	if c.Database == "" {
		out = append(out, checkDisk(c.Data))
	}
	if c.OpenID.Issuer != "" {
		out = append(out, checkProvider(ctx, c))
	}
	return append(out, checkClock(), checkListener(c), checkCertificate(c, time.Now()), checkResolver(ctx, c),
		checkRoute("IPv4", "198.41.0.4:53"), checkRoute("IPv6", "[2001:503:ba3e::2:30]:53"))
}

func (a *app) tell(all []checked) error {
	const width = 90 // of the words below what they are about
	bad := 0
	for _, x := range all {
		if x.state == wrong {
			bad++
		}
		words := ": " + x.words
		if x.state != fine {
			words = "\n" + text.Pad("", 9, ' ') + strings.ReplaceAll(text.WrapSoft(x.words, width), "\n",
				"\n"+text.Pad("", 9, ' '))
		}
		if _, err := fmt.Fprintf(a.stdout, "%-5s  %s%s\n", x.state, x.what, words); err != nil {
			return err
		}
	}
	if bad > 0 {
		return fmt.Errorf("things that are wrong: %d", bad)
	}
	return nil
}

// checkDatabase reaches the database as the service does, which makes it where there is none.
func checkDatabase(ctx context.Context, c service.Config) []checked {
	where := "database in " + c.Data
	if c.Database != "" {
		where = "database that --database names"
	}
	var out []checked
	err := service.WithStore(ctx, c, func(s *store.Store) error {
		server, err := s.ServerVersion(ctx)
		if err != nil {
			return err
		}
		out = append(out, checked{where, fine, "PostgreSQL " + server + " answers, and its tables are of this version"})
		if distance := time.Since(s.Clock.Stamp()).Abs(); distance > clockDistance {
			out = append(out, checked{"clock of the database", look,
				fmt.Sprintf("it differs from the one here by %s; the "+
					"database's counts. Let both machines follow a time server", distance.Round(time.Second))})
		}
		people, err := s.People(ctx)
		if err != nil {
			return err
		}
		administrators := 0
		for _, p := range people {
			if p.Role == "administrator" && !p.Disabled {
				administrators++
			}
		}
		if administrators == 0 {
			out = append(out, checked{"accounts", look,
				"there is no administrator yet: say \"nurvikd admin add NAME --role " +
					"administrator\", or use the address that \"nurvikd serve\" prints"})
			return nil
		}
		out = append(out, checked{"accounts", fine, fmt.Sprintf("people: %d, of whom administrators: %d", len(people),
			administrators)})
		return nil
	})
	if err != nil {
		out = append(out, checked{where, wrong, err.Error()})
	}
	return out
}

func checkDisk(directory string) checked {
	x := checked{what: "disk of " + directory}
	var stat unix.Statfs_t
	if err := unix.Statfs(directory, &stat); err != nil {
		x.state, x.words = wrong, err.Error()
		return x
	}
	free := stat.Bavail * uint64(stat.Bsize)
	x.state, x.words = fine, fmt.Sprintf("%d MiB are free", free>>20)
	switch {
	case free < noSpace:
		x.state, x.words = wrong, x.words+": the database soon cannot write. Make room, or move it with --data"
	case free < littleSpace:
		x.state, x.words = look, x.words+", which is little for a database that grows. Make room"
	}
	return x
}

// checkClock asks the kernel whether something keeps its clock right.
func checkClock() checked {
	x := checked{"clock of this machine", fine, "it follows a time server"}
	var now unix.Timex
	if state, err := unix.Adjtimex(&now); err != nil || state == unix.TIME_ERROR {
		x.state, x.words = look,
			"nothing keeps it right, as far as the kernel knows. Expiry is judged by it: let it follow "+
				"a time server (systemd-timesyncd or chrony), unless the host of this machine does that"
	}
	return x
}

// checkListener tries whether the service could listen, or something answers there already.
func checkListener(c service.Config) checked {
	x := checked{what: "listening on " + c.Listen}
	at, err := netip.ParseAddrPort(c.Listen)
	if err != nil {
		x.state, x.words = wrong, "--listen is no address: write 127.0.0.1:8410"
		return x
	}
	if !at.Addr().IsLoopback() && c.SignIn.Certificate == "" {
		x.state, x.words = wrong,
			"other machines can reach this address, so the service needs --tls-certificate and --tls-key"
		return x
	}
	l, err := net.Listen("tcp", c.Listen)
	switch {
	case errors.Is(err, unix.EADDRINUSE):
		x.state, x.words = fine, "something listens there already; that is as it should be when it is this service"
	case errors.Is(err, unix.EACCES):
		x.state, x.words = wrong, "ports below 1024 are for root: choose a port above, such as 8443"
	case err != nil:
		x.state, x.words = wrong, err.Error()
	default:
		_ = l.Close()
		x.state, x.words = fine, "the port is free"
	}
	return x
}

// checkCertificate looks at the service's own certificate.
func checkCertificate(c service.Config, now time.Time) checked {
	x := checked{what: "own certificate", state: fine,
		words: "none: the service speaks plain HTTP on this machine only"}
	if c.SignIn.Certificate == "" && c.SignIn.Key == "" {
		return x
	}
	x.what = "own certificate " + c.SignIn.Certificate
	pair, err := tls.LoadX509KeyPair(c.SignIn.Certificate, c.SignIn.Key)
	if err != nil {
		x.state, x.words = wrong, err.Error()
		if errors.Is(err, fs.ErrPermission) {
			x.words += ": the user that the service runs as must be able to read both files"
		}
		return x
	}
	leaf := pair.Leaf
	if leaf == nil {
		if leaf, err = x509.ParseCertificate(pair.Certificate[0]); err != nil {
			x.state, x.words = wrong, err.Error()
			return x
		}
	}
	x.words = "it expires on " + leaf.NotAfter.UTC().Format(time.DateOnly)
	hosts := c.PublicHosts
	if u, err := url.Parse(c.SignIn.PublicURL); err == nil && u.Host != "" {
		hosts = append(hosts, u.Hostname())
	}
	switch {
	case now.After(leaf.NotAfter) || now.Before(leaf.NotBefore):
		x.state, x.words = wrong, x.words+": it is not valid now. Renew it"
	case leaf.NotAfter.Sub(now) < soonExpired:
		x.state, x.words = look, x.words+": renew it soon. The service reads the new files by itself"
	}
	for _, h := range hosts {
		if leaf.VerifyHostname(h) != nil {
			x.state, x.words = wrong, x.words+"; it does not cover "+h
		}
	}
	if info, err := os.Stat(c.SignIn.Key); err == nil && info.Mode().Perm()&0o004 != 0 {
		x.state, x.words = wrong, x.words+"; everybody on this machine can read its key: say chmod o= "+
			filepath.Clean(c.SignIn.Key)
	}
	return x
}

// checkProvider asks the OpenID provider for its addresses, as the first sign-in does.
func checkProvider(ctx context.Context, c service.Config) checked {
	x := checked{what: "OpenID provider " + c.OpenID.Issuer, state: fine, words: "it answers"}
	p, err := c.Provider()
	if err == nil {
		_, err = p.Find(ctx)
	}
	if err != nil {
		x.state, x.words = wrong, err.Error()+". Nobody can sign in there until it answers; --openid-issuer is its "+
			"address as the provider itself writes it, and --openid-ca trusts a CA of your own"
	}
	return x
}

// checkResolver asks each name server for the root, which every one knows; any answer will do.
func checkResolver(ctx context.Context, c service.Config) checked {
	x := checked{what: "name server", state: wrong}
	servers := []string{c.Resolver.Address}
	if c.Resolver.Address == "" {
		config, err := dns.ClientConfigFromFile("/etc/resolv.conf")
		if err != nil || len(config.Servers) == 0 {
			x.words = "/etc/resolv.conf names none; name one with --resolver"
			return x
		}
		servers = config.Servers
	}
	x.what += " " + strings.Join(servers, ", ")
	question := new(dns.Msg).SetQuestion(".", dns.TypeNS)
	for _, server := range servers {
		if _, _, err := net.SplitHostPort(server); err != nil {
			server = net.JoinHostPort(server, "53")
		}
		client := dns.Client{Timeout: lookupTime}
		if _, _, err := client.ExchangeContext(ctx, question, server); err == nil {
			x.state, x.words = fine, "it answers"
			return x
		}
	}
	x.words = "no answer. Endpoints are not found by name without one: see /etc/resolv.conf, or name another with " +
		"--resolver"
	return x
}

// checkRoute asks the routing table; nothing is sent.
func checkRoute(family, address string) checked {
	x := checked{what: "way to the internet over " + family, state: fine, words: "there is a route"}
	conn, err := net.Dial("udp", address)
	if err != nil {
		x.state, x.words = look,
			"there is no route; endpoints and issuers with addresses of this kind alone are not reached"
		return x
	}
	_ = conn.Close()
	return x
}
