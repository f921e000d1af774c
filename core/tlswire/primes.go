package tlswire

import (
	"fmt"
	"math/big"
	"sync"
)

// knownPrimes are the groups of RFC 2409 (6.2), RFC 3526 and RFC 7919, computed
// as those say: from the digits of pi and e.
var knownPrimes = sync.OnceValue(func() map[string]string {
	out := map[string]string{}
	add := func(name string, bits uint, digits *big.Int, offset int64) {
		// 2^b - 2^(b-64) - 1 + 2^64 * (floor(2^(b-130) * number) + offset)
		p := new(big.Int).Lsh(big.NewInt(1), bits)
		p.Sub(p, new(big.Int).Lsh(big.NewInt(1), bits-64)).Sub(p, big.NewInt(1))
		middle := new(big.Int).Rsh(digits, precision-(bits-130))
		p.Add(p, new(big.Int).Lsh(middle.Add(middle, big.NewInt(offset)), 64))
		out[string(p.Bytes())] = name
	}
	pi, e := pi(), euler()
	for bits, offset := range map[uint]int64{768: 149686, 1024: 129093, 1536: 741804, 2048: 124476, 3072: 1690314,
		4096: 240904, 6144: 929484, 8192: 4743158} {
		name := fmt.Sprintf("RFC 3526, %d bits", bits)
		if bits <= 1024 {
			name = fmt.Sprintf("RFC 2409, %d bits", bits)
		}
		add(name, bits, pi, offset)
	}
	for bits, offset := range map[uint]int64{2048: 560316, 3072: 2625351, 4096: 5736041, 6144: 15705020,
		8192: 10965728} {
		add(fmt.Sprintf("ffdhe%d", bits), bits, e, offset)
	}
	return out
})

// PrimeName is the name of a well-known prime, "" for others.
func PrimeName(prime []byte) string { return knownPrimes()[string(prime)] }

// precision of the numbers below, in bits behind the point.
const precision = 8400

// pi is Machin's formula, in fixed point.
func pi() *big.Int {
	one := new(big.Int).Lsh(big.NewInt(1), precision)
	arctan := func(x int64) *big.Int { // of 1/x
		total, power := new(big.Int), new(big.Int).Div(one, big.NewInt(x))
		for n, sign := int64(1), int64(1); power.Sign() != 0; n, sign = n+2, -sign {
			term := new(big.Int).Div(power, big.NewInt(n*sign))
			if sign < 0 {
				term.Neg(new(big.Int).Div(power, big.NewInt(n)))
			}
			total.Add(total, term)
			power.Div(power, big.NewInt(x*x))
		}
		return total
	}
	a := arctan(5)
	a.Mul(a, big.NewInt(16)).Sub(a, new(big.Int).Mul(arctan(239), big.NewInt(4)))
	return a
}

// euler is the sum of 1/k!, in fixed point.
func euler() *big.Int {
	total, term := new(big.Int), new(big.Int).Lsh(big.NewInt(1), precision)
	for k := int64(1); term.Sign() != 0; k++ {
		total.Add(total, term)
		term.Div(term, big.NewInt(k))
	}
	return total
}
