package compare

import (
	"crypto"

	"nurvik/core/pki"
)

// weaker reports whether the second key is weaker than the first: by its size where
// both are of one kind, else by the level that is said of its size.
func weaker(first, second pki.PublicKey) bool {
	if first.Algorithm == second.Algorithm && first.Bits > 0 && second.Bits > 0 {
		return second.Bits < first.Bits
	}
	a, b := level(first), level(second)
	return a > 0 && b > 0 && b < a
}

// level is the strength in bits as NIST SP 800-57 part 1, table 2, has it; 0 where it is not known.
func level(k pki.PublicKey) int {
	steps := []struct{ bits, level int }{{15360, 256}, {7680, 192}, {3072, 128}, {2048, 112}, {1024, 80}, {1, 40}}
	switch k.Algorithm {
	case pki.KeyRSA, pki.KeyRSAPSS, pki.KeyDSA:
	case pki.KeyEC:
		steps = []struct{ bits, level int }{{512, 256}, {384, 192}, {256, 128}, {224, 112}, {160, 80}, {1, 40}}
	case pki.KeyEd25519:
		return 128
	case pki.KeyEd448:
		return 192
	case pki.KeyMLDSA:
		return map[string]int{"44": 128, "65": 192, "87": 256}[k.Level]
	default:
		return 0
	}
	for _, s := range steps {
		if k.Bits >= s.bits {
			return s.level
		}
	}
	return 0
}

// hashStrength orders the hashes of signatures; those that have none of their own are as good as SHA-512.
func hashStrength(a pki.SignatureAlgorithm) int {
	switch a.Hash {
	case crypto.MD5:
		return 1
	case crypto.SHA1:
		return 2
	case crypto.SHA224:
		return 3
	case crypto.SHA256:
		return 4
	case crypto.SHA384:
		return 5
	}
	if a.HashName() == "MD2" {
		return 0
	}
	return 6
}
