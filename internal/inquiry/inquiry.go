// Package inquiry completes facts with what the issuers say: revocation, and
// certificates that a chain lacks.
package inquiry

import (
	"context"
	"crypto/rand"
	"net/netip"
	"sync"
	"time"

	"nurvik/core/assess"
	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/plain"
	"nurvik/core/rescue"
	"nurvik/internal/fetch"
	"nurvik/internal/outbound"
)

// Options say what is asked.
type Options struct {
	Revocation bool               // ask about revocation
	Issuers    bool               // fetch issuers' certificates that a chain lacks
	Networks   []outbound.Network // that may be asked beside the public ones
	Lookup     func(ctx context.Context, host string) ([]netip.Addr, error)
	Timeout    time.Duration // for one request; default 10 s
	Now        func() time.Time
	Shelf      chain.Shelf   // keeps answers beyond the life of the desk; nil keeps none
	Report     rescue.Report // takes defects of the asking itself to the log; nil drops them
}

// Desk asks. It remembers answers, so one desk should serve many audits.
type Desk struct {
	options  Options
	inquirer *chain.Inquirer
}

// Limits of the time that asking takes: issuers that hang must not hold an audit.
const (
	targetTime = 20 * time.Second // of the questions about one target
	// MostTime is the limit for all targets of one call. What was not asked until then counts as unreachable.
	MostTime = 15 * time.Minute
)

// parallel is how many targets are asked about at once.
const parallel = 32

// New makes a desk.
func New(o Options) *Desk {
	return &Desk{options: o, inquirer: &chain.Inquirer{
		Fetch:    fetch.New(fetch.Options{Allowed: o.Networks, Lookup: o.Lookup, Timeout: o.Timeout}),
		Verifier: &chain.Verifier{}, Now: o.Now, Shelf: o.Shelf,
		Nonce: func() []byte {
			nonce := make([]byte, 32) // the length that RFC 9654, section 2.1, recommends
			_, _ = rand.Read(nonce)   // crypto/rand never fails
			return nonce
		},
	}}
}

// Complete asks about many targets. One gets the i-th and returns what is to
// be completed, with what is expected of it; it is called from several goroutines. When the
// context ends, the rest stays as it is.
func (d *Desk) Complete(ctx context.Context, n int, one func(i int) Target, step func(done, total int)) {
	if d == nil || !d.options.Revocation && !d.options.Issuers {
		return
	}
	round := d.inquirer.Round(ctx)
	limited, cancel := context.WithTimeout(ctx, MostTime)
	defer cancel()
	slots := make(chan struct{}, parallel)
	var group sync.WaitGroup
	var mutex sync.Mutex
	done := 0
	for i := range n {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			if ctx.Err() == nil {
				target := one(i)
				if defect := d.options.Report.Do(target.name(), func() {
					d.complete(ctx, limited, round,
						target)
				}); defect != nil {
					target.clear()
				}
			}
			if step != nil {
				mutex.Lock()
				defer mutex.Unlock()
				done++
				step(done, n)
			}
		})
	}
	group.Wait()
}

// Target is an endpoint or a file whose facts are to be completed.
type Target struct {
	Endpoint *facts.Endpoint // or
	File     *facts.File
	Engine   *assess.Engine
	Expected assess.Expectation
}

func (t Target) questions() (questions []judge.Question, lacking []*pki.Certificate) {
	if t.Endpoint != nil {
		return t.Engine.Questions(*t.Endpoint, t.Expected)
	}
	return t.Engine.FileQuestions(*t.File, t.Expected)
}

func (d *Desk) complete(whole, limited context.Context, round *chain.Round, t Target) {
	ctx, cancel := context.WithTimeout(limited, targetTime)
	defer cancel()
	fetched, asked, revocation := t.parts()
	questions, lacking := t.questions()
	if d.options.Issuers && len(lacking) > 0 {
		for _, c := range lacking {
			*fetched = append(*fetched, round.FetchIssuers(ctx, c, t.Engine.Knows(t.Expected))...)
		}
		questions, _ = t.questions()
	}
	if !d.options.Revocation {
		return
	}
	var found []facts.Revocation
	for _, q := range questions {
		found = append(found, round.Ask(ctx, q.Certificate, q.Issuer, q.Staple, q.Near)...)
	}
	if whole.Err() == nil { // half of the answers would look like silence
		*asked, *revocation = true, found
	}
	plain.Clean(fetched)
	plain.Clean(revocation)
}

func (t Target) name() string {
	if t.Endpoint != nil {
		return t.Endpoint.Endpoint
	}
	return t.File.Path
}

// clear takes back what was learnt until a defect of ours ended the asking.
func (t Target) clear() {
	fetched, asked, revocation := t.parts()
	*fetched, *asked, *revocation = nil, false, nil
}

func (t Target) parts() (*[]facts.Fetched, *bool, *[]facts.Revocation) {
	if t.Endpoint != nil {
		return &t.Endpoint.Fetched, &t.Endpoint.RevocationAsked, &t.Endpoint.Revocation
	}
	return &t.File.Fetched, &t.File.RevocationAsked, &t.File.Revocation
}
