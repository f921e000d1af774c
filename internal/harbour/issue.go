package harbour

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	encodingasn1 "encoding/asn1"
	"fmt"
	"hash/fnv"
	"math/big"
	"net/netip"
	"strings"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// The harbour writes its certificates itself, because the standard library
// refuses to make most of the bad ones.

// algorithm is a signature algorithm: its identifier, its hash, and whether
// the identifier has NULL parameters.
type algorithm struct {
	id   encodingasn1.ObjectIdentifier
	hash crypto.Hash
	null bool
}

var (
	ecdsaSHA256 = algorithm{encodingasn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}, crypto.SHA256, false}
	ecdsaSHA1   = algorithm{encodingasn1.ObjectIdentifier{1, 2, 840, 10045, 4, 1}, crypto.SHA1, false}
	rsaSHA256   = algorithm{encodingasn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 11}, crypto.SHA256, true}
	rsaMD5      = algorithm{encodingasn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 4}, crypto.MD5, true}
	ed448       = algorithm{encodingasn1.ObjectIdentifier{1, 3, 101, 113}, 0, false} // signed with noise: nobody here can check it
)

// authority is a certificate that issues others.
type authority struct {
	der   []byte
	name  string // common name
	key   crypto.Signer
	keyID []byte
	sign  algorithm
	above []*authority // the chain from its issuer up to, without, the root
}

// chain is what a server sends behind a leaf of this authority: itself and what is above, without the root.
func (a *authority) chain() [][]byte {
	var out [][]byte
	if len(a.above) > 0 {
		out = append(out, a.der)
		for _, up := range a.above[:len(a.above)-1] {
			out = append(out, up.der)
		}
	}
	return out
}

// extension is one more extension of a certificate.
type extension struct {
	id       encodingasn1.ObjectIdentifier
	critical bool
	value    []byte
}

// wanted describes a certificate to be issued; zero fields take the usual value.
type wanted struct {
	name     string   // common name
	names    []string // alternative names: host names and addresses
	spki     []byte
	from     time.Time
	until    time.Time // the last second included
	ca       bool
	length   *int // path length
	serial   *big.Int
	sign     *algorithm // instead of the issuer's usual one
	extra    []extension
	spoilt   bool // break the signature
	authorID []byte
}

const organisation = "Tarnholm Harbour Authority"

// issue writes and signs a certificate under the issuer; nil signs with its own key.
func issue(issuer *authority, own crypto.Signer, w wanted) ([]byte, error) {
	signer, sign, issuerName, issuerKeyID := own, ecdsaSHA256, w.name, keyID(w.spki)
	if issuer != nil {
		signer, sign, issuerName, issuerKeyID = issuer.key, issuer.sign, issuer.name, issuer.keyID
	}
	if w.sign != nil {
		sign = *w.sign
	}
	if w.serial == nil {
		h := fnv.New64a()
		h.Write([]byte(w.name + issuerName + strings.Join(w.names, " ")))
		w.serial = new(big.Int).SetUint64(h.Sum64() | 1<<62) // the same at every start
	}
	var tbs cryptobyte.Builder
	tbs.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(asn1.Tag(0).ContextSpecific().Constructed(), func(v *cryptobyte.Builder) { v.AddASN1Int64(2) })
		b.AddASN1BigInt(w.serial)
		addAlgorithm(b, sign)
		addName(b, issuerName)
		b.AddASN1(asn1.SEQUENCE, func(v *cryptobyte.Builder) {
			addTime(v, w.from)
			addTime(v, w.until)
		})
		addName(b, w.name)
		b.AddBytes(w.spki)
		b.AddASN1(asn1.Tag(3).ContextSpecific().Constructed(), func(x *cryptobyte.Builder) {
			x.AddASN1(asn1.SEQUENCE, func(list *cryptobyte.Builder) {
				for _, e := range extensions(w, issuerName, issuerKeyID, issuer == nil) {
					addExtension(list, e)
				}
			})
		})
	})
	body, err := tbs.Bytes()
	if err != nil {
		return nil, err
	}
	signature, err := signed(signer, sign, body)
	if err != nil {
		return nil, fmt.Errorf("sign %s: %w", w.name, err)
	}
	if w.spoilt {
		signature[len(signature)-1] ^= 1
	}
	var out cryptobyte.Builder
	out.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddBytes(body)
		addAlgorithm(b, sign)
		b.AddASN1BitString(signature)
	})
	return out.Bytes()
}

func signed(key crypto.Signer, sign algorithm, body []byte) ([]byte, error) {
	if sign.hash == 0 {
		noise := make([]byte, 114) // the size of an Ed448 signature (RFC 8032, 5.2.6)
		_, err := rand.Read(noise)
		return noise, err
	}
	h := sign.hash.New()
	h.Write(body)
	if k, ok := key.(*rsa.PrivateKey); ok {
		return rsa.SignPKCS1v15(nil, k, sign.hash, h.Sum(nil))
	}
	return ecdsa.SignASN1(rand.Reader, key.(*ecdsa.PrivateKey), h.Sum(nil))
}

