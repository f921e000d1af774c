package chain_test

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// web is a web of a few pages that counts how often each was asked for.
type web struct {
	mutex sync.Mutex
	pages map[string][]byte
	asked map[string]int
}

func newWeb() *web { return &web{pages: map[string][]byte{}, asked: map[string]int{}} }

func (w *web) Get(_ context.Context, address string, most int) ([]byte, error) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.asked[address]++
	page, ok := w.pages[address]
	if !ok || len(page) > most {
		return nil, errors.New(address + ": nothing listens there")
	}
	return page, nil
}

func (w *web) Post(ctx context.Context, address, _ string, _ []byte, most int) ([]byte, error) {
	return w.Get(ctx, address, most)
}

// quay is an authority that publishes on the web, and an inquirer.
type quay struct {
	answering
	web      *web
	clock    time.Time
	inquirer *chain.Inquirer
	near     chain.Surroundings
}

const responderPlace = "http://quay.tarnholm.example/status"

func newQuay(t *testing.T, change func(*forge.Template)) *quay {
	t.Helper()
	q := &quay{answering: newAnswering(t), web: newWeb(), clock: now}
	q.authority.Base = "http://quay.tarnholm.example"
	q.leaf = leaf(t, q.authority, change)
	q.serial = q.leaf.Serial
	q.inquirer = &chain.Inquirer{Fetch: q.web, Verifier: &chain.Verifier{}, Now: func() time.Time { return q.clock }}
	q.near = chain.Surroundings{Given: pool(q.leaf), Store: store(q.issuer)}
	return q
}

func (q *quay) ask(t *testing.T, staple []byte) []facts.Revocation {
	t.Helper()
	return q.inquirer.Round(t.Context()).Ask(t.Context(), q.leaf, q.issuer, staple, q.near)
}

// list makes the authority's list; the serial number 0 revokes nothing.
func (q *quay) list(t *testing.T, revoked *big.Int, from, until time.Time) []byte {
	t.Helper()
	template := &x509.RevocationList{Number: big.NewInt(3), ThisUpdate: from, NextUpdate: until}
	if revoked.Sign() != 0 {
		template.RevokedCertificateEntries = []x509.RevocationListEntry{{SerialNumber: revoked,
			RevocationTime: now.Add(-48 * time.Hour), ReasonCode: 4}}
	}
	der, err := x509.CreateRevocationList(rand.Reader, template, q.std, q.authority.Key)
	require.NoError(t, err)
	return der
}

func TestAskLists(t *testing.T) {
	hour, none := time.Hour, new(big.Int)
	other := newQuay(t, nil)
	tests := []struct {
		name   string
		page   func(q *quay) []byte
		status facts.RevocationStatus
		detail string
		stale  bool
	}{
		{"good", func(q *quay) []byte { return q.list(t, none, now.Add(-hour), now.Add(hour)) }, facts.RevocationGood,
			"", false},
		{"in PEM", func(q *quay) []byte {
			return pem.EncodeToMemory(&pem.Block{Type: "X509 CRL",
				Bytes: q.list(t, none, now.Add(-hour), now.Add(hour))})
		}, facts.RevocationGood, "", false},
		{"another is revoked", func(q *quay) []byte { return q.list(t, big.NewInt(77), now.Add(-hour), now.Add(hour)) },
			facts.RevocationGood, "", false},
		{"revoked", func(q *quay) []byte { return q.list(t, q.serial, now.Add(-hour), now.Add(hour)) },
			facts.RevocationRevoked, "", false},
		{"old", func(q *quay) []byte { return q.list(t, none, now.Add(-9*hour), now.Add(-hour)) }, facts.RevocationGood,
			"", true},
		{"revoked by an old one", func(q *quay) []byte { return q.list(t, q.serial, now.Add(-9*hour), now.Add(-hour)) },
			facts.RevocationRevoked, "", true},
		{"out of the future", func(q *quay) []byte { return q.list(t, none, now.Add(hour), now.Add(2*hour)) },
			facts.RevocationBadAnswer, "of a later time", false},
		{"of another issuer", func(*quay) []byte { return other.list(t, none, now.Add(-hour), now.Add(hour)) },
			facts.RevocationBadAnswer, "no certificate known here has signed", false},
		{"no list", func(q *quay) []byte { return q.leaf.Raw }, facts.RevocationUnreachable, "holds no CRL",
			false},
		{"nothing", func(*quay) []byte { return nil }, facts.RevocationUnreachable, "holds no CRL", false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			q := newQuay(t, nil)
			q.web.pages["http://quay.tarnholm.example/lists/skerry.crl"] = tt.page(q)
			got := q.ask(t, nil)
			require.Len(t, got, 1)
			assert.Equal(t, tt.status, got[0].Status, words.Of(got[0].Detail))
			assert.Contains(t, words.Of(got[0].Detail), tt.detail)
			assert.Equal(t, tt.stale, got[0].NextUpdate != nil && got[0].NextUpdate.Before(got[0].At))
			assert.Equal(t, facts.FromList, got[0].Source)
			if tt.status == facts.RevocationRevoked {
				assert.Equal(t, now.Add(-48*time.Hour), *got[0].RevokedAt)
				assert.Equal(t, "superseded", got[0].Reason)
			}
		})
	}
}

