package judge

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/trust"
	"nurvik/core/words"
)

func dnsUnresolved(v *visited) []Finding {
	if !v.facts.ResolveError.Given() {
		return nil
	}
	return []Finding{found("dns.unresolved", v.host, v.host, "%s.", words.Capital(words.Of(v.facts.ResolveError)))}
}

// PinsOf are the usable TLSA records that were validated, and so count.
func PinsOf(d *facts.DNS) []facts.TLSA {
	if d == nil || !d.Validated {
		return nil
	}
	usable := func(t facts.TLSA) bool {
		size := map[uint8]int{1: 32, 2: 64}[t.Matching]
		return t.Usage <= facts.UsageLeaf && t.Selector <= 1 && t.Matching <= 2 && len(t.Data) > 0 &&
			(size == 0 || len(t.Data) == size)
	}
	return slices.DeleteFunc(slices.Clone(d.TLSA), func(t facts.TLSA) bool { return !usable(t) })
}

// PinFits reports whether the record names the certificate or its key (RFC 6698, 2.1).
func PinFits(t facts.TLSA, c *pki.Certificate) bool {
	data := c.Raw
	if t.Selector == 1 {
		data = c.PublicKey.Raw
	}
	switch t.Matching {
	case 1:
		sum := sha256.Sum256(data)
		data = sum[:]
	case 2:
		sum := sha512.Sum512(data)
		data = sum[:]
	}
	return bytes.Equal(data, t.Data)
}

// recordFits reports whether the record fits what an address serves: the leaf,
// or for the usages about anchors any certificate of the path. That those of
// PKIX want a valid path too has findings of its own.
func recordFits(t facts.TLSA, b *bundle) bool {
	certificates := []*pki.Certificate{b.leaf}
	if t.Usage == facts.UsagePKIXAnchor || t.Usage == facts.UsageAnchor {
		certificates = slices.Concat(b.given, b.assessed.path.Certificates)
	}
	return slices.ContainsFunc(certificates, func(c *pki.Certificate) bool { return PinFits(t, c) })
}

// dnsTLSAMismatch compares the TLSA records with what an address serves. One that fits suffices.
func dnsTLSAMismatch(b *bundle) []Finding {
	pins := PinsOf(b.records)
	if len(pins) == 0 || slices.ContainsFunc(pins, func(t facts.TLSA) bool { return recordFits(t, b) }) {
		return nil
	}
	place := b.records.TLSAAt
	what := fmt.Sprintf("The TLSA record at %s does not match", place)
	if len(pins) > 1 {
		what = fmt.Sprintf("None of the %d TLSA records at %s matches", len(pins), place)
	}
	f := found("dns.tlsa-mismatch", place, place, "%s the certificate of %s.", what, b.leaf.Label())
	f.Evidence = certificateEvidence(b.leaf)
	for _, t := range pins {
		f.Evidence.Observations = append(f.Evidence.Observations,
			fmt.Sprintf("%d %d %d %x", t.Usage, t.Selector, t.Matching, t.Data))
	}
	f.Remedy = fmt.Sprintf("Publish %s. IN TLSA 3 1 1 %s beside the old record, and remove the old one when no "+
		"server serves its certificate any more;"+
		" or install the certificate that the record names.", place, b.leaf.PublicKey.Fingerprint())
	return []Finding{f}
}

// dnsCAAForbids looks at who may issue for the names. By which name an issuer goes is known to the issuer alone, and to
// whoever was told: without that only records that let nobody issue are plain to see, for certificates of public CAs.
func dnsCAAForbids(b *bundle) []Finding {
	own, known := b.context.caaNames(b)
	public := b.assessed.path.Anchor != nil && b.assessed.path.Anchor.Kind == trust.Public
	if !known && !public {
		return nil
	}
	type place struct {
		name    string
		at      string
		records []facts.CAA
		forms   []bool // whether a wildcard, of those that the certificate has
	}
	var places []place
	if b.records != nil {
		forms := []bool{wildcard(b.leaf.HostNames())}
		places = append(places, place{b.host, b.records.CAAAt, b.records.CAA, forms})
	}
	if b.renewal != nil {
		for _, n := range b.renewal.Names {
			name, isWildcard := strings.CutPrefix(n.Name, "*.")
			places = append(places, place{name, n.CAAAt, n.CAA, []bool{isWildcard}})
		}
	}
	var out []Finding
	told := map[string]bool{}
	for _, p := range places {
		for _, form := range p.forms {
			reason := forbidden(p.records, form, own, known)
			if reason == "" || told[p.at] {
				continue
			}
			told[p.at] = true
			f := found("dns.caa-forbids", p.at, p.at, "The CAA records at %s %s, but %s has a certificate of %s.", p.at,
				reason, p.name, ofCA(b, known))
			f.Evidence = certificateEvidence(b.leaf)
			out = append(out, f)
		}
	}
	return out
}

func ofCA(b *bundle, known bool) string {
	if known {
		return b.leaf.Issuer.Label() + ", which would refuse " + b.nextRenewal()
	}
	return "a public CA"
}

