package harbour

import (
	"crypto"
	"crypto/rand"
	"fmt"
	"math/big"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

const (
	dayLong      = 24 * time.Hour
	leafLifetime = 199 * dayLong
)

// issuers are the authorities of the scenario.
type issuers struct {
	keys *keyring
	now  time.Time

	outerRoot, outer         *authority // whom everyone trusts
	innerRoot, inner         *authority // whom only the authority's machines trust
	rehearsalRoot, rehearsal *authority // whom nobody should meet in earnest
	oldLight                 *authority // a root that expired last month
	sextant                  *authority // a root with an Ed448 key
	narrow                   *authority // one more intermediate than allowed
	stamp                    *authority // a root with an RSA key, for old hashes
	shop                     *authority // a server certificate that was used to issue
}

func newIssuers(keys *keyring, now time.Time) (*issuers, error) {
	i := &issuers{keys: keys, now: now}
	var err error
	root := func(name string) *authority {
		var a *authority
		if err == nil {
			a, err = i.authority(nil, wanted{name: name, from: now.Add(-8 * 365 * dayLong), until: now.Add(12 * 365 * dayLong)})
		}
		return a
	}
	below := func(issuer *authority, w wanted) *authority {
		var a *authority
		if err == nil {
			w.from, w.until = now.Add(-3*365*dayLong), now.Add(7*365*dayLong)
			a, err = i.authority(issuer, w)
		}
		return a
	}
	i.outerRoot = root("Skerry Outer Root")
	i.outer = below(below(i.outerRoot, wanted{name: "Skerry Outer Services"}), wanted{name: "Skerry Outer Issuing"})
	i.innerRoot = root("Tarnholm Inner Root")
	i.inner = below(below(i.innerRoot, wanted{name: "Tarnholm Inner Services"}), wanted{name: "Tarnholm Inner Issuing"})
	i.rehearsalRoot = root("Skerry Rehearsal Root")
	i.rehearsal = below(i.rehearsalRoot, wanted{name: "Skerry Rehearsal Issuing"})
	zero := 0
	i.narrow = below(below(i.outerRoot, wanted{name: "Narrow Channel", length: &zero}), wanted{name: "Narrow Channel Branch"})
	if err != nil {
		return nil, err
	}
	if i.oldLight, err = i.authority(nil, wanted{name: "Old Light Root", from: now.Add(-10 * 365 * dayLong), until: now.Add(-30 * dayLong)}); err != nil {
		return nil, err
	}
	if err = i.oddIssuers(); err != nil {
		return nil, err
	}
	return i, nil
}

// authority makes an issuing certificate with an EC key; without an issuer it is a root.
func (i *issuers) authority(issuer *authority, w wanted) (*authority, error) {
	key, err := i.keys.ec("issuer " + w.name)
	if err != nil {
		return nil, err
	}
	return i.authorityWith(issuer, key, ecdsaSHA256, w)
}

func (i *issuers) authorityWith(issuer *authority, key crypto.Signer, sign algorithm, w wanted) (*authority, error) {
	var err error
	if w.spki == nil {
		if w.spki, err = publicInfo(key); err != nil {
			return nil, err
		}
	}
	w.ca = true
	if issuer == nil {
		w.sign = &sign
	}
	a := &authority{name: w.name, key: key, keyID: keyID(w.spki), sign: sign}
	if issuer != nil {
		a.above = append([]*authority{issuer}, issuer.above...)
	}
	if a.der, err = issue(issuer, key, w); err != nil {
		return nil, fmt.Errorf("issuer %s: %w", w.name, err)
	}
	return a, nil
}

// oddIssuers are those that an ordinary library would not make.
func (i *issuers) oddIssuers() error {
	from, until := i.now.Add(-8*365*dayLong), i.now.Add(12*365*dayLong)
	key, err := i.keys.rsa("issuer Stamp Root", 2048)
	if err != nil {
		return err
	}
	if i.stamp, err = i.authorityWith(nil, key, rsaSHA256, wanted{name: "Stamp Root", from: from, until: until}); err != nil {
		return err
	}
	spki, err := ed448Info()
	if err != nil {
		return err
	}
	if i.sextant, err = i.authorityWith(nil, key, ed448, wanted{name: "Sextant Root", spki: spki, from: from, until: until}); err != nil {
		return err
	}
	shopKey, err := i.keys.ec("toll shop")
	if err != nil {
		return err
	}
	shop, err := publicInfo(shopKey)
	if err != nil {
		return err
	}
	i.shop = &authority{name: "shop.tarnholm.example", key: shopKey, keyID: keyID(shop), sign: ecdsaSHA256,
		above: append([]*authority{i.outer}, i.outer.above...)}
	i.shop.der, err = issue(i.outer, nil, wanted{name: i.shop.name, names: []string{i.shop.name}, spki: shop,
		from: i.now.Add(-20 * dayLong), until: i.now.Add(-20*dayLong + leafLifetime - time.Second)})
	return err
}

// ed448Info is a SubjectPublicKeyInfo of the Ed448 algorithm (RFC 8410, 3) over noise.
func ed448Info() ([]byte, error) {
	noise := make([]byte, 57)
	if _, err := rand.Read(noise); err != nil {
		return nil, err
	}
	return keyInfo(ed448, noise)
}

// rsa512Info is a SubjectPublicKeyInfo of a 512-bit modulus, which the standard library refuses to make.
func rsa512Info() ([]byte, error) {
	n := new(big.Int)
	for n.BitLen() != 512 {
		p, err := rand.Prime(rand.Reader, 256)
		if err != nil {
			return nil, err
		}
		q, err := rand.Prime(rand.Reader, 256)
		if err != nil {
			return nil, err
		}
		n.Mul(p, q)
	}
	var key cryptobyte.Builder
	key.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1BigInt(n)
		b.AddASN1Int64(65537)
	})
	return keyInfo(algorithm{id: []int{1, 2, 840, 113549, 1, 1, 1}, null: true}, key.BytesOrPanic())
}

func keyInfo(a algorithm, bits []byte) ([]byte, error) {
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(s *cryptobyte.Builder) {
		addAlgorithm(s, a)
		s.AddASN1BitString(bits)
	})
	return b.Bytes()
}
