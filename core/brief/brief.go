// Package brief remembers what was learnt while material was decoded, so that
// in one run a certificate, request or key is decoded once, however many files
// hold it. Facts hold the bytes alone.
package brief

import (
	"bytes"
	"hash/maphash"
	"sync"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// Memory is safe for concurrent use. A nil one remembers nothing and decodes each time.
type Memory struct {
	Forget bool // keep what was learnt, and not the bytes; set before the first use

	entries sync.Map // *entry by sums of the bytes
	private sync.Map // *private by digests of the bytes, which are not kept
}

// private is what was learnt of a private key.
type private struct {
	key       *pki.PrivateKey
	structure string
}

// Private is what parse learns of a private key, once for the same bytes: to prove that the parts of a key agree
// takes longer than all else.
func (m *Memory) Private(der []byte, parse func([]byte) (*pki.PrivateKey, string)) (*pki.PrivateKey, string) {
	if m == nil {
		return parse(der)
	}
	id := pki.FingerprintOf(der)
	if known, ok := m.private.Load(id); ok {
		p, _ := known.(*private)
		return p.key, p.structure
	}
	p := &private{}
	p.key, p.structure = parse(der)
	m.private.Store(id, p)
	return p.key, p.structure
}

type entry struct {
	der   []byte
	brief *pki.Brief
}

// sums makes sums of bytes that nobody outside can foresee.
var sums = maphash.MakeSeed()

// sum is of the bytes as a thing of that kind.
func sum(kind facts.ItemKind, der []byte) uint64 {
	return maphash.String(sums, string(kind)) ^ maphash.Bytes(sums, der)
}

// Certificate decodes a certificate. shared is the same bytes as were met before, where they were.
func (m *Memory) Certificate(der []byte) (shared []byte, b *pki.Brief, err error) {
	return m.decode(facts.Certificate, der)
}

// Request decodes a certificate request.
func (m *Memory) Request(der []byte) (shared []byte, b *pki.Brief, err error) {
	return m.decode(facts.Request, der)
}

// Learn takes in a public key that was decoded elsewhere.
func (m *Memory) Learn(key pki.PublicKey) *pki.Brief {
	if m != nil {
		if e, ok := m.look(facts.PublicKey, key.Raw); ok {
			return e.brief
		}
	}
	b := key.Brief()
	m.keep(facts.PublicKey, key.Raw, b)
	return b
}

// Of is what was learnt of an item: nil for kinds that have none, for keys whose
// public half is not known, and for what cannot be decoded.
func (m *Memory) Of(item *facts.Item) *pki.Brief {
	if b := item.Learnt(); b != nil {
		return b
	}
	kind, der := item.Kind, item.DER
	switch item.Kind {
	case facts.Certificate, facts.Request, facts.PublicKey:
	case facts.PrivateKey:
		if item.Key == nil || len(item.Key.SPKI) == 0 {
			return nil
		}
		kind, der = facts.PublicKey, item.Key.SPKI
	default:
		return nil
	}
	_, b, err := m.decode(kind, der)
	if err != nil {
		return nil
	}
	return b
}

func (m *Memory) decode(kind facts.ItemKind, der []byte) ([]byte, *pki.Brief, error) {
	if e, ok := m.look(kind, der); ok {
		if e.der != nil {
			der = e.der
		}
		return der, e.brief, nil
	}
	b, err := decoded(kind, der)
	if err != nil {
		return der, nil, err
	}
	m.keep(kind, der, b)
	return der, b, nil
}

func decoded(kind facts.ItemKind, der []byte) (*pki.Brief, error) {
	switch kind {
	case facts.Certificate:
		c, err := pki.ParseCertificate(der)
		if err != nil {
			return nil, err
		}
		return c.Brief(), nil
	case facts.Request:
		r, err := pki.ParseRequest(der)
		if err != nil {
			return nil, err
		}
		return r.Brief(), nil
	default:
		k, err := pki.ParsePublicKey(der)
		if err != nil {
			return nil, err
		}
		return k.Brief(), nil
	}
}

func (m *Memory) look(kind facts.ItemKind, der []byte) (*entry, bool) {
	if m == nil {
		return nil, false
	}
	known, ok := m.entries.Load(sum(kind, der))
	if !ok {
		return nil, false
	}
	e := known.(*entry)
	if e.der == nil {
		return e, pki.FingerprintOf(der) == e.brief.SHA256
	}
	return e, bytes.Equal(e.der, der)
}

func (m *Memory) keep(kind facts.ItemKind, der []byte, b *pki.Brief) {
	if m == nil {
		return
	}
	if m.Forget && kind != facts.PublicKey {
		b.Detach()
		m.entries.Store(sum(kind, der), &entry{nil, b})
		return
	}
	m.entries.Store(sum(kind, der), &entry{der, b})
}
