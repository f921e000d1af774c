package secrets

import (
	"bytes"
	"slices"
)

// Tags of DER (X.690, 8).
const (
	tagInteger  = 0x02
	tagBits     = 0x03
	tagOctets   = 0x04
	tagOID      = 0x06
	tagSequence = 0x30
	tagZero     = 0xa0 // [0], and [1] behind it
	tagOne      = 0xa1
)

// Sizes in bytes of what makes a structure a key.
const (
	leastSecret = 16 // of the secret part
	leastNumber = 32 // of a modulus: 256 bits
	mostKey     = 64 << 10
	mostVersion = 16 // versions that are told apart from chance
)

// magics begin containers that hold keys: Java keystores of both kinds, and OpenSSH's form.
var magics = [][]byte{{0xfe, 0xed, 0xfe, 0xed, 0, 0, 0}, {0xce, 0xce, 0xce, 0xce, 0, 0, 0},
	[]byte("openssh-key-v1\x00")}

// hasKey reports whether a private key begins anywhere in the bytes. whole says
// that the bytes are all that there is.
func hasKey(data []byte, whole bool) bool {
	for _, magic := range magics {
		if bytes.Contains(data, magic) {
			return true
		}
	}
	// CurvePrivateKey alone (RFC 8410, 7), which is too short to be looked for everywhere.
	if whole && len(data) >= 34 && data[0] == tagOctets && int(data[1]) == len(data)-2 && data[2] == tagOctets &&
		int(data[3]) == len(data)-4 {
		return true
	}
	for at := bytes.IndexByte(data, tagSequence); at >= 0; {
		if isKey(data[at:]) {
			return true
		}
		next := bytes.IndexByte(data[at+1:], tagSequence)
		if next < 0 {
			return false
		}
		at += 1 + next
	}
	return false
}

// element is one of DER or BER whose contents may be cut off.
type element struct {
	tag     byte
	length  int // as it says; -1 for the indefinite one
	content []byte
	rest    []byte
}

func read(data []byte) (e element, ok bool) {
	if len(data) < 2 {
		return e, false
	}
	e.tag, e.length = data[0], int(data[1])
	head := 2
	if e.length >= 0x80 {
		count := e.length & 0x7f
		if count > 4 || len(data) < 2+count {
			return e, false
		}
		e.length, head = 0, 2+count
		for _, b := range data[2:head] {
			e.length = e.length<<8 | int(b)
		}
		if count == 0 {
			e.length = -1
		}
	}
	e.content = data[head:]
	if e.length >= 0 && e.length < len(e.content) {
		e.content, e.rest = e.content[:e.length], e.content[e.length:]
	}
	return e, true
}

// isKey recognises the structures that private keys come in by what they begin
// with. The secret itself may be cut off, wrong or encrypted. Nothing that is
// public begins like any of them.
func isKey(data []byte) bool {
	outer, ok := read(data)
	if !ok || outer.length >= 0 && outer.length < leastSecret || outer.length > mostKey {
		return false
	}
	first, ok := read(outer.content)
	if !ok {
		return false
	}
	second, more := read(first.rest)
	switch {
	case first.tag == tagInteger && first.length == 1 && len(first.content) == 1 && more:
		return second.length <= mostKey && afterVersion(first.content[0], second)
	case first.tag == tagInteger && first.length >= leastNumber: // n, e, d … without the version
		// Parameters of key exchanges are up to four numbers too, with another second one.
		count := integers(outer.content)
		return count >= 5 || count >= 3 && bytes.Equal(second.content, []byte{1, 0, 1})
	case first.tag == tagSequence && more && second.tag == tagOctets:
		return afterAlgorithm(first, second)
	case first.tag == tagOctets && first.length >= leastSecret && first.length <= 80 && more:
		// An EC key without its version (RFC 5915, 3): a scalar, and the curve or the public point.
		inner, ok := read(second.content)
		return ok && (second.tag == tagZero && inner.tag == tagOID && inner.length < 12 &&
			inner.length+2 == second.length ||
			second.tag == tagOne && inner.tag == tagBits && inner.length+2 == second.length)
	}
	return false
}

// afterVersion decides by what follows a small number at the begin.
func afterVersion(version byte, second element) bool {
	switch second.tag {
	case tagInteger: // RSA and DSA: 0, and a large number (RFC 8017, A.1.2)
		return second.length >= leastNumber && version < mostVersion
	case tagOctets: // EC (RFC 5915, 3), or PKCS#8 without its algorithm
		return second.length >= leastSecret && version < mostVersion
	case tagSequence:
		id, ok := read(second.content)
		if !ok || id.tag != tagOID || id.length < 2 || id.length > 16 {
			return false
		}
		if bytes.HasPrefix(id.content, pkcs7) { // PKCS#12 (RFC 7292, 4)
			return true
		}
		key, ok := read(second.rest) // PKCS#8 (RFC 5958, 2)
		return ok && key.tag == tagOctets && key.length >= leastSecret
	}
	return false
}

// Prefixes of object identifiers.
var (
	pkcs7 = []byte{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 7}
	// keyAlgorithms are those of keys, and those by which keys are encrypted (RFC 8018, RFC 7292).
	keyAlgorithms = [][]byte{
		{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 1}, {0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 3},
		{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 5}, {0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 12},
		{0x2a, 0x86, 0x48, 0xce, 0x3d, 2}, {0x2a, 0x86, 0x48, 0xce, 0x38, 4}, {0x2a, 0x86, 0x48, 0xce, 0x3e, 2},
		{0x2b, 0x65}, {0x60, 0x86, 0x48, 1, 0x65, 3, 4, 3},
	}
)

// afterAlgorithm decides by an algorithm and a byte string: an encrypted key
// (RFC 5958, 3), or PKCS#8 without its version. A digest has this form too, with
// the algorithm of a hash and no more than 64 bytes.
func afterAlgorithm(algorithm, secret element) bool {
	id, ok := read(algorithm.content)
	if !ok || id.tag != tagOID || secret.length >= 0 && secret.length < leastSecret {
		return false
	}
	if slices.ContainsFunc(keyAlgorithms, func(prefix []byte) bool { return bytes.HasPrefix(id.content, prefix) }) {
		return true
	}
	parameters, ok := read(id.rest)
	return ok && parameters.tag == tagSequence && secret.length > 64
}

// integers counts the numbers that a structure begins with, the last of which may be cut off.
func integers(content []byte) (count int) {
	for len(content) > 0 {
		e, ok := read(content)
		if !ok || e.tag != tagInteger || e.length < 1 {
			break
		}
		content = e.rest
		count++
	}
	return count
}
