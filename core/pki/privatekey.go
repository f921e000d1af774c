package pki

import (
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"encoding/asn1"
	"errors"
	"fmt"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
)

// PrivateKey is what may be told of a private key: its public half, and
// whether its parts agree. The private part itself is not kept.
type PrivateKey struct {
	Public   PublicKey // Raw is nil when the public half cannot be computed here
	Problems []string  // what does not agree inside, in words
}

// Comparable reports whether the public half is known.
func (k *PrivateKey) Comparable() bool { return k.Public.Raw != nil }

// ErrNoKey is wrapped by the errors of the private key parsers.
var ErrNoKey = errors.New("not a private key that can be read")

// public sets the public half, unless what is written of it is none.
func (k *PrivateKey) public(der []byte) {
	if public, err := ParsePublicKey(der); err == nil {
		k.Public = public
	}
}

func noKey(reason string) error { return &keyError{reason} }

type keyError struct{ reason string }

func (e *keyError) Error() string { return ErrNoKey.Error() + ": " + e.reason }
func (e *keyError) Unwrap() error { return ErrNoKey }

// ParsePKCS8 reads an unencrypted PrivateKeyInfo (RFC 5208, 5) or
// OneAsymmetricKey (RFC 5958, 2). The error wraps ErrNoKey.
func ParsePKCS8(der []byte) (*PrivateKey, error) {
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	outer, ok := d.take(&s, tagSequence, "privateKeyInfo")
	if !ok {
		return nil, noKey("it is cut off or no DER")
	}
	s = cryptobyte.String(outer.content)
	version, okVersion := d.take(&s, tagInteger, "version")
	alg, okAlg := d.take(&s, tagSequence, "privateKeyAlgorithm")
	private, okPrivate := d.take(&s, tagOctetString, "privateKey")
	if n, ok := d.smallInt(version, "version"); !okVersion || !okAlg || !okPrivate || !ok || n > 1 {
		return nil, noKey("it has not the structure of PKCS#8")
	}
	_, _ = d.optional(&s, contextTag(0, true), "attributes")
	var stated []byte // the public half as written beside the private one
	if el, ok := d.optional(&s, contextTag(1, false), "publicKey"); ok {
		stated, _, _ = d.bitString(el, "publicKey")
	}
	id, parameters := d.algorithm(alg, "privateKeyAlgorithm")
	return newPrivate(id, parameters, private.content, stated)
}

func newPrivate(id OID, parameters, private, stated []byte) (*PrivateKey, error) {
	switch known := keyAlgorithms[id]; known.algorithm {
	case KeyRSA:
		return ParsePKCS1(private)
	case KeyRSAPSS:
		k, err := ParsePKCS1(private)
		if err == nil {
			k.Public.ID, k.Public.Algorithm = id, KeyRSAPSS
		}
		return k, err
	case KeyEC:
		return sec1(private, parameters)
	case KeyDSA:
		return dsaPrivate(parameters, private)
	default:
		return rawPrivate(id, known.algorithm, parameters, private, stated), nil
	}
}

// rawPrivate handles keys that are bytes without structure (RFC 8410), and those that are only recognised.
func rawPrivate(id OID, algorithm KeyAlgorithm, parameters, private, stated []byte) *PrivateKey {
	k := &PrivateKey{Public: PublicKey{ID: id, Algorithm: algorithm, Bits: keyAlgorithms[id].bits, Level: levels[id]}}
	if algorithm == "" {
		k.Public.Algorithm = KeyUnknown
	}
	s, seed := cryptobyte.String(private), cryptobyte.String(nil)
	hasSeed := s.ReadASN1(&seed, tagOctetString) && len(seed) == 32
	var computed []byte
	switch {
	case algorithm == KeyEd25519 && hasSeed:
		computed = ed25519.NewKeyFromSeed(seed).Public().(ed25519.PublicKey)
	case algorithm == KeyX25519 && hasSeed:
		if x, err := ecdh.X25519().NewPrivateKey(seed); err == nil {
			computed = x.PublicKey().Bytes()
		}
	case algorithm == KeyEd25519, algorithm == KeyX25519:
		k.Problems = append(k.Problems, "the private part has not 32 bytes")
	}
	if computed != nil && stated != nil && string(computed) != string(stated) {
		k.Problems = append(k.Problems, "the public part that is written beside it belongs to another key")
	}
	if computed == nil {
		computed = stated
	}
	if computed != nil {
		k.public(keyInfo(id, parameters, computed))
	}
	return k
}

// ParsePKCS1 reads an RSAPrivateKey (RFC 8017, A.1.2). The error wraps ErrNoKey.
func ParsePKCS1(der []byte) (*PrivateKey, error) {
	numbers, ok := integers(der, 9)
	if !ok || numbers[0].Sign() != 0 && numbers[0].Int64() != 1 {
		return nil, noKey("it has not the structure of an RSA key")
	}
	n, e := numbers[1], numbers[2]
	if n.Sign() <= 0 || e.Sign() <= 0 {
		return nil, noKey("the modulus or exponent of the RSA key is not positive")
	}
	public, _ := ParsePublicKey(rsaInfo(n, e))
	return &PrivateKey{Public: public, Problems: rsaProblems(numbers)}, nil
}

