package judge

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/words"
)

// sourceWords name the sources of revocation information.
var sourceWords = map[facts.RevocationSource]string{
	facts.FromList: "the CRL", facts.FromResponder: "the OCSP response", facts.Stapled: "the stapled OCSP response",
}

// sourceOf names who said it, and where that is a file, which.
func sourceOf(r facts.Revocation) string {
	if place := cmp.Or(append(slices.Clone(r.Places), "")...); place != "" && !strings.Contains(place, "://") {
		return sourceWords[r.Source] + " in " + place
	}
	return sourceWords[r.Source]
}

func revokedWords(r facts.Revocation) string {
	return fmt.Sprintf("by %s, since %s: %s", sourceOf(r), day(*r.RevokedAt), r.Reason)
}

// stale says since when newer information was due when it was asked, and why; false where none was. What does not say
// when the next one comes is out of date after the policy's days.
func stale(r facts.Revocation, p *policy.Policy) (since time.Time, why string, is bool) {
	switch {
	case r.NextUpdate != nil:
		return *r.NextUpdate, "the next one was due on " + day(*r.NextUpdate), r.NextUpdate.Before(r.At)
	case r.ThisUpdate == nil || p.Revocation.StaleDays == 0:
		return time.Time{}, "", false
	}
	since = r.ThisUpdate.AddDate(0, 0, p.Revocation.StaleDays)
	return since, fmt.Sprintf("it is of %s, more than %d days old, and does not say when the next one comes",
		day(*r.ThisUpdate), p.Revocation.StaleDays), since.Before(r.At)
}

// revokeState judges what was learnt of each certificate of the best path that
// has an issuer there. Where nothing was asked, nothing is said.
func revokeState(b *bundle) []Finding {
	var out []Finding
	path := b.assessed.path.Certificates
	for _, c := range path[:len(path)-1] {
		for _, r := range b.context.local {
			if r.Certificate == c.Fingerprint() {
				out = append(out, revocationOf(c, r, b.context)...)
			}
		}
	}
	if !b.asked {
		return out
	}
	for _, c := range path[:len(path)-1] {
		answered := false
		for _, r := range b.context.revocation {
			if r.Certificate == c.Fingerprint() {
				answered = true
				out = append(out, revocationOf(c, r, b.context)...)
			}
		}
		if !answered && !publishes(c) && !exempt(c) {
			out = append(out, aboutCertificate("revoke.none-published", c,
				"%s names neither a CRL nor an OCSP responder, so nobody can find out whether it was revoked.",
				c.Label()))
		}
	}
	return out
}

func revocationOf(c *pki.Certificate, r facts.Revocation, context *Context) []Finding {
	source := words.Capital(sourceWords[r.Source])
	_, old, isStale := stale(r, &context.Policy)
	var f Finding
	switch {
	case revokedAt(r, context.At):
		f = aboutCertificate(revokedCode, c, "%s is revoked, %s.", c.Label(), revokedWords(r))
		f.Evidence.Places = r.Places
		return []Finding{f}
	case r.Status == facts.RevocationBadAnswer:
		f = aboutCertificate("revoke.bad-answer", c, "%s for %s is unusable: %s.", source, c.Label(),
			words.Of(r.Detail))
	case r.Status == facts.RevocationUnreachable:
		from := map[facts.RevocationSource]string{facts.FromList: "a CRL",
			facts.FromResponder: "an OCSP response"}[r.Source]
		f = aboutCertificate("revoke.unreachable", c, "Could not get %s for %s: %s.", from, c.Label(),
			words.Of(r.Detail))
	case isStale:
		f = aboutCertificate("revoke.stale", c, "%s for %s is out of date: %s.", source, c.Label(), old)
	default:
		return nil
	}
	f.Subject += " " + string(r.Source)
	f.Evidence.Places = r.Places
	return []Finding{f}
}

// publishes reports whether the certificate says where its revocation can be learnt.
func publishes(c *pki.Certificate) bool {
	return len(c.URLs(pki.AccessOCSP)) > 0 || len(c.CRLDistributionPoints) > 0
}

