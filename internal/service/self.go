package service

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"

	"nurvik/core/endpoint"
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

// self is the service's own endpoint: under the name that browsers use, or else the first one of its certificate, and
// visited where it listens.
func (c Config) self(o *open) (store.Endpoint, bool) {
	if o.tls == nil {
		return store.Endpoint{}, false
	}
	at := o.listener.Addr().(*net.TCPAddr).AddrPort()
	var names []string
	if u, err := url.Parse(c.SignIn.PublicURL); err == nil {
		names = append(names, u.Hostname())
	}
	names = append(names, c.PublicHosts...)
	if own, err := o.tls.GetCertificate(nil); err == nil && own.Leaf != nil {
		names = append(names, own.Leaf.DNSNames...)
	}
	if !at.Addr().IsUnspecified() {
		names = append(names, at.Addr().Unmap().String())
	}
	visit := at.Addr().Unmap()
	if visit.IsUnspecified() {
		visit = netip.MustParseAddr("127.0.0.1")
	}
	for _, name := range names {
		if name == "" || strings.Contains(name, "*") {
			continue
		}
		settings := endpoint.Settings{Endpoint: "https://" + net.JoinHostPort(name, strconv.Itoa(int(at.Port()))),
			VisitAt: []string{netip.AddrPortFrom(visit, at.Port()).String()}, Notes: ownNotes}
		if len(settings.Settle(endpoint.Known{})) == 0 {
			return store.Endpoint{Target: settings.Endpoint, Settings: settings,
				Latest: store.Latest{Codes: []string{}}}, true
		}
	}
	return store.Endpoint{}, false
}