func addAlgorithm(b *cryptobyte.Builder, a algorithm) {
	b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
		s.AddASN1ObjectIdentifier(a.id)
		if a.null {
			s.AddASN1NULL()
		}
	})
}

func addName(b *cryptobyte.Builder, common string) {
	attribute := func(s *cryptobyte.Builder, id encodingasn1.ObjectIdentifier, value string) {
		s.AddASN1(asn1.SET, func(set *cryptobyte.Builder) {
			set.AddASN1(asn1.SEQUENCE, func(pair *cryptobyte.Builder) {
				pair.AddASN1ObjectIdentifier(id)
				pair.AddASN1(asn1.UTF8String, func(v *cryptobyte.Builder) { v.AddBytes([]byte(value)) })
			})
		})
	}
	b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
		attribute(s, encodingasn1.ObjectIdentifier{2, 5, 4, 10}, organisation)
		attribute(s, encodingasn1.ObjectIdentifier{2, 5, 4, 3}, common)
	})
}

func addTime(b *cryptobyte.Builder, t time.Time) {
	if t.Year() < 2050 {
		b.AddASN1UTCTime(t.UTC())
		return
	}
	b.AddASN1GeneralizedTime(t.UTC())
}

func addExtension(b *cryptobyte.Builder, e extension) {
	b.AddASN1(asn1.SEQUENCE, func(x *cryptobyte.Builder) {
		x.AddASN1ObjectIdentifier(e.id)
		if e.critical {
			x.AddASN1Boolean(true)
		}
		x.AddASN1OctetString(e.value)
	})
}

// extensions are what an ordinary issuer writes, and then the extra ones.
func extensions(w wanted, issuerName string, issuerKeyID []byte, self bool) []extension {
	build := func(f func(*cryptobyte.Builder)) []byte {
		var b cryptobyte.Builder
		f(&b)
		return b.BytesOrPanic()
	}
	id := func(arcs ...int) encodingasn1.ObjectIdentifier { return arcs }
	out := []extension{
		{id(2, 5, 29, 14), false, build(func(b *cryptobyte.Builder) { b.AddASN1OctetString(keyID(w.spki)) })},
		{id(2, 5, 29, 19), true, build(func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
				if w.ca {
					s.AddASN1Boolean(true)
				}
				if w.length != nil {
					s.AddASN1Int64(int64(*w.length))
				}
			})
		})},
		{id(2, 5, 29, 15), true, build(func(b *cryptobyte.Builder) {
			bits := []byte{3, 2, 7, 0x80} // digital signature
			if w.ca {
				bits = []byte{3, 2, 1, 0x06} // certificate and revocation list signing
			}
			b.AddBytes(bits)
		})},
	}
	if !self {
		out = append(out, extension{id(2, 5, 29, 35), false, build(func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
				s.AddASN1(asn1.Tag(0).ContextSpecific(), func(v *cryptobyte.Builder) { v.AddBytes(issuerKeyID) })
			})
		})}, extension{id(1, 3, 6, 1, 5, 5, 7, 1, 1), false, build(func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(list *cryptobyte.Builder) {
				list.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
					s.AddASN1ObjectIdentifier(id(1, 3, 6, 1, 5, 5, 7, 48, 2))
					s.AddASN1(asn1.Tag(6).ContextSpecific(), func(v *cryptobyte.Builder) { v.AddBytes([]byte(issuerAddress(issuerName))) })
				})
			})
		})})
	}
	if !w.ca {
		out = append(out, extension{id(2, 5, 29, 37), false, build(func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) { s.AddASN1ObjectIdentifier(id(1, 3, 6, 1, 5, 5, 7, 3, 1)) })
		})})
	}
	if len(w.names) > 0 {
		out = append(out, extension{id(2, 5, 29, 17), false, build(func(b *cryptobyte.Builder) { addNames(b, w.names) })})
	}
	return append(out, w.extra...)
}

func addNames(b *cryptobyte.Builder, names []string) {
	b.AddASN1(asn1.SEQUENCE, func(list *cryptobyte.Builder) {
		for _, name := range names {
			if address, err := netip.ParseAddr(name); err == nil {
				list.AddASN1(asn1.Tag(7).ContextSpecific(), func(v *cryptobyte.Builder) { v.AddBytes(address.AsSlice()) })
				continue
			}
			list.AddASN1(asn1.Tag(2).ContextSpecific(), func(v *cryptobyte.Builder) { v.AddBytes([]byte(name)) })
		}
	})
}

// issuerAddress is where the issuer's certificate can be had.
func issuerAddress(name string) string {
	return "http://issuers.tarnholm.example/" + strings.ToLower(strings.ReplaceAll(name, " ", "-")) + ".der"
}

// keyID is the SHA-1 of the key, as RFC 5280, section 4.2.1.2, suggests.
func keyID(spki []byte) []byte {
	sum := sha1.Sum(spki)
	return sum[:]
}

func publicInfo(key crypto.Signer) ([]byte, error) { return x509.MarshalPKIXPublicKey(key.Public()) }