// TestAskSeveralLists: what is learnt from two points, of which one gives nothing that helps.
func TestAskSeveralLists(t *testing.T) {
	hour, none := time.Hour, new(big.Int)
	const first, second = "http://quay.tarnholm.example/1.crl", "http://quay.tarnholm.example/2.crl"
	twice := func(w *forge.Template) {
		point := func(place string) []byte {
			return tlv(0x30, tlv(0xa0, tlv(0xa0, tlv(0x86, []byte(place)))))
		}
		w.Unlisted = true
		w.Extra = append(w.Extra, forge.Extension{ID: []int{2, 5, 29, 31},
			Value: tlv(0x30, point(first), point(second))})
	}
	good := func(q *quay) []byte { return q.list(t, none, now.Add(-2*hour), now.Add(hour)) }
	for _, tt := range []struct {
		name          string
		first, second func(q *quay) []byte
		status        facts.RevocationStatus
		detail        string
	}{
		{"both say so", good, good, facts.RevocationGood, ""},
		{"a newer one that has expired says revoked", good,
			func(q *quay) []byte { return q.list(t, q.serial, now.Add(-hour), now.Add(-time.Minute)) },
			facts.RevocationRevoked, ""},
		{"an older one that has expired says revoked", good,
			func(q *quay) []byte { return q.list(t, q.serial, now.Add(-9*hour), now.Add(-8*hour)) },
			facts.RevocationGood, ""},
		{"one is not there", good, func(*quay) []byte { return nil }, facts.RevocationGood, ""},
		{"one is not there and the other is of another time", func(q *quay) []byte {
			return q.list(t, none, now.Add(hour), now.Add(2*hour))
		}, func(*quay) []byte { return nil }, facts.RevocationUnreachable, "holds no CRL"},
		{"both are of another time", func(q *quay) []byte { return q.list(t, none, now.Add(hour), now.Add(2*hour)) },
			func(q *quay) []byte { return q.list(t, none, now.Add(hour), now.Add(2*hour)) },
			facts.RevocationBadAnswer, "is of a later time"},
		{"both are of other issuers", func(*quay) []byte { return newQuay(t, nil).strange(t) },
			func(*quay) []byte { return newQuay(t, nil).strange(t) }, facts.RevocationBadAnswer, "do not cover"},
	} {
		q := newQuay(t, twice)
		q.web.pages[first], q.web.pages[second] = tt.first(q), tt.second(q)
		got := q.ask(t, nil)
		require.Len(t, got, 1)
		assert.Equal(t, tt.status, got[0].Status, "%s: %s", tt.name, words.Of(got[0].Detail))
		assert.Contains(t, words.Of(got[0].Detail), tt.detail, tt.name)
		assert.Equal(t, []string{first, second}, got[0].Places, tt.name)
	}
}

// strange is a list of an issuer of another name.
func (q *quay) strange(t *testing.T) []byte {
	t.Helper()
	other := authority(t, nil, forge.Template{Name: "Strange"})
	return roll{}.sign(t, other, q.leaf).Raw
}

