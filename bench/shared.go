package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"math/big"
	"time"

	"nurvik/core/keycheck"
)

const (
	moduliCount = 20_000
	sharedLimit = 2 * time.Minute
)

// sharedFigure searches as many RSA-2048 moduli for prime factors that they
// share. The moduli are odd numbers of that size: how they came about makes no
// difference to the work. There is no floor for it; the limit is a time.
func sharedFigure() (took time.Duration, err error) {
	moduli := make([]*big.Int, moduliCount)
	for i := range moduli {
		n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 2047))
		if err != nil {
			return 0, err
		}
		moduli[i] = n.SetBit(n.SetBit(n, 2047, 1), 0, 1)
	}
	prime, err := rand.Prime(rand.Reader, 1024) // two that share one, to see that it is found
	if err != nil {
		return 0, err
	}
	for _, i := range []int{100, moduliCount - 100} {
		moduli[i] = new(big.Int).Mul(prime, new(big.Int).SetBit(new(big.Int).Rsh(moduli[i], 1024), 0, 1))
	}
	started := time.Now()
	factors, err := keycheck.SharedPrimes(context.Background(), moduli, nil)
	took = time.Since(started)
	if err != nil {
		return took, err
	}
	for _, i := range []int{100, moduliCount - 100} {
		if factors[i] == nil || new(big.Int).Mod(factors[i], prime).Sign() != 0 {
			return took, fmt.Errorf("modulus %d shares a prime, which was not found", i)
		}
	}
	return took, nil
}
