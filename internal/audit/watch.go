package audit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// Watch waits for endpoints to serve a certificate.
type Watch struct {
	plan  *Plan
	want  *pki.Fingerprint // nil for any other than the first
	first map[string]pki.Fingerprint
	now   map[string]WatchedAddress
}

// WatchedAddress is what an address serves.
type WatchedAddress struct {
	Endpoint    string          `json:"endpoint"`
	Address     string          `json:"address"`
	Label       string          `json:"label,omitempty"`
	Certificate pki.Fingerprint `json:"certificate,omitzero"`
	Failure     string          `json:"failure,omitempty" doc:"Why no certificate was seen"`
	Done        bool            `json:"done"`
}

// Watched is the result of waiting.
type Watched struct {
	Done      bool             `json:"done" doc:"Every address serves what was awaited"`
	Seconds   int64            `json:"seconds"`
	Addresses []WatchedAddress `json:"addresses"`
}

// NewWatch waits for the certificate at every address of the plan's endpoints.
func NewWatch(p *Plan, want *pki.Fingerprint) *Watch {
	return &Watch{plan: p, want: want, first: map[string]pki.Fingerprint{}, now: map[string]WatchedAddress{}}
}

// Ask visits every address once and returns what has changed, in words.
func (w *Watch) Ask(ctx context.Context, o Options) []string {
	observed, _ := w.plan.visit(ctx, o)
	next := map[string]WatchedAddress{}
	var said []string
	for i := range observed {
		name := w.plan.visits[i].target.Endpoint.String()
		for _, v := range observed[i].Observations {
			x := WatchedAddress{Endpoint: name, Address: v.Address.String()}
			id := name + " " + x.Address
			switch leaf, err := servedBy(v); {
			case err != nil:
				x.Failure = err.Error()
			default:
				x.Label, x.Certificate = leaf.Label(), leaf.Fingerprint()
				if _, known := w.first[id]; !known {
					w.first[id] = x.Certificate
				}
				x.Done = w.want != nil && x.Certificate == *w.want || w.want == nil && x.Certificate != w.first[id]
			}
			next[id] = x
		}
		if e := observed[i]; len(e.Observations) == 0 && e.ResolveError.Given() {
			next[name] = WatchedAddress{Endpoint: name, Failure: words.Of(e.ResolveError)}
		}
	}
	for id, x := range next {
		if w.now[id] != x {
			said = append(said, x.text())
		}
	}
	for id, x := range w.now {
		if _, still := next[id]; !still && ctx.Err() == nil {
			said = append(said, fmt.Sprintf("%s no longer leads to %s", x.Endpoint, x.Address))
		}
	}
	if ctx.Err() == nil {
		w.now = next
	}
	slices.Sort(said)
	return said
}

func (x WatchedAddress) text() string {
	where := x.Endpoint + " at " + x.Address
	switch {
	case x.Failure != "":
		return where + ": " + x.Failure
	case x.Done:
		return fmt.Sprintf("%s serves the new certificate of %s (%s)", where, x.Label, x.Certificate.String()[:8])
	}
	return fmt.Sprintf("%s still serves the certificate %s of %s", where, x.Certificate.String()[:8], x.Label)
}

// servedBy is the leaf that an address serves.
func servedBy(v facts.Observation) (*pki.Certificate, error) {
	if len(v.Certificates) == 0 {
		return nil, errors.New(cmp.Or(words.Of(v.Detail), words.Of(v.Unseen), string(v.Outcome)))
	}
	return pki.ParseCertificate(v.Certificates[0])
}

// Result is what is known now.
func (w *Watch) Result(after time.Duration) Watched {
	r := Watched{Done: len(w.now) > 0, Seconds: int64(after.Seconds()), Addresses: []WatchedAddress{}}
	for _, x := range w.now {
		r.Done = r.Done && x.Done
		r.Addresses = append(r.Addresses, x)
	}
	slices.SortFunc(r.Addresses, func(a, b WatchedAddress) int {
		return cmp.Or(cmp.Compare(a.Endpoint, b.Endpoint), cmp.Compare(a.Address, b.Address))
	})
	return r
}

// LeafOf is the only leaf in a file.
func LeafOf(path string) (*pki.Certificate, error) {
	files, err := (&intake.Reader{}).ReadFile(path)
	if err != nil {
		return nil, err
	}
	var leaves []*pki.Certificate
	for i := range files {
		leaves = append(leaves, judge.Leaves(&files[i])...)
	}
	if len(leaves) != 1 {
		return nil, fmt.Errorf("%s holds %d leaf certificates, and one is wanted", path, len(leaves))
	}
	return leaves[0], nil
}
