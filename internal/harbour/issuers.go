package harbour

import (
	"crypto/tls"
	"math/big"
	"time"

	"nurvik/core/forge"
)

const (
	dayLong      = 24 * time.Hour
	leafLifetime = 199 * dayLong
)

// issuers are the authorities of the scenario.
type issuers struct {
	keys     *keyring
	now      time.Time
	registry *registry                   // where they publish
	served   map[string]*tls.Certificate // by berths whose machine has configuration, by host

	outerRoot, outer         *forge.Authority // whom everyone trusts
	innerRoot, inner         *forge.Authority // whom only the authority's machines trust
	rehearsalRoot, rehearsal *forge.Authority // whom nobody should meet in earnest
	oldLight                 *forge.Authority // a root that expired last month
	sextant                  *forge.Authority // a root with an Ed448 key
	narrow                   *forge.Authority // one more intermediate than allowed
	stamp                    *forge.Authority // a root with an RSA key, for old hashes
	shop                     *forge.Authority // a server certificate that was used to issue
	inland                   *forge.Authority // may certify names of another domain only
	letters                  *forge.Authority // issues for e-mail only
	strict                   *forge.Authority // requires a policy of all below it
	ebbing                   *forge.Authority // an intermediate that ends before what it issues

	secondRoot *forge.Authority // another root that everyone trusts
	far        *forge.Authority // an intermediate that nobody sends
	deep       *forge.Authority // at the end of a long chain
	sibling    *forge.Authority // of the same name as outer, with another key
	// outer's issuer under the second root, under the old light, and once
	crossed, crossedOld, crossedPast *forge.Authority
}

func newIssuers(keys *keyring, now time.Time, r *registry) (*issuers, error) {
	i := &issuers{keys: keys, now: now, registry: r}
	var err error
	root := func(name string) *forge.Authority {
		var a *forge.Authority
		if err == nil {
			a, err = i.authority(nil, forge.Template{Name: name, From: now.Add(-8 * 365 * dayLong),
				Until: now.Add(12 * 365 * dayLong)})
		}
		return a
	}
	below := func(issuer *forge.Authority, w forge.Template) *forge.Authority {
		var a *forge.Authority
		if err == nil {
			w.From, w.Until = now.Add(-3*365*dayLong), now.Add(7*365*dayLong)
			a, err = i.authority(issuer, w)
		}
		return a
	}
	i.outerRoot = root("Skerry Outer Root")
	i.outer = below(below(i.outerRoot, forge.Template{Name: "Skerry Outer Services"}),
		forge.Template{Name: "Skerry Outer Issuing"})
	i.innerRoot = root("Tarnholm Inner Root")
	i.inner = below(below(i.innerRoot, forge.Template{Name: "Tarnholm Inner Services"}),
		forge.Template{Name: "Tarnholm Inner Issuing"})
	i.rehearsalRoot = root("Skerry Rehearsal Root")
	i.rehearsal = below(i.rehearsalRoot, forge.Template{Name: "Skerry Rehearsal Issuing"})
	zero := 0
	i.narrow = below(below(i.outerRoot, forge.Template{Name: "Narrow Channel", Length: &zero}),
		forge.Template{Name: "Narrow Channel Branch"})
	extension := func(value []byte, critical bool, id ...int) []forge.Extension {
		return []forge.Extension{{ID: id, Critical: critical, Value: value}}
	}
	inland := append([]byte{0x30, 18, 0xa0, 16, 0x30, 14, 0x82, 12}, "land.example"...) // permitted: dNSName
	i.inland = below(i.outerRoot, forge.Template{Name: "Inland Waters", Extra: extension(inland, true, 2, 5, 29, 30)})
	i.letters = below(i.outerRoot, forge.Template{Name: "Harbour Post",
		Extra: extension([]byte{0x30, 10, 6, 8, 0x2b, 6, 1, 5, 5, 7, 3, 4}, false, 2, 5, 29, 37)})
	i.strict = below(i.outerRoot, forge.Template{Name: "Pilotage Board",
		Extra: extension([]byte{0x30, 3, 0x80, 1, 0}, true, 2, 5, 29, 36)})
	if err != nil {
		return nil, err
	}
	if i.ebbing, err = i.authority(i.outerRoot, forge.Template{Name: "Ebbing Issuing", From: now.Add(-400 * dayLong),
		Until: now.Add(100 * dayLong)}); err != nil {
		return nil, err
	}
	if i.oldLight, err = i.authority(nil, forge.Template{Name: "Old Light Root", From: now.Add(-10 * 365 * dayLong),
		Until: now.Add(-30 * dayLong)}); err != nil {
		return nil, err
	}
	i.secondRoot = root("Skerry Second Root")
	i.far = below(i.outerRoot, forge.Template{Name: "Skerry Far Issuing"})
	i.deep = i.outerRoot
	for _, name := range []string{"Deep Water", "Deeper Water", "Deepest Water", "Abyss"} {
		i.deep = below(i.deep, forge.Template{Name: name})
	}
	if err != nil {
		return nil, err
	}
	if err = i.crossings(); err != nil {
		return nil, err
	}
	if err = i.oddIssuers(); err != nil {
		return nil, err
	}
	return i, nil
}

