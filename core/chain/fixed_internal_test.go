package chain

import (
	"context"
	"errors"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"nurvik/core/pki"
	"nurvik/core/trust"
)

// TestBudget: what is spent is exact, so that the same input gives the same result everywhere.
func TestBudget(t *testing.T) {
	var none context.Context // without an end
	b := NewBudget(none)
	b.left = 10
	pair := [2]pki.Fingerprint{{1}, {2}}
	assert.True(t, b.spendOnce(pair, 9))
	assert.Equal(t, 1, b.left)
	assert.Empty(t, b.Bound(), "one is left")
	assert.True(t, b.spend(1), "all that is left may be spent")
	assert.Equal(t, TooCostly, b.Bound())
	assert.True(t, b.spendOnce(pair, 9), "what was paid is free, also when nothing is left")
	assert.False(t, b.spendOnce([2]pki.Fingerprint{{3}}, 1))
	assert.False(t, b.spend(1))

	ctx, cancel := context.WithCancel(context.Background())
	b = NewBudget(ctx)
	assert.True(t, b.spend(1))
	assert.Empty(t, b.Bound())
	cancel()
	assert.False(t, b.spend(0), "nothing more is paid when nobody wants to know")
	assert.Equal(t, Interrupted, b.Bound())
	assert.Zero(t, b.left)
}

// TestPrices: a change of a price changes what is given up, so it is made on purpose.
func TestPrices(t *testing.T) {
	rsa := func(bits int, e int64) pki.PublicKey { return pki.PublicKey{Bits: bits, E: big.NewInt(e)} }
	dsa := pki.PublicKey{Bits: 1024, DSA: &pki.DSANumbers{Q: new(big.Int).Lsh(big.NewInt(1), 159)}}
	for _, tt := range []struct {
		name    string
		key     pki.PublicKey
		message int
		want    int
	}{
		{"RSA 2048", rsa(2048, 65537), 0, 20 + 50},
		{"RSA 16384", rsa(16384, 65537), 0, 20 + 3259},
		{"a monstrous exponent", pki.PublicKey{Bits: 1 << 17, E: new(big.Int).Lsh(big.NewInt(1), 1<<17)}, 0, 20 +
			1608440709},
		{"DSA", dsa, 0, 130 + 239},
		{"DSA without parameters", pki.PublicKey{Bits: 1024}, 0, 130},
		{"P-224", pki.PublicKey{Bits: 224}, 0, 480},
		{"P-256", pki.PublicKey{Bits: 256}, 0, 130},
		{"P-384", pki.PublicKey{Bits: 384}, 0, 1200},
		{"P-521", pki.PublicKey{Bits: 521}, 0, 3600},
		{"a long message", pki.PublicKey{Bits: 256}, 1000, 134},
	} {
		assert.Equal(t, tt.want, priceOf(tt.key, tt.message), tt.name)
	}
	names := func(n int) []pki.GeneralName {
		out := make([]pki.GeneralName, n)
		for i := range out {
			out[i].Value = "0123456789012345678901234567890123456789" // 40 bytes
		}
		return out
	}
	constraints := &pki.NameConstraints{Permitted: names(2), Excluded: names(1)}
	assert.Equal(t, (1000*(3*50+3*40/8+30)+3*50)/500, priceOfNames(constraints,
		&pki.Certificate{AltNames: names(1000)}))
	subject := pki.Name{Raw: make([]byte, 8000)}
	assert.Equal(t, (3*50+3*8000/8+8000)/500, priceOfNames(constraints, &pki.Certificate{Subject: subject}))
}

// TestCandidatesInOrder: anchors before the others where all else is equal, and those whose identifier fits first.
func TestCandidatesInOrder(t *testing.T) {
	with := func(id ...byte) *pki.Certificate { return &pki.Certificate{SubjectKeyID: id} }
	below := &pki.Certificate{AuthorityKeyID: []byte{1}}
	anchor := &trust.Anchor{}
	for _, tt := range []struct {
		name string
		c    *pki.Certificate
		next candidate
		want int
	}{
		{"an anchor that fits", below, candidate{certificate: with(1), anchor: anchor}, 0},
		{"one that fits", below, candidate{certificate: with(1)}, 1},
		{"an anchor without an identifier", below, candidate{certificate: with(), anchor: anchor}, 2},
		{"one without an identifier", below, candidate{certificate: with()}, 3},
		{"an anchor that does not fit", below, candidate{certificate: with(2), anchor: anchor}, 4},
		{"one that does not fit", below, candidate{certificate: with(2)}, 5},
		{"nothing is asked for", &pki.Certificate{}, candidate{certificate: with(2), anchor: anchor}, 2},
	} {
		assert.Equal(t, tt.want, identifierRank(tt.c, tt.next), tt.name)
	}
	now := time.Unix(1.8e9, 0)
	lasting := func(from, until int) *pki.Certificate {
		return &pki.Certificate{NotBefore: now.AddDate(0, 0, from), NotAfter: now.AddDate(0, 0, until)}
	}
	past, short, long, future := lasting(-9, -1), lasting(-9, 1), lasting(-9, 2), lasting(1, 9)
	s := &search{query: Query{At: now}}
	assert.Equal(t, []*pki.Certificate{long, short, future, past},
		s.newest([]*pki.Certificate{past, short, future, long}))
	assert.Equal(t, []*pki.Certificate{long, past}, s.newest([]*pki.Certificate{past, long}))
}

