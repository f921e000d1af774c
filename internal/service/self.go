package service

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/endpoint"
	"nurvik/internal/service/passkey"
	"nurvik/internal/service/store"
)

// ownNotes say where the endpoint comes from.
const ownNotes = "The service itself, added when it was first started with this name. Remove it if it is not wanted: " +
	"it does not come back."

// addSelf adds the service's own endpoint to the estate where it serves HTTPS, so that its certificate is watched like
// every other. Nothing depends on it: what goes wrong is for the log.
func (c Config) addSelf(ctx context.Context, o *open, s *store.Store) {
	e, ok := c.self(o)
	if !ok {
		return
	}
	e.CreatedAt = s.Clock.Stamp()
	e.UpdatedAt = e.CreatedAt
	added, err := s.AddOwnEndpoint(ctx, &e)
	if err == nil && added {
		c.Log.Info("the service's own endpoint was added to the estate", "endpoint", e.Target)
		err = s.BeginActivity(ctx, &store.Activity{At: e.CreatedAt, Who: "nurvikd", Through: "its start",
			Operation: "add-endpoint", Object: e.Target, Status: http.StatusCreated})
	}
	if err != nil {
		c.Log.Warn("the service's own endpoint could not be added to the estate", "endpoint", e.Target, "error", err)
	}
}

// ownNames are the names of the service, first the one that browsers use.
func (c Config) ownNames(o *open) []string {
	var names []string
	if u, err := url.Parse(c.SignIn.PublicURL); err == nil {
		names = append(names, u.Hostname())
	}
	names = append(names, c.PublicHosts...)
	if o.tls != nil {
		if own, err := o.tls.GetCertificate(nil); err == nil && own.Leaf != nil {
			names = append(names, own.Leaf.DNSNames...)
		}
	}
	return slices.DeleteFunc(names, func(name string) bool { return name == "" || strings.Contains(name, "*") })
}

// passkeys checks those of people, under the first name that browsers take passkeys for; nil where there is none. On
// this machine alone that is localhost.
func (c Config) passkeys(o *open) *passkey.Keys {
	if c.SignIn.PublicURL != "" {
		keys, err := passkey.Open(c.SignIn.PublicURL)
		if err != nil {
			c.Log.Warn("people cannot have passkeys", "reason", err)
			return nil
		}
		return keys
	}
	at := o.listener.Addr().(*net.TCPAddr).AddrPort()
	scheme, port := "http", ":"+strconv.Itoa(int(at.Port()))
	if o.tls != nil {
		scheme = "https"
	}
	if scheme == "https" && at.Port() == 443 || scheme == "http" && at.Port() == 80 {
		port = "" // as browsers write it
	}
	names := c.ownNames(o)
	if at.Addr().Unmap().IsLoopback() {
		names = append(names, "localhost")
	}
	for _, name := range names {
		if keys, err := passkey.Open(scheme + "://" + name + port); err == nil {
			return keys
		}
	}
	return nil
}

// self is the service's own endpoint: under the name that browsers use, or else the first one of its certificate, and
// visited where it listens.
func (c Config) self(o *open) (store.Endpoint, bool) {
	if o.tls == nil {
		return store.Endpoint{}, false
	}
	at := o.listener.Addr().(*net.TCPAddr).AddrPort()
	names := c.ownNames(o)
	if !at.Addr().IsUnspecified() {
		names = append(names, at.Addr().Unmap().String())
	}
	visit := at.Addr().Unmap()
	if visit.IsUnspecified() {
		visit = netip.MustParseAddr("127.0.0.1")
	}
	for _, name := range names {
		settings := endpoint.Settings{Endpoint: "https://" + net.JoinHostPort(name, strconv.Itoa(int(at.Port()))),
			VisitAt: []string{netip.AddrPortFrom(visit, at.Port()).String()}, Notes: ownNotes}
		if len(settings.Settle(endpoint.Known{})) == 0 {
			return store.Endpoint{Target: settings.Endpoint, Settings: settings,
				Latest: store.Latest{Codes: []string{}}}, true
		}
	}
	return store.Endpoint{}, false
}
