package service_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/internal/api"
	"nurvik/internal/client"
)

func problemOf(t *testing.T, err error) *client.Problem {
	t.Helper()
	var p *client.Problem
	require.True(t, errors.As(err, &p), "%v", err)
	return p
}

func TestEndpoints(t *testing.T) {
	importHarbour(t)
	c, ctx := shared.client, t.Context()
	added, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "Jetty.Tarnholm.example",
		Names: []string{"fähre.tarnholm.example"}, Trust: []string{"inner"}, Labels: map[string]string{"quay": "west"}})
	require.NoError(t, err)
	assert.Equal(t, "jetty.tarnholm.example:443", added.Endpoint)
	assert.Equal(t, []string{"xn--fhre-loa.tarnholm.example"}, added.Names)
	assert.Empty(t, added.Verdict)

	_, err = c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "jetty.tarnholm.example:443"})
	assert.Equal(t, 409, problemOf(t, err).Status)

	changed, err := c.ChangeEndpoint(ctx, added.ID, api.EndpointSettings{Endpoint: "jetty.tarnholm.example",
		Audiences: []string{"outer"}})
	require.NoError(t, err)
	assert.Empty(t, changed.Trust)
	assert.Equal(t, []string{"outer"}, changed.Audiences)

	x, err := c.Examination(ctx, added.ID)
	require.NoError(t, err)
	assert.Nil(t, x.Judgement, "it was never judged")
	assert.Empty(t, x.Findings)

	require.NoError(t, c.RemoveEndpoint(ctx, added.ID))
	for name, err := range map[string]error{
		"remove": c.RemoveEndpoint(ctx, added.ID),
		"get":    second(c.Examination(ctx, added.ID)),
		"change": second(c.ChangeEndpoint(ctx, added.ID, api.EndpointSettings{Endpoint: "jetty.tarnholm.example"})),
	} {
		assert.True(t, client.IsNotFound(err), name)
	}
}

func second[T any](_ T, err error) error { return err }

func TestBadSettingsAreToldWithTheirPlace(t *testing.T) {
	tests := []struct {
		name     string
		settings api.EndpointSettings
		location string
		message  string
	}{
		{"endpoint", api.EndpointSettings{Endpoint: "a b"}, "body.endpoint", "is no endpoint"},
		{"name", api.EndpointSettings{Endpoint: "a.example", Names: []string{"ok.example", "*.example"}},
			"body.names[1]", "neither a host name"},
		{"visit-at", api.EndpointSettings{Endpoint: "a.example", VisitAt: []string{"a.example"}}, "body.visit_at[0]",
			"ADDRESS:PORT"},
		{"policy", api.EndpointSettings{Endpoint: "a.example", Policy: "moon"}, "body.policy", "open-web"},
		{"server name", api.EndpointSettings{Endpoint: "a.example", ServerName: "192.0.2.1"}, "body.server_name",
			"never an address"},
		{"trust", api.EndpointSettings{Endpoint: "a.example", Trust: []string{"sky"}}, "body.trust[0]",
			`no trust store "sky"`},
		{"audience", api.EndpointSettings{Endpoint: "a.example", Audiences: []string{"sky"}}, "body.audiences[0]",
			`no trust store "sky"`},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := shared.client.AddEndpoint(t.Context(), tt.settings)
			p := problemOf(t, err)
			assert.Equal(t, 422, p.Status)
			require.Len(t, p.Errors, 1)
			assert.Equal(t, tt.location, p.Errors[0].Location)
			assert.Contains(t, p.Errors[0].Message, tt.message)
		})
	}
}

func TestImportIsAllOrNothing(t *testing.T) {
	importHarbour(t)
	assert.Equal(t, api.Imported{Unchanged: 149}, importHarbour(t), "a second time changes nothing")
	before, err := shared.client.Export(t.Context())
	require.NoError(t, err)

	bad := before
	bad.Endpoints = append(append([]api.EndpointSettings{}, before.Endpoints...),
		api.EndpointSettings{Endpoint: "new.tarnholm.example"}, api.EndpointSettings{Endpoint: "bad name"})
	_, err = shared.client.Import(t.Context(), api.EstateImport{Estate: bad})
	assert.Equal(t, "line 157: endpoint.endpoint", problemOf(t, err).Errors[0].Location)
	after, err := shared.client.Export(t.Context())
	require.NoError(t, err)
	assert.Equal(t, before, after)

	_, err = shared.client.Import(t.Context(), api.EstateImport{Estate: api.Estate{Stores: []api.TrustStore{{Name: "x",
		Anchors: []api.Anchor{{DER: []byte("no"), Kind: "public"}}}}, Endpoints: []api.EndpointSettings{}}})
	assert.Equal(t, "line 1: store.anchors[0].der", problemOf(t, err).Errors[0].Location)
}

