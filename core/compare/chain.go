package compare

import (
	"fmt"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// chains compares the CA certificates of two sides: those beside leaves, of bundles, and of trust stores.
func (c *comparison) chains(first, second *Side) {
	if first.store && second.store {
		c.stores(first, second)
		return
	}
	if len(first.requests)+len(second.requests) > 0 && (len(first.leaves) == 0 || len(second.leaves) == 0) {
		return // a request has no chain
	}
	a, b := first.above(second), second.above(first)
	if len(a)+len(b) == 0 || len(first.leaves) == 0 && len(first.keys) > 0 || len(second.leaves) == 0 &&
		len(second.keys) > 0 {
		return
	}
	bundles := len(first.leaves)+len(second.leaves) == 0
	what := "chain certificate"
	if bundles {
		what = "CA certificate"
	}
	lost, renewed := missing(a, b)
	added, _ := missing(b, a)
	for _, r := range renewed { // its successor is no addition of its own
		added = slices.DeleteFunc(added, func(x *pki.Certificate) bool { return x == r[1] })
	}
	c.row(map[bool]string{true: "CA certificates", false: "chain"}[bundles], labels(a), labels(b))
	row := &c.rows[len(c.rows)-1]
	row.Same = len(lost)+len(added)+len(renewed) == 0
	if len(lost) > 0 {
		c.add(Chain, true, count(len(lost), what)+" fewer", "%s lacks: %s.", second.Name, list(lost))
	}
	if len(added) > 0 {
		c.add(Chain, false, count(len(added), what)+" more", "%s also has: %s.", second.Name, list(added))
	}
	for _, r := range renewed {
		c.add(Chain, false, "", "Another certificate of %s with the same key: until %s instead of %s.", r[1].Label(),
			exact(r[1].NotAfter), exact(r[0].NotAfter))
	}
	if row.Same && bundles {
		c.together = "The same CA certificates"
	}
	if row.Same && !bundles && !slices.EqualFunc(a, b, same) {
		c.add(Chain, false, "", "The chain is in another order.")
	}
}

func same(a, b *pki.Certificate) bool { return a.Fingerprint() == b.Fingerprint() }

// missing are the certificates that the others do not have, and those of which they have another one for the same
// name and key, which does the same.
func missing(list, others []*pki.Certificate) (lost []*pki.Certificate, renewed [][2]*pki.Certificate) {
	has := map[pki.Fingerprint]bool{}
	type id struct {
		subject string
		key     pki.Fingerprint
	}
	by := map[id]*pki.Certificate{}
	for _, o := range others {
		has[o.Fingerprint()] = true
		by[id{o.Subject.Key(), o.PublicKey.Match()}] = o
	}
	for _, c := range list {
		if has[c.Fingerprint()] {
			continue
		}
		if other := by[id{c.Subject.Key(), c.PublicKey.Match()}]; other != nil {
			renewed = append(renewed, [2]*pki.Certificate{c, other})
			continue
		}
		lost = append(lost, c)
	}
	return lost, renewed
}

func labels(list []*pki.Certificate) []string {
	var out []string
	for _, c := range list {
		out = append(out, c.Label())
	}
	return out
}

func list(certificates []*pki.Certificate) string {
	var out []string
	for _, c := range certificates {
		out = append(out, fmt.Sprintf("%s (until %s, SHA-256 %s)", c.Label(), exact(c.NotAfter),
			c.Fingerprint().String()[:16]))
	}
	return strings.Join(out, ", ")
}

// stores compares trust stores.
func (c *comparison) stores(first, second *Side) {
	d := trust.Compare(trust.New(first.Name, first.anchors), trust.New(second.Name, second.anchors))
	of := func(anchors []trust.Anchor) (out []*pki.Certificate) {
		for _, a := range anchors {
			out = append(out, a.Certificate)
		}
		return out
	}
	if n := len(d.OnlyFirst); n > 0 {
		c.add(Chain, true, count(n, "root")+" fewer", "%s lacks: %s.", second.Name, list(of(d.OnlyFirst)))
	}
	if n := len(d.OnlySecond); n > 0 {
		c.add(Chain, false, count(n, "root")+" more", "%s also has: %s.", second.Name, list(of(d.OnlySecond)))
	}
	for i, a := range d.OtherKind {
		c.add(Chain, false, "roots of another kind", "%s is %s in %s and %s in %s.", a.Certificate.Label(), a.Kind,
			first.Name,
			d.SecondKind[i], second.Name)
	}
	c.row("roots", []string{fmt.Sprint(len(first.anchors))}, []string{fmt.Sprint(len(second.anchors))})
	c.rows[len(c.rows)-1].Same = len(d.OnlyFirst)+len(d.OnlySecond)+len(d.OtherKind) == 0
	if d.Common > 0 {
		c.together = count(d.Common, "root") + " in common"
	}
	if c.rows[len(c.rows)-1].Same {
		c.together = "The same roots"
	}
}

// settings compares what visits found out beside certificates.
func (c *comparison) settings(first, second *Side) {
	if len(first.visits) == 0 || len(second.visits) == 0 {
		return
	}
	all := thorough(first.visits) && thorough(second.visits)
	unclear := map[string]bool{} // versions of which one of the sides does not show whether they are accepted
	for _, side := range []*Side{first, second} {
		accepted := union(side.visits, acceptedVersions)
		for _, name := range union(side.visits, unclearVersions) {
			unclear[name] = unclear[name] || !slices.Contains(accepted, name)
		}
	}
	before, after := shown(first.visits, unclear), shown(second.visits, unclear)
	for _, s := range []struct {
		field, gone, come string
		quick             bool // also a quick visit knows it
		of                func(o *facts.Observation) []string
	}{
		{"protocol versions", "No longer accepted", "Newly accepted", true, acceptedVersions},
		{"cipher suites", "Cipher suites that are no longer accepted", "Cipher suites that are newly accepted", false,
			suites},
		{"groups", "Groups that are no longer accepted", "Groups that are newly accepted", false, groups},
		{"ALPN", "ALPN no longer chosen", "ALPN newly chosen", false, alpn},
		{"HSTS", "HSTS no longer sent", "HSTS now sent", false, strictTransport},
	} {
		if !all && !s.quick {
			continue
		}
		a, b := union(before, s.of), union(after, s.of)
		if len(a)+len(b) == 0 {
			continue
		}
		c.row(s.field, a, b)
		lost, gained := without(a, b), without(b, a)
		c.rows[len(c.rows)-1].Same = len(lost)+len(gained) == 0
		if len(lost) > 0 {
			c.add(Settings, false, "", "%s: %s.", s.gone, strings.Join(lost, ", "))
		}
		if len(gained) > 0 {
			c.add(Settings, false, "", "%s: %s.", s.come, strings.Join(gained, ", "))
		}
	}
}

// thorough reports whether the visits asked for more than versions and certificates, and to the end: nothing is to
// be concluded from what was not asked.
func thorough(visits []facts.Observation) bool {
	return !slices.ContainsFunc(visits, func(o facts.Observation) bool {
		return o.Effort == facts.Quick || o.Cut.Given() ||
			slices.ContainsFunc(o.Versions, func(v facts.Version) bool { return v.Cut.Given() })
	})
}

// shown are visits without the versions that are unclear.
func shown(visits []facts.Observation, unclear map[string]bool) []facts.Observation {
	out := slices.Clone(visits)
	for i := range out {
		out[i].Versions = slices.DeleteFunc(slices.Clone(out[i].Versions),
			func(v facts.Version) bool { return unclear[v.Name] })
	}
	return out
}

func unclearVersions(o *facts.Observation) (out []string) {
	for _, v := range o.Versions {
		if v.Answer != facts.Accepted && v.Answer != facts.Declined {
			out = append(out, v.Name)
		}
	}
	return out
}

// union is what any address of the endpoint shows.
func union(visits []facts.Observation, of func(o *facts.Observation) []string) []string {
	var out []string
	for i := range visits {
		out = append(out, without(of(&visits[i]), out)...)
	}
	return out
}

func acceptedVersions(o *facts.Observation) (out []string) {
	for _, v := range o.Versions {
		if v.Answer == facts.Accepted {
			out = append(out, v.Name)
		}
	}
	return out
}

func suites(o *facts.Observation) (out []string) {
	for _, v := range o.Versions {
		out = append(out, without(v.Suites, out)...)
	}
	return out
}

func groups(o *facts.Observation) []string {
	if o.Groups == nil {
		return nil
	}
	return o.Groups.Accepted
}

func alpn(o *facts.Observation) []string {
	if o.Settings == nil || o.Settings.ALPN == "" {
		return nil
	}
	return []string{o.Settings.ALPN}
}

func strictTransport(o *facts.Observation) []string {
	if o.HTTP == nil || o.HTTP.StrictTransportSecurity == "" {
		return nil
	}
	return []string{o.HTTP.StrictTransportSecurity}
}