// TestFetchTooManyIssuers: of a long way up four are fetched, and of a set the one that is there.
func TestFetchTooManyIssuers(t *testing.T) {
	w := newWeb()
	top := authority(t, nil, forge.Template{Name: "A0"})
	top.Base = "http://quay.tarnholm.example"
	for i := 1; i < 8; i++ {
		w.pages[top.Base+fmt.Sprintf("/issuers/a%d.der", i-1)], _ = forge.CertificateSet(top.DER)
		base := top.Base
		top = authority(t, top, forge.Template{Name: fmt.Sprintf("A%d", i)})
		top.Base = base
	}
	w.pages[top.Base+"/issuers/a7.der"] = top.DER
	q := &chain.Inquirer{Fetch: w, Verifier: &chain.Verifier{}, Now: func() time.Time { return now }}
	fetched := q.Round(t.Context()).FetchIssuers(t.Context(), leaf(t, top, nil),
		func(*pki.Certificate) bool { return false })
	require.Len(t, fetched, 4)
	for _, f := range fetched {
		assert.Len(t, f.Certificates, 1, words.Of(f.Failure))
	}
}

func TestAskRemembers(t *testing.T) {
	withResponder := func(w *forge.Template) { w.Responder = responderPlace }
	const list = "http://quay.tarnholm.example/lists/skerry.crl"
	t.Run("lists and answers, for as long as they are valid", func(t *testing.T) {
		q := newQuay(t, withResponder)
		q.web.pages[list] = q.list(t, new(big.Int), now.Add(-time.Hour), now.Add(2*time.Hour))
		q.web.pages[responderPlace] = q.response(t, q.std, q.authority.Key, nil)
		for range 3 {
			got := q.ask(t, nil)
			require.Len(t, got, 2)
			assert.Equal(t, []facts.RevocationStatus{facts.RevocationGood, facts.RevocationGood},
				[]facts.RevocationStatus{got[0].Status, got[1].Status})
		}
		assert.Equal(t, map[string]int{list: 1, responderPlace: 1}, q.web.asked)
		q.clock = now.Add(90 * time.Minute) // the answer has expired, the list has not
		q.ask(t, nil)
		assert.Equal(t, map[string]int{list: 1, responderPlace: 2}, q.web.asked)
	})
	t.Run("a day at most", func(t *testing.T) {
		q := newQuay(t, nil)
		q.web.pages[list] = q.list(t, new(big.Int), now.Add(-time.Hour), now.AddDate(1, 0, 0))
		q.ask(t, nil)
		q.clock = now.Add(25 * time.Hour)
		q.ask(t, nil)
		assert.Equal(t, 2, q.web.asked[list])
	})
	t.Run("one that is down, for a minute and for all certificates", func(t *testing.T) {
		q := newQuay(t, func(w *forge.Template) { w.Responder, w.Unlisted = responderPlace, true })
		first := q.ask(t, nil)
		assert.Equal(t, facts.RevocationUnreachable, first[0].Status)
		assert.Contains(t, words.Of(first[0].Detail), "nothing listens there")
		q.leaf = leaf(t, q.authority, func(w *forge.Template) {
			w.Responder, w.Unlisted, w.Serial = responderPlace,
				true, big.NewInt(8)
		})
		assert.Equal(t, facts.RevocationUnreachable, q.ask(t, nil)[0].Status)
		assert.Equal(t, 1, q.web.asked[responderPlace])
		q.clock = now.Add(2 * time.Minute)
		q.ask(t, nil)
		assert.Equal(t, 2, q.web.asked[responderPlace])
	})
	t.Run("kept for other processes", func(t *testing.T) {
		kept := shelf{}
		q := newQuay(t, func(w *forge.Template) { w.Responder = responderPlace })
		q.web.pages[list] = q.list(t, new(big.Int), now.Add(-time.Hour), now.Add(time.Hour))
		q.web.pages[responderPlace] = q.response(t, q.std, q.authority.Key, func(*ocsp.Response) {})
		another := func(at time.Time) []facts.Revocation {
			q.inquirer = &chain.Inquirer{Fetch: q.web, Verifier: &chain.Verifier{}, Shelf: kept,
				Now: func() time.Time { return at }}
			return q.ask(t, nil)
		}
		first := another(now)
		require.Equal(t, facts.RevocationGood, first[0].Status)
		asked := func(lists, answers int) {
			t.Helper()
			assert.Equal(t, map[string]int{list: lists, responderPlace: answers}, q.web.asked)
		}
		asked(1, 1)
		again := another(now)
		asked(1, 1)
		assert.Equal(t, first, again)
		another(now.Add(90 * time.Minute)) // both have ended
		asked(2, 2)
		for key := range kept {
			kept[key] = held{[]byte("spoilt"), now.Add(time.Hour)}
		}
		another(now)
		asked(3, 3)
		for key, h := range kept {
			kept[key] = held{h.data, now.AddDate(1, 0, 0)}
		}
		another(now)
		asked(4, 4)
		assert.Len(t, kept, 2, "failures are not kept")
	})
	t.Run("many at once ask once", func(t *testing.T) {
		q := newQuay(t, nil)
		q.web.pages[list] = q.list(t, new(big.Int), now.Add(-time.Hour), now.Add(time.Hour))
		var group sync.WaitGroup
		for range 20 {
			group.Go(func() { q.inquirer.Round(t.Context()).Ask(t.Context(), q.leaf, q.issuer, nil, q.near) })
		}
		group.Wait()
		assert.Equal(t, 1, q.web.asked[list])
	})
}

