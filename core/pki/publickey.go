package pki

import (
	"crypto/elliptic"
	"math/big"
	"strconv"

	"golang.org/x/crypto/cryptobyte"
)

// KeyAlgorithm names a kind of public key.
type KeyAlgorithm string

// The kinds of public key that are recognised; others keep their identifier only.
const (
	KeyRSA     KeyAlgorithm = "RSA"
	KeyRSAPSS  KeyAlgorithm = "RSA-PSS"
	KeyDSA     KeyAlgorithm = "DSA"
	KeyEC      KeyAlgorithm = "EC"
	KeyEd25519 KeyAlgorithm = "Ed25519"
	KeyEd448   KeyAlgorithm = "Ed448"
	KeyX25519  KeyAlgorithm = "X25519"
	KeyX448    KeyAlgorithm = "X448"
	KeyMLDSA   KeyAlgorithm = "ML-DSA"
	KeyUnknown KeyAlgorithm = "unknown"
)

// PublicKey is a SubjectPublicKeyInfo (RFC 5280, 4.1.2.7).
type PublicKey struct {
	Raw        []byte // its DER
	ID         OID
	Algorithm  KeyAlgorithm
	Curve      string   // of EC keys, "" when the curve is not known
	Bits       int      // of the modulus, the field or the fixed size; 0 when unknown
	Level      string   // of ML-DSA keys: "44", "65" or "87"
	N, E       *big.Int // of RSA keys
	DSA        *DSANumbers
	Bytes      []byte // the key as encoded in the bit string
	Parameters []byte // of the algorithm, as encoded

	named       OID                 // the curve of an EC key, "" when it is not known
	fingerprint Fingerprint         // of what was decoded, because searching asks for it all the time
	only        *SignatureAlgorithm // what the parameters of an RSA-PSS key allow; nil for anything
}

// Fingerprint is the SHA-256 of the SubjectPublicKeyInfo.
func (k PublicKey) Fingerprint() Fingerprint {
	if k.fingerprint == (Fingerprint{}) {
		return FingerprintOf(k.Raw)
	}
	return k.fingerprint
}

// String describes the key as people do: "RSA 2048", "EC P-256", "Ed25519".
func (k PublicKey) String() string {
	switch {
	case k.Algorithm == KeyUnknown:
		return "unknown key type " + string(k.ID)
	case k.Curve != "":
		return string(k.Algorithm) + " " + k.Curve
	case k.Level != "":
		return string(k.Algorithm) + "-" + k.Level
	case k.Algorithm == KeyRSA, k.Algorithm == KeyRSAPSS, k.Algorithm == KeyDSA:
		return string(k.Algorithm) + " " + strconv.Itoa(k.Bits)
	}
	return string(k.Algorithm)
}

// levels of ML-DSA (RFC 9881, 2).
var levels = map[OID]string{"2.16.840.1.101.3.4.3.17": "44", "2.16.840.1.101.3.4.3.18": "65",
	"2.16.840.1.101.3.4.3.19": "87"}

// keyAlgorithms: RFC 3279, RFC 4055, RFC 5480, RFC 8410, RFC 9881.
var keyAlgorithms = map[OID]struct {
	algorithm KeyAlgorithm
	bits      int
}{
	"1.2.840.113549.1.1.1":  {KeyRSA, 0},
	"1.2.840.113549.1.1.10": {KeyRSAPSS, 0},
	"1.2.840.10040.4.1":     {KeyDSA, 0},
	"1.2.840.10045.2.1":     {KeyEC, 0},
	"1.3.101.110":           {KeyX25519, 255},
	"1.3.101.111":           {KeyX448, 448},
	"1.3.101.112":           {KeyEd25519, 255},
	"1.3.101.113":           {KeyEd448, 448},

	"2.16.840.1.101.3.4.3.17": {KeyMLDSA, 0},
	"2.16.840.1.101.3.4.3.18": {KeyMLDSA, 0},
	"2.16.840.1.101.3.4.3.19": {KeyMLDSA, 0},
}

type curve struct {
	name string
	bits int
	math elliptic.Curve // nil where it cannot be computed here
}