// rsaProblems checks what RFC 8017, section 3.2, demands of the numbers n, e, d, p, q, dP, dQ, qInv.
func rsaProblems(numbers []*big.Int) []string {
	n, e, d, p, q := numbers[1], numbers[2], numbers[3], numbers[4], numbers[5]
	if numbers[0].Sign() != 0 || n.BitLen() > maxRSABits || e.BitLen() > n.BitLen() {
		return nil // more than two primes, of which the others follow, or too costly to check
	}
	one := big.NewInt(1)
	var out []string
	if p.Cmp(one) <= 0 || q.Cmp(one) <= 0 || new(big.Int).Mul(p, q).Cmp(n) != 0 {
		return []string{"the primes do not multiply to the modulus"}
	}
	if p.Bit(0) == 0 || q.Bit(0) == 0 {
		out = append(out, "a factor of the modulus is even, so no prime")
	}
	for _, prime := range []struct {
		p, exponent *big.Int
		name        string
	}{{p, numbers[6], "first"}, {q, numbers[7], "second"}} {
		below := new(big.Int).Sub(prime.p, one)
		product := new(big.Int).Mul(e, d)
		if product.Mod(product, below).Cmp(one) != 0 {
			return append(out, "the private exponent does not belong to the public one")
		}
		if new(big.Int).Mod(d, below).Cmp(prime.exponent) != 0 {
			out = append(out, "the "+prime.name+" shortened exponent is wrong")
		}
	}
	if check := new(big.Int).Mul(q, numbers[8]); check.Mod(check, p).Cmp(one) != 0 {
		out = append(out, "the coefficient is wrong")
	}
	return out
}

// ParseSEC1 reads an ECPrivateKey with its curve inside (RFC 5915, 3). The error wraps ErrNoKey.
func ParseSEC1(der []byte) (*PrivateKey, error) { return sec1(der, nil) }

func sec1(der, parameters []byte) (*PrivateKey, error) {
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	outer, ok := d.take(&s, tagSequence, "ecPrivateKey")
	if !ok {
		return nil, noKey("it is cut off or no DER")
	}
	s = cryptobyte.String(outer.content)
	_, okVersion := d.take(&s, tagInteger, "version")
	private, okPrivate := d.take(&s, tagOctetString, "privateKey")
	if !okVersion || !okPrivate {
		return nil, noKey("it has not the structure of an EC key")
	}
	if el, ok := d.optional(&s, contextTag(0, true), "parameters"); ok {
		parameters = el.content
	}
	var stated []byte
	if el, ok := d.optional(&s, contextTag(1, true), "publicKey"); ok {
		inner := cryptobyte.String(el.content)
		if bits, ok := d.take(&inner, tagBitString, "publicKey"); ok {
			stated, _, _ = d.bitString(bits, "publicKey")
		}
	}
	if len(parameters) == 0 {
		return nil, noKey("the EC key does not name its curve")
	}
	const id OID = "1.2.840.10045.2.1"
	k := &PrivateKey{Public: PublicKey{ID: id, Algorithm: KeyEC}}
	named := cryptobyte.String(parameters)
	if el, ok := d.optional(&named, tagOID, "parameters"); ok {
		k.Public.Curve = string(d.oid(el, "parameters"))
	} else if id, ok := specified(parameters); ok {
		k.Public.Curve = string(id)
	}
	curve := curves[OID(k.Public.Curve)]
	if curve.name != "" {
		k.Public.Curve, k.Public.Bits = curve.name, curve.bits
	}
	if curve.math != nil {
		computed, err := point(curve.math, private.content)
		switch {
		case err != nil:
			k.Problems = append(k.Problems, "the private part is no number that the curve allows")
		case len(stated) > 0 && stated[0] == 4 && string(computed) != string(stated):
			k.Problems = append(k.Problems, "the public part that is written beside it belongs to another key")
			stated = computed
		default:
			stated = computed
		}
	}
	if stated != nil {
		k.public(keyInfo(id, parameters, stated))
	}
	return k, nil
}

var agreements = map[elliptic.Curve]ecdh.Curve{elliptic.P256(): ecdh.P256(), elliptic.P384(): ecdh.P384(),
	elliptic.P521(): ecdh.P521()}

// point computes the public half, uncompressed, of a private number that may have lost leading zeros.
func point(curve elliptic.Curve, private []byte) ([]byte, error) {
	size := (curve.Params().N.BitLen() + 7) / 8
	number := new(big.Int).SetBytes(private)
	if number.BitLen() > size*8 {
		return nil, errors.New("the number is too large")
	}
	padded := make([]byte, size)
	number.FillBytes(padded)
	if known, ok := agreements[curve]; ok { // the shorter way to the same point
		key, err := known.NewPrivateKey(padded)
		if err != nil {
			return nil, err
		}
		return key.PublicKey().Bytes(), nil
	}
	key, err := ecdsa.ParseRawPrivateKey(curve, padded)
	if err != nil {
		return nil, err
	}
	return key.PublicKey.Bytes()
}

