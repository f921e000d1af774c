package pairing

import (
	"cmp"
	"path/filepath"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// Set is material that a name or a directory puts together: a key file and a
// certificate file of one service, and keystores beside them.
type Set struct {
	Directory    string
	Stem         string // the name that they share; "" where only the directory puts them together
	Keys         []*Member
	Certificates []*Member // leaves
	Stores       []*Member // keys and leaves in keystores
}

// roles are words that say what a file is, not whose.
var roles = map[string]bool{
	"key": true, "private": true, "privkey": true, "priv": true, "pkey": true, "cert": true, "certificate": true,
	"crt": true, "cer": true, "pem": true,
	"fullchain": true, "chain": true, "bundle": true, "full": true, "csr": true, "req": true, "request": true,
	"keystore": true, "store": true,
	"ssl": true, "tls": true, "public": true, "leaf": true, "p12": true, "pfx": true, "jks": true, "jceks": true,
	"der": true, "enc": true, "and": true,
}

// general are names that say neither: the directory says whose such a file is.
var general = map[string]bool{"server": true, "host": true, "site": true, "default": true, "my": true, "self": true,
	"local": true, "data": true}

const letters = "abcdefghijklmnopqrstuvwxyz"

// Stem is the part of a file's name that says whose it is: without suffixes,
// and without the words for its role. It is "" when nothing is left.
func Stem(path string) string {
	name := strings.ToLower(filepath.Base(path))
	for {
		ext := filepath.Ext(name)
		if ext == "" || !roles[strings.TrimPrefix(ext, ".")] {
			break
		}
		name = strings.TrimSuffix(name, ext)
	}
	words := strings.FieldsFunc(name, func(r rune) bool { return r == '-' || r == '_' || r == ' ' || r == '.' })
	words = slices.DeleteFunc(words, func(w string) bool { return roles[w] })
	for i, w := range words { // key2 is the second key
		if number := strings.TrimLeft(w, letters); roles[strings.TrimSuffix(w, number)] {
			words[i] = number
		}
	}
	if len(words) == 1 && general[words[0]] {
		return ""
	}
	return strings.Join(words, "-")
}

// Sets finds what names and directories put together.
func (r *Result) Sets() []Set {
	var out []Set
	for directory, members := range r.directories {
		sets, authorities, certificates := map[string]*Set{}, map[string][]*Member{}, r.certificatesIn(members)
		for _, i := range members {
			m := &r.members[i]
			if !m.Comparable() || m.Kind == facts.Request || m.Kind == facts.Certificate && m.Trusted {
				continue
			}
			if m.Kind == facts.Certificate && m.CA {
				if m.Container == "" && certificates[m.file] == 1 && !forIssuers(m.Path) {
					authorities[Stem(m.Path)] = append(authorities[Stem(m.Path)], m)
				}
				continue
			}
			stem := Stem(m.Path)
			s := sets[stem]
			if s == nil {
				s = &Set{Directory: directory, Stem: stem}
				sets[stem] = s
			}
			switch {
			case m.Container != "" && m.Container != "PKCS#7":
				s.Stores = append(s.Stores, m)
			case m.Kind == facts.PrivateKey:
				s.Keys = append(s.Keys, m)
			default:
				s.Certificates = append(s.Certificates, m)
			}
		}
		r.alone(sets)
		for stem, s := range sets {
			if len(s.Certificates) == 0 { // what stands in the place of the leaf counts as it, whatever it is
				s.Certificates = authorities[stem]
			}
		}
		for _, s := range sets {
			out = append(out, *s)
		}
	}
	slices.SortFunc(out, func(a, b Set) int {
		return cmp.Or(strings.Compare(a.Directory, b.Directory), strings.Compare(a.Stem, b.Stem))
	})
	return out
}

// certificatesIn counts the certificates of each file.
func (r *Result) certificatesIn(members []int) map[int]int {
	out := map[int]int{}
	for _, i := range members {
		if r.members[i].Kind == facts.Certificate {
			out[r.members[i].file]++
		}
	}
	return out
}

// forIssuers reports whether a name says that a file is for the certificates of CAs.
func forIssuers(path string) bool {
	words := strings.FieldsFunc(strings.ToLower(filepath.Base(path)), func(r rune) bool { return r < 'a' || r > 'z' })
	return slices.ContainsFunc(words, func(w string) bool {
		return w == "ca" || w == "cacert" || w == "cacerts" || w == "chain" || w == "bundle" || w == "root" ||
			w == "issuer" || strings.HasPrefix(w, "intermediate")
	})
}

// alone joins a nameless key or certificate with the only other one of the
// directory: "server.key" beside "tides.crt" is meant for it.
func (r *Result) alone(sets map[string]*Set) {
	nameless := sets[""]
	if nameless == nil || len(sets) != 2 {
		return
	}
	for stem, named := range sets {
		if stem == "" {
			continue
		}
		all := Set{Keys: append(slices.Clone(nameless.Keys), named.Keys...),
			Certificates: append(slices.Clone(nameless.Certificates), named.Certificates...)}
		if len(distinct(all.Keys)) == 1 && len(distinct(all.Certificates)) == 1 {
			named.Keys, named.Certificates = all.Keys, all.Certificates
			named.Stores = append(named.Stores, nameless.Stores...)
			delete(sets, "")
		}
	}
}

// distinct are the keys that occur.
func distinct(members []*Member) map[pki.Fingerprint]bool {
	out := map[pki.Fingerprint]bool{}
	for _, m := range members {
		out[m.Match()] = true
	}
	return out
}

// Mismatch returns a key and a leaf of the set that should belong together and
// do not: none of its keys fits any of its leaves.
func (s Set) Mismatch() (key, certificate *Member, found bool) {
	if len(s.Keys) == 0 || len(s.Certificates) == 0 {
		return key, certificate, false
	}
	keys := distinct(s.Keys)
	for fit := range distinct(s.Certificates) {
		if keys[fit] {
			return key, certificate, false
		}
	}
	newest := slices.MaxFunc(s.Certificates, func(a, b *Member) int { return a.NotBefore.Compare(b.NotBefore) })
	return s.Keys[0], newest, true
}

// Broken returns the keys in keystores that fit none of the certificates which the
// store puts beside them, each with the first of those. Where it puts nothing
// beside a key, and has no other key, its leaves are meant.
func (r *Result) Broken() (keys, certificates []*Member) {
	type entry struct {
		file int
		link string
	}
	var inStores []*Member
	count, beside, leaves := map[int]int{}, map[entry][]*Member{}, map[int][]*Member{}
	for i := range r.members {
		m := &r.members[i]
		switch {
		case m.Container == "" || m.Container == "PKCS#7" || m.Trusted || m.Kind == facts.Request:
		case m.Kind == facts.PrivateKey:
			inStores = append(inStores, m)
			count[m.file]++
		default:
			beside[entry{m.file, m.Link}] = append(beside[entry{m.file, m.Link}], m)
			if !m.CA {
				leaves[m.file] = append(leaves[m.file], m)
			}
		}
	}
	for _, key := range inStores {
		fit := beside[entry{key.file, key.Link}]
		if (key.Link == "" || len(fit) == 0) && count[key.file] == 1 {
			fit = leaves[key.file]
		} else if key.Link == "" {
			continue
		}
		if key.Comparable() && len(fit) > 0 && !distinct(fit)[key.Match()] {
			keys, certificates = append(keys, key), append(certificates, fit[0])
		}
	}
	return keys, certificates
}

// Disagreement returns an entry of a keystore that differs from the key file
// or the certificate file of the same service.
func (s Set) Disagreement() (store, file *Member, found bool) {
	if len(s.Stores) == 0 {
		return nil, nil, false
	}
	files := map[facts.ItemKind][]*Member{facts.PrivateKey: s.Keys, facts.Certificate: s.Certificates}
	there := map[facts.ItemKind]map[pki.Fingerprint]bool{}
	for kind, members := range files {
		there[kind] = map[pki.Fingerprint]bool{}
		for _, m := range members {
			there[kind][m.identity()] = true
		}
	}
	// Of the entries of one kind in a store it is enough that one agrees.
	type part struct {
		path string
		kind facts.ItemKind
	}
	agree := map[part]bool{}
	for _, entry := range s.Stores {
		if there[entry.Kind][entry.identity()] {
			agree[part{entry.Path, entry.Kind}] = true
		}
	}
	for _, entry := range s.Stores {
		if others := files[entry.Kind]; len(others) > 0 && !agree[part{entry.Path, entry.Kind}] {
			return entry, others[0], true
		}
	}
	return nil, nil, false
}

// identity is what members of one kind are compared by: certificates as a whole, keys by their public half.
func (m *Member) identity() pki.Fingerprint {
	if m.Kind == facts.Certificate {
		return m.SHA256
	}
	return m.Match()
}

// Beside reports whether keys or requests lie in the directory of the member,
// and whether one of them cannot be compared, so that it may be the one that is missed.
func (r *Result) Beside(m Member) (any, uncertain bool) {
	b := r.beside[filepath.Dir(m.Path)]
	return b.any, b.uncertain
}

// beside is what a directory holds beside certificates.
type beside struct{ any, uncertain bool }

// note takes in a member of the directory.
func (r *Result) note(directory string, m *Member) {
	r.directories[directory] = append(r.directories[directory], len(r.members)-1)
	if m.Kind != facts.Certificate {
		known := r.beside[directory]
		r.beside[directory] = beside{true, known.uncertain || !m.Comparable()}
	}
}

// File is the index of the member's file among those that were given.
func (m Member) File() int { return m.file }

// Members are all members in the order of the files.
func (r *Result) Members() []Member { return r.members }
