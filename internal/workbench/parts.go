package workbench

import (
	"encoding/pem"
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pack"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Part is a clean file made from what was read: a leaf, a bundle or a key, each alone and in PEM.
type Part struct {
	Name string          `json:"name" doc:"Of the file to be saved"`
	What string          `json:"what" enum:"leaf,bundle,key,request"`
	Of   string          `json:"of" doc:"Whose it is"`
	SPKI pki.Fingerprint `json:"spki" doc:"Which group it belongs to"`
	PEM  string          `json:"pem"`
	Note string          `json:"note,omitempty" doc:"What has to be known of it"`
}

// parts cuts out each leaf, its bundle and its key, and requests.
func parts(files []facts.File, result *pairing.Result, keys *pack.Keyring, at time.Time) []Part {
	out := []Part{}
	certificates := certificatesOf(files)
	pool := chain.NewPool(certificates)
	names, shared, taken := map[string]int{}, map[string]string{}, map[string]bool{}
	done := map[pki.Fingerprint]bool{}
	base := func(m pairing.Member) string { // a certificate and the request for it have files of one name
		id := m.Match().String() + m.Brief.Label
		name, known := shared[id]
		if !known || taken[name+string(m.Kind)] {
			name = unique(names, m.Brief.Label)
			shared[id] = name
		}
		taken[name+string(m.Kind)] = true
		return name
	}
	for _, m := range result.Members() {
		switch {
		case m.Kind == facts.Certificate && !m.CA && !done[m.SHA256]:
			done[m.SHA256] = true
			i := slices.IndexFunc(certificates, func(c *pki.Certificate) bool { return c.Fingerprint() == m.SHA256 })
			if i < 0 {
				continue
			}
			name := base(m)
			out = append(out, leafParts(certificates[i], name, m, pool, at)...)
			if key, ok := keys.Of(m.Brief.PublicKey()); ok {
				out = append(out, keyPart(key, name, m))
			}
		case m.Kind == facts.Request && !done[m.SHA256]:
			done[m.SHA256] = true
			der := requestOf(files, m.SHA256)
			out = append(out, Part{Name: base(m) + ".csr", What: "request", Of: m.Brief.Label,
				SPKI: m.Match(), PEM: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}))})
		}
	}
	return out
}

// keyPart is the key alone, in the structure that it had.
func keyPart(k pack.Key, name string, m pairing.Member) Part {
	p := Part{Name: name + ".key", What: "key", Of: m.Brief.Label, SPKI: m.Match(), PEM: string(k.Original())}
	if k.Encrypted {
		p.Note = "It was encrypted where it came from, and is not any more: save it where only its service can read it."
	}
	return p
}

// leafParts are the leaf alone, and with the intermediates that lead to its root.
func leafParts(leaf *pki.Certificate, name string, m pairing.Member, pool *chain.Pool, at time.Time) []Part {
	out := []Part{{Name: name + ".crt", What: "leaf", Of: m.Brief.Label, SPKI: m.Match(), PEM: leaf.PEM()}}
	verifier := &chain.Verifier{}
	path, _ := verifier.Search(chain.Query{Leaf: leaf, Given: pool, Store: trust.New("", nil), At: at})
	bundle := Part{Name: name + "-bundle.pem", What: "bundle", Of: m.Brief.Label, SPKI: m.Match()}
	complete := false
	for _, c := range path.Certificates {
		complete = verifier.RoleOf(c) == chain.Root
		if !complete { // clients take roots only from their own store
			bundle.PEM += c.PEM()
		}
	}
	if !complete {
		last := path.Certificates[len(path.Certificates)-1]
		bundle.Note = fmt.Sprintf("The certificate of its issuer %q is not among what was read; if that is no "+
			"root, the bundle lacks it.", last.Issuer.Label())
	}
	return append(out, bundle)
}

func certificatesOf(files []facts.File) []*pki.Certificate {
	var out []*pki.Certificate
	for _, f := range files {
		for _, item := range f.Certificates() {
			if c, err := pki.ParseCertificate(item.DER); err == nil {
				out = append(out, c)
			}
		}
	}
	return out
}

func requestOf(files []facts.File, id pki.Fingerprint) []byte {
	for _, f := range files {
		for _, item := range f.Items {
			if item.Kind == facts.Request && pki.FingerprintOf(item.DER) == id {
				return item.DER
			}
		}
	}
	return nil
}

// unique makes a file name of the label that was not used before.
func unique(used map[string]int, label string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '.', r == '-':
			return r
		case r == '*':
			return '_'
		}
		return '-'
	}, label)
	if name = strings.Trim(name, ".-"); name == "" {
		name = "certificate"
	}
	used[name]++
	if n := used[name]; n > 1 {
		return fmt.Sprintf("%s-%d", name, n)
	}
	return name
}