// shelf keeps answers in memory.
type shelf map[string]held

type held struct {
	data  []byte
	until time.Time
}

func (s shelf) Load(_ context.Context, key string) ([]byte, time.Time) {
	return s[key].data, s[key].until
}

func (s shelf) Save(_ context.Context, key string, data []byte, until time.Time) {
	s[key] = held{data, until}
}

func TestAskStapled(t *testing.T) {
	q := newQuay(t, func(w *forge.Template) { w.Unlisted = true })
	got := q.ask(t, q.response(t, q.std, q.authority.Key,
		func(r *ocsp.Response) { r.Status, r.RevokedAt = ocsp.Revoked, now }))
	require.Len(t, got, 1)
	assert.Equal(t, facts.Stapled, got[0].Source)
	assert.Equal(t, facts.RevocationRevoked, got[0].Status)
	assert.Empty(t, q.web.asked, "nobody is asked when the certificate names nobody")
	assert.Empty(t, q.ask(t, nil))
}

func TestFetchIssuers(t *testing.T) {
	const base = "http://quay.tarnholm.example"
	root := authority(t, nil, forge.Template{Name: "Root"})
	root.Base = base
	upper := authority(t, root, forge.Template{Name: "Upper"})
	upper.Base = base
	lower := authority(t, upper, forge.Template{Name: "Lower"})
	lower.Base = base
	below := leaf(t, lower, nil)
	set, err := forge.CertificateSet(root.DER, lower.DER)
	require.NoError(t, err)
	at := func(name string) string { return base + "/issuers/" + name + ".der" }
	tests := []struct {
		name    string
		pages   map[string][]byte
		known   string   // a label of which the issuer is known
		found   []string // labels of what came
		failure string   // of the last
	}{
		{"one after the other", map[string][]byte{at("lower"): lower.DER, at("upper"): upper.DER, at("root"): root.DER},
			"", []string{"Lower", "Upper", "Root"}, ""},
		{"until the issuer is known", map[string][]byte{at("lower"): lower.DER, at("upper"): upper.DER}, "Lower",
			[]string{"Lower"}, ""},
		{"a set in PKCS#7", map[string][]byte{at("lower"): set}, "Lower", []string{"Root", "Lower"}, ""},
		{"in PEM", map[string][]byte{at("lower"): []byte(parse(t, lower.DER).PEM())}, "Lower", []string{"Lower"}, ""},
		{"one that is missing", map[string][]byte{at("lower"): lower.DER}, "", []string{"Lower"},
			"nothing listens there"},
		{"another's certificate", map[string][]byte{at("lower"): root.DER}, "", []string{"Root"},
			"did not issue tides.tarnholm.example"},
		{"nonsense", map[string][]byte{at("lower"): []byte("<html>")}, "", nil, "neither a certificate nor a set"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			w := newWeb()
			w.pages = tt.pages
			q := &chain.Inquirer{Fetch: w, Verifier: &chain.Verifier{}, Now: func() time.Time { return now }}
			fetched := q.Round(t.Context()).FetchIssuers(t.Context(), below,
				func(c *pki.Certificate) bool { return c.Label() == tt.known })
			var found []string
			failure := ""
			for _, f := range fetched {
				for _, der := range f.Certificates {
					found = append(found, parse(t, der).Label())
				}
				failure = words.Of(f.Failure)
			}
			assert.Equal(t, tt.found, found)
			assert.Equal(t, tt.failure == "", failure == "", failure)
			assert.True(t, strings.Contains(failure, tt.failure), failure)
		})
	}
}