func TestListsArePagedSortedAndFiltered(t *testing.T) {
	importHarbour(t)
	auditOf(t, api.AuditStart{})
	all, err := shared.client.Endpoints(t.Context(), client.EndpointFilter{})
	require.NoError(t, err)
	require.Len(t, all, 149)
	for _, sort := range []string{"target", "verdict", "not_after", "issuer"} {
		for _, direction := range []string{"false", "true"} {
			t.Run(sort+" "+direction, func(t *testing.T) {
				seen := map[string]bool{}
				var order []string
				cursor := ""
				for pages := 0; ; pages++ {
					require.Less(t, pages, 30)
					var page api.EndpointPage
					get(t, "/endpoints?limit=7&sort="+sort+"&desc="+direction+"&cursor="+cursor, &page)
					for _, e := range page.Items {
						assert.False(t, seen[e.Endpoint], "%s is on two pages", e.Endpoint)
						seen[e.Endpoint] = true
						order = append(order, e.Verdict)
					}
					assert.Equal(t, 51, page.Verdicts["faulty"], "the counts are of the whole estate")
					if cursor = page.Next; cursor == "" {
						break
					}
				}
				assert.Len(t, seen, 149, "every endpoint is on a page")
				if sort == "verdict" && direction == "false" {
					assert.Equal(t, "faulty", order[0], "the worst first")
					assert.Equal(t, "sound", order[len(order)-1])
				}
			})
		}
	}
	faulty, err := shared.client.Endpoints(t.Context(), client.EndpointFilter{Verdict: "faulty", Search: "wildcard"})
	require.NoError(t, err)
	require.Len(t, faulty, 1, "labels are searched too")
	assert.Equal(t, "tarnholm.example:443", faulty[0].Endpoint)
	none, err := shared.client.Endpoints(t.Context(), client.EndpointFilter{Search: "%"})
	require.NoError(t, err)
	assert.Empty(t, none, "a percent sign is itself")

	var page api.FindingPage
	get(t, "/findings?limit=10", &page)
	assert.Len(t, page.Items, 10)
	assert.Equal(t, judge.Fault, page.Items[0].Severity)
	findings, err := shared.client.Findings(t.Context(), client.FindingFilter{Code: "proto.obsolete"})
	require.NoError(t, err)
	assert.Len(t, findings, 9)
	assert.NotEmpty(t, findings[0].Why)
}

func TestLifeOfAFinding(t *testing.T) {
	importHarbour(t)
	c, ctx := shared.client, t.Context()
	e, err := c.FindEndpoint(ctx, "gate.tarnholm.example:443")
	require.NoError(t, err)
	latest := func(state string) []api.Finding {
		list, err := c.Findings(ctx, client.FindingFilter{EndpointID: e.ID, State: state, Code: "trust.unknown-anchor"})
		require.NoError(t, err)
		return list
	}
	audit := func(stores ...string) api.Audit {
		settings := e.EndpointSettings
		settings.Trust = stores
		_, err := c.ChangeEndpoint(ctx, e.ID, settings)
		require.NoError(t, err)
		return auditOf(t, api.AuditStart{EndpointIDs: []int64{e.ID}})
	}
	audit("outer")
	require.Len(t, latest(""), 1)
	first := latest("")[0]

	audit("outer")
	standing := latest("standing")
	require.Len(t, standing, 1)
	assert.Equal(t, first.ID, standing[0].ID)
	assert.Equal(t, first.FirstSeen, standing[0].FirstSeen)
	assert.True(t, standing[0].LastSeen.After(first.LastSeen))

	done := audit("inner")
	assert.Equal(t, 1, done.Verdicts.Sound, "those who trust the inner issuer accept it")
	assert.Empty(t, latest(""))
	require.Len(t, latest("gone"), 1)
	assert.NotNil(t, latest("gone")[0].GoneAt)

	audit("outer")
	back := latest("back")
	require.Len(t, back, 1)
	assert.Equal(t, first.FirstSeen, back[0].FirstSeen)
}