// curves: RFC 5480, section 2.1.1.1, and RFC 5639; size of the field in bits.
var curves = map[OID]curve{
	"1.2.840.10045.3.1.1":   {"P-192", 192, nil},
	"1.3.132.0.33":          {"P-224", 224, elliptic.P224()},
	"1.2.840.10045.3.1.7":   {"P-256", 256, elliptic.P256()},
	"1.3.132.0.34":          {"P-384", 384, elliptic.P384()},
	"1.3.132.0.35":          {"P-521", 521, elliptic.P521()},
	"1.3.132.0.10":          {"secp256k1", 256, nil},
	"1.3.36.3.3.2.8.1.1.1":  {"brainpoolP160r1", 160, nil},
	"1.3.36.3.3.2.8.1.1.3":  {"brainpoolP192r1", 192, nil},
	"1.3.36.3.3.2.8.1.1.5":  {"brainpoolP224r1", 224, nil},
	"1.3.36.3.3.2.8.1.1.7":  {"brainpoolP256r1", 256, nil},
	"1.3.36.3.3.2.8.1.1.9":  {"brainpoolP320r1", 320, nil},
	"1.3.36.3.3.2.8.1.1.11": {"brainpoolP384r1", 384, nil},
	"1.3.36.3.3.2.8.1.1.13": {"brainpoolP512r1", 512, nil},
}

// OddCurve reports whether the curve is none of the NIST curves that TLS
// clients speak (RFC 8422, 5.1.1).
func OddCurve(name string) bool { return curveNamed(name) == nil && name != "P-192" }

func curveNamed(name string) elliptic.Curve {
	for _, c := range curves {
		if c.name == name {
			return c.math
		}
	}
	return nil
}

// ParsePublicKey decodes a SubjectPublicKeyInfo. The error is a *MalformedError.
func ParsePublicKey(der []byte) (PublicKey, error) {
	d := newDecoder(der)
	s := cryptobyte.String(d.base)
	el, ok := d.take(&s, tagSequence, "subjectPublicKeyInfo")
	if !ok {
		return PublicKey{}, broken(der)
	}
	k := d.publicKey(el)
	if len(k.Bytes) == 0 || len(s) > 0 || k.Algorithm == KeyUnknown && !k.ID.plausible() {
		return k, &MalformedError{0, "it is no public key with algorithm and bits"}
	}
	return k, nil
}

// Match identifies the key for comparison: the fingerprint of its usual form,
// so that keys agree that are the same and differ in writing only (parameters
// of RSA, a compressed point).
func (k PublicKey) Match() Fingerprint {
	if usual := k.usual(); usual != nil {
		return FingerprintOf(usual)
	}
	return k.Fingerprint()
}

// unlike is the fingerprint of the usual form of a key that is written in another.
func (k PublicKey) unlike() *Fingerprint {
	if usual := k.usual(); usual != nil {
		f := FingerprintOf(usual)
		return &f
	}
	return nil
}

// usual is the usual form of a key that is written in another, nil for others.
func (k PublicKey) usual() []byte {
	switch {
	case k.N != nil && (k.Algorithm == KeyRSAPSS || k.Algorithm == KeyRSA && string(k.Parameters) != "\x05\x00"):
		return rsaInfo(k.N, k.E)
	case k.Algorithm == KeyEC && len(k.Bytes) > 0 && k.named != "" && (k.Bytes[0] != 4 || k.Parameters[0] != tagOID):
		point := k.Bytes
		if point[0] != 4 {
			point = domains[k.named].whole(point)
		}
		if point != nil {
			return keyInfo(k.ID, encode(tagOID, contents(k.named.der())), point)
		}
	}
	return nil
}

// publicKey decodes a SubjectPublicKeyInfo.
func (d *decoder) publicKey(el element) PublicKey {
	const field, section = "subjectPublicKeyInfo", "RFC 5280 section 4.1.2.7"
	k := PublicKey{Raw: el.full, Algorithm: KeyUnknown, fingerprint: FingerprintOf(el.full)}
	s := cryptobyte.String(el.content)
	alg, ok := d.take(&s, tagSequence, field)
	if !ok {
		d.note(el.full, field, section, "the key has no algorithm")
		return k
	}
	k.ID, k.Parameters = d.algorithm(alg, field)
	bits, ok := d.take(&s, tagBitString, field)
	if !ok {
		d.note(el.full, field, section, "the key has no bits")
		return k
	}
	d.finish(s, field)
	if k.Bytes, _, ok = d.bitString(bits, field); !ok {
		return k
	}
	known, ok := keyAlgorithms[k.ID]
	if !ok {
		return k
	}
	k.Algorithm, k.Bits, k.Level = known.algorithm, known.bits, levels[k.ID]
	switch k.Algorithm {
	case KeyRSA, KeyRSAPSS:
		d.rsaKey(&k, bits)
	case KeyEC:
		d.ecKey(&k, bits)
	case KeyDSA:
		d.dsaKey(&k)
	}
	return k
}

