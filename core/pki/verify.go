package pki

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
)

// Results of a signature check.
var (
	// ErrBadSignature: it was computed and does not fit.
	ErrBadSignature = errors.New("the signature does not verify")
	// ErrUnverifiable: it cannot be computed here, so nothing is known.
	ErrUnverifiable = errors.New("the signature cannot be computed here")
)

// maxRSABits bounds the work that a hostile key can cause.
const maxRSABits = 16384

// maxRSAWork bounds what one check costs, which grows with the square of the modulus and the length of the exponent: an
// exponent of 256 bits for the largest modulus, the longest that FIPS 186-5 (A.1.1) allows.
const maxRSAWork = maxRSABits * maxRSABits * 256

// CheckSignedBy verifies the certificate's signature under the key. The error
// is nil, ErrBadSignature or ErrUnverifiable, the latter with the reason.
func (c *Certificate) CheckSignedBy(key PublicKey) error {
	return verifySignature(c.InnerSignatureAlgorithm, key, c.RawTBS, c.Signature)
}

func verifySignature(a SignatureAlgorithm, key PublicKey, message, signature []byte) error {
	if a.scheme == schemeUnknown {
		return fmt.Errorf("%w: algorithm %s", ErrUnverifiable, a.Name)
	}
	if a.scheme == schemeEd25519 {
		if key.Algorithm != KeyEd25519 || len(key.Bytes) != ed25519.PublicKeySize {
			return ErrBadSignature
		}
		return verdict(ed25519.Verify(key.Bytes, message, signature))
	}
	hash := a.Hash.New()
	hash.Write(message)
	digest := hash.Sum(nil)
	switch a.scheme {
	case schemeECDSA:
		return verifyECDSA(key, digest, signature)
	case schemeDSA:
		return verifyDSA(key, digest, signature)
	case schemePSS:
		if err := key.permits(a); err != nil {
			return err
		}
		return verifyRSA(key, signature, func(em []byte,
			bits int) bool {
			return pssFits(em, bits, digest, a.Hash, a.saltLength)
		})
	default:
		if key.Algorithm != KeyRSA {
			return ErrBadSignature
		}
		return verifyRSA(key, signature, func(em []byte, _ int) bool { return pkcs1Fits(em, digest, a.Hash) })
	}
}

func verdict(ok bool) error {
	if ok {
		return nil
	}
	return ErrBadSignature
}

func verifyECDSA(key PublicKey, digest, signature []byte) error {
	if key.Algorithm != KeyEC {
		return ErrBadSignature
	}
	curve := curveNamed(key.Curve)
	if curve == nil {
		return fmt.Errorf("%w: curve %s", ErrUnverifiable, key.Curve)
	}
	point := key.Bytes
	if len(point) > 0 && point[0] != 4 {
		point = domains[key.named].whole(point)
	}
	public, err := ecdsa.ParseUncompressedPublicKey(curve, point)
	if err != nil { // not on the curve: no signature can fit
		return ErrBadSignature
	}
	return verdict(ecdsa.VerifyASN1(public, digest, signature))
}

// permits compares the parameters of a signature with those of an RSA-PSS key, which restrict it (RFC 4055, 3.1 and
// 3.3): the same hash and mask generation, and a salt that is no shorter.
func (k PublicKey) permits(a SignatureAlgorithm) error {
	switch {
	case k.only == nil:
		return nil
	case k.only.scheme != schemePSS:
		return fmt.Errorf("%w: the parameters of the RSA-PSS key are not known", ErrUnverifiable)
	}
	return verdict(k.only.Hash == a.Hash && a.saltLength >= k.only.saltLength)
}

