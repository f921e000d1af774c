package judge_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

const host = "tides.tarnholm.example"

// scene is a small world: a public and a rehearsal issuer, each with intermediates.
type scene struct {
	t                   *testing.T
	root, upper, lower  *forge.Authority
	rehearsal           *forge.Authority
	outer, tryout, none *trust.Store
	policy              policy.Policy
}

func newScene(t *testing.T) *scene {
	s := &scene{t: t}
	s.root = s.authority(nil, forge.Template{Name: "Root"})
	s.upper = s.authority(s.root, forge.Template{Name: "Upper"})
	s.lower = s.authority(s.upper, forge.Template{Name: "Lower"})
	s.rehearsal = s.authority(nil, forge.Template{Name: "Rehearsal Root"})
	s.outer = trust.New("outer", []trust.Anchor{{Certificate: s.parse(s.root.DER), Kind: trust.Public}})
	s.tryout = trust.New("rehearsal", []trust.Anchor{{Certificate: s.parse(s.rehearsal.DER), Kind: trust.Rehearsal}})
	s.none = trust.New("none", nil)
	var err error
	s.policy, err = policy.Builtin(policy.Default)
	require.NoError(t, err)
	return s
}

func (s *scene) key() crypto.Signer {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(s.t, err)
	return key
}

func (s *scene) parse(der []byte) *pki.Certificate {
	c, err := pki.ParseCertificate(der)
	require.NoError(s.t, err)
	return c
}

func (s *scene) authority(issuer *forge.Authority, w forge.Template) *forge.Authority {
	if w.From.IsZero() {
		w.From, w.Until = now.AddDate(-2, 0, 0), now.AddDate(5, 0, 0)
	}
	a, err := forge.NewAuthority(issuer, s.key(), forge.ECDSASHA256, w)
	require.NoError(s.t, err)
	return a
}

// leaf makes a certificate of 199 days of which 20 have passed, after the change.
func (s *scene) leaf(issuer *forge.Authority, change func(*forge.Template)) []byte {
	key := s.key()
	spki, err := forge.PublicInfo(key)
	require.NoError(s.t, err)
	w := forge.Template{Name: host, Names: []string{host}, SPKI: spki, From: now.AddDate(0, 0, -20),
		Until: now.AddDate(0, 0, 179).Add(-time.Second)}
	if change != nil {
		change(&w)
	}
	der, err := forge.Issue(issuer, key, w)
	require.NoError(s.t, err)
	return der
}

func (s *scene) context() judge.Context {
	return judge.Context{Policy: s.policy, Trust: []*trust.Store{s.outer},
		Anchors: trust.Merge("all", s.outer, s.tryout), At: now}
}

func (s *scene) known(ders ...[]byte) *chain.Pool {
	var list []*pki.Certificate
	for _, der := range ders {
		list = append(list, s.parse(der))
	}
	return chain.NewPool(list)
}

// served is an observation of an address that accepts the versions.
func served(versions string, ders ...[]byte) facts.Observation {
	o := facts.Observation{Address: netip.MustParseAddrPort("192.0.2.7:443"), ServerName: host, At: now,
		Outcome: facts.Answered, Certificates: ders}
	for _, v := range []string{"SSL 3.0", "TLS 1.0", "TLS 1.1", "TLS 1.2", "TLS 1.3"} {
		answer := facts.Declined
		if slices.Contains(strings.Split(versions, ","), strings.TrimPrefix(v, "TLS ")) {
			answer = facts.Accepted
		}
		o.Versions = append(o.Versions, facts.Version{Name: v, Answer: answer})
	}
	return o
}

func observed(observations ...facts.Observation) facts.Endpoint {
	return facts.Endpoint{Schema: facts.Schema, Endpoint: host + ":443", Observations: observations}
}

// codes are the findings as "code severity subject", the subject only where it is short.
func codes(j judge.Judgement) []string {
	out := []string{}
	for _, f := range j.Findings {
		text := f.Code + " " + string(f.Severity)
		if len(f.Subject) < 40 {
			text += " " + f.Subject
		}
		out = append(out, text)
	}
	return out
}
