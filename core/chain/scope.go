package chain

import (
	"bytes"
	"slices"

	"nurvik/core/pki"
)

// reasonBits are the reasons that lists can be about: bits 1 to 8 of RFC 5280, 4.2.1.13.
const reasonBits = 0x1fe

func reasonMask(bits []byte) int {
	if len(bits) == 0 { // absent: every reason
		return reasonBits
	}
	mask := 0
	for i := range (len(bits) - 1) * 8 {
		if i < 9 && bits[1+i/8]&(0x80>>(i%8)) != 0 {
			mask |= 1 << i
		}
	}
	return mask & reasonBits
}

// inScope decides whether the list speaks about the certificate as found at
// the distribution point, whose names are given too (6.3.3 b).
func inScope(c *pki.Certificate, point pki.DistributionPoint, wanted []string, list *roll) bool {
	if len(point.Issuer) > 0 {
		if list.Scope == nil || !list.Scope.Indirect ||
			!slices.ContainsFunc(point.Issuer, func(g pki.GeneralName) bool {
				return g.Kind == pki.NameDirectory && g.Directory.Key() == list.Issuer.Key()
			}) {
			return false
		}
	} else if list.Issuer.Key() != c.Issuer.Key() {
		return false
	}
	s := list.Scope
	if s == nil {
		return true
	}
	if s.OnlyAttributes || s.OnlyUsers && c.IsCA() || s.OnlyAuthorities && !c.IsCA() {
		return false
	}
	if list.names == nil {
		list.names = pointNames(s.Point, []pki.Name{list.Issuer})
	}
	return len(list.names) == 0 ||
		slices.ContainsFunc(list.names, func(name string) bool { return slices.Contains(wanted, name) })
}

// wantedNames are the names of the distribution point of a certificate; one
// without a name of its own is named by its issuer.
func wantedNames(c *pki.Certificate, point pki.DistributionPoint) []string {
	issuers := []pki.Name{c.Issuer}
	if len(point.Issuer) > 0 {
		issuers = nil
		for _, g := range point.Issuer {
			issuers = append(issuers, g.Directory)
		}
	}
	wanted := pointNames(point, issuers)
	if len(wanted) == 0 {
		for _, n := range issuers {
			wanted = append(wanted, directory(n))
		}
	}
	return wanted
}

func directory(n pki.Name) string { return string(pki.NameDirectory) + ":" + n.Key() }

// pointNames are the names of a distribution point in a form that can be compared.
func pointNames(p pki.DistributionPoint, issuers []pki.Name) []string {
	var out []string
	for _, g := range p.FullName {
		if g.Kind == pki.NameDirectory {
			out = append(out, directory(g.Directory))
		} else {
			out = append(out, g.String())
		}
	}
	if len(p.Relative) > 0 {
		for _, issuer := range issuers {
			out = append(out, directory(issuer.Below(p.Relative)))
		}
	}
	return out
}

// entryOf looks for the certificate in the list. In an indirect list each entry
// belongs to the issuer named last (5.3.3).
func entryOf(list *pki.RevocationList, c *pki.Certificate) *pki.RevokedCertificate {
	for _, entry := range list.Find(c.RawSerial) {
		issuer := list.Issuer
		if entry.Issuer != nil {
			issuer = *entry.Issuer
		}
		if issuer.Key() == c.Issuer.Key() {
			return entry
		}
	}
	return nil
}

// adds reports whether the list is a delta list for the base: of the same
// issuer, key and scope, from a number that the base has reached, to a later one
// (6.3.3 c).
func (d *roll) adds(base *pki.RevocationList) bool {
	if d.BaseNumber == nil || d.Number == nil || base.Number == nil || d.Issuer.Key() != base.Issuer.Key() {
		return false
	}
	return d.BaseNumber.Cmp(base.Number) <= 0 && d.Number.Cmp(base.Number) > 0 &&
		bytes.Equal(d.AuthorityKeyID, base.AuthorityKeyID) && sameScope(d.RevocationList, base)
}

func sameScope(a, b *pki.RevocationList) bool {
	if a.Scope == nil || b.Scope == nil {
		return a.Scope == b.Scope
	}
	return bytes.Equal(a.Scope.Raw, b.Scope.Raw)
}
