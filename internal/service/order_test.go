package service_test

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/core/trust"
	"nurvik/internal/service/jobs"
	"nurvik/internal/service/store"
	"nurvik/internal/vantage"
)

// pier is one of several servers that know each other's certificates only through the service.
type pier struct {
	name    string
	chain   [][]byte
	key     crypto.Signer
	address netip.AddrPort
}

// piers are: one that forgets its intermediate, one that sends it, one with a certificate that is renewed elsewhere,
// and that other one.
func piers(t *testing.T) (out []*pier, root []byte) {
	t.Helper()
	now := time.Now()
	key := func() crypto.Signer {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return k
	}
	authority := func(issuer *forge.Authority, name string) *forge.Authority {
		a, err := forge.NewAuthority(issuer, key(), forge.ECDSASHA256,
			forge.Template{Name: name, From: now.AddDate(-1, 0, 0), Until: now.AddDate(5, 0, 0)})
		require.NoError(t, err)
		return a
	}
	top := authority(nil, "Piers Root")
	issuing := authority(top, "Piers Issuing")
	leaf := func(name string, days int) (*pier, []byte) {
		p := &pier{name: name, key: key()}
		spki, err := forge.PublicInfo(p.key)
		require.NoError(t, err)
		der, err := forge.Issue(issuing, p.key, forge.Template{Name: name, Names: []string{name}, SPKI: spki,
			From: now.AddDate(0, 0, -days), Until: now.AddDate(0, 0, 60)})
		require.NoError(t, err)
		return p, der
	}
	for i, x := range []struct {
		name  string
		days  int
		whole bool
	}{{"north.tarnholm.example", 20, false}, {"south.tarnholm.example", 20, true},
		{"ferry.tarnholm.example", 90, false}, {"ferry.tarnholm.example", 5, true}} {
		p, der := leaf(x.name, x.days)
		if p.chain = [][]byte{der}; x.whole {
			p.chain = append(p.chain, issuing.DER)
		}
		listener, err := tls.Listen("tcp", fmt.Sprintf("127.50.0.%d:0", i+1), &tls.Config{
			Certificates: []tls.Certificate{{Certificate: p.chain, PrivateKey: p.key}}})
		require.NoError(t, err)
		t.Cleanup(func() { _ = listener.Close() })
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				go func() { _ = conn.(*tls.Conn).Handshake(); _ = conn.Close() }()
			}
		}()
		p.address = listener.Addr().(*net.TCPAddr).AddrPort()
		out = append(out, p)
	}
	return out, top.DER
}

