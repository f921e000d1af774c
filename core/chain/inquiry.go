package chain

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Fetcher gets things over HTTP. Its errors say in a sentence why it did not,
// and those of running out of time have a method Timeout that returns true.
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
	// maxPlaces is how many addresses of one kind (OCSP, CRLs, delta CRLs, issuers) are asked for one
	// certificate: CAs name one or two, and whoever names hundreds wants us to hang.
	maxPlaces = 2
)

// Shelf keeps what issuers said beyond the life of a process, and for others. What it fails to keep is asked for again.
type Shelf interface {
	// Load returns what was kept under the key, and until when it holds; nothing where there is nothing.
	Load(ctx context.Context, key string) (data []byte, until time.Time)
	Save(ctx context.Context, key string, data []byte, until time.Time)
}

// Inquirer asks the issuers of certificates about revocation, and for missing
// certificates. It remembers what it got: lists and answers for as long as they
// are valid, at most a day, and failures for a minute, so that a thousand
// endpoints of one issuer cost one question. It is safe for concurrent use.
type Inquirer struct {
	Fetch    Fetcher
	Verifier *Verifier
	Now      func() time.Time
	Nonce    func() []byte // fresh random bytes (RFC 9654 wants 32); nil sends none
	Shelf    Shelf         // nil keeps nothing beyond the life of the inquirer

	got memory
}

// Surroundings are where the certificates of list issuers are looked for.
type Surroundings struct {
	Given, Known *Pool
	Store        *trust.Store
	Anchor       *pki.Certificate // of the path in question; nil where it has none
}

// Ask asks every source that the certificate names, and reads the answer that
// came along, where there is one. It reports one fact a source. A source for
// which the context leaves no time counts as unreachable.
func (r *Round) Ask(ctx context.Context, c, issuer *pki.Certificate, staple []byte,
	near Surroundings) []facts.Revocation {
	var out []facts.Revocation
	now := r.Now().UTC().Truncate(time.Second)
	if len(staple) > 0 {
		f := r.Verifier.StatusAnswer(staple, c, issuer, nil, now)
		f.Source = facts.Stapled
		out = append(out, f)
	}
	for _, place := range addresses(c, pki.AccessOCSP) {
		out = append(out, r.askResponder(ctx, place, c, issuer, now))
	}
	if len(c.CRLDistributionPoints) > 0 {
		out = append(out, r.askLists(ctx, c, issuer, near, now))
	}
	return out
}

// unreachable is the reason for an error of asking.
func unreachable(err error) facts.Reason {
	if errors.Is(err, context.DeadlineExceeded) {
		return facts.Because(facts.InquiryTimeOver)
	}
	return facts.Because(facts.FetchFailed, err)
}

func (r *Round) askResponder(ctx context.Context, place string, c, issuer *pki.Certificate,
	now time.Time) facts.Revocation {
	key := "answer " + place + " " + c.Fingerprint().String() + issuer.Fingerprint().String()
	fact, err := once(ctx, r, key, readAnswer, func(ctx context.Context) (got[facts.Revocation], error) {
		var nonce []byte
		if r.Nonce != nil {
			nonce = r.Nonce()
		}
		answer, err := r.post(ctx, place, pki.OCSPRequest(c, issuer, nonce))
		if err != nil {
			return got[facts.Revocation]{}, err
		}
		f := r.Verifier.StatusAnswer(answer, c, issuer, nonce, now)
		until := now // an answer without an end is asked for anew in the next round
		if f.NextUpdate != nil {
			until = lasts(now, *f.NextUpdate)
		}
		data, err := json.Marshal(f)
		return got[facts.Revocation]{f, data, len(answer), until}, err
	})
	if err != nil {
		fact = facts.Revocation{Certificate: c.Fingerprint(), Source: facts.FromResponder, At: now,
			Status: facts.RevocationUnreachable, Detail: unreachable(err)}
	}
	fact.Places = []string{place}
	return fact
}

