// Package forge writes certificates of every kind, good and bad: the simulated
// harbour and the tests need those that an ordinary library refuses to make.
// It issues nothing that anyone should trust.
package forge

import (
	"crypto"
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

// Algorithm is a signature algorithm: its identifier, its hash, and whether
// the identifier has NULL parameters.
type Algorithm struct {
	ID   encodingasn1.ObjectIdentifier
	Hash crypto.Hash
	Null bool
}

// Algorithms to sign with.
var (
	ECDSASHA256 = Algorithm{encodingasn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}, crypto.SHA256, false}
	ECDSASHA1   = Algorithm{encodingasn1.ObjectIdentifier{1, 2, 840, 10045, 4, 1}, crypto.SHA1, false}
	RSASHA256   = Algorithm{encodingasn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 11}, crypto.SHA256, true}
	RSAMD5      = Algorithm{encodingasn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 4}, crypto.MD5, true}
	// signed with noise: nobody here can check it
	Ed448 = Algorithm{encodingasn1.ObjectIdentifier{1, 3, 101, 113}, 0, false}
)

// Authority is a certificate that issues others.
type Authority struct {
	DER   []byte
	Name  string // common name
	Key   crypto.Signer
	KeyID []byte
	Sign  Algorithm
	Above []*Authority // its issuer, and so on up to the root
	Base  string       // web address below which its certificate and list are published; "" for no list
}

// Chain is what a server sends behind a leaf of this authority: itself and what is above, without the root.
func (a *Authority) Chain() [][]byte {
	var out [][]byte
	if len(a.Above) > 0 {
		out = append(out, a.DER)
		for _, up := range a.Above[:len(a.Above)-1] {
			out = append(out, up.DER)
		}
	}
	return out
}

// Extension is one more Extension of a certificate.
type Extension struct {
	ID       encodingasn1.ObjectIdentifier
	Critical bool
	Value    []byte
}

// Part is an element of a certificate that can be written otherwise.
type Part string

// The parts.
const (
	Version    Part = "version"
	Serial     Part = "serial"
	Validity   Part = "validity"
	Subject    Part = "subject"
	Extensions Part = "extensions"
	Tail       Part = "tail" // behind everything inside the part that is signed
)

// Template describes a certificate to be issued; zero fields take the usual value.
type Template struct {
	Name     string   // common name
	Names    []string // alternative names: host names and addresses
	SPKI     []byte
	From     time.Time
	Until    time.Time // the last second included
	CA       bool
	Usages   []encodingasn1.ObjectIdentifier // extended usages beside that of a server
	Length   *int                            // path length
	Serial   *big.Int
	Sign     *Algorithm // instead of the issuer's usual one
	Extra    []Extension
	Swap     []Extension     // in the place of the usual ones with the same identifiers
	Spoilt   bool            // break the signature
	Instead  map[Part][]byte // DER to write instead of the part
	NoKeyIDs bool            // leave both key identifiers out
	NoUsages bool            // leave the extended usages out

	Unlisted  bool   // name no revocation list
	Responder string // address of the OCSP responder, "" for none
}

// Organisation is in the names of all subjects.
const Organisation = "Tarnholm Harbour Authority"

