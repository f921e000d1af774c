package keystore

import (
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"fmt"

	"nurvik/core/pbe"
	"nurvik/core/pki"
)

const (
	magicJKS   = 0xfeedfeed
	magicJCEKS = 0xcececece

	digestSize = 20

	oidProtectJKS   = "1.3.6.1.4.1.42.2.17.1.1"
	oidProtectJCEKS = "1.3.6.1.4.1.42.2.19.1"
)

// LooksJava reports whether the bytes begin as a Java keystore does.
func LooksJava(data []byte) bool {
	if len(data) < 12+digestSize {
		return false
	}
	magic := binary.BigEndian.Uint32(data)
	return magic == magicJKS || magic == magicJCEKS
}

var errCut = errors.New("it ends in the middle of an entry: cut off")

// cursor reads the big-endian fields of a Java stream.
type cursor struct {
	rest []byte
	err  error
}

func (c *cursor) take(n int) []byte {
	if c.err != nil || n < 0 || n > len(c.rest) {
		c.err = errCut
		return nil
	}
	out := c.rest[:n]
	c.rest = c.rest[n:]
	return out
}

func (c *cursor) byte() byte {
	if b := c.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (c *cursor) short() int {
	if b := c.take(2); b != nil {
		return int(binary.BigEndian.Uint16(b))
	}
	return 0
}

func (c *cursor) long() int {
	if b := c.take(4); b != nil {
		return int(int32(binary.BigEndian.Uint32(b)))
	}
	return 0
}

func (c *cursor) text() string { return string(c.take(c.short())) }

// ReadJava reads a JKS or JCEKS store. Everything but the private keys is
// readable without a password; Checked tells whether one fitted. The error is
// ErrNoStore.
func ReadJava(data []byte, o Opener) (*Store, error) {
	if !LooksJava(data) {
		return nil, ErrNoStore
	}
	store := &Store{Kind: "JKS"}
	if binary.BigEndian.Uint32(data) == magicJCEKS {
		store.Kind = "JCEKS"
	}
	c := &cursor{rest: data[4:]}
	version, count := c.long(), c.long()
	if version != 1 && version != 2 {
		return nil, ErrNoStore
	}
	for i := range count {
		if i >= maxEntries {
			store.Problems = append(store.Problems, fmt.Sprintf("it has more than %d entries; the rest is not read",
				maxEntries))
			return store, nil
		}
		e, ok := readEntry(c, version, o)
		if c.err != nil {
			store.Problems = append(store.Problems, fmt.Sprintf("entry %d: %v", i+1, c.err))
			return store, nil
		}
		if !ok {
			store.Problems = append(store.Problems,
				fmt.Sprintf("entry %d has an unknown type; it and those after it are not read", i+1))
			return store, nil
		}
		if e.Locked != nil && store.Locked == nil {
			store.Locked = e.Locked
		}
		store.Entries = append(store.Entries, e)
	}
	if len(c.rest) != digestSize {
		store.Problems = append(store.Problems, fmt.Sprintf("%d bytes stand where the integrity value of %d should be",
			len(c.rest), digestSize))
		return store, nil
	}
	content := data[:len(data)-digestSize]
	for _, password := range o.Passwords {
		store.Checked = store.Checked || string(pbe.JavaDigest(content, password)) == string(c.rest)
	}
	return store, nil
}

func readEntry(c *cursor, version int, o Opener) (Entry, bool) {
	tag := c.long()
	e := Entry{Alias: pki.Printable(c.text())}
	e.Link = e.Alias
	c.take(8) // when it was made
	certificate := func() {
		if version == 2 {
			c.text() // its type, always X.509
		}
		if der := c.take(c.long()); c.err == nil {
			e.Certificates = append(e.Certificates, der)
		}
	}
	switch tag {
	case 1:
		e.Kind, e.Encrypted = PrivateKey, true
		protected := c.take(c.long())
		chain := c.long()
		for range chain {
			if certificate(); c.err != nil {
				return e, false
			}
		}
		if c.err == nil {
			e.Key, e.Protection, e.Locked = o.java(protected)
		}
	case 2:
		e.Kind = Trusted
		certificate()
	case 3:
		e.Kind = SecretKey
		skipObject(c)
	default:
		return e, false
	}
	return e, true
}

// java opens the private key of an entry, which is an EncryptedPrivateKeyInfo
// with one of two algorithms of Java's own.
func (o Opener) java(protected []byte) (plain []byte, protection string, err error) {
	var info struct {
		Algorithm struct {
			ID         asn1.ObjectIdentifier
			Parameters asn1.RawValue `asn1:"optional"`
		}
		Data []byte
	}
	if _, err := asn1.Unmarshal(protected, &info); err != nil {
		return nil, "", fmt.Errorf("%w: the protected key is malformed", pbe.ErrDamaged)
	}
	decrypt := func(password string) ([]byte, error) { return pbe.DecryptJKS(info.Data, password) }
	switch info.Algorithm.ID.String() {
	case oidProtectJKS:
		protection = "JKS, SHA-1"
	case oidProtectJCEKS:
		protection = "JCEKS, MD5 and 3DES"
		decrypt = func(password string) ([]byte, error) {
			return pbe.DecryptJCEKS(info.Algorithm.Parameters.FullBytes, info.Data, password, o.Budget)
		}
	default:
		return o.PKCS8(protected)
	}
	err = o.Try(func(password string) error {
		out, err := decrypt(password)
		if err == nil {
			if _, bad := pki.ParsePKCS8(out); bad != nil {
				return pbe.ErrPassword
			}
			plain = out
		}
		return err
	})
	return plain, protection, err
}

// Tags of the Java Object Serialization Stream Protocol, version 2.
const (
	streamNull, streamReference, streamClass, streamObject = 0x70, 0x71, 0x72, 0x73
	streamString, streamArray, streamBlock, streamEnd      = 0x74, 0x75, 0x77, 0x78
)

// class is what is needed of a class to step over its objects.
type class struct {
	name   string
	flags  byte
	fields []byte // type codes
	super  *class
}

// walker steps over one serialised object. Handles are counted as the writer counted them.
type walker struct {
	*cursor
	handles []any
	steps   int
}

// skipObject steps over the serialised, sealed object of a secret key entry.
func skipObject(c *cursor) {
	if c.short() != 0xaced || c.short() != 5 {
		c.err = errors.New("its secret key is not in the form of Java's serialisation")
		return
	}
	w := &walker{cursor: c}
	w.value(0)
}

func (w *walker) value(depth int) {
	if w.steps++; w.steps > 10_000 || depth > 16 {
		w.err = errors.New("its secret key is nested too deeply")
	}
	if w.err != nil {
		return
	}
	switch w.byte() {
	case streamNull:
	case streamReference:
		w.long()
	case streamString:
		w.handles = append(w.handles, nil)
		w.text()
	case streamArray:
		k := w.class(depth)
		w.handles = append(w.handles, nil)
		n := w.long()
		if k == nil || len(k.name) < 2 {
			w.err = errCut
			return
		}
		if size := primitiveSizes[k.name[1]]; size > 0 {
			w.take(n * size)
			return
		}
		for range n {
			if w.value(depth + 1); w.err != nil {
				return
			}
		}
	case streamObject:
		k := w.class(depth)
		w.handles = append(w.handles, nil)
		w.object(k, depth)
	default:
		w.err = errCut
	}
}

var primitiveSizes = map[byte]int{'B': 1, 'Z': 1, 'C': 2, 'S': 2, 'I': 4, 'F': 4, 'J': 8, 'D': 8}

// object reads the fields, the classes above first, and what a class wrote behind them.
func (w *walker) object(k *class, depth int) {
	if k == nil || w.err != nil {
		return
	}
	if w.object(k.super, depth+1); depth > 16 {
		w.err = errCut
		return
	}
	for _, f := range k.fields {
		if size := primitiveSizes[f]; size > 0 {
			w.take(size)
		} else {
			w.value(depth + 1)
		}
	}
	for k.flags&1 != 0 && w.err == nil { // written by the class's own method: blocks until the end mark
		switch {
		case len(w.rest) == 0:
			w.err = errCut
		case w.rest[0] == streamEnd:
			w.byte()
			return
		case w.rest[0] == streamBlock:
			w.byte()
			w.take(int(w.byte()))
		default:
			w.value(depth + 1)
		}
	}
}

func (w *walker) class(depth int) *class {
	if w.steps++; w.steps > 10_000 || depth > 16 || w.err != nil {
		w.err = errCut
		return nil
	}
	switch w.byte() {
	case streamNull:
		return nil
	case streamReference:
		i := w.long() - 0x7e0000
		if i < 0 || i >= len(w.handles) {
			w.err = errCut
			return nil
		}
		k, _ := w.handles[i].(*class)
		return k
	case streamClass:
	default:
		w.err = errCut
		return nil
	}
	k := &class{name: w.text()}
	w.take(8) // the version number
	w.handles = append(w.handles, k)
	k.flags = w.byte()
	for range w.short() {
		code := w.byte()
		w.text()
		if code == 'L' || code == '[' {
			w.value(depth + 1) // the field's type, a string
		}
		if k.fields = append(k.fields, code); w.err != nil {
			return nil
		}
	}
	if w.byte() != streamEnd { // annotations are never written here
		w.err = errCut
	}
	k.super = w.class(depth + 1)
	return k
}
