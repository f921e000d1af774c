package chain

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Fetcher gets things over HTTP. Its errors say in a sentence why it did not.
type Fetcher interface {
	// Get returns what lies at the address, at most so many bytes.
	Get(ctx context.Context, address string, most int) ([]byte, error)
	// Post sends the body and returns the answer, at most so many bytes.
	Post(ctx context.Context, address, contentType string, body []byte, most int) ([]byte, error)
}

// Limits of one inquiry.
const (
	maxList       = 16 << 20 // bytes of a revocation list
	maxAnswer     = 64 << 10 // bytes of a responder's answer
	maxIssuerFile = 1 << 20  // bytes of a fetched file of issuers
	maxPlaces     = 4        // addresses of one kind in one certificate
)

// Inquirer asks the issuers of certificates about revocation, and for missing
// certificates. It remembers what it got: lists and answers for as long as they
// are valid, at most a day, and failures for a minute, so that a thousand
// endpoints of one issuer cost one question. It is safe for concurrent use.
type Inquirer struct {
	Fetch    Fetcher
	Verifier *Verifier
	Now      func() time.Time
	Nonce    func() []byte // fresh random bytes (RFC 9654 wants 32); nil sends none

	got memory
}

// Surroundings are where the certificates of list issuers are looked for.
type Surroundings struct {
	Given, Known *Pool
	Store        *trust.Store
}

// Ask asks every source that the certificate names, and reads the answer that
// came along, where there is one. It reports one fact a source.
func (q *Inquirer) Ask(ctx context.Context, c, issuer *pki.Certificate, staple []byte,
	near Surroundings) []facts.Revocation {
	var out []facts.Revocation
	now := q.Now().UTC().Truncate(time.Second)
	if len(staple) > 0 {
		f := q.Verifier.StatusAnswer(staple, c, issuer, nil, now)
		f.Source = facts.Stapled
		out = append(out, f)
	}
	for i, place := range c.URLs(pki.AccessOCSP) {
		if i == maxPlaces {
			break
		}
		out = append(out, q.askResponder(ctx, place, c, issuer, now))
	}
	if len(c.CRLDistributionPoints) > 0 {
		out = append(out, q.askLists(ctx, c, issuer, near, now))
	}
	return out
}

func (q *Inquirer) askResponder(ctx context.Context, place string, c, issuer *pki.Certificate,
	now time.Time) facts.Revocation {
	key := place + " " + c.Fingerprint().String() + issuer.Fingerprint().String()
	fact, _ := recall(&q.got, key, q.Now, func() (facts.Revocation, int, time.Time) {
		var nonce []byte
		if q.Nonce != nil {
			nonce = q.Nonce()
		}
		answer, err := q.post(ctx, place, pki.OCSPRequest(c, issuer, nonce))
		if err != nil {
			return facts.Revocation{Certificate: c.Fingerprint(), Source: facts.FromResponder, At: now,
				Status: facts.RevocationUnreachable, Detail: facts.Because(facts.FetchFailed,
					pki.Printable(err.Error()))}, 0, now.Add(time.Minute)
		}
		f := q.Verifier.StatusAnswer(answer, c, issuer, nonce, now)
		until := now // an answer without an end is asked for anew
		if f.NextUpdate != nil {
			until = lasts(now, *f.NextUpdate)
		}
		return f, len(answer), until
	})
	fact.Places = []string{place}
	return fact
}

// failed is what is remembered of one that did not answer.
type failed struct{ err error }

// post asks a responder. One that does not answer is left alone for a minute,
// whichever certificate it is asked about.
func (q *Inquirer) post(ctx context.Context, place string, request []byte) ([]byte, error) {
	if down, known := look[failed](&q.got, "down "+place, q.Now()); known {
		return nil, down.err
	}
	answer, err := q.Fetch.Post(ctx, place, "application/ocsp-request", request, maxAnswer)
	if err != nil && ctx.Err() == nil {
		_, _ = recall(&q.got, "down "+place, q.Now, func() (failed, int, time.Time) {
			return failed{err}, 0,
				q.Now().Add(time.Minute)
		})
	}
	return answer, err
}

