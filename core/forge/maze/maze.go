// Package maze makes files of certificates that are meant to keep whoever
// builds paths busy for hours. Tests and benchmarks judge them.
package maze

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	encodingasn1 "encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"nurvik/core/forge"
)

// Maze is one such file, with what may be in its trust store.
type Maze struct {
	Name string
	PEM  []byte
	Root []byte // DER
}

// maker gathers the first error, so that the mazes read as what they are.
type maker struct {
	at   time.Time
	root *forge.Authority
	out  bytes.Buffer
	err  error
}

var mazes = []struct {
	name string
	make func(*maker)
}{
	{"400 leaves below 2,000 authorities of one name", namesakes},
	{"999 policies in six layers, each certified three times", policies},
	{"999 policies in six layers, each mapped to 30 others", mappings},
	{"12 layers of 10 authorities that all certify each other", layers},
	{"20,000 names below 20,000 name constraints", names},
	{"2,000 namesakes with RSA keys of 16,384 bits", monsters},
	{"a leaf of 8 MB below 2,000 namesakes", longLeaf},
	{"40 intermediates below each other", deep},
}

// Names are those of all mazes.
func Names() []string {
	var out []string
	for _, m := range mazes {
		out = append(out, m.name)
	}
	return out
}

// Make makes the maze of that place in Names, with certificates that are valid at the time.
func Make(place int, at time.Time) (Maze, error) {
	m := mazes[place]
	x := &maker{at: at}
	x.root = x.authority(nil, forge.Template{Name: "Root"})
	m.make(x)
	if x.err != nil {
		return Maze{}, fmt.Errorf("%s: %w", m.name, x.err)
	}
	return Maze{m.name, x.out.Bytes(), x.root.DER}, nil
}

// All makes every maze.
func All(at time.Time) ([]Maze, error) {
	var all []Maze
	for place := range mazes {
		m, err := Make(place, at)
		if err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	return all, nil
}

func (m *maker) note(err error) {
	if m.err == nil {
		m.err = err
	}
}

func (m *maker) key() crypto.Signer {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	m.note(err)
	return key
}

func (m *maker) dated(w forge.Template) forge.Template {
	w.From, w.Until = m.at.AddDate(0, -1, 0), m.at.AddDate(0, 5, 0)
	return w
}

// authority makes one that is not yet in the file.
func (m *maker) authority(issuer *forge.Authority, w forge.Template) *forge.Authority {
	a, err := forge.NewAuthority(issuer, m.key(), forge.ECDSASHA256, m.dated(w))
	m.note(err)
	return a
}

func (m *maker) add(ders ...[]byte) {
	for _, der := range ders {
		m.note(pem.Encode(&m.out, &pem.Block{Type: "CERTIFICATE", Bytes: der}))
	}
}

// again certifies an authority once more.
func (m *maker) again(a, issuer *forge.Authority, w forge.Template) {
	spki, err := forge.PublicInfo(a.Key)
	m.note(err)
	w.Name, w.SPKI, w.CA = a.Name, spki, true
	der, err := forge.Issue(issuer, nil, m.dated(w))
	m.note(err)
	m.add(der)
}

func (m *maker) leaf(issuer *forge.Authority, w forge.Template) {
	spki, err := forge.PublicInfo(m.key())
	m.note(err)
	w.SPKI = spki
	if w.Name == "" {
		w.Name, w.Names = "lost.tarnholm.example", append([]string{"lost.tarnholm.example"}, w.Names...)
	}
	der, err := forge.Issue(issuer, nil, m.dated(w))
	m.note(err)
	if w.Sign != nil {
		der = m.resigned(der)
	}
	m.add(der)
}

// resigned has a signature of the length of a monstrous RSA key.
func (m *maker) resigned(der []byte) []byte {
	s := cryptobyte.String(der)
	var whole, tbs, algorithm cryptobyte.String
	if !s.ReadASN1(&whole, asn1.SEQUENCE) || !whole.ReadASN1Element(&tbs, asn1.SEQUENCE) ||
		!whole.ReadASN1Element(&algorithm, asn1.SEQUENCE) {
		m.note(errors.New("no certificate"))
	}
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddBytes(tbs)
		b.AddBytes(algorithm)
		b.AddASN1BitString(append([]byte{0, 1}, make([]byte, 2046)...))
	})
	return b.BytesOrPanic()
}

// fog are authorities of one name, each certified by the next, that have certified nothing else.
func (m *maker) fog(count int) {
	for i := range count {
		a := m.authority(m.root, forge.Template{Name: "Fog", NoKeyIDs: true, Serial: big.NewInt(int64(i + 2))})
		m.add(a.DER)
	}
}

func namesakes(m *maker) {
	stranger := &forge.Authority{Name: "Fog", Key: m.key(), Sign: forge.ECDSASHA256}
	for i := range 400 {
		name := fmt.Sprintf("quay-%d.tarnholm.example", i)
		m.leaf(stranger, forge.Template{Name: name, Names: []string{name}, NoKeyIDs: true})
	}
	m.fog(2000)
}

