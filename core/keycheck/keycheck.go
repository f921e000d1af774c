// Package keycheck looks for public keys whose private part can be computed
// by others, and for keys of unusual kinds. It needs no private key.
package keycheck

import (
	"fmt"
	"math/big"
	"math/bits"
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
		add(ClosePrimes, "its two primes are so close together that Fermat's method finds them at once")
	}
	if structured(k.N) {
		add(Structured,
			"its modulus carries the fingerprint of a faulty key generator (CVE-2017-15361), and can be factored")
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

// smallPrimes are the odd primes below 2000.
var smallPrimes = sync.OnceValue(func() (primes []int64) {
	for n := int64(3); n < 2000; n += 2 {
		if !slices.ContainsFunc(primes, func(p int64) bool { return n%p == 0 }) {
			primes = append(primes, n)
		}
	}
	return primes
})

// primeGroup is some small primes whose products are shared: a number is reduced
// by the product of all of them first, and then by those that fit into a word.
type primeGroup struct {
	product *big.Int
	words   []uint64
	members [][]int64 // primes of each word
}

var primeGroups = sync.OnceValue(func() (groups []primeGroup) {
	product, members := int64(1), []int64(nil)
	current := primeGroup{product: big.NewInt(1)}
	for _, p := range append(slices.Clone(smallPrimes()), 0) {
		if p == 0 || product > (1<<(bits.UintSize-2))/p {
			current.words, current.members = append(current.words, uint64(product)), append(current.members, members)
			current.product.Mul(current.product, big.NewInt(product))
			product, members = 1, nil
		}
		if p == 0 || len(current.words) == 4 {
			groups = append(groups, current)
			current = primeGroup{product: big.NewInt(1)}
		}
		if p > 0 {
			product *= p
			members = append(members, p)
		}
	}
	return groups
})

// smallFactor returns a prime that divides the number, 0 for none below 2000.
func smallFactor(n *big.Int) int64 {
	quotient, rest := new(big.Int), new(big.Int)
	for _, g := range primeGroups() {
		quotient.QuoRem(n, g.product, rest)
		for i, word := range g.words {
			r := int64(remainder(rest, word))
			for _, p := range g.members[i] {
				if r%p == 0 {
					return p
				}
			}
		}
	}
	return 0
}

// remainder is n modulo a number of at most 63 bits.
func remainder(n *big.Int, by uint64) uint64 {
	words, r := n.Bits(), uint64(0)
	for i := len(words) - 1; i >= 0; i-- {
		if bits.UintSize == 32 {
			r = (r<<32 | uint64(words[i])) % by // the products of 32-bit machines fit
			continue
		}
		_, r = bits.Div64(r, uint64(words[i]), by)
	}
	return r
}

// closePrimes tries a few steps of Fermat's factorisation: n = a² − b² with a just above √n.
func closePrimes(n *big.Int) bool {
	a := root(n)
	square := new(big.Int).Mul(a, a)
	if square.Cmp(n) == 0 {
		return true
	}
	a.Add(a, big.NewInt(1))
	difference := square.Mul(a, a)
	difference.Sub(difference, n)
	step := new(big.Int).Lsh(a, 1)
	step.Add(step, big.NewInt(1))
	two, check := big.NewInt(2), new(big.Int)
	for range fermatSteps {
		if maybeSquare(difference) {
			if b := root(difference); check.Mul(b, b).Cmp(difference) == 0 {
				return true
			}
		}
		difference.Add(difference, step)
		step.Add(step, two)
	}
	return false
}

// root is the largest integer whose square is not larger than n. It begins with
// the root of the upper half, so that one division for each doubling of the
// size is enough; big.Int.Sqrt does eleven for a modulus.
func root(n *big.Int) *big.Int {
	if n.BitLen() <= 64 {
		return new(big.Int).Sqrt(n)
	}
	half := uint(n.BitLen()) / 4
	s := root(new(big.Int).Rsh(n, 2*half))
	s.Lsh(s, half)
	s.Add(s, new(big.Int).Quo(n, s)).Rsh(s, 1)
	one, square := big.NewInt(1), new(big.Int)
	for square.Mul(s, s).Cmp(n) > 0 {
		s.Sub(s, one)
	}
	for square.Mul(s.Add(s, one), s).Cmp(n) <= 0 {
	}
	return s.Sub(s, one)
}

// maybeSquare spares nearly all roots: a square leaves one of few remainders.
func maybeSquare(n *big.Int) bool {
	low := n.Bits()
	if len(low) > 0 && !squares(64)[low[0]&63] {
		return false
	}
	r := remainder(n, 63*65*11*17*19)
	return squares(63)[r%63] && squares(65)[r%65] && squares(11)[r%11] && squares(17)[r%17] && squares(19)[r%19]
}

// squares tells which remainders by the number squares leave.
func squares(by int) []bool { return squareTables()[by] }

var squareTables = sync.OnceValue(func() map[int][]bool {
	tables := map[int][]bool{}
	for _, by := range []int{64, 63, 65, 11, 17, 19} {
		tables[by] = make([]bool, by)
		for i := range by {
			tables[by][i*i%by] = true
		}
	}
	return tables
})

// structurePrimes are the primes of the published test (Nemec and others,
// "The Return of Coppersmith's Attack", 2017, section 2.3): moduli of the
// faulty generator are powers of 65537 modulo each of them.
var structurePrimes = sync.OnceValue(func() (s struct {
	product *big.Int
	powers  map[int64][]bool
}) {
	s.product, s.powers = big.NewInt(1), map[int64][]bool{}
	for _, p := range smallPrimes() {
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
	for _, p := range smallPrimes() {
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