// lasts is how long something is remembered that is valid until then.
func lasts(now, until time.Time) time.Time {
	if day := now.Add(24 * time.Hour); until.After(day) {
		return day
	}
	return until
}

// askLists fetches the lists of all distribution points and looks the certificate up.
func (q *Inquirer) askLists(ctx context.Context, c, issuer *pki.Certificate, near Surroundings,
	now time.Time) facts.Revocation {
	out := facts.Revocation{Certificate: c.Fingerprint(), Source: facts.FromList, At: now}
	lists := Lists{Verifier: q.Verifier, Given: near.Given, Known: near.Known, Store: near.Store, At: now}
	var failures []string
	fetch := func(points []pki.DistributionPoint) {
		for i, point := range points {
			if i == maxPlaces {
				break
			}
			list, place, err := q.list(ctx, point, now)
			if place != "" {
				out.Places = append(out.Places, place)
			}
			if err != nil {
				failures = append(failures, pki.Printable(err.Error()))
			} else {
				lists.Lists = append(lists.Lists, list)
			}
		}
	}
	fetch(c.CRLDistributionPoints)
	complete := slices.Clone(lists.Lists)
	fetch(c.FreshestCRL)
	for _, l := range complete {
		fetch(l.Freshest)
	}
	if len(lists.Lists) == 0 {
		out.Status, out.Detail = facts.RevocationUnreachable,
			facts.Because(facts.FetchFailed, strings.Join(failures, "; "))
		return out
	}
	l := lists.Of(c, issuer)
	if !l.Determined && l.IsStale { // what an old list says is worth telling too
		for _, list := range lists.Lists {
			if !list.NextUpdate.IsZero() && list.NextUpdate.Before(lists.At) {
				lists.At = list.NextUpdate
			}
		}
		if old := lists.Of(c, issuer); old.Determined {
			l = old
		}
	}
	if !l.ThisUpdate.IsZero() {
		out.ThisUpdate = &l.ThisUpdate
	}
	if !l.Expires.IsZero() {
		out.NextUpdate = &l.Expires
	}
	switch {
	case l.Revoked != nil:
		out.Status, out.RevokedAt, out.Reason = facts.RevocationRevoked, &l.Revoked.At, l.Revoked.Reason.Words()
	case l.Determined:
		out.Status = facts.RevocationGood
	case len(failures) > 0:
		out.Status, out.Detail = facts.RevocationUnreachable,
			facts.Because(facts.FetchFailed, strings.Join(failures, "; "))
	default:
		out.Status, out.Detail = facts.RevocationBadAnswer, facts.Because(facts.ListsElsewhere)
		if len(l.Problems) > 0 {
			out.Detail = facts.Because(facts.ListsUnusable, strings.Join(slices.Compact(l.Problems), "; "))
		}
	}
	return out
}

// list fetches the list of one distribution point from the first of its
// addresses that gives one.
func (q *Inquirer) list(ctx context.Context, point pki.DistributionPoint, now time.Time) (list *pki.RevocationList,
	place string, err error) {
	err = fmt.Errorf("the CRL is published in no way that is supported here")
	for _, name := range point.FullName {
		if name.Kind != pki.NameURI {
			continue
		}
		place = pki.Printable(name.Value)
		type result struct {
			list *pki.RevocationList
			err  error
		}
		got, _ := recall(&q.got, place, q.Now, func() (result, int, time.Time) {
			data, err := q.Fetch.Get(ctx, name.Value, maxList)
			if err != nil {
				return result{err: err}, 0, now.Add(time.Minute)
			}
			list, err := parseList(data)
			if err != nil {
				return result{err: fmt.Errorf("%s holds no CRL: %w", place, err)}, 0, now.Add(time.Minute)
			}
			return result{list: list}, len(data), lasts(now, list.NextUpdate)
		})
		if list, err = got.list, got.err; err == nil {
			return list, place, nil
		}
	}
	return nil, place, err
}