// shortLived are the lifetimes up to which nobody needs to publish anything:
// 7 days, and 10 for what was issued before 2026-03-15.
const (
	shortLived      = 7 * lifetime.Day
	shortLivedOlder = 10 * lifetime.Day
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
	return !c.NotBefore.IsZero() && !c.NotAfter.IsZero() && lifetime.Span(c) <= limit
}

// RevocationState is what is known of one certificate, for reports.
type RevocationState struct {
	Certificate pki.Fingerprint `json:"certificate"`
	Label       string          `json:"label"`
	State       string          `json:"state" enum:"good,revoked,stale,bad-answer,unreachable,none-published,exempt,not-asked" doc:"The worst that any source said"`
	Words       string          `json:"words"`
}

// revocationStates sums up what is known of the certificates of the best path.
func revocationStates(b *bundle) []RevocationState {
	out := []RevocationState{}
	if !b.asked {
		return out
	}
	path := b.assessed.path.Certificates
	for _, c := range path[:len(path)-1] {
		s := RevocationState{Certificate: c.Fingerprint(), Label: c.Label()}
		rank := -1
		var told []string
		for _, r := range b.context.revocation {
			if r.Certificate != c.Fingerprint() {
				continue
			}
			state, text := stateOf(r, b.context)
			told = append(told, text)
			if order := stateRank[state]; order > rank {
				rank, s.State = order, state
			}
		}
		switch {
		case rank >= 0:
			s.Words = strings.Join(told, "; ")
		case exempt(c):
			s.State, s.Words = "exempt", "too short-lived to be revoked, or its CA says that it publishes nothing"
		case !publishes(c):
			s.State, s.Words = "none-published", "it names neither a CRL nor an OCSP responder"
		default:
			s.State, s.Words = "not-asked", "not asked"
		}
		out = append(out, s)
	}
	return out
}

var stateRank = map[string]int{"good": 0, "unreachable": 1, "stale": 2, "bad-answer": 3, "revoked": 4}

func stateOf(r facts.Revocation, context *Context) (state, text string) {
	since, _, isStale := stale(r, &context.Policy)
	source := sourceWords[r.Source]
	until := ""
	if r.NextUpdate != nil {
		until = ", until " + day(*r.NextUpdate)
	}
	switch {
	case revokedAt(r, context.At):
		return "revoked", source + ": revoked since " + day(*r.RevokedAt) + ", " + r.Reason
	case r.Status == facts.RevocationRevoked && r.RevokedAt != nil:
		return "good", source + ": good until it is revoked on " + day(*r.RevokedAt)
	case r.Status == facts.RevocationBadAnswer, r.Status == facts.RevocationUnreachable:
		return string(r.Status), source + ": " + words.Of(r.Detail)
	case isStale:
		return "stale", source + ": good, but out of date since " + day(since)
	}
	return "good", source + ": good" + until
}

// revokeStapleMissing tells of a leaf that demands a stapled response (RFC 7633) and is served without a good one:
// clients that obey refuse the connection.
func revokeStapleMissing(b *bundle) []Finding {
	if b.file || !b.leaf.MustStaple {
		return nil
	}
	what := "and is served without one"
	if path := b.assessed.path.Certificates; len(b.staple) > 0 && len(path) > 1 {
		r := b.context.Verifier.StatusAnswer(b.staple, b.leaf, path[1], nil, b.context.At)
		_, old, isStale := stale(r, &b.context.Policy)
		switch {
		case r.Status == facts.RevocationGood && !isStale, r.Status == facts.RevocationRevoked:
			return nil // that it is revoked is told by itself
		case isStale:
			what = "and the one that is served is out of date: " + old
		default:
			what = "and the one that is served is unusable: " + words.Of(r.Detail)
		}
	}
	f := aboutCertificate("revoke.staple-missing", b.leaf, "The certificate of %s demands a stapled OCSP response, %s.",
		b.leaf.Label(), what)
	f.Subject += " " + string(facts.Stapled)
	f.replaces = "revoke.bad-answer revoke.stale"
	return []Finding{f}
}

// revokedCode is replaced by a code that says more of the same certificate.
const revokedCode = "revoke.revoked"
