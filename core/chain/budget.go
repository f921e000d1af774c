package chain

import (
	"context"
	"math"

	"nurvik/core/pki"
)

// Bound is why a search ended before every path was seen; "" where it saw them all.
type Bound string

// The bounds.
const (
	TooManyNamesakes Bound = "candidates"  // more than MaxChecks issuers of the right names
	TooDeep          Bound = "depth"       // a path would have more than MaxPathLength certificates
	TooCostly        Bound = "cost"        // the budget is spent
	Interrupted      Bound = "interrupted" // whoever asked does not want to know any more
)

// Allowance is what a budget begins with, in microseconds of one slow core of
// today. The judgement of an honest file of 50,000 certificates fits in; that of
// no file takes much longer.
const Allowance = 7_600_000

// Budget is what the judgement of one file or endpoint may cost, over all its
// searches. Signatures, comparisons of names and nodes of the policy graph are
// paid from it at fixed prices, so that the same input gives the same result
// on every machine; what was paid for once is free. It is for one goroutine.
type Budget struct {
	ctx  context.Context
	left int
	paid map[[2]pki.Fingerprint]bool
}

// NewBudget begins a judgement, which ends with the context; nil is one without an end.
func NewBudget(ctx context.Context) *Budget {
	return &Budget{ctx: ctx, left: Allowance, paid: map[[2]pki.Fingerprint]bool{}}
}

// spend pays, and reports whether the budget held that much.
func (b *Budget) spend(price int) bool {
	if b.left < price || b.ctx != nil && b.ctx.Err() != nil {
		b.left = min(b.left, 0)
		return false
	}
	b.left -= price
	return true
}

// spendOnce pays for a pair, if that was not done before.
func (b *Budget) spendOnce(pair [2]pki.Fingerprint, price int) bool {
	if b.paid[pair] {
		return b.spend(0)
	}
	if !b.spend(price) {
		return false
	}
	b.paid[pair] = true
	return true
}

// Bound says whether the budget is what ended the work.
func (b *Budget) Bound() Bound {
	switch {
	case b.ctx != nil && b.ctx.Err() != nil:
		return Interrupted
	case b.left <= 0:
		return TooCostly
	}
	return ""
}

// Prices, in microseconds.
const (
	priceOfStep   = 2   // a candidate looked at
	listedAtOnce  = 4   // candidates put in order in one microsecond
	bytesHashed   = 250 // in one microsecond
	bytesCompared = 500 // of names
)

// pricesOfCurves are those of a signature, by the bits of the field.
var pricesOfCurves = map[int]int{224: 480, 384: 1200, 521: 3600}

// priceOf is what a signature check costs. That of RSA grows with the square
// of the modulus and with the length of the exponent: a monstrous key costs
// seconds. DSA raises to the power of two numbers of the length of Q.
func priceOf(key pki.PublicKey, message int) int {
	power := func(bits, exponent int) int {
		return int(min(float64(bits)*float64(bits)*float64(exponent)/1.4e6, math.MaxInt32))
	}
	price := 130
	switch {
	case key.E != nil:
		price = 20 + power(key.Bits, key.E.BitLen())
	case key.DSA != nil && key.DSA.Q != nil:
		price += power(key.Bits, 2*key.DSA.Q.BitLen())
	case pricesOfCurves[key.Bits] > 0:
		price = pricesOfCurves[key.Bits]
	}
	return price + message/bytesHashed
}
