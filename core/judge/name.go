package judge

import "strings"

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
		f.Evidence = Evidence{Certificate: fingerprint(b.leaf), Names: covered}
		out = append(out, f)
	}
	return out
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
