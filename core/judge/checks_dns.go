package judge

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"slices"
	"strings"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

// fits reports whether the record names the certificate or its key (RFC 6698, 2.1).
func fits(t facts.TLSA, c *pki.Certificate) bool {
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
	return slices.ContainsFunc(certificates, func(c *pki.Certificate) bool { return fits(t, c) })
}

// checkPins compares the TLSA records with what an address serves. One that fits suffices.
func checkPins(b *bundle) {
	pins := b.records.Pinned()
	if len(pins) == 0 || slices.ContainsFunc(pins, func(t facts.TLSA) bool { return recordFits(t, b) }) {
		return
	}
	at := b.records.TLSAAt
	words := fmt.Sprintf("The TLSA record at %s does not fit", at)
	if len(pins) > 1 {
		words = fmt.Sprintf("None of the %d TLSA records at %s fits", len(pins), at)
	}
	f := found("dns.tlsa-mismatch", at, at, "%s the certificate of %s.", words, b.leaf.Label())
	f.Evidence = certificateEvidence(b.leaf)
	for _, t := range pins {
		f.Evidence.Observations = append(f.Evidence.Observations, fmt.Sprintf("%d %d %d %x", t.Usage, t.Selector, t.Matching, t.Data))
	}
	f.Remedy = fmt.Sprintf("Publish %s. IN TLSA 3 1 1 %s beside the old record, and take the old one out when no server serves its certificate any more; or install the certificate that the record names.", at, b.leaf.PublicKey.Fingerprint())
	b.add(f)
}

// checkAuthorization looks at who may issue for the name. Whether an issuer
// goes by one of the names that are listed is known to the issuer alone; that
// nobody may issue is plain to see.
func checkAuthorization(b *bundle) {
	path := b.assessed.path
	if b.records == nil || path.Anchor == nil || path.Anchor.Kind != trust.Public {
		return
	}
	tag := "issue"
	if has := func(tag string) bool {
		return slices.ContainsFunc(b.records.CAA, func(r facts.CAA) bool { return strings.EqualFold(r.Tag, tag) })
	}; has("issuewild") && slices.ContainsFunc(b.leaf.HostNames(), func(name string) bool { return strings.HasPrefix(name, "*.") }) {
		tag = "issuewild"
	}
	none := false
	for _, r := range b.records.CAA {
		if strings.EqualFold(r.Tag, tag) {
			domain, _, _ := strings.Cut(r.Value, ";")
			if none = strings.TrimSpace(domain) == ""; !none {
				return
			}
		}
	}
	if none {
		f := found("dns.caa-forbids", b.records.CAAAt, b.records.CAAAt, "The CAA records at %s let no issuer issue certificates, and %s has one of a public issuer.", b.records.CAAAt, b.host)
		f.Evidence = certificateEvidence(b.leaf)
		b.add(f)
	}
}

// For is the context that an endpoint is judged by: where clients check nobody
// (RFC 7435) the opportunistic policy, unless another was asked for, the
// endpoint is declared to be authenticated, or TLSA records say whom to expect.
// A record that names the very leaf stands in the place of all other checks
// (RFC 7672, 3.1.1), so that the opportunistic policy goes on to hold; one that
// names an authority makes it an anchor (RFC 7672, 3.1.2).
func (c Context) For(e facts.Endpoint, authenticated bool) Context {
	parsed, err := endpoint.Parse(e.Endpoint)
	if err != nil {
		return c
	}
	other := policy.For(c.Policy, parsed.Scheme, parsed.Port)
	if other.Name == c.Policy.Name {
		return c
	}
	pins := e.DNS.Pinned()
	if leaf := slices.DeleteFunc(slices.Clone(pins), func(t facts.TLSA) bool { return t.Usage != facts.UsageLeaf }); !authenticated && (len(pins) == 0 || servedBy(e, leaf)) {
		c.Policy = other
		return c
	}
	for _, anchor := range pinnedAnchors(e, pins) {
		c.Trust = append(slices.Clone(c.Trust), trust.New("TLSA", []trust.Anchor{anchor}))
	}
	return c
}

// servedBy reports whether every address that served a leaf serves one that a record names.
func servedBy(e facts.Endpoint, pins []facts.TLSA) bool {
	served := false
	for _, o := range e.Observations {
		if len(o.Certificates) == 0 {
			continue
		}
		leaf, err := pki.ParseCertificate(o.Certificates[0])
		if err != nil || !slices.ContainsFunc(pins, func(t facts.TLSA) bool { return fits(t, leaf) }) {
			return false
		}
		served = true
	}
	return served
}

// pinnedAnchors are the authorities that are served and that records of the usage for anchors name.
func pinnedAnchors(e facts.Endpoint, pins []facts.TLSA) []trust.Anchor {
	var out []trust.Anchor
	for _, o := range e.Observations {
		for _, der := range o.Certificates {
			c, err := pki.ParseCertificate(der)
			if err == nil && c.IsCA() && slices.ContainsFunc(pins, func(t facts.TLSA) bool { return t.Usage == facts.UsageAnchor && fits(t, c) }) {
				out = append(out, trust.Anchor{Certificate: c, Kind: trust.Private})
			}
		}
	}
	return out
}