// TestOrderOfVisits: every endpoint is judged as soon as its visits end, provisionally, and at the end nothing depends
// on which was visited first.
func TestOrderOfVisits(t *testing.T) {
	t.Parallel()
	server, data := other(t)
	all, root := piers(t)
	var order []int
	turn := func(n *probe.Network) {
		dial := n.Dial
		n.Dial = func(ctx context.Context, a netip.AddrPort) (net.Conn, error) {
			i := slices.IndexFunc(all, func(p *pier) bool { return p.address == a })
			before := slices.Index(order, i) // that many are judged before this one is visited
			for i >= 0 && ctx.Err() == nil &&
				count(t, data, "SELECT count(*) FROM endpoints WHERE provisional") < before {
				time.Sleep(10 * time.Millisecond)
			}
			return dial(ctx, a)
		}
	}
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	network, err := vantage.Network(vantage.NameServer{})
	require.NoError(t, err)
	turn(&network)
	q, err := jobs.Open(t.Context(), s, jobs.Options{Instance: "quay", Network: network, Log: silent,
		Now: s.Clock.Stamp, Effort: facts.Quick, Turn: 1, // every job goes on in another one after each portion
		Limits: limits.Limits{Connect: time.Minute, Handshake: time.Minute, Visit: time.Minute, HostPerSecond: 1000}})
	require.NoError(t, err)
	require.NoError(t, q.Start(context.Background(), func(error) {}))
	defer func() { _ = q.Stop(context.Background()) }()

	begin := func(endpoints ...int64) *store.Audit {
		t.Helper()
		execute(t, data, "TRUNCATE audits, endpoints, certificates, keys, places, findings CASCADE")
		list := make([]store.Endpoint, len(all))
		for i, p := range all {
			target := fmt.Sprintf("%s:%d", p.name, 443+i)
			list[i] = store.Endpoint{ID: int64(i + 1), Target: target, CreatedAt: time.Now(),
				Settings: endpoint.Settings{Endpoint: target, VisitAt: []string{p.address.String()},
					Trust: []string{"piers"}},
				Latest: store.Latest{Codes: []string{}}}
		}
		require.NoError(t, s.Tx(t.Context(), func(tx *store.Tx) error {
			if err := tx.PutTrustStores([]store.TrustStore{{Name: "piers",
				Anchors: []store.Anchor{{DER: root, Kind: trust.Private}}}}); err != nil {
				return err
			}
			_, err := tx.PutEndpoints(list, true, time.Now())
			return err
		}))
		a := &store.Audit{}
		require.NoError(t, q.Begin(t.Context(), a, store.Selection{EndpointIDs: endpoints}))
		return a
	}

	finished := func(audits int) {
		t.Helper()
		require.Eventually(t, func() bool {
			return count(t, data, "SELECT count(*) FROM audits WHERE state = 'finished'") == audits
		}, time.Minute, 20*time.Millisecond)
	}
	var first []string
	for _, order = range [][]int{{0, 1, 2, 3}, {3, 2, 1, 0}, {2, 0, 3, 1}} {
		t.Run(fmt.Sprint(order), func(t *testing.T) {
			begin()
			finished(1)
			assert.Zero(t, count(t, data, "SELECT count(*) FROM endpoints WHERE provisional"))
			assert.Equal(t, 4, count(t, data, "SELECT count(*) FROM examinations WHERE stage = 'closed'"))
			var got []string
			require.NoError(t, s.EachLatest(t.Context(), nil, func(e []store.Endpoint, x []store.Examination) error {
				for i := range e {
					got = append(got, timeless(t, *x[i].Judgement))
				}
				return nil
			}))
			require.Len(t, got, 4)
			assert.True(t, strings.Contains(got[0], `"missing_pem":["-----BEGIN`), "the intermediate of another one")
			assert.True(t, strings.Contains(got[2], "deploy.replaced-elsewhere"))
			if first == nil {
				first = got
			}
			for i := range got {
				assert.True(t, first[i] == got[i], "%s\n%s", first[i], got[i])
			}
			assert.Equal(t, count(t, data, `SELECT sum(jsonb_array_length(judgement -> 'findings')) FROM examinations`),
				count(t, data, "SELECT count(*) FROM findings WHERE state = 'new'"), "findings live on from the end")
		})
	}
	t.Run("an issuer that a later audit meets", func(t *testing.T) {
		order = nil
		a := begin(1)
		finished(1)
		missing := `SELECT count(*) FROM endpoints e JOIN examinations x ON x.audit_id = e.audit_id AND
			x.endpoint_id = e.id WHERE e.id = 1 AND x.judgement::text LIKE '%missing_pem%'`
		assert.Zero(t, count(t, data, missing))
		seen := "SELECT count(*) FROM findings WHERE endpoint_id = 1 AND state = 'standing' AND last_seen < '" +
			s.Clock.Stamp().Format(time.RFC3339Nano) + "'"
		require.NoError(t, q.Begin(t.Context(), &store.Audit{}, store.Selection{EndpointIDs: []int64{2}}))
		finished(2)
		assert.Equal(t, 1, count(t, data, missing), "it is judged again without a visit")
		assert.Equal(t, 1, count(t, data, seen), "and seen when it was seen")
		assert.Equal(t, int(a.ID), count(t, data, "SELECT audit_id FROM endpoints WHERE id = 1"))
	})
	t.Run("cancelled", func(t *testing.T) {
		order = []int{0, 1, 9, 9, 9, 2, 3} // the last two are never visited
		a := begin()
		provisional := func() bool { return count(t, data, "SELECT count(*) FROM endpoints WHERE provisional") == 2 }
		require.Eventually(t, provisional, time.Minute, 20*time.Millisecond)
		assert.Zero(t, count(t, data, "SELECT count(*) FROM findings"))
		_, err := q.Cancel(t.Context(), a.ID)
		require.NoError(t, err)
		assert.Eventually(t, func() bool {
			return !provisional() && count(t, data, "SELECT count(*) FROM findings") > 0
		}, time.Minute, 20*time.Millisecond, "what was judged until then stands")
		assert.Equal(t, 2, count(t, data, "SELECT count(*) FROM examinations WHERE stage = 'closed'"))
		assert.Equal(t, 1, count(t, data, "SELECT count(*) FROM audits WHERE state = 'cancelled'"))
	})
}

var times = regexp.MustCompile(`"at":"[^"]*"`)

// timeless is a judgement without the time as of which it was made.
func timeless(t *testing.T, j judge.Judgement) string {
	t.Helper()
	text, err := json.Marshal(j)
	require.NoError(t, err)
	return strings.ReplaceAll(times.ReplaceAllString(string(text), ""), `\n`, "\n")
}