func TestAudits(t *testing.T) {
	importHarbour(t)
	c, ctx := shared.client, t.Context()
	var states []string
	a, err := c.StartAudit(ctx, api.AuditStart{})
	require.NoError(t, err)
	done, err := c.Follow(ctx, a.ID, func(now api.Audit) { states = append(states, now.State) })
	require.NoError(t, err)
	assert.Equal(t, "finished", done.State)
	assert.Equal(t, "finished", states[len(states)-1])
	assert.Equal(t, api.Verdicts{Sound: 66, AtRisk: 27, Faulty: 51, Unreachable: 5}, done.Verdicts)
	assert.Equal(t, done.Visits, done.Done)

	_, err = c.CancelAudit(ctx, a.ID)
	assert.Equal(t, 409, problemOf(t, err).Status)
	assert.ErrorContains(t, err, "finished")
	for name, err := range map[string]error{
		"get":    second(c.Audit(ctx, 1e9)),
		"cancel": second(c.CancelAudit(ctx, 1e9)),
		"follow": second(c.Follow(ctx, 1e9, nil)),
	} {
		assert.True(t, client.IsNotFound(err), name)
	}
	_, err = c.StartAudit(ctx, api.AuditStart{EndpointIDs: []int64{1e9}})
	assert.ErrorContains(t, err, "no endpoint to audit")
}

// TestBusyHosts audits many endpoints of one address: their visits wait for each other, and all are made.
func TestBusyHosts(t *testing.T) {
	importHarbour(t)
	tides, err := shared.client.FindEndpoint(t.Context(), "tides.tarnholm.example:443")
	require.NoError(t, err)
	var start api.AuditStart
	for i := range 6 {
		e, err := shared.client.AddEndpoint(t.Context(),
			api.EndpointSettings{Endpoint: fmt.Sprintf("tides-%d.tarnholm.example", i),
				Names: []string{"tides.tarnholm.example"}, VisitAt: tides.VisitAt, Trust: []string{"outer"}})
		require.NoError(t, err)
		start.EndpointIDs = append(start.EndpointIDs, e.ID)
	}
	done := auditOf(t, start)
	assert.Equal(t, api.Verdicts{Sound: 6}, done.Verdicts)
}

func TestCancel(t *testing.T) {
	importHarbour(t)
	c, ctx := shared.client, t.Context()
	silent, err := net.Listen("tcp", "127.0.0.1:0") // accepts in the kernel, and nobody answers
	require.NoError(t, err)
	defer silent.Close()
	e, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "silent.tarnholm.example",
		VisitAt: []string{silent.Addr().String()}})
	require.NoError(t, err)
	defer func() { assert.NoError(t, c.RemoveEndpoint(ctx, e.ID)) }()
	a, err := c.StartAudit(ctx, api.AuditStart{EndpointIDs: []int64{e.ID}})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := c.Audit(ctx, a.ID)
		return err == nil && now.State == "visiting"
	}, 5*time.Second, 10*time.Millisecond)
	met, err := silent.Accept()
	require.NoError(t, err)
	defer met.Close()
	cancelled, err := c.CancelAudit(ctx, a.ID)
	require.NoError(t, err)
	assert.Equal(t, "cancelled", cancelled.State)
	_, _ = io.Copy(io.Discard, met) // until the visit has ended
	after, err := c.Audit(ctx, a.ID)
	require.NoError(t, err)
	assert.Equal(t, "cancelled", after.State, "a visit that was under way does not revive it")
	x, err := c.Examination(ctx, e.ID)
	require.NoError(t, err)
	assert.Empty(t, x.Endpoint.Verdict, "the verdict is as before")
	assert.Nil(t, x.Endpoint.AuditID)
}

// TestHostileEndpoint serves names that no database column and no terminal
// should meet raw. The audit must end, and the rest of the estate be judged.
func TestHostileEndpoint(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(nil, key, forge.Template{Name: "a\x00b\x1b[2J",
		Names: []string{"\x00.example", strings.Repeat("long.", 2000)}, SPKI: spki, From: time.Unix(1.7e9, 0),
		Until: time.Unix(1.9e9, 0)})
	require.NoError(t, err)
	listener, err := tls.Listen("tcp", "127.0.0.1:0",
		&tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der, []byte("nonsense"), der},
			PrivateKey: key}}})
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { _ = conn.(*tls.Conn).Handshake(); _ = conn.Close() }()
		}
	}()
	importHarbour(t)
	e, err := shared.client.AddEndpoint(t.Context(), api.EndpointSettings{Endpoint: "hostile.tarnholm.example",
		VisitAt: []string{listener.Addr().String()}})
	require.NoError(t, err)
	defer func() { assert.NoError(t, shared.client.RemoveEndpoint(t.Context(), e.ID)) }()
	done := auditOf(t, api.AuditStart{})
	require.Equal(t, "finished", done.State, done.Failure)
	assert.Equal(t, 52, done.Verdicts.Faulty, "itself, and the others as ever")
	x, err := shared.client.Examination(t.Context(), e.ID)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(x.Endpoint.Codes, " "), "trust.self-signed")
	assert.Contains(t, strings.Join(x.Endpoint.Codes, " "), "reach.bad-message")
}