// Issue writes and signs a certificate under the issuer; nil signs with its own key.
func Issue(issuer *Authority, own crypto.Signer, w Template) ([]byte, error) {
	signer, sign, issuerName, issuerKeyID := own, ECDSASHA256, w.Name, KeyID(w.SPKI)
	if issuer != nil {
		signer, sign, issuerName, issuerKeyID = issuer.Key, issuer.Sign, issuer.Name, issuer.KeyID
	}
	if w.Sign != nil {
		sign = *w.Sign
	}
	if w.Serial == nil {
		h := fnv.New64a()
		h.Write([]byte(w.Name + issuerName + strings.Join(w.Names, " ")))
		w.Serial = new(big.Int).SetUint64(h.Sum64() | 1<<62) // the same at every start
	}
	var tbs cryptobyte.Builder
	tbs.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		part := func(p Part, usual func()) {
			if der, ok := w.Instead[p]; ok {
				b.AddBytes(der)
				return
			}
			usual()
		}
		part(Version, func() {
			b.AddASN1(asn1.Tag(0).ContextSpecific().Constructed(), func(v *cryptobyte.Builder) { v.AddASN1Int64(2) })
		})
		part(Serial, func() { b.AddASN1BigInt(w.Serial) })
		addAlgorithm(b, sign)
		addName(b, issuerName)
		part(Validity, func() {
			b.AddASN1(asn1.SEQUENCE, func(v *cryptobyte.Builder) {
				addTime(v, w.From)
				addTime(v, w.Until)
			})
		})
		part(Subject, func() { addName(b, w.Name) })
		b.AddBytes(w.SPKI)
		part(Extensions, func() {
			b.AddASN1(asn1.Tag(3).ContextSpecific().Constructed(), func(x *cryptobyte.Builder) {
				x.AddASN1(asn1.SEQUENCE, func(list *cryptobyte.Builder) {
					for _, e := range extensions(w, issuer, issuerKeyID) {
						addExtension(list, e)
					}
				})
			})
		})
		part(Tail, func() {})
	})
	body, err := tbs.Bytes()
	if err != nil {
		return nil, err
	}
	signature, err := signed(signer, sign, body)
	if err != nil {
		return nil, fmt.Errorf("sign %s: %w", w.Name, err)
	}
	if w.Spoilt {
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

func signed(key crypto.Signer, sign Algorithm, body []byte) ([]byte, error) {
	if sign.Hash == 0 {
		noise := make([]byte, 114) // the size of an Ed448 signature (RFC 8032, 5.2.6)
		_, err := rand.Read(noise)
		return noise, err
	}
	h := sign.Hash.New()
	h.Write(body)
	if k, ok := key.(*rsa.PrivateKey); ok {
		return rsa.SignPKCS1v15(nil, k, sign.Hash, h.Sum(nil))
	}
	return key.Sign(rand.Reader, h.Sum(nil), sign.Hash)
}

func addAlgorithm(b *cryptobyte.Builder, a Algorithm) {
	b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
		s.AddASN1ObjectIdentifier(a.ID)
		if a.Null {
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
		attribute(s, encodingasn1.ObjectIdentifier{2, 5, 4, 10}, Organisation)
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

func addExtension(b *cryptobyte.Builder, e Extension) {
	b.AddASN1(asn1.SEQUENCE, func(x *cryptobyte.Builder) {
		x.AddASN1ObjectIdentifier(e.ID)
		if e.Critical {
			x.AddASN1Boolean(true)
		}
		x.AddASN1OctetString(e.Value)
	})
}

// extensions are what an ordinary issuer writes, and then the extra ones.
func extensions(w Template, issuer *Authority, issuerKeyID []byte) []Extension {
	build := func(f func(*cryptobyte.Builder)) []byte {
		var b cryptobyte.Builder
		f(&b)
		return b.BytesOrPanic()
	}
	id := func(arcs ...int) encodingasn1.ObjectIdentifier { return arcs }
	out := []Extension{}
	if !w.NoKeyIDs {
		out = append(out, Extension{id(2, 5, 29, 14), false,
			build(func(b *cryptobyte.Builder) { b.AddASN1OctetString(KeyID(w.SPKI)) })})
	}
	out = append(out,
		Extension{id(2, 5, 29, 19), true, build(func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
				if w.CA {
					s.AddASN1Boolean(true)
				}
				if w.Length != nil {
					s.AddASN1Int64(int64(*w.Length))
				}
			})
		})},
		Extension{id(2, 5, 29, 15), true, build(func(b *cryptobyte.Builder) {
			bits := []byte{3, 2, 7, 0x80} // digital signature
			if w.CA {
				bits = []byte{3, 2, 1, 0x06} // certificate and revocation list signing
			}
			b.AddBytes(bits)
		})})
	if issuer != nil && !w.NoKeyIDs {
		out = append(out, Extension{id(2, 5, 29, 35), false, build(func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
				s.AddASN1(asn1.Tag(0).ContextSpecific(), func(v *cryptobyte.Builder) { v.AddBytes(issuerKeyID) })
			})
		})}, Extension{id(1, 3, 6, 1, 5, 5, 7, 1, 1), false, build(func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(list *cryptobyte.Builder) {
				addAccess(list, id(1, 3, 6, 1, 5, 5, 7, 48, 2), issuer.Address("issuers", "der"))
				if w.Responder != "" {
					addAccess(list, id(1, 3, 6, 1, 5, 5, 7, 48, 1), w.Responder)
				}
			})
		})})
	}
	if issuer != nil && issuer.Base != "" && !w.Unlisted {
		out = append(out, Extension{id(2, 5, 29, 31), false,
			build(func(b *cryptobyte.Builder) { addPoint(b, issuer.Address("lists", "crl")) })})
	}
	if !w.CA && !w.NoUsages {
		out = append(out, Extension{id(2, 5, 29, 37), false, build(func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
				s.AddASN1ObjectIdentifier(id(1, 3, 6, 1, 5, 5, 7, 3, 1))
				for _, usage := range w.Usages {
					s.AddASN1ObjectIdentifier(usage)
				}
			})
		})})
	}
	if len(w.Names) > 0 {
		out = append(out, Extension{id(2, 5, 29, 17), false,
			build(func(b *cryptobyte.Builder) { addNames(b, w.Names) })})
	}
	for i := range out {
		for _, other := range w.Swap {
			if other.ID.Equal(out[i].ID) {
				out[i] = other
			}
		}
	}
	return append(out, w.Extra...)
}

