package judge

import (
	"fmt"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// sourceWords name the sources of revocation information, and answerWords what comes from them.
var (
	sourceWords = map[facts.RevocationSource]string{facts.FromList: "the revocation list", facts.FromResponder: "the responder", facts.Stapled: "the answer that came along"}
	answerWords = map[facts.RevocationSource]string{facts.FromList: "The revocation list", facts.FromResponder: "The responder's answer", facts.Stapled: "The answer that came along"}
)

func revokedWords(r facts.Revocation) string {
	return fmt.Sprintf("by %s, since %s: %s", sourceWords[r.Source], day(*r.RevokedAt), r.Reason)
}

// checkRevocation judges what was learnt of each certificate of the best path
// that has an issuer there. Where nothing was asked, nothing is said.
func checkRevocation(b *bundle) {
	if !b.asked {
		return
	}
	path := b.assessed.path.Certificates
	for _, c := range path[:len(path)-1] {
		answered := false
		for _, r := range b.context.revocation {
			if r.Certificate != c.Fingerprint() {
				continue
			}
			answered = true
			b.revocation(c, r)
		}
		if !answered && !publishes(c) && !exempt(c) {
			f := found("revoke.none-published", c.Fingerprint().String(), c.Label(), "%s names neither a revocation list nor a responder, so nobody can learn that it was revoked.", c.Label())
			f.Evidence = certificateEvidence(c)
			b.add(f)
		}
	}
}

func (b *bundle) revocation(c *pki.Certificate, r facts.Revocation) {
	var f Finding
	subject := c.Fingerprint().String() + " " + string(r.Source)
	add := func(code, format string, args ...any) {
		f = found(code, subject, c.Label(), format, args...)
		f.Evidence = certificateEvidence(c)
		f.Evidence.Places = r.Places
		b.add(f)
	}
	switch {
	case r.Status == facts.RevocationRevoked && r.RevokedAt != nil && !r.RevokedAt.After(b.context.At):
		subject = c.Fingerprint().String()
		add("revoke.revoked", "%s is revoked, %s.", c.Label(), revokedWords(r))
	case r.Status == facts.RevocationBadAnswer:
		add("revoke.bad-answer", "%s for %s proves nothing: %s.", answerWords[r.Source], c.Label(), r.Detail)
	case r.Status == facts.RevocationUnreachable:
		add("revoke.unreachable", "Nothing was learnt from %s of %s: %s.", sourceWords[r.Source], c.Label(), r.Detail)
	case r.Stale():
		add("revoke.stale", "%s for %s has expired: newer information was promised for %s.", answerWords[r.Source], c.Label(), day(*r.NextUpdate))
	}
}

// publishes reports whether the certificate says where its revocation can be learnt.
func publishes(c *pki.Certificate) bool {
	return len(c.URLs(pki.AccessOCSP)) > 0 || len(c.CRLDistributionPoints) > 0
}

// shortLived are the lifetimes up to which nobody needs to publish anything:
// 7 days, and 10 for what was issued before 2026-03-15.
const (
	shortLived      = 7 * 24 * time.Hour
	shortLivedOlder = 10 * 24 * time.Hour
)

var shortLivedSince = time.Date(2026, 3, 15, 0, 0, 0, 0, time.UTC)

// exempt reports whether it is in order that no revocation is published.
func exempt(c *pki.Certificate) bool {
	if c.NoRevocation {
		return true
	}
	limit := shortLived
	if c.NotBefore.Before(shortLivedSince) {
		limit = shortLivedOlder
	}
	return !c.NotAfter.IsZero() && c.NotAfter.Sub(c.NotBefore)+time.Second <= limit
}

// RevocationState is what is known of one certificate, for reports.
type RevocationState struct {
	Certificate pki.Fingerprint `json:"certificate"`
	Label       string          `json:"label"`
	State       string          `json:"state" enum:"good,revoked,stale,bad-answer,unreachable,none-published,exempt,not-asked" doc:"The worst that any source said"`
	Words       string          `json:"words"`
}

// states sums up what is known of the certificates of the best path.
func (b *bundle) states() []RevocationState {
	out := []RevocationState{}
	if !b.asked {
		return out
	}
	path := b.assessed.path.Certificates
	for _, c := range path[:len(path)-1] {
		s := RevocationState{Certificate: c.Fingerprint(), Label: c.Label()}
		rank := -1
		var words []string
		for _, r := range b.context.revocation {
			if r.Certificate != c.Fingerprint() {
				continue
			}
			state, text := stateOf(r, b.context.At)
			words = append(words, text)
			if order := stateRank[state]; order > rank {
				rank, s.State = order, state
			}
		}
		switch {
		case rank >= 0:
			s.Words = strings.Join(words, "; ")
		case exempt(c):
			s.State, s.Words = "exempt", "too short-lived to be revoked, or its issuer says that it publishes nothing"
		case !publishes(c):
			s.State, s.Words = "none-published", "neither a list nor a responder is named"
		default:
			s.State, s.Words = "not-asked", "not asked"
		}
		out = append(out, s)
	}
	return out
}

var stateRank = map[string]int{"good": 0, "unreachable": 1, "stale": 2, "bad-answer": 3, "revoked": 4}

func stateOf(r facts.Revocation, at time.Time) (state, words string) {
	source := sourceWords[r.Source]
	until := ""
	if r.NextUpdate != nil {
		until = ", until " + day(*r.NextUpdate)
	}
	switch {
	case r.Status == facts.RevocationRevoked && r.RevokedAt != nil && !r.RevokedAt.After(at):
		return "revoked", source + ": revoked since " + day(*r.RevokedAt) + ", " + r.Reason
	case r.Status == facts.RevocationRevoked && r.RevokedAt != nil:
		return "good", source + ": good until it is revoked on " + day(*r.RevokedAt)
	case r.Status == facts.RevocationBadAnswer, r.Status == facts.RevocationUnreachable:
		return string(r.Status), source + ": " + r.Detail
	case r.Stale():
		return "stale", source + ": good, but expired on " + day(*r.NextUpdate)
	}
	return "good", source + ": good" + until
}
