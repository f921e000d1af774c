package chain_test

import (
	"crypto/x509"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/chain"
	"nurvik/core/forge"
	"nurvik/core/pki"
)

const randomGraphs = 3000

// graph is one small world of authorities that certify each other at random.
type graph struct {
	roots, given []*pki.Certificate
	leaf         *pki.Certificate
}

// tower makes authorities out of few names and few keys, so that there are
// cross-certificates, re-keyed authorities and circles.
type tower struct {
	random *rand.Rand
	keys   []*forge.Authority // only name, key and identifier are used
	t      *testing.T
}

func (w tower) one(of ...int) int { return of[w.random.IntN(len(of))] }

func (w tower) often(percent int) bool { return w.random.IntN(100) < percent }

// issue makes a certificate for the name and key, under the other.
func (w tower) issue(issuer, subject *forge.Authority, change func(*forge.Template)) *pki.Certificate {
	spki, err := forge.PublicInfo(subject.Key)
	require.NoError(w.t, err)
	template := forge.Template{Name: subject.Name, SPKI: spki, From: now.AddDate(0, -2, 0),
		Until: now.AddDate(0, w.one(1, 6, 12), 0), CA: true, NoKeyIDs: w.often(30)}
	change(&template)
	var by *forge.Authority
	if issuer != nil {
		by = issuer
	}
	der, err := forge.Issue(by, subject.Key, template)
	require.NoError(w.t, err)
	return parse(w.t, der)
}

// dnsConstraint is a critical NameConstraints extension with one DNS subtree.
func dnsConstraint(excluded bool, base string) forge.Extension {
	tag := byte(0xa0)
	if excluded {
		tag = 0xa1
	}
	name := append([]byte{0x82, byte(len(base))}, base...)
	subtree := append([]byte{0x30, byte(len(name))}, name...)
	list := append([]byte{tag, byte(len(subtree))}, subtree...)
	return forge.Extension{ID: []int{2, 5, 29, 30}, Critical: true,
		Value: append([]byte{0x30, byte(len(list))}, list...)}
}

// usages is an ExtKeyUsage extension for e-mail, or for any use.
func usages(any bool) forge.Extension {
	id := []byte{6, 8, 0x2b, 6, 1, 5, 5, 7, 3, 4}
	if any {
		id = []byte{6, 4, 0x55, 0x1d, 0x25, 0}
	}
	return forge.Extension{ID: []int{2, 5, 29, 37}, Value: append([]byte{0x30, byte(len(id))}, id...)}
}

// spoil gives an authority's certificate one of the properties that decide about paths.
func (w tower) spoil(c *forge.Template) {
	switch w.random.IntN(16) {
	case 0:
		c.Until = now.AddDate(0, 0, -w.one(1, 30))
	case 1:
		c.From = now.AddDate(0, 0, w.one(1, 30))
	case 2, 3:
		length := w.one(0, 0, 1, 2)
		c.Length = &length
	case 4:
		c.Extra = append(c.Extra, dnsConstraint(false, []string{"tarnholm.example", "land.example",
			".tarnholm.example"}[w.random.IntN(2)]))
	case 5:
		c.Extra = append(c.Extra, dnsConstraint(true, []string{"tarnholm.example", "land.example"}[w.random.IntN(2)]))
	case 6:
		c.Extra = append(c.Extra, usages(w.often(40)))
	case 7:
		c.Extra = append(c.Extra, forge.Extension{ID: []int{2, 999, 1}, Critical: true, Value: []byte{5, 0}})
	case 8:
		c.CA = false
	case 9:
		c.Spoilt = true
	}
}

// grow makes a graph: some roots, a handful of certificates between random
// holders of names and keys, and a leaf.
func (w tower) grow() graph {
	var g graph
	holders := make([]*forge.Authority, 4+w.random.IntN(3))
	for i := range holders {
		key := w.keys[w.random.IntN(len(w.keys))]
		holders[i] = &forge.Authority{Name: fmt.Sprintf("Authority %d", w.random.IntN(4)), Key: key.Key,
			KeyID: key.KeyID, Sign: forge.ECDSASHA256}
	}
	for i := range 1 + w.random.IntN(2) {
		// Roots are plain: what a root says of itself counts for the standard library and not for RFC 5280 (6.1.1 d).
		g.roots = append(g.roots, w.issue(nil, holders[i], func(c *forge.Template) {
			if w.often(10) {
				c.Until = now.AddDate(0, 0, -1)
			}
		}))
	}
	for range 3 + w.random.IntN(6) {
		g.given = append(g.given, w.issue(holders[w.random.IntN(len(holders))], holders[w.random.IntN(len(holders))],
			w.spoil))
	}
	key := w.keys[w.random.IntN(len(w.keys))]
	name := &forge.Authority{Name: "quay.tarnholm.example", Key: key.Key}
	g.leaf = w.issue(holders[w.random.IntN(len(holders))], name, func(c *forge.Template) {
		c.CA, c.Names = false, []string{"quay.tarnholm.example"}
		if w.often(5) {
			c.Spoilt = true
		}
		if w.often(5) {
			c.Until = now.AddDate(0, 0, -1)
		}
	})
	return g
}

