// Package keycheck looks for public keys whose private part can be computed
// by others, and for keys of unusual kinds. It needs no private key.
package keycheck

import (
	"fmt"
	"math/big"
	"slices"
	"sync"

	"nurvik/core/pki"
)

// Weakness is a reason why a key protects nothing.
type Weakness string

// The weaknesses.
const (
	ExponentOne Weakness = "exponent-one" // encryption and signature do nothing
	EvenNumbers Weakness = "even-numbers" // an even modulus or exponent, which is no RSA
	SmallFactor Weakness = "small-factor" // a prime below 2000 divides the modulus
	ClosePrimes Weakness = "close-primes" // Fermat's method finds the factors
	Structured  Weakness = "structured"   // primes of the structure of CVE-2017-15361, called ROCA
)

// Finding is one weakness with the words for it.
type Finding struct {
	Weakness Weakness
	Text     string
}

// fermatSteps is how many differences are tried: keys made by a sound
// generator are out of reach of any number of steps, broken ones fall in the first few.
const fermatSteps = 32

// Weaknesses examines one key. Only RSA keys have weaknesses that can be seen from outside.
func Weaknesses(k pki.PublicKey) []Finding {
	if k.N == nil || k.E == nil || k.N.Sign() <= 0 || k.Bits > 16384 {
		return nil
	}
	var out []Finding
	add := func(w Weakness, format string, args ...any) {
		out = append(out, Finding{w, fmt.Sprintf(format, args...)})
	}
	switch {
	case k.E.Cmp(big.NewInt(1)) == 0:
		add(ExponentOne, "its public exponent is 1, so that nothing is encrypted or signed")
	case k.N.Bit(0) == 0 || k.E.Bit(0) == 0:
		add(EvenNumbers, "its modulus or public exponent is even, which no RSA key has")
	}
	if p := smallFactor(k.N); p > 2 {
		add(SmallFactor, "its modulus can be divided by %d, so that it is easily factored", p)
		return out
	}
	if k.N.Bit(0) == 1 && closePrimes(k.N) {
		add(ClosePrimes, "its two primes lie so close together that Fermat's method finds them at once")
	}
	if structured(k.N) {
		add(Structured, "its modulus carries the fingerprint of a faulty key generator (CVE-2017-15361), and can be factored")
	}
	return out
}

// Unusual says why a key that is not weak may be refused by some clients; "" when it may not.
func Unusual(k pki.PublicKey) string {
	switch {
	case k.Algorithm == pki.KeyEC && pki.OddCurve(k.Curve):
		return "the curve " + k.Curve + " is not spoken by ordinary TLS clients"
	case k.E != nil && k.E.Cmp(big.NewInt(3)) == 0:
		return "its public exponent is 3, where 65537 is usual"
	case k.N != nil && k.Bits > 8192:
		return fmt.Sprintf("with %d bits it is larger than some programs accept, and slow", k.Bits)
	}
	return ""
}

// smallPrimes are the odd primes below 2000, and products of neighbours that
// fit into a word: one division by a product serves several primes.
var smallPrimes = sync.OnceValue(func() (s struct {
	primes   []int64
	products []*big.Int
	members  [][]int64
}) {
	for n := int64(3); n < 2000; n += 2 {
		if !slices.ContainsFunc(s.primes, func(p int64) bool { return n%p == 0 }) {
			s.primes = append(s.primes, n)
		}
	}
	product, members := int64(1), []int64(nil)
	for _, p := range append(s.primes, 0) {
		if p == 0 || product > (1<<62)/p {
			s.products, s.members = append(s.products, big.NewInt(product)), append(s.members, members)
			product, members = 1, nil
		}
		if p > 0 {
			product *= p
			members = append(members, p)
		}
	}
	return s
})

// smallFactor returns a prime that divides the number, 0 for none below 2000.
func smallFactor(n *big.Int) int64 {
	small, rest := smallPrimes(), new(big.Int)
	for i, product := range small.products {
		r := rest.Rem(n, product).Int64()
		for _, p := range small.members[i] {
			if r%p == 0 {
				return p
			}
		}
	}
	return 0
}

// closePrimes tries a few steps of Fermat's factorisation: n = a² − b² with a just above √n.
func closePrimes(n *big.Int) bool {
	a := new(big.Int).Sqrt(n)
	square := new(big.Int).Mul(a, a)
	if square.Cmp(n) == 0 {
		return true
	}
	a.Add(a, big.NewInt(1))
	difference := square.Mul(a, a)
	difference.Sub(difference, n)
	step := new(big.Int).Lsh(a, 1)
	step.Add(step, big.NewInt(1))
	two, root, check := big.NewInt(2), new(big.Int), new(big.Int)
	for range fermatSteps {
		// A square leaves one of few remainders, which spares most roots.
		if low := difference.Bits(); len(low) == 0 || squareRemainders>>(uint64(low[0])&63)&1 == 1 {
			if check.Mul(root.Sqrt(difference), root).Cmp(difference) == 0 {
				return true
			}
		}
		difference.Add(difference, step)
		step.Add(step, two)
	}
	return false
}

// squareRemainders has a bit for each remainder of a square divided by 64.
var squareRemainders = func() (mask uint64) {
	for i := range uint64(64) {
		mask |= 1 << (i * i % 64)
	}
	return mask
}()

// structurePrimes are the primes of the published test (Nemec and others,
// "The Return of Coppersmith's Attack", 2017, section 2.3): moduli of the
// faulty generator are powers of 65537 modulo each of them.
var structurePrimes = sync.OnceValue(func() (s struct {
	product *big.Int
	powers  map[int64][]bool
}) {
	s.product, s.powers = big.NewInt(1), map[int64][]bool{}
	for _, p := range smallPrimes().primes {
		if p > 167 {
			break
		}
		powers := make([]bool, p)
		for x := int64(1); !powers[x]; x = x * 65537 % p {
			powers[x] = true
		}
		s.powers[p] = powers
		s.product.Mul(s.product, big.NewInt(p))
	}
	return s
})

func structured(n *big.Int) bool {
	s := structurePrimes()
	reduced := new(big.Int).Rem(n, s.product)
	rest, divisor := new(big.Int), new(big.Int)
	for _, p := range smallPrimes().primes {
		powers, ok := s.powers[p]
		if !ok {
			break
		}
		if !powers[rest.Rem(reduced, divisor.SetInt64(p)).Int64()] {
			return false
		}
	}
	return true
}