func addNames(b *cryptobyte.Builder, names []string) {
	b.AddASN1(asn1.SEQUENCE, func(list *cryptobyte.Builder) {
		for _, name := range names {
			if address, err := netip.ParseAddr(name); err == nil {
				list.AddASN1(asn1.Tag(7).ContextSpecific(),
					func(v *cryptobyte.Builder) { v.AddBytes(address.AsSlice()) })
				continue
			}
			list.AddASN1(asn1.Tag(2).ContextSpecific(), func(v *cryptobyte.Builder) { v.AddBytes([]byte(name)) })
		}
	})
}

func addAccess(list *cryptobyte.Builder, method encodingasn1.ObjectIdentifier, address string) {
	list.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
		s.AddASN1ObjectIdentifier(method)
		addAddress(s, address)
	})
}

func addAddress(b *cryptobyte.Builder, address string) {
	b.AddASN1(asn1.Tag(6).ContextSpecific(), func(v *cryptobyte.Builder) { v.AddBytes([]byte(address)) })
}

// addPoint writes CRL distribution points with one address (RFC 5280, 4.2.1.13).
func addPoint(b *cryptobyte.Builder, address string) {
	explicit := asn1.Tag(0).ContextSpecific().Constructed()
	b.AddASN1(asn1.SEQUENCE, func(list *cryptobyte.Builder) {
		list.AddASN1(asn1.SEQUENCE, func(point *cryptobyte.Builder) {
			point.AddASN1(explicit, func(name *cryptobyte.Builder) {
				name.AddASN1(explicit, func(full *cryptobyte.Builder) { addAddress(full, address) })
			})
		})
	})
}

// Address is where something of the authority is published.
func (a *Authority) Address(what, ending string) string {
	base := a.Base
	if base == "" {
		base = "http://issuers.tarnholm.example"
	}
	return base + "/" + what + "/" + a.Slug() + "." + ending
}

// Slug is the authority's name as part of an address.
func (a *Authority) Slug() string { return strings.ToLower(strings.ReplaceAll(a.Name, " ", "-")) }

// KeyID is the SHA-1 of the key, as RFC 5280, section 4.2.1.2, suggests.
func KeyID(spki []byte) []byte {
	sum := sha1.Sum(spki)
	return sum[:]
}

// PublicInfo is the SubjectPublicKeyInfo of the key.
func PublicInfo(key crypto.Signer) ([]byte, error) { return x509.MarshalPKIXPublicKey(key.Public()) }