// standard asks the standard library. The second result is false where it gave up.
func (g graph) standard(t *testing.T) (valid, answered bool) {
	t.Helper()
	options := x509.VerifyOptions{Roots: x509.NewCertPool(), Intermediates: x509.NewCertPool(), CurrentTime: now,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	read := func(c *pki.Certificate) *x509.Certificate {
		std, err := x509.ParseCertificate(c.Raw)
		require.NoError(t, err)
		return std
	}
	for _, c := range g.roots {
		options.Roots.AddCert(read(c))
	}
	for _, c := range g.given {
		options.Intermediates.AddCert(read(c))
	}
	_, err := read(g.leaf).Verify(options)
	return err == nil, err == nil || !strings.Contains(err.Error(), "signature check attempts limit")
}

// ours searches all paths and returns those that are valid and in date.
func (g graph) ours(t *testing.T) (valid []chain.Path) {
	t.Helper()
	v, query := new(chain.Verifier), chain.Query{Leaf: g.leaf, Given: chain.NewPool(g.given), Store: store(g.roots...),
		At: now, Usage: pki.UsageServerAuth}
	paths, ended := v.Paths(query)
	require.Empty(t, ended)
	best, _ := v.Search(query)
	require.Equal(t, paths[0].Certificates, best.Certificates, "the best of all paths is the best path")
	return slices.DeleteFunc(paths, func(p chain.Path) bool { return !p.Valid() || p.OutOfDate > 0 })
}

// explained names the rule in which the standard library differs on purpose, "" for none.
func explained(valid []chain.Path, theirs bool) string {
	selfIssued := func(p chain.Path) bool {
		return slices.ContainsFunc(p.Certificates[1:len(p.Certificates)-1], (*pki.Certificate).SelfIssued)
	}
	switch {
	case !theirs && len(valid) > 0 && !slices.ContainsFunc(valid, func(p chain.Path) bool { return !selfIssued(p) }):
		// RFC 5280, 6.1.4 (l): self-issued intermediates do not count for the path length; there they do.
		return "self-issued intermediates count"
	}
	return ""
}

// TestRandomGraphs holds the verdict to the standard library's, wherever that
// implements the rule in question.
func TestRandomGraphs(t *testing.T) {
	w := tower{t: t}
	for range 5 {
		w.keys = append(w.keys, authority(t, nil, forge.Template{Name: "key"}))
	}
	counts, graphs := map[string]int{}, randomGraphs
	if testing.Short() {
		graphs /= 20
	}
	for seed := range uint64(graphs) {
		w.random = rand.New(rand.NewPCG(seed, 30))
		g := w.grow()
		theirs, answered := g.standard(t)
		if !answered {
			counts["gave up there"]++
			continue
		}
		valid := g.ours(t)
		if mine := len(valid) > 0; mine != theirs {
			why := explained(valid, theirs)
			if !assert.NotEmpty(t, why, "graph %d: ours %v, the standard library's %v\n%s", seed, mine, theirs, g) {
				return
			}
			counts[why]++
			continue
		}
		counts[fmt.Sprint("both say ", theirs)]++
	}
	t.Logf("%v", counts)
	assert.Greater(t, counts["both say true"], graphs/10, "the graphs are not all hopeless")
	assert.Greater(t, counts["both say false"], graphs/10, "nor all fine")
	assert.Less(t, counts["gave up there"], graphs/100)
	assert.Less(t, counts["self-issued intermediates count"], graphs/50, "differences are rare")
}

// String writes the graph for a failing test.
func (g graph) String() string {
	var out strings.Builder
	line := func(what string, c *pki.Certificate) {
		fmt.Fprintf(&out, "%s %s %.4x ← %s, until %s, CA %v", what, c.Subject.Label(), c.PublicKey.Fingerprint(),
			c.Issuer.Label(), c.NotAfter.Format("2006-01-02"), c.IsCA())
		if b := c.BasicConstraints; b != nil && b.PathLength != nil {
			fmt.Fprintf(&out, ", length %d", *b.PathLength)
		}
		for _, x := range c.Extensions {
			if x.ID == "2.5.29.30" || x.ID == "2.5.29.37" || x.ID == "2.999.1" {
				fmt.Fprintf(&out, ", %s %x", x.ID.Words(), x.Value)
			}
		}
		out.WriteByte('\n')
	}
	for _, c := range g.roots {
		line("root", c)
	}
	for _, c := range g.given {
		line("given", c)
	}
	line("leaf", g.leaf)
	return out.String()
}