// forbidden says why the records forbid an issuer that goes by one of its own names, or every issuer where those are
// not known; "" where they do not (RFC 8659, 4).
func forbidden(records []facts.CAA, wildcard bool, own []string, known bool) string {
	tag := "issue"
	if wildcard && slices.ContainsFunc(records, func(r facts.CAA) bool {
		return strings.EqualFold(r.Tag,
			"issuewild")
	}) {
		tag = "issuewild"
	}
	var allowed []string
	restricted := false
	for _, r := range records {
		switch strings.ToLower(r.Tag) {
		case tag:
			restricted = true
			domain, _, _ := strings.Cut(r.Value, ";")
			if domain = strings.TrimSpace(domain); domain != "" {
				allowed = append(allowed, strings.ToLower(domain))
			}
		case "issue", "issuewild", "iodef", "issuemail", "issuevmc", "contactemail", "contactphone":
		default:
			if r.Critical { // whoever does not understand it must not issue (RFC 8659, 4.5)
				return fmt.Sprintf("have the critical property %q, which no CA is known to understand", r.Tag)
			}
		}
	}
	switch {
	case !restricted:
		return ""
	case len(allowed) == 0:
		return "let no CA issue certificates"
	case !known, slices.ContainsFunc(own, func(name string) bool { return slices.Contains(allowed, name) }):
		return ""
	}
	return "let only " + joined(allowed) + " issue certificates"
}

// caaNames are the names by which the issuer of the leaf goes in CAA records, in lower case, as far as that was told.
func (c *Context) caaNames(b *bundle) (names []string, known bool) {
	for issuer, listed := range c.Issuers {
		if slices.ContainsFunc([]string{b.leaf.Issuer.CommonName(), b.leaf.Issuer.First("2.5.4.10"),
			b.leaf.Issuer.String()}, func(own string) bool { return own != "" && strings.EqualFold(own, issuer) }) {
			known = true
			for _, name := range listed {
				names = append(names, strings.ToLower(name))
			}
		}
	}
	slices.Sort(names)
	return names, known
}

// nextRenewal names the renewal of the leaf, with the time when it is due.
func (b *bundle) nextRenewal() string {
	if b.leaf.NotBefore.IsZero() || b.leaf.NotAfter.IsZero() {
		return "the next renewal"
	}
	due, word := lifetime.DueFrom(b.leaf, b.context.Policy.Time.Windows()), "since"
	if due.After(b.context.At) {
		word = "from"
	}
	return fmt.Sprintf("the next renewal (due %s %s)", word, due.Format(time.DateOnly))
}

// renewed is the endpoint's leaf, whose renewal is looked at; nil where that was not asked for.
func (v *visited) renewed() *bundle {
	if v.facts.Renewal == nil {
		return nil
	}
	for _, a := range v.addresses {
		if a.bundle != nil {
			return a.bundle
		}
	}
	return nil
}

// dnsPointsElsewhere compares where the names lead with the addresses of the endpoint.
func dnsPointsElsewhere(v *visited) []Finding {
	b := v.renewed()
	if b == nil {
		return nil
	}
	own := slices.Concat(v.facts.NoRoute, v.facts.Unvisited)
	for i := range own {
		own[i] = facts.AddressOf(own[i])
	}
	for _, o := range v.facts.Observations {
		own = append(own, o.Address.Addr().String())
	}
	var out []Finding
	for _, n := range v.facts.Renewal.Names {
		for _, l := range n.Lookups {
			if l.Failure.Given() || slices.ContainsFunc(l.Addresses, func(a string) bool {
				return slices.Contains(own,
					a)
			}) {
				continue
			}
			leads := "has no address"
			if len(l.Addresses) > 0 {
				leads = "leads to " + firstFew(l.Addresses) + ", which is no address of this endpoint"
			}
			f := found("dns.points-elsewhere", n.Name, n.Name,
				"%s %s, says the name server %s. Validation over HTTP or "+
					"TLS at %s would not reach this endpoint.", n.Name, leads, l.Server, b.nextRenewal())
			f.Evidence = certificateEvidence(b.leaf)
			f.Evidence.Observations = l.Addresses
			out = append(out, f)
			break // one name server is enough to say so
		}
	}
	return out
}

// dnsChallenge looks at the names for DNS validation.
func dnsChallenge(v *visited) []Finding {
	b := v.renewed()
	if b == nil {
		return nil
	}
	var out []Finding
	told := map[string]bool{}
	for _, n := range v.facts.Renewal.Names {
		c := n.Challenge
		if c == nil || told[c.Name] {
			continue // a wildcard beside the name itself
		}
		told[c.Name] = true
		if c.Nowhere.Given() {
			f := found("dns.challenge-dangling", c.Name, c.Name,
				"%s is delegated, and %s. DNS validation at %s would fail.", c.Name, words.Of(
					c.Nowhere), b.nextRenewal())
			f.Evidence.Observations = c.LeadsTo
			out = append(out, f)
		}
		if len(c.Tokens) > 0 {
			f := found("dns.challenge-stale", c.Name, c.Name, "%s still has %s of an earlier validation. At %s a CA "+
				"that reads an old one first may refuse.", c.Name, plural(len(c.Tokens), "TXT record"), b.nextRenewal())
			f.Evidence.Observations = c.Tokens
			out = append(out, f)
		}
	}
	return out
}