func (d *decoder) rsaKey(k *PublicKey, bits element) {
	const field, section = "subjectPublicKeyInfo", "RFC 8017 appendix A.1.1"
	s := cryptobyte.String(k.Bytes)
	seq, ok := d.take(&s, tagSequence, field)
	if !ok {
		d.note(bits.full, field, section, "the RSA key is malformed")
		return
	}
	d.finish(s, field)
	inner := cryptobyte.String(seq.content)
	n, okN := d.take(&inner, tagInteger, field)
	e, okE := d.take(&inner, tagInteger, field)
	if !okN || !okE {
		d.note(seq.full, field, section, "the RSA key lacks modulus or exponent")
		return
	}
	d.finish(inner, field)
	k.N, k.E = d.integer(n, field), d.integer(e, field)
	if k.N.Sign() <= 0 || k.E.Sign() <= 0 {
		d.note(seq.full, field, section, "modulus or exponent is not positive")
	}
	k.Bits = k.N.BitLen()
	if k.Algorithm == KeyRSAPSS && len(k.Parameters) > 0 && k.Parameters[0] == byte(tagSequence) {
		k.only = &SignatureAlgorithm{}
		d.pss(k.only, k.Parameters, bits, field)
	}
}

func (d *decoder) ecKey(k *PublicKey, bits element) {
	const field, section = "subjectPublicKeyInfo", "RFC 5480 section 2.1.1"
	s := cryptobyte.String(k.Parameters)
	var id OID
	if el, ok := d.optional(&s, tagOID, field); ok {
		id = d.oid(el, field)
	} else {
		d.note(bits.full, field, section, "the curve is not named; explicit parameters are forbidden")
		if id, ok = specified(k.Parameters); !ok {
			return
		}
	}
	c, ok := curves[id]
	if !ok {
		k.Curve = string(id)
		return
	}
	k.Curve, k.Bits, k.named = c.name, c.bits, id
	size := (c.bits + 7) / 8
	uncompressed := len(k.Bytes) == 1+2*size && k.Bytes[0] == 4
	compressed := len(k.Bytes) == 1+size && (k.Bytes[0] == 2 || k.Bytes[0] == 3)
	if !uncompressed && !compressed {
		d.note(bits.full, field, "RFC 5480 section 2.2", "the point has not the form or length that %s wants", c.name)
	}
}

func (d *decoder) dsaKey(k *PublicKey) {
	const field = "subjectPublicKeyInfo"
	bits := cryptobyte.String(k.Bytes)
	y, ok := d.take(&bits, tagInteger, field)
	if !ok {
		d.note(k.Raw, field, "RFC 3279 section 2.3.2", "the DSA key is malformed")
		return
	}
	k.DSA = &DSANumbers{Y: d.integer(y, field)}
	s := cryptobyte.String(k.Parameters)
	seq, ok := d.optional(&s, tagSequence, field)
	if !ok {
		return // parameters inherited from the issuer (RFC 3279, 2.3.2)
	}
	inner := cryptobyte.String(seq.content)
	var numbers [3]*big.Int
	for i := range numbers {
		el, ok := d.take(&inner, tagInteger, field)
		if !ok {
			d.note(k.Raw, field, "RFC 3279 section 2.3.2", "the parameters of the DSA key are malformed")
			return
		}
		numbers[i] = d.integer(el, field)
	}
	k.DSA.P, k.DSA.Q, k.DSA.G, k.Bits = numbers[0], numbers[1], numbers[2], numbers[0].BitLen()
}

// integer reads an INTEGER of any size, in two's complement.
func (d *decoder) integer(el element, field string) *big.Int {
	value := new(big.Int)
	c := el.content
	if len(c) == 0 {
		d.note(el.full, field, "X.690 section 8.3", "the integer is empty")
		return value
	}
	if len(c) > 1 && (c[0] == 0 && c[1]&0x80 == 0 || c[0] == 0xff && c[1]&0x80 != 0) {
		d.note(el.full, field, "X.690 section 8.3.2", "the integer is not in its shortest form")
	}
	value.SetBytes(c)
	if c[0]&0x80 != 0 {
		value.Sub(value, new(big.Int).Lsh(big.NewInt(1), uint(len(c)*8)))
	}
	return value
}

// algorithm reads an AlgorithmIdentifier: identifier and parameters as encoded.
func (d *decoder) algorithm(el element, field string) (OID, []byte) {
	s := cryptobyte.String(el.content)
	id, ok := d.take(&s, tagOID, field)
	if !ok {
		d.note(el.full, field, "RFC 5280 section 4.1.1.2", "the algorithm has no identifier")
		return "", nil
	}
	return d.oid(id, field), []byte(s)
}