// ParseDSA reads the older form of a DSA key: version, p, q, g, y, x. The error wraps ErrNoKey.
func ParseDSA(der []byte) (*PrivateKey, error) {
	numbers, ok := integers(der, 6)
	if !ok {
		return nil, noKey("it has not the structure of a DSA key")
	}
	parameters := appendIntegers(nil, numbers[1:4])
	return dsaKey(encode(tagSequence, parameters), numbers[1], numbers[3], numbers[5], numbers[4])
}

func dsaPrivate(parameters, private []byte) (*PrivateKey, error) {
	numbers, ok := integers(parameters, 3)
	x := new(big.Int)
	s := cryptobyte.String(private)
	if !ok || !s.ReadASN1Integer(x) {
		return nil, noKey("it has not the structure of a DSA key")
	}
	return dsaKey(parameters, numbers[0], numbers[2], x, nil)
}

// dsaKey computes y = g^x mod p (FIPS 186-4, 4.1) and compares it with what is stated.
func dsaKey(parameters []byte, p, g, x, stated *big.Int) (*PrivateKey, error) {
	if p.Sign() <= 0 || p.BitLen() > maxRSABits || x.Sign() < 0 || x.BitLen() > p.BitLen() {
		return nil, noKey("the numbers of the DSA key are impossible")
	}
	k := &PrivateKey{}
	y := new(big.Int).Exp(g, x, p)
	if stated != nil && y.Cmp(stated) != 0 {
		k.Problems = append(k.Problems, "the public part that is written beside it belongs to another key")
	}
	k.Public, _ = ParsePublicKey(keyInfo("1.2.840.10040.4.1", parameters, appendIntegers(nil, []*big.Int{y})))
	return k, nil
}

// integers reads a SEQUENCE that begins with so many INTEGERs.
func integers(der []byte, count int) ([]*big.Int, bool) {
	s, inner := cryptobyte.String(der), cryptobyte.String(nil)
	if !s.ReadASN1(&inner, tagSequence) {
		return nil, false
	}
	out := make([]*big.Int, count)
	for i := range out {
		out[i] = new(big.Int)
		if !inner.ReadASN1Integer(out[i]) {
			return nil, false
		}
	}
	return out, true
}

func appendIntegers(out []byte, numbers []*big.Int) []byte {
	for _, n := range numbers {
		content := n.Bytes()
		if len(content) == 0 || content[0]&0x80 != 0 {
			content = append([]byte{0}, content...)
		}
		out = append(out, encode(tagInteger, content)...)
	}
	return out
}

// rsaInfo is the usual SubjectPublicKeyInfo of an RSA key (RFC 3279, 2.3.1).
func rsaInfo(n, e *big.Int) []byte {
	return keyInfo("1.2.840.113549.1.1.1", []byte{tagNull, 0},
		encode(tagSequence, appendIntegers(nil, []*big.Int{n, e})))
}

// keyInfo writes a SubjectPublicKeyInfo.
func keyInfo(id OID, parameters, bits []byte) []byte {
	algorithm := append(id.der(), parameters...)
	return encode(tagSequence, append(encode(tagSequence, algorithm),
		encode(tagBitString, append([]byte{0}, bits...))...))
}

// der writes the identifier, which came from a decoder and so can be written.
func (id OID) der() []byte {
	var parsed asn1.ObjectIdentifier
	for arc := range splitArcs(id) {
		parsed = append(parsed, arc)
	}
	out, err := asn1.Marshal(parsed)
	if err != nil {
		return nil
	}
	return out
}

// RSAInfo makes the SubjectPublicKeyInfo of an RSAPublicKey (RFC 8017, A.1.1); nil when it is none.
func RSAInfo(der []byte) []byte {
	numbers, ok := integers(der, 2)
	if !ok {
		return nil
	}
	return rsaInfo(numbers[0], numbers[1])
}

// DescribeParameters says what parameters of a curve or a key exchange are.
func DescribeParameters(der []byte) string {
	if len(der) == 0 {
		return ""
	}
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	if el, ok := d.optional(&s, tagOID, "parameters"); ok {
		id := d.oid(el, "parameters")
		if c, ok := curves[id]; ok {
			return "curve " + c.name
		}
		return "curve " + string(id)
	}
	if id, ok := specified(der); ok {
		return "curve " + curves[id].name + ", written out"
	}
	if numbers, ok := integers(der, 1); ok && numbers[0].BitLen() > 64 {
		return fmt.Sprintf("prime of %d bits", numbers[0].BitLen())
	}
	return "explicit parameters of a curve"
}