// verifyRSA opens the signature with big integers, because the standard
// library refuses keys under 1024 bits and large exponents, and an auditor
// meets both. All inputs are public, so timing does not matter.
func verifyRSA(key PublicKey, signature []byte, fits func(encoded []byte, modulusBits int) bool) error {
	if key.Algorithm != KeyRSA && key.Algorithm != KeyRSAPSS || key.N == nil || key.N.Sign() <= 0 || key.E.Sign() <= 0 {
		return ErrBadSignature
	}
	if key.Bits > maxRSABits || key.E.BitLen() > key.Bits || key.Bits*key.Bits*key.E.BitLen() > maxRSAWork {
		return fmt.Errorf("%w: RSA key of %d bits", ErrUnverifiable, key.Bits)
	}
	size := (key.Bits + 7) / 8
	s := new(big.Int).SetBytes(signature)
	if len(signature) != size || s.Cmp(key.N) >= 0 {
		return ErrBadSignature
	}
	encoded := new(big.Int).Exp(s, key.E, key.N).FillBytes(make([]byte, size))
	return verdict(fits(encoded, key.Bits))
}

// digestInfoOIDs are the identifiers inside a DigestInfo (RFC 8017, 9.2, note 1), as DER.
var digestInfoOIDs = map[crypto.Hash][]byte{
	crypto.MD5:    {0x06, 0x08, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x02, 0x05},
	crypto.SHA1:   {0x06, 0x05, 0x2b, 0x0e, 0x03, 0x02, 0x1a},
	crypto.SHA224: {0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x04},
	crypto.SHA256: {0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01},
	crypto.SHA384: {0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x02},
	crypto.SHA512: {0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x03},
}

// pkcs1Fits compares with the encoding of RFC 8017, section 9.2: computed
// afresh and compared whole, never parsed.
func pkcs1Fits(encoded, digest []byte, hash crypto.Hash) bool {
	for _, null := range [][]byte{{tagNull, 0}, {}} { // RFC 8017, A.2.4: accept absent parameters too
		var b cryptobyte.Builder
		b.AddASN1(tagSequence, func(info *cryptobyte.Builder) {
			info.AddASN1(tagSequence, func(alg *cryptobyte.Builder) {
				alg.AddBytes(digestInfoOIDs[hash])
				alg.AddBytes(null)
			})
			info.AddASN1OctetString(digest)
		})
		info := b.BytesOrPanic()
		padding := len(encoded) - 3 - len(info)
		if padding < 8 {
			return false
		}
		want := append([]byte{0, 1}, bytes.Repeat([]byte{0xff}, padding)...)
		want = append(append(want, 0), info...)
		if subtle.ConstantTimeCompare(want, encoded) == 1 {
			return true
		}
	}
	return false
}

// pssFits is EMSA-PSS-VERIFY (RFC 8017, 9.1.2) with MGF1 over the same hash.
func pssFits(encoded []byte, modulusBits int, digest []byte, hash crypto.Hash, salt int) bool {
	bits := modulusBits - 1
	if bits%8 == 0 { // one byte shorter than the modulus
		if encoded[0] != 0 {
			return false
		}
		encoded = encoded[1:]
	}
	size := hash.Size()
	if len(encoded) < size+salt+2 || salt > len(encoded) || encoded[len(encoded)-1] != 0xbc {
		return false
	}
	masked, h := encoded[:len(encoded)-size-1], encoded[len(encoded)-size-1:len(encoded)-1]
	unused := uint(8*len(encoded) - bits)
	if masked[0]&^(0xff>>unused) != 0 {
		return false
	}
	db := make([]byte, 0, len(masked)+size)
	for counter := uint32(0); len(db) < len(masked); counter++ {
		mgf := hash.New()
		mgf.Write(binary.BigEndian.AppendUint32(append([]byte(nil), h...), counter))
		db = mgf.Sum(db)
	}
	db = db[:len(masked)]
	subtle.XORBytes(db, db, masked)
	db[0] &= 0xff >> unused
	rest := len(db) - salt - 1
	for _, b := range db[:rest] {
		if b != 0 {
			return false
		}
	}
	if db[rest] != 1 {
		return false
	}
	final := hash.New()
	final.Write(make([]byte, 8))
	final.Write(digest)
	final.Write(db[rest+1:])
	return bytes.Equal(final.Sum(nil), h)
}
