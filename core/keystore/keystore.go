// Package keystore reads keystores: PKCS#12 (RFC 7292) and the Java kinds JKS
// and JCEKS. It lists what strict packages refuse: several keys, no integrity
// value, keys of any algorithm, certificates with defects.
package keystore

import (
	"errors"
	"slices"

	"nurvik/core/pbe"
)

// EntryKind says what an entry is.
type EntryKind string

// The kinds of entries.
const (
	PrivateKey     EntryKind = "private key"
	Certificate    EntryKind = "certificate"
	Trusted        EntryKind = "trusted certificate" // an anchor, by its place in the store
	SecretKey      EntryKind = "secret key"          // symmetric, or a password; contents are not read
	RevocationList EntryKind = "revocation list"
)

// Entry is one entry of a keystore.
type Entry struct {
	Kind         EntryKind
	Alias        string
	Link         string   // the same for a key and its certificate, where the store puts them together; "" for none
	Certificates [][]byte // the chain of a Java key entry, or the one certificate; DER
	List         []byte   // of a revocation list, DER
	Key          []byte   // PKCS#8 of an opened private key
	Encrypted    bool     // the key was stored encrypted
	Protection   string   // how, in words
	Locked       error    // why the key was not opened: ErrPassword, ErrUnsupported …; nil when it was
}

// Store is a keystore as far as it could be read.
type Store struct {
	Kind     string // "PKCS#12", "JKS" or "JCEKS"
	Entries  []Entry
	Checked  bool     // the integrity value was verified with a password
	Problems []string // what could not be read, in words
	Locked   error    // why a part of it stayed closed; nil when none did
}

// ErrNoStore: the bytes are no keystore of a kind that is known here.
var ErrNoStore = errors.New("not a keystore")

// Limits: more entries than any real store has, few enough for the memory.
const maxEntries = 10_000

// Opener holds what is needed to open protected parts.
type Opener struct {
	Passwords []string
	Budget    *pbe.Budget
}

// Try calls the function with each password until one fits;
// the function returns pbe.ErrPassword for a wrong one. The error is
// ErrNoPassword when one is needed and there are none to try.
func (o Opener) Try(open func(password string) error) error {
	if len(o.Passwords) == 0 {
		// Stores without a password, or with the empty one, are common.
		if err := open(""); !errors.Is(err, pbe.ErrPassword) {
			return err
		}
		return ErrNoPassword
	}
	for _, password := range slices.Concat(o.Passwords, []string{""}) {
		if err := open(password); !errors.Is(err, pbe.ErrPassword) {
			return err
		}
	}
	return pbe.ErrPassword
}

// ErrNoPassword: a password is needed and none was given.
var ErrNoPassword = errors.New("it needs a password and none was given")