func monsters(m *maker) {
	stranger := &forge.Authority{Name: "Fog", Key: m.key(), Sign: forge.RSASHA256}
	for i := range 40 {
		name := fmt.Sprintf("quay-%d.tarnholm.example", i)
		m.leaf(stranger, forge.Template{Name: name, Names: []string{name}, NoKeyIDs: true, Sign: &forge.RSASHA256})
	}
	for i := range 2000 {
		n := new(big.Int).Lsh(big.NewInt(1), 16383)
		n.Add(n, big.NewInt(int64(2*i+1)))
		e := new(big.Int).Lsh(big.NewInt(1), 255)
		spki, err := forge.RSAInfoOf(n, e.Add(e, big.NewInt(1)))
		m.note(err)
		der, err := forge.Issue(m.root, nil, m.dated(forge.Template{Name: "Fog", SPKI: spki, CA: true, NoKeyIDs: true}))
		m.note(err)
		m.add(der)
	}
}

func longLeaf(m *maker) {
	stranger := &forge.Authority{Name: "Fog", Key: m.key(), Sign: forge.ECDSASHA256}
	m.leaf(stranger, forge.Template{NoKeyIDs: true, Extra: []forge.Extension{
		{ID: encodingasn1.ObjectIdentifier{2, 999, 7}, Value: bytes.Repeat([]byte{5, 0}, 4<<20)}}})
	m.fog(2000)
}

func layers(m *maker) {
	var above []*forge.Authority
	for layer := range 12 {
		var here []*forge.Authority
		for i := range 10 {
			a := m.authority(nil, forge.Template{Name: fmt.Sprintf("Layer %d Room %d", layer, i)})
			here = append(here, a)
			for _, issuer := range above {
				m.again(a, issuer, forge.Template{})
			}
		}
		above = here
	}
	m.leaf(above[0], forge.Template{})
}

func deep(m *maker) {
	below := m.root
	for i := range 40 {
		below = m.authority(below, forge.Template{Name: fmt.Sprintf("Stair %d", i)})
		m.add(below.DER)
	}
	m.leaf(below, forge.Template{})
}

func names(m *maker) {
	var list []string
	for i := range 20_000 {
		list = append(list, fmt.Sprintf("n%d.a.tarnholm.example", i))
	}
	var constraints cryptobyte.Builder
	constraints.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(asn1.Tag(1).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
			for i := range 20_000 {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1(asn1.Tag(2).ContextSpecific(), func(b *cryptobyte.Builder) {
						b.AddBytes(fmt.Appendf(nil, "n%d.b.tarnholm.example", i))
					})
				})
			}
		})
	})
	a := m.authority(m.root, forge.Template{Name: "Narrow", Extra: []forge.Extension{
		{ID: encodingasn1.ObjectIdentifier{2, 5, 29, 30}, Critical: true, Value: constraints.BytesOrPanic()}}})
	m.add(a.DER)
	m.leaf(a, forge.Template{Names: list})
}

// policy is the number-th policy of a layer.
func policy(layer, number int) encodingasn1.ObjectIdentifier {
	return encodingasn1.ObjectIdentifier{2, 999, 100 + layer, number}
}

// stack makes layers of authorities with 999 policies, each certified by the one above as often as asked.
func (m *maker) stack(twins int, mapped func(layer int) []forge.Extension) {
	above := m.root
	for layer := range 6 {
		extra := append(mapped(layer), list([]int{2, 5, 29, 32}, func(b *cryptobyte.Builder) {
			for i := range 999 {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddASN1ObjectIdentifier(policy(layer, i)) })
			}
		}), list([]int{2, 5, 29, 36}, func(b *cryptobyte.Builder) { // requireExplicitPolicy of 0
			b.AddASN1(asn1.Tag(0).ContextSpecific(), func(b *cryptobyte.Builder) { b.AddUint8(0) })
		}))
		a := m.authority(above, forge.Template{Name: fmt.Sprintf("Layer %d", layer), Extra: extra})
		m.add(a.DER)
		for i := range twins - 1 {
			m.again(a, above, forge.Template{Extra: extra, Serial: big.NewInt(int64(100 + i))})
		}
		above = a
	}
	m.leaf(above, forge.Template{})
}

func list(id encodingasn1.ObjectIdentifier, inside func(*cryptobyte.Builder)) forge.Extension {
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, inside)
	return forge.Extension{ID: id, Value: b.BytesOrPanic()}
}

func policies(m *maker) {
	m.stack(3, func(layer int) []forge.Extension {
		return []forge.Extension{list([]int{2, 5, 29, 33}, func(b *cryptobyte.Builder) {
			for i := range 999 {
				addMapping(b, policy(layer, i), policy(layer+1, i))
			}
		})}
	})
}

func mappings(m *maker) {
	m.stack(1, func(layer int) []forge.Extension {
		return []forge.Extension{list([]int{2, 5, 29, 33}, func(b *cryptobyte.Builder) {
			for i := range 999 {
				for k := range 30 {
					addMapping(b, policy(layer, i), policy(layer+1, (i+k)%999))
				}
			}
		})}
	})
}

func addMapping(b *cryptobyte.Builder, from, to encodingasn1.ObjectIdentifier) {
	b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(from)
		b.AddASN1ObjectIdentifier(to)
	})
}
