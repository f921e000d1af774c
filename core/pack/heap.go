package pack

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

// Keyring keeps the private keys that were opened, by their public half. Facts never hold them.
type Keyring struct {
	mutex sync.Mutex
	keys  map[pki.Fingerprint]Key
}

// Key is an opened private key.
type Key struct {
	DER       []byte
	Structure string // PKCS#8, PKCS#1, SEC1 or DSA
	Encrypted bool   // it was, where it came from
	Path      string
}

// Add is called for each private key that a reader opened: it is the file's last item.
func (k *Keyring) Add(file *facts.File, der []byte) {
	key := file.Items[len(file.Items)-1].Key
	public, err := pki.ParsePublicKey(key.SPKI)
	if err != nil || len(key.Problems) > 0 {
		return
	}
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if k.keys == nil {
		k.keys = map[pki.Fingerprint]Key{}
	}
	if _, known := k.keys[public.Match()]; !known {
		k.keys[public.Match()] = Key{slices.Clone(der), key.Structure, key.Encrypted, file.Path}
	}
}

// Of is the key of a public half.
func (k *Keyring) Of(public pki.PublicKey) (Key, bool) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	key, ok := k.keys[public.Match()]
	return key, ok
}

// Heap is what may be packed.
type Heap struct {
	files  []facts.File
	keys   *Keyring
	given  []*pki.Certificate // each once, in the order met
	leaves []*pki.Certificate
	paths  map[pki.Fingerprint]string // where each certificate is
}

// NewHeap sorts out files, whose private keys the ring has.
func NewHeap(files []facts.File, keys *Keyring) *Heap {
	h := &Heap{files: files, keys: keys, paths: map[pki.Fingerprint]string{}}
	for _, f := range files {
		for _, item := range f.Certificates() {
			c, err := pki.ParseCertificate(item.DER)
			if err == nil && h.paths[c.Fingerprint()] == "" {
				h.paths[c.Fingerprint()] = f.Path
				h.given = append(h.given, c)
			}
		}
	}
	h.leaves = judge.LeavesAmong(h.given)
	return h
}

// RefusedError says why nothing can be packed.
type RefusedError struct{ Reason string }

func (e *RefusedError) Error() string { return e.Reason }

func refuse(format string, args ...any) error { return &RefusedError{fmt.Sprintf(format, args...)} }

// ErrNone: there is no server's certificate to choose from.
var ErrNone = errors.New("there is no certificate for a server in it")

// Choose picks the newest leaf that is valid at the time and covers all names. Without names all leaves must be for
// the same ones. The error is a *RefusedError, or ErrNone.
func (h *Heap) Choose(names []naming.Reference, at time.Time) (*pki.Certificate, error) {
	if len(h.leaves) == 0 {
		return nil, ErrNone
	}
	var fit, valid []*pki.Certificate
	var missing []string
	for _, c := range h.leaves {
		lacking := slices.DeleteFunc(slices.Clone(names), func(r naming.Reference) bool {
			_, covered := r.CoveredBy(c)
			return covered
		})
		if len(lacking) > 0 {
			missing = append(missing, fmt.Sprintf("%s (%s) does not cover %s", c.Label(), h.paths[c.Fingerprint()],
				joined(lacking)))
			continue
		}
		fit = append(fit, c)
		if !c.NotBefore.IsZero() && !at.Before(c.NotBefore) && !c.NotAfter.IsZero() && !at.After(c.NotAfter) {
			valid = append(valid, c)
		}
	}
	switch {
	case len(fit) == 0:
		return nil, refuse("no certificate covers every name: %s", few(missing))
	case len(valid) == 0:
		newest := slices.MaxFunc(fit, func(a, b *pki.Certificate) int { return a.NotAfter.Compare(b.NotAfter) })
		return nil, refuse("no certificate for the names is valid at that time; %s (%s) is valid from %s until %s",
			newest.Label(), h.paths[newest.Fingerprint()], day(newest.NotBefore), day(newest.NotAfter))
	}
	if len(names) == 0 {
		first := namesOf(valid[0])
		for _, c := range valid[1:] {
			if namesOf(c) != first {
				return nil, refuse("there are certificates for different names, %s and %s among them; say with --name "+
					"which is meant", valid[0].Label(), c.Label())
			}
		}
	}
	return slices.MaxFunc(valid, func(a, b *pki.Certificate) int {
		if by := a.NotBefore.Compare(b.NotBefore); by != 0 {
			return by
		}
		if by := h.hasKey(a) - h.hasKey(b); by != 0 { // of two that were issued together the one that can be used
			return by
		}
		return a.NotAfter.Compare(b.NotAfter)
	}), nil
}

func (h *Heap) hasKey(c *pki.Certificate) int {
	if _, ok := h.keys.Of(c.PublicKey); ok {
		return 1
	}
	return 0
}

func namesOf(c *pki.Certificate) string {
	names := c.HostNames()
	for i := range names {
		names[i] = strings.ToLower(names[i])
	}
	slices.Sort(names)
	if len(names) == 0 {
		return c.Label()
	}
	return strings.Join(names, " ")
}

func day(t time.Time) string {
	if t.IsZero() {
		return "a date that cannot be read"
	}
	return t.UTC().Format(time.DateOnly)
}

func joined(names []naming.Reference) string {
	var out []string
	for _, n := range names {
		out = append(out, n.String())
	}
	return few(out)
}

// few shows the first of many.
func few(list []string) string {
	const most = 5
	if len(list) > most {
		return strings.Join(list[:most], "; ") + fmt.Sprintf("; and %d more", len(list)-most)
	}
	return strings.Join(list, "; ")
}

// About are the facts of a leaf with everything that its chain may be made of, for judging.
func (h *Heap) About(leaf *pki.Certificate) facts.File {
	f := facts.File{Schema: facts.Schema, Path: h.paths[leaf.Fingerprint()],
		Items: []facts.Item{{Kind: facts.Certificate, DER: leaf.Raw}}}
	for _, c := range h.given {
		if c != leaf && (c.IsCA() || c.SelfIssued()) {
			f.Items = append(f.Items, facts.Item{Kind: facts.Certificate, DER: c.Raw})
		}
	}
	return f
}

// Roots are the certificates of the heap that certify themselves: they may end a chain, though nobody says that they
// are trusted.
func (h *Heap) Roots() []*pki.Certificate {
	var out []*pki.Certificate
	for _, c := range h.given {
		if c.SelfIssued() && c.CheckSignedBy(c.PublicKey) == nil {
			out = append(out, c)
		}
	}
	return out
}
