package judge

import (
	"fmt"
	"slices"
	"strings"

	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// nameUncovered compares the names that are needed with the leaf.
func nameUncovered(b *bundle) []Finding {
	var out []Finding
	for _, name := range b.names {
		if _, ok := name.CoveredBy(b.leaf); ok {
			continue
		}
		covered := b.leaf.HostNames()
		what := "it lists no name at all"
		if len(covered) > 0 {
			what = "it covers " + firstFew(covered)
		}
		f := found("name.uncovered", name.String(), name.String(), "The certificate does not cover %s; %s.", name, what)
		if miss := name.Missed(b.leaf); miss.Entry != "" && len(b.leaf.AltNames) > 0 {
			f.Message += fmt.Sprintf(" The nearest is %s: %s.", miss.Entry, miss.Reason)
		}
		f.Evidence = Evidence{Certificate: fingerprint(b.leaf), Names: covered}
		out = append(out, f)
	}
	return out
}

// uncoveredAsRequested are the names that a certificate as requested would not cover.
func uncoveredAsRequested(whose string, wanted *pki.Certificate, needed []naming.Reference) []Finding {
	var out []Finding
	for _, name := range needed {
		if _, ok := name.CoveredBy(wanted); ok {
			continue
		}
		f := found("name.uncovered", name.String(), name.String(),
			"The certificate request (CSR) of %s would give a certificate that does not cover %s: %s.", whose, name,
			name.Missed(wanted).Reason)
		f.Remedy = "Add the name to the request before it is sent."
		f.Evidence.Names = wanted.HostNames()
		out = append(out, f)
	}
	return out
}

// remarkCodes are the findings for what is remarkable about entries.
var remarkCodes = map[naming.RemarkKind]string{
	naming.Malformed: "name.malformed", naming.AddressAsName: "name.address-as-name",
	naming.TooBroad: "name.wildcard-too-broad", naming.Broad: "name.wildcard-too-broad",
	naming.Internal: "name.internal", naming.Underscore: "name.underscore", naming.Redundant: "name.redundant",
}

// nameEntries looks at the leaf's alternative names: one finding for each kind of remark.
func nameEntries(b *bundle) []Finding {
	var out []Finding
	place := map[naming.RemarkKind]int{}
	for _, r := range naming.Remarks(b.leaf) {
		anchor := b.assessed.path.Anchor
		if r.Kind == naming.Internal && (anchor == nil || anchor.Kind != trust.Public) {
			continue // a private CA may name what only its own network has
		}
		if at, known := place[r.Kind]; known {
			more := &out[at].Evidence.Observations
			if len(*more) < mostPlaces {
				*more = append(*more, fmt.Sprintf("also %s: %s", r.Entry, r.Reason))
			}
			continue
		}
		place[r.Kind] = len(out)
		f := aboutCertificate(remarkCodes[r.Kind], b.leaf, "The entry %s of the certificate of %s: %s.", r.Entry,
			b.leaf.Label(), r.Reason)
		f.Subject = r.Entry
		if r.Kind == naming.Broad {
			f.Severity = Risk
		}
		out = append(out, f)
	}
	return out
}

// nameCommonName tells of a common name that no entry has.
func nameCommonName(b *bundle) []Finding {
	common := naming.CommonNameApart(b.leaf)
	if common == "" || slices.ContainsFunc(b.names, func(r naming.Reference) bool {
		return strings.EqualFold(r.String(), common) // the uncovered name says it
	}) {
		return nil
	}
	return []Finding{aboutCertificate("name.common-name-apart", b.leaf,
		"The common name %s is not among the alternative names; clients ignore the common name.", common)}
}

// nameUnneeded tells of entries that cover none of the names that a call gives for a file. Of an endpoint nothing is
// said: other endpoints with the same certificate may need them.
func nameUnneeded(b *bundle) []Finding {
	if !b.file || len(b.names) == 0 {
		return nil
	}
	m := naming.Compare(b.names, []naming.Column{naming.NewColumn("", b.leaf)})
	unneeded := m.Certificates[0].Unneeded
	if !m.Covers() || len(unneeded) == 0 { // of a certificate for something else there is nothing to be left out
		return nil
	}
	f := aboutCertificate("name.unneeded", b.leaf,
		"The certificate of %s also covers %s, which none of the names that are "+
			"needed asks for.", b.leaf.Label(), firstFew(unneeded))
	f.Evidence.Names = unneeded
	return []Finding{f}
}

// wildcard reports whether any of the names is one.
func wildcard(names []string) bool {
	for _, n := range names {
		if strings.HasPrefix(n, "*.") {
			return true
		}
	}
	return false
}