// hanging answers nothing, and notes what it was asked.
type hanging struct {
	mutex sync.Mutex
	asked []string
	wait  bool // until the context ends
}

type late struct{}

func (late) Error() string { return "no answer came in time" }
func (late) Timeout() bool { return true }

func (h *hanging) Get(ctx context.Context, address string, _ int) ([]byte, error) {
	h.mutex.Lock()
	h.asked = append(h.asked, address)
	h.mutex.Unlock()
	if h.wait {
		<-ctx.Done()
	}
	return nil, late{}
}

func (h *hanging) Post(ctx context.Context, address, _ string, _ []byte, most int) ([]byte, error) {
	return h.Get(ctx, address, most)
}

// TestAskHanging: certificates that name many addresses which do not answer
// cost few questions, and issuers that were slow once are left alone.
func TestAskHanging(t *testing.T) {
	issuer := authority(t, nil, forge.Template{Name: "Skerry"})
	named := func(count int, host string) *pki.Certificate {
		c := leaf(t, issuer, nil)
		var point pki.DistributionPoint
		c.CRLDistributionPoints, c.AuthorityInfo = nil, nil
		for i := range count {
			at := pki.GeneralName{Kind: pki.NameURI, Value: fmt.Sprintf(host, i)}
			point.FullName = append(point.FullName, at)
			c.CRLDistributionPoints = append(c.CRLDistributionPoints,
				pki.DistributionPoint{FullName: point.FullName[i:]})
			for _, method := range []pki.OID{pki.AccessOCSP, pki.AccessCAIssuers} {
				c.AuthorityInfo = append(c.AuthorityInfo, pki.AccessDescription{Method: method, Location: at})
			}
		}
		c.FreshestCRL = c.CRLDistributionPoints
		return c
	}
	near := chain.Surroundings{Store: store(parse(t, issuer.DER))}
	round := func(f chain.Fetcher) *chain.Round {
		return (&chain.Inquirer{Fetch: f, Verifier: &chain.Verifier{},
			Now: func() time.Time { return now }}).Round(t.Context())
	}
	t.Run("two addresses of each kind", func(t *testing.T) {
		h := &hanging{}
		r, c := round(h), named(200, "http://quay%d.tarnholm.example/")
		got := r.Ask(t.Context(), c, parse(t, issuer.DER), nil, near)
		require.Len(t, got, 3)
		for _, f := range got {
			assert.Equal(t, facts.RevocationUnreachable, f.Status)
		}
		assert.Contains(t, words.Of(got[2].Detail), "more than 2 addresses")
		assert.Empty(t, r.FetchIssuers(t.Context(), c, func(*pki.Certificate) bool { return false })[0].Certificates)
		assert.Len(t, h.asked, 2, "whatever they are asked for: two hosts that were slow")
	})
	t.Run("a slow issuer is asked once for all certificates", func(t *testing.T) {
		h := &hanging{}
		r := round(h)
		for range 11 {
			r.Ask(t.Context(), named(4, "http://quay.tarnholm.example/%d"), parse(t, issuer.DER), nil, near)
		}
		assert.Len(t, h.asked, 1)
	})
	t.Run("the time of one target ends for that target alone", func(t *testing.T) {
		h := &hanging{wait: true}
		r, c := round(h), named(9, "http://quay%d.tarnholm.example/")
		short, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		defer cancel()
		for _, f := range r.Ask(short, c, parse(t, issuer.DER), nil, near) {
			assert.Equal(t, facts.RevocationUnreachable, f.Status)
			assert.Equal(t, facts.InquiryTimeOver, f.Detail.Code)
		}
		h.mutex.Lock() // the question goes on, for others
		defer h.mutex.Unlock()
		assert.LessOrEqual(t, len(h.asked), 1)
	})
}