// authority makes an issuing certificate with an EC key; without an issuer it is a root.
func (i *issuers) authority(issuer *forge.Authority, w forge.Template) (*forge.Authority, error) {
	key, err := i.keys.ec("issuer " + w.Name)
	if err != nil {
		return nil, err
	}
	a, err := forge.NewAuthority(issuer, key, forge.ECDSASHA256, w)
	if err != nil {
		return nil, err
	}
	a.Base = i.registry.base
	return a, i.registry.publish(a)
}

// crossings are further certificates for the name of outer and its issuer.
func (i *issuers) crossings() error {
	services := i.outer.Above[0].Name
	from, until := i.now.Add(-2*365*dayLong), i.now.Add(3*365*dayLong)
	var err error
	if i.crossed, err = i.authority(i.secondRoot, forge.Template{Name: services, From: from,
		Until: until}); err != nil {
		return err
	}
	if i.crossedOld, err = i.authority(i.oldLight, forge.Template{Name: services, From: from,
		Until: until}); err != nil {
		return err
	}
	if i.crossedPast, err = i.authority(i.secondRoot, forge.Template{Name: services, From: from,
		Until: i.now.Add(-10 * dayLong)}); err != nil {
		return err
	}
	key, err := i.keys.ec("issuer " + i.outer.Name + " of 2024")
	if err != nil {
		return err
	}
	i.sibling, err = forge.NewAuthority(i.outer.Above[0], key, forge.ECDSASHA256,
		forge.Template{Name: i.outer.Name, Serial: big.NewInt(20240611), From: from, Until: until})
	return err
}

// oddIssuers are those that an ordinary library would not make.
func (i *issuers) oddIssuers() error {
	from, until := i.now.Add(-8*365*dayLong), i.now.Add(12*365*dayLong)
	key, err := i.keys.rsa("issuer Stamp Root", 2048)
	if err != nil {
		return err
	}
	if i.stamp, err = forge.NewAuthority(nil, key, forge.RSASHA256,
		forge.Template{Name: "Stamp Root", From: from, Until: until}); err != nil {
		return err
	}
	spki, err := forge.Ed448Info()
	if err != nil {
		return err
	}
	if i.sextant, err = forge.NewAuthority(nil, key, forge.Ed448,
		forge.Template{Name: "Sextant Root", SPKI: spki, From: from, Until: until}); err != nil {
		return err
	}
	shopKey, err := i.keys.ec("toll shop")
	if err != nil {
		return err
	}
	shop, err := forge.PublicInfo(shopKey)
	if err != nil {
		return err
	}
	i.shop = &forge.Authority{Name: "shop.tarnholm.example", Key: shopKey, KeyID: forge.KeyID(shop),
		Sign:  forge.ECDSASHA256,
		Above: append([]*forge.Authority{i.outer}, i.outer.Above...)}
	i.shop.DER, err = forge.Issue(i.outer, nil, forge.Template{Name: i.shop.Name, Names: []string{i.shop.Name},
		SPKI: shop,
		From: i.now.Add(-20 * dayLong), Until: i.now.Add(-20*dayLong + leafLifetime - time.Second)})
	return err
}
