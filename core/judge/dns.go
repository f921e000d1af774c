package judge

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"slices"
	"strings"

	"nurvik/core/facts"
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

// dnsCAAForbids looks at who may issue for the name. Whether an issuer goes by
// one of the names that are listed is known to the issuer alone; that nobody
// may issue is plain to see.
func dnsCAAForbids(b *bundle) []Finding {
	path := b.assessed.path
	if b.records == nil || path.Anchor == nil || path.Anchor.Kind != trust.Public {
		return nil
	}
	tag := "issue"
	if wildcard(b.leaf.HostNames()) && slices.ContainsFunc(b.records.CAA,
		func(r facts.CAA) bool { return strings.EqualFold(r.Tag, "issuewild") }) {
		tag = "issuewild"
	}
	none := false
	for _, r := range b.records.CAA {
		if !strings.EqualFold(r.Tag, tag) {
			continue
		}
		domain, _, _ := strings.Cut(r.Value, ";")
		if none = strings.TrimSpace(domain) == ""; !none {
			return nil
		}
	}
	if !none {
		return nil
	}
	f := found("dns.caa-forbids", b.records.CAAAt, b.records.CAAAt,
		"The CAA records at %s let no CA issue certificates, but %s has one from a public CA.", b.records.CAAAt, b.host)
	f.Evidence = certificateEvidence(b.leaf)
	return []Finding{f}
}