// TestBetterPaths: of two paths one thing after the other counts.
func TestBetterPaths(t *testing.T) {
	of := func(n int, change func(*Path)) Path {
		p := Path{Certificates: make([]*pki.Certificate, n), Anchor: &trust.Anchor{}}
		change(&p)
		return p
	}
	nothing := func(*Path) {}
	for _, tt := range []struct {
		name          string
		better, worse Path
	}{
		{"an anchor", of(5, func(p *Path) { p.Failures = make([]Failure, 3) }),
			of(2, func(p *Path) { p.Anchor = nil })},
		{"no failure", of(5, func(p *Path) { p.OutOfDate = 3 }), of(2,
			func(p *Path) { p.Failures = make([]Failure, 1) })},
		{"in date", of(5, func(p *Path) { p.Borrowed = 3 }), of(2, func(p *Path) { p.OutOfDate = 1 })},
		{"given", of(5, func(p *Path) { p.Weak = 3 }), of(2, func(p *Path) { p.Borrowed = 1 })},
		{"no weak hash", of(5, nothing), of(2, func(p *Path) { p.Weak = 1 })},
		{"the shorter", of(2, nothing), of(3, nothing)},
		{"the longer, without an anchor", of(3, func(p *Path) { p.Anchor = nil }),
			of(2, func(p *Path) { p.Anchor = nil })},
	} {
		assert.True(t, better(tt.better, tt.worse), tt.name)
		assert.False(t, better(tt.worse, tt.better), tt.name)
		assert.False(t, better(tt.better, tt.better), "%s: none is better than itself", tt.name)
	}
}

// TestRecallAfterSomebodyElseGaveUp: that whoever asked first was called off is no answer for others.
func TestRecallAfterSomebodyElseGaveUp(t *testing.T) {
	asked := 0
	get := func(context.Context) (got[int], error) {
		if asked++; asked == 1 {
			return got[int]{}, context.Canceled
		}
		return got[int]{value: 7, until: time.Now().Add(time.Hour)}, nil
	}
	value, err := recall(context.Background(), context.Background(), &memory{}, "x", time.Now, get)
	assert.NoError(t, err)
	assert.Equal(t, 7, value)
	assert.Equal(t, 2, asked)

	beneath, cancel := context.WithCancel(context.Background())
	cancel()
	asked = 0
	_, err = recall(context.Background(), beneath, &memory{}, "x", time.Now, get)
	assert.ErrorIs(t, err, context.Canceled, "what it is for is over")
	assert.Equal(t, 1, asked)

	m := &memory{}
	failed := errors.New("no")
	_, _ = recall(context.Background(), context.Background(), m, "y", time.Now,
		func(context.Context) (got[int], error) { return got[int]{until: time.Now().Add(time.Hour)}, failed })
	assert.Equal(t, failed, m.failure("y", time.Now()))
	assert.NoError(t, m.failure("y", time.Now().Add(2*time.Hour)))
}

// TestReasonMask: bit strings of RFC 5280, 4.2.1.13, with the number of unused bits first.
func TestReasonMask(t *testing.T) {
	for _, tt := range []struct {
		bits []byte
		want int
	}{
		{nil, reasonBits}, {[]byte{0}, 0}, {[]byte{0, 0x80}, 0}, {[]byte{0, 0x40}, 1 << 1}, {[]byte{0, 0x41},
			1<<1 | 1<<7},
		{[]byte{7, 0, 0x80}, 1 << 8}, {[]byte{6, 0, 0x40}, 0}, {[]byte{0, 0xff, 0xff, 0xff}, reasonBits},
	} {
		assert.Equal(t, tt.want, reasonMask(tt.bits), "%x", tt.bits)
	}
}