// readAnswer reads what was learnt of a responder's answer when it came: it was verified then, by the request.
func readAnswer(data []byte) (f facts.Revocation, err error) { return f, json.Unmarshal(data, &f) }

// post asks a responder. One that does not answer is left alone for a minute,
// whichever certificate it is asked about.
func (r *Round) post(ctx context.Context, place string, request []byte) ([]byte, error) {
	if err := r.got.failure("down "+place, r.Now()); err != nil {
		return nil, err
	}
	answer, err := r.patient(place, func() ([]byte, error) {
		return r.Fetch.Post(ctx, place, "application/ocsp-request", request, maxAnswer)
	})
	if err != nil && ctx.Err() == nil {
		_, _ = recall(ctx, ctx, &r.got, "down "+place, r.Now, func(context.Context) (got[bool], error) {
			return got[bool]{until: r.Now().Add(minute)}, err
		})
	}
	return answer, err
}

// askLists fetches the lists of the distribution points and looks the certificate up.
func (r *Round) askLists(ctx context.Context, c, issuer *pki.Certificate, near Surroundings,
	now time.Time) facts.Revocation {
	out := facts.Revocation{Certificate: c.Fingerprint(), Source: facts.FromList, At: now}
	lists := Lists{Verifier: r.Verifier, Given: near.Given, Known: near.Known, Store: near.Store, Anchor: near.Anchor,
		At: now}
	var failures []error
	// fetch takes the first list that each point gives, and asks so many addresses of all points.
	fetch := func(points []pki.DistributionPoint, most int) int {
		for _, point := range points {
			list, places, err := r.listOf(ctx, point, &most)
			out.Places = append(out.Places, places...)
			switch {
			case list != nil:
				lists.Lists = append(lists.Lists, list)
			case err != nil:
				failures = append(failures, err)
			}
		}
		return most
	}
	fetch(c.CRLDistributionPoints, maxPlaces)
	complete := slices.Clone(lists.Lists)
	left := fetch(c.FreshestCRL, maxPlaces)
	for _, l := range complete {
		left = fetch(l.Freshest, left)
	}
	if len(lists.Lists) == 0 {
		out.Status, out.Detail = facts.RevocationUnreachable, allOf(failures)
		return out
	}
	l := lists.Of(c, issuer)
	if l.Revoked == nil && l.IsStale { // what an old list says is worth telling too
		lists.Stale = true
		if old := lists.Of(c, issuer); old.Revoked != nil || old.Determined && !l.Determined {
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
		out.Status, out.Detail = facts.RevocationUnreachable, allOf(failures)
	default:
		out.Status, out.Detail = facts.RevocationBadAnswer, facts.Because(facts.ListsElsewhere)
		if len(l.Problems) > 0 {
			out.Detail = facts.Because(facts.ListsUnusable, strings.Join(slices.Compact(l.Problems), "; "))
		}
	}
	return out
}

// allOf is the reason where several addresses gave nothing.
func allOf(failures []error) facts.Reason {
	var texts []string
	for _, err := range failures {
		if reason := unreachable(err); reason.Code != facts.FetchFailed {
			return reason
		}
		texts = append(texts, err.Error())
	}
	return facts.Because(facts.FetchFailed, strings.Join(texts, "; "))
}

// listOf fetches the list of one distribution point from the first of its
// addresses that gives one. Each that is asked takes one from most.
func (r *Round) listOf(ctx context.Context, point pki.DistributionPoint, most *int) (list *pki.RevocationList,
	places []string, err error) {
	err = fmt.Errorf("the CRL is published in no way that is supported here")
	for _, name := range point.FullName {
		if name.Kind != pki.NameURI {
			continue
		}
		if *most == 0 {
			if len(places) == 0 {
				err = fmt.Errorf("the certificate names more than %d addresses; only those were asked", maxPlaces)
			}
			return nil, places, err
		}
		*most--
		places = append(places, name.Value)
		if list, err = r.list(ctx, name.Value); err == nil {
			return list, places, nil
		}
	}
	return nil, places, err
}
