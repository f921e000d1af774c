package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"nurvik/internal/service/auth"
	"nurvik/internal/service/openid"
	"nurvik/internal/service/store"
	"nurvik/internal/service/web"
)

// Account is somebody who is to have an account when the service starts; who has one keeps it as it is.
type Account struct {
	Name, Password string
	Role           auth.Role
}

// SignIn says how callers become known.
type SignIn struct {
	Accounts    []Account
	LetIn       string   // the name of one of Accounts, for which callers on this machine are taken; "" for nobody
	PublicURL   string   // under which browsers reach the service, through a proxy
	Proxies     []string // networks whose word about the caller's address counts
	Certificate string   // path of the service's own certificate chain; "" for plain HTTP
	Key         string   // and of its key
}

// Provider is the OpenID provider that people sign in at, nil for none. Nothing is asked of it yet.
func (c Config) Provider() (*openid.Provider, error) {
	if base := strings.TrimSuffix(c.SignIn.PublicURL, "/"); base != "" {
		c.OpenID.Back = base + web.OpenIDPath
	}
	return openid.Open(c.OpenID)
}

// setUpTime is how long the address for the first administrator is good.
const setUpTime = 24 * time.Hour

// open is where the service listens and who may come in.
type open struct {
	listener net.Listener
	address  string      // as a URL
	tls      *tls.Config // nil for plain HTTP
	hosts    []string
	secure   bool
	proxies  []netip.Prefix
}

// openListener opens the port before anything else is begun, so that a taken one costs nothing.
func openListener(c Config) (*open, error) {
	at, err := netip.ParseAddrPort(c.Listen)
	if err != nil {
		return nil, fmt.Errorf("%q is no address to listen on: write 127.0.0.1:8410, [::1]:8410 or 0.0.0.0:8410",
			c.Listen)
	}
	o := &open{hosts: append([]string{"localhost", "127.0.0.1", "::1"}, c.PublicHosts...)}
	in := c.SignIn
	switch {
	case (in.Certificate == "") != (in.Key == ""):
		return nil, errors.New("--tls-certificate and --tls-key go together: give both")
	case !at.Addr().IsLoopback() && in.Certificate == "":
		return nil, fmt.Errorf("%s can be reached from other machines, so the service needs a certificate there: give "+
			"--tls-certificate and --tls-key, or listen on 127.0.0.1 behind a proxy that has one", at.Addr())
	case !at.Addr().IsLoopback() && in.LetIn != "":
		return nil, fmt.Errorf("%s can be reached from other machines, and callers are let in without signing in: "+
			"listen on 127.0.0.1", at.Addr())
	}
	if in.PublicURL != "" {
		u, err := url.Parse(in.PublicURL)
		if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || strings.Trim(u.Path, "/") != "" {
			return nil, fmt.Errorf("--public-url: %q is no address of a service: write https://NAME", in.PublicURL)
		}
		o.hosts, o.secure = append(o.hosts, strings.ToLower(u.Hostname())), u.Scheme == "https"
	}
	for _, text := range in.Proxies {
		p, err := netip.ParsePrefix(text)
		if a, errAddress := netip.ParseAddr(text); errAddress == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("--trusted-proxy: %q is no network: write 192.0.2.7 or 192.0.2.0/24", text)
		}
		o.proxies = append(o.proxies, p)
	}
	if o.listener, err = net.Listen("tcp", c.Listen); err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w; stop what uses the port, or choose another with --listen",
			c.Listen, errors.Unwrap(err))
	}
	o.hosts = append(o.hosts, host(o.listener))
	o.address = "http://" + o.listener.Addr().String()
	if in.Certificate != "" {
		own, err := openCertificate(in.Certificate, in.Key, c.Log)
		if err != nil {
			_ = o.listener.Close()
			return nil, err
		}
		o.secure, o.address = true, "https://"+o.listener.Addr().String()
		o.tls = own.settings()
		if names := c.ownNames(o); at.Addr().IsUnspecified() && len(names) > 0 { // nobody can open [::]
			o.address = "https://" + net.JoinHostPort(names[0], strconv.Itoa(o.listener.Addr().(*net.TCPAddr).Port))
		}
	}
	return o, nil
}

// openDoor makes the accounts that are to be there and, where nobody has one, the set-up address.
func openDoor(ctx context.Context, c Config, o *open, s *store.Store) (door *auth.Door, setUp string, err error) {
	door = &auth.Door{Store: s, Now: s.Clock.Stamp, Proxies: o.proxies, Secure: o.secure}
	for _, a := range c.SignIn.Accounts {
		if _, err := s.PersonNamed(ctx, a.Name); err == nil {
			continue
		} else if !errors.Is(err, store.ErrNotFound) {
			return nil, "", err
		}
		hash, err := auth.Hash(ctx, a.Password)
		if err != nil {
			return nil, "", err
		}
		p := store.Person{Name: a.Name, Role: string(a.Role), Password: hash, CreatedAt: s.Clock.Stamp()}
		if err := s.AddPerson(ctx, &p); err != nil && !errors.Is(err, store.ErrNameTaken) {
			return nil, "", err
		}
	}
	if name := c.SignIn.LetIn; name != "" {
		p, err := s.PersonNamed(ctx, name)
		if err != nil {
			return nil, "", err
		}
		door.LetIn = &auth.Identity{Person: p.ID, Name: p.Name, Role: auth.Role(p.Role), Through: "demo"}
	}
	code, digest := auth.NewSecret()
	needed, err := s.OfferSetUp(ctx, digest, s.Clock.Stamp().Add(setUpTime))
	if err != nil || !needed {
		return door, "", err
	}
	base := strings.TrimSuffix(c.SignIn.PublicURL, "/")
	if base == "" {
		base = o.address
	}
	return door, base + "/set-up#" + code, nil // what is behind # is sent to nobody, and in no log
}
