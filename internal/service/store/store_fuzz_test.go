package store_test

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nurvik/core/assess"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/plain"
	"nurvik/core/policy"
	"nurvik/internal/api"
	"nurvik/internal/service/postgres"
	"nurvik/internal/service/store"
)

// database is the one of this package's tests.
func database(t testing.TB) *store.Store {
	t.Helper()
	directory, err := os.MkdirTemp("/tmp", "nurvik-store-") // short, for the socket in it
	require.NoError(t, err)
	require.NoError(t, os.Chmod(directory, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(directory) })
	server, err := postgres.Start(t.Context(), postgres.Options{Directory: filepath.Join(directory, "data"),
		Unsafe: true,
		Log:    slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Stop(context.Background())) })
	s, err := store.Open(t.Context(), server.URL(), server.Dial)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.SeedPolicies(t.Context(), policy.Names(), s.Clock.Stamp()))
	return s
}

// FuzzFacts: whatever facts hold, they can be stored, judged, and their
// judgement stored and read. What is fuzzed is the JSON of facts, since nearly
// everything that a hostile machine chooses is a value in it.
func FuzzFacts(f *testing.F) {
	for _, seed := range []string{
		`{"observations":[{"address":"192.0.2.7:443","outcome":"answered","settings":{"alpn":"h2\u0000\u001b]0;x\u0007"},"versions":[{"name":"TLS 1.2","answer":"accepted"}]}]}`,
		`{"observations":[{"address":"[fe80::1%25\u0000]:443","server_name":"\u202e","outcome":"\u0000","detail":{"code":"x","args":["\ud800"]}}]}`,
		`{"path":"/etc/\u0000","items":[{"kind":"certificate","der":"MAA=","line":-5,"offset":99999999999,"alias":"\u0000"}],"defects":[{"kind":"damaged","line":4294967296,"reason":{"code":"\u0007"}}]}`,
		`{"path":"` + strings.Repeat("ä", 3000) + `","access":{"mode":4294967295,"owner":"\u0000","inode":18446744073709551615,"links":["\u001b[2J"]},"items":[{"kind":"private-key","key":{"spki":"MAA=","problems":[{"code":"\u0000"}]}}]}`,
		`{"dns":{"server":"\u0000","caa":[{"tag":"\u0000","value":"\u001b"}],"tlsa":[{"data":"AA=="}],"validated":true},"revocation":[{"certificate":"` + strings.Repeat("00", 32) + `","status":"revoked","at":"0000-01-01T00:00:00Z","revoked_at":"9999-12-31T23:59:59Z"}]}`,
		`{"path":"/etc/x","configuration":{"server":"nginx","path":"\u0000","sites":[{"listens":[{"port":443,"scheme":"https"}],"names":[{"value":"tides.tarnholm.example"}],"identities":[{"certificate":{"value":"/etc/x","file":"\u001b","line":-7}}],"versions":["TLS 1.2","\u0000"],"suites":{"value":"ALL:@SECLEVEL=99999999999"},"groups":{"value":"?"}}],"named":[{"path":"\u0000","role":"key","inode":18446744073709551615}],"troubles":[{"kind":"broken","reason":{"code":"\u0007"}}]}}`,
		`{"path":"/x","configuration":{"server":"\u0000","library":{"name":"Java","version":"-1","disabled":"\u0000"},"sites":[{"identities":[{}],"off":true},{"listens":[{"address":"::%\u0000","port":1}]}]},"observations":[{"address":"192.0.2.7:443","outcome":"answered","certificates":["MAA="]}]}`,
		`{"observations":[{"at":"0000-01-01T00:00:00Z","outcome":"examination-failed"},{"at":"9999-12-31T23:59:59Z","outcome":"refused"}],"fetched":[{"place":"\u0000","certificates":["MAA="]}]}`,
	} {
		f.Add([]byte(seed))
	}
	s := database(f)
	e := store.Endpoint{Target: "tides.tarnholm.example:443", CreatedAt: s.Clock.Stamp(), UpdatedAt: s.Clock.Stamp(),
		Latest: store.Latest{Codes: []string{}}}
	require.NoError(f, s.AddEndpoint(f.Context(), &e))
	f.Fuzz(func(t *testing.T, data []byte) {
		var observed facts.Endpoint
		var file facts.File
		if json.Unmarshal(data, &observed) != nil || json.Unmarshal(data, &file) != nil {
			return
		}
		observed.Schema, observed.Endpoint, file.Schema = facts.Schema, e.Target, facts.Schema
		plain.Clean(&observed)
		plain.Clean(&file)
		engine := assess.New(assess.Options{At: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)})
		engine.LearnFacts([]facts.Endpoint{observed}, []facts.File{file})
		expected := assess.Expectation{Policy: policy.Open()}
		judgement := engine.Ready().Endpoint(observed, expected)
		ofFiles, together := engine.Files([]facts.File{file}, expected)
		var told []facts.Configuration
		if file.Configuration != nil { // which a machine sends as it likes
			told = append(told, *file.Configuration)
			ofFiles = append(ofFiles, engine.Configurations(told, []facts.File{file}, ofFiles, together, expected)...)
			m := judge.Machine{Name: "quay", Configurations: told, Files: []facts.File{file}, Together: together,
				Places: judge.PlacesOf("quay", told, []facts.Endpoint{observed})}
			judgements := []judge.Judgement{judgement}
			judgement.Deployments = engine.Reconcile([]judge.Machine{m}, []facts.Endpoint{observed}, judgements,
				func(int) assess.Expectation { return expected })
		}
		now := s.Clock.Stamp()
		a := store.Audit{State: store.Planning, CreatedAt: now}
		err := s.Tx(t.Context(), func(tx *store.Tx) error {
			_, err := tx.CreateAudit(&a, store.Selection{})
			return err
		})
		require.NoError(t, err)
		defer func() { // no more than a few may be under way
			require.NoError(t, s.Tx(context.Background(), func(tx *store.Tx) error {
				_, err := tx.Move(a.ID, store.Cancelled, now, store.Planning, store.Visiting, store.Judging)
				return err
			}))
		}()
		h := store.Holding{Name: "quay", Policy: policy.Default, SentAt: now, Trust: []string{}, Audiences: []string{}}
		payload, err := json.Marshal(file)
		require.NoError(t, err)
		delivery, err := s.BeginDelivery(t.Context(), api.DeliveryStart{Kind: "holding",
			Digest: fmt.Sprintf("%x", sha256.Sum256(data))})
		require.NoError(t, err)
		delivery, err = s.TakePart(t.Context(), delivery.ID, delivery.NextPart,
			[]store.DeliveryLine{{Key: file.Path, Payload: new(string(payload))}})
		require.NoError(t, err, "%.500s", data)
		defer func() { require.NoError(t, s.RemoveDelivery(context.Background(), delivery.ID)) }()
		saved := &store.Outcome{Audit: a.ID, Endpoint: e.ID, Facts: observed, Judgement: judgement, At: now, SawAt: now}
		require.NoError(t, s.Tx(t.Context(), func(tx *store.Tx) error {
			if _, err := tx.PlanVisits(a.ID, map[int64]facts.Endpoint{e.ID: observed}, nil); err != nil {
				return err
			}
			if err := tx.SaveProvisional([]*store.Outcome{saved}); err != nil {
				return err
			}
			if err := tx.SaveJudgement([]*store.Outcome{saved}); err != nil {
				return err
			}
			if err := tx.SaveHolding(&h, delivery); err != nil {
				return err
			}
			return tx.SaveHoldingJudgement(&h, []facts.File{file}, told, ofFiles, now)
		}), "%.500s", data)
		for _, o := range observed.Observations {
			visits := []store.Visit{{AuditID: a.ID, EndpointID: e.ID, Address: o.Address.String(),
				ServerName: o.ServerName,
				State:      store.VisitWaiting}}
			require.NoError(t, s.Tx(t.Context(), func(tx *store.Tx) (err error) {
				visits, err = tx.PlanVisits(a.ID, nil, visits)
				return err
			}))
			visits[0].State, visits[0].Observation = store.VisitDone, &o
			require.NoError(t, s.FinishVisit(t.Context(), visits[0]))
		}
		_, _, err = s.Findings(t.Context(), store.FindingQuery{Limit: 100})
		require.NoError(t, err)
		_, err = s.AllHoldingFiles(t.Context(), h.ID)
		require.NoError(t, err)
		portion, err := s.Portion(t.Context(), a.ID, store.Closed, 1)
		require.NoError(t, err)
		require.Len(t, portion, 1)
	})
}
