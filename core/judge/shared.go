package judge

import (
	"context"
	"math/big"

	"nurvik/core/brief"
	"nurvik/core/facts"
	"nurvik/core/keycheck"
	"nurvik/core/pki"
)

// maxSharedBits is the largest modulus that is compared, the largest that signatures are verified with.
const maxSharedBits = 16384

// SharedStep is told how far the search for shared prime factors is.
type SharedStep func(done, total int)

// SharedPrimes looks for prime factors that different RSA keys have in common:
// of everything in the files and of the certificates that endpoints served.
// The result is by the keys' Match. The error is the context's.
func SharedPrimes(ctx context.Context, memory *brief.Memory, files []facts.File, observed []facts.Endpoint,
	step SharedStep) (map[pki.Fingerprint]*big.Int, error) {
	var moduli []*big.Int
	var matches []pki.Fingerprint
	seen := map[pki.Fingerprint]bool{}
	add := func(k pki.PublicKey) {
		// a hostile modulus of megabytes would take hours
		if k.N == nil || k.N.Sign() <= 0 || k.N.BitLen() > maxSharedBits {
			return
		}
		if match := k.Match(); !seen[match] {
			seen[match] = true
			moduli, matches = append(moduli, k.N), append(matches, match)
		}
	}
	for _, f := range files {
		for i := range f.Items {
			if k, ok := publicKey(memory, &f.Items[i]); ok {
				add(k)
			}
		}
	}
	for _, e := range observed {
		for _, o := range e.Observations {
			for _, der := range o.Certificates {
				if c, err := pki.ParseCertificate(der); err == nil {
					add(c.PublicKey)
				}
			}
		}
	}
	factors, err := keycheck.SharedPrimes(ctx, moduli, step)
	if err != nil {
		return nil, err
	}
	out := map[pki.Fingerprint]*big.Int{}
	for i, f := range factors {
		if f != nil {
			out[matches[i]] = f
		}
	}
	return out, nil
}

// CountRSA is how many RSA keys the files hold, the same ones counted each time.
func CountRSA(memory *brief.Memory, files []facts.File) int {
	count := 0
	for _, f := range files {
		for i := range f.Items {
			if k, ok := publicKey(memory, &f.Items[i]); ok && k.N != nil {
				count++
			}
		}
	}
	return count
}

func publicKey(memory *brief.Memory, item *facts.Item) (pki.PublicKey, bool) {
	if b := memory.Of(item); b != nil {
		return b.PublicKey(), true
	}
	return pki.PublicKey{}, false
}
