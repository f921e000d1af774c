package chain

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"nurvik/core/pki"
)

// nameFailure looks for a name that an authority above does not allow
// (RFC 5280, 6.1.3 b and c, and 6.1.4 g). The path has the leaf first; the
// anchor's own constraints do not count (6.1.1).
func (s *search) nameFailure(path []*pki.Certificate) []Failure {
	for above := len(path) - 2; above > 0; above-- {
		authority := path[above]
		if authority.NameConstraints == nil {
			continue
		}
		for i := above - 1; i >= 0; i-- {
			c := path[i]
			if i > 0 && c.SelfIssued() {
				continue
			}
			pair := [2]pki.Fingerprint{authority.Fingerprint(), c.Fingerprint()}
			if !s.query.Budget.spendOnce(pair, priceOfNames(authority.NameConstraints, c)) {
				return s.tooCostly(c, "its names would have to be compared with too many constraints")
			}
			if detail := s.verifier.disallowed(pair, authority, c); detail != "" {
				return []Failure{{NameNotAllowed, c, detail}}
			}
		}
	}
	return nil
}

// priceOfNames is what it costs to compare all names of the certificate with the constraints.
func priceOfNames(constraints *pki.NameConstraints, c *pki.Certificate) int {
	const perComparison, perName = 10, 30 // in the time of so many bytes
	bases, bytes := 0, 0
	for _, list := range [][]pki.GeneralName{constraints.Permitted, constraints.Excluded} {
		bases += len(list)
		for i := range list {
			bytes += len(list[i].Value) + perComparison
		}
	}
	total := 0
	for i := range c.AltNames {
		total += bytes + bases*len(c.AltNames[i].Value)/8 + perName
	}
	return (total + bytes + bases*len(c.Subject.Raw)/8 + len(c.Subject.Raw)) / bytesCompared
}

// disallowed says which name of the certificate the authority forbids and why, "" where it forbids none. It remembers
// the answer: over cross-certificates the same two meet on many paths.
func (v *Verifier) disallowed(pair [2]pki.Fingerprint, authority, c *pki.Certificate) string {
	if known, ok := v.names.Load(pair); ok {
		detail, _ := known.(string)
		return detail
	}
	detail := ""
	for _, name := range constrainedNames(c) {
		if why := disallowed(name, authority.NameConstraints); why != "" {
			detail = fmt.Sprintf("the name %s is %s %s", pki.Printable(name.String()), why, authority.Label())
			break
		}
	}
	v.names.Store(pair, detail)
	return detail
}

// constrainedNames are the names of a certificate that constraints apply to:
// subject, alternative names, and mail addresses in the subject where there
// are no alternative names.
func constrainedNames(c *pki.Certificate) []pki.GeneralName {
	names := c.AltNames
	if !c.Subject.Empty() {
		names = append([]pki.GeneralName{{Kind: pki.NameDirectory, Value: c.Subject.String(), Directory: c.Subject}},
			names...)
	}
	if c.HasExtension("2.5.29.17") { // then the subject's do not count (RFC 5280, 4.2.1.10)
		return names
	}
	for _, component := range c.Subject.Components {
		for _, a := range component {
			if a.Type == "1.2.840.113549.1.9.1" {
				names = append(names, pki.GeneralName{Kind: pki.NameEmail, Value: a.Value})
			}
		}
	}
	return names
}

// disallowed says in words why the constraints forbid the name, "" when they do not.
func disallowed(name pki.GeneralName, constraints *pki.NameConstraints) string {
	if why := constraints.Bars(name.Kind); why != "" {
		return "excluded, since the constraints cannot be processed (" + why + "), by"
	}
	within := matcher(name)
	for i := range constraints.Excluded {
		if base := &constraints.Excluded[i]; base.Kind == name.Kind && within(base, true) {
			return "excluded by"
		}
	}
	permitted, any := false, false
	for i := range constraints.Permitted {
		if base := &constraints.Permitted[i]; base.Kind == name.Kind {
			any = true
			permitted = permitted || within(base, false)
		}
	}
	if any && !permitted {
		return "not among those permitted by"
	}
	return ""
}

// matcher compares a name with one subtree after the other, by the rules of RFC
// 5280, section 4.2.1.10. A name that cannot be compared is taken for what
// forbids it.
func matcher(name pki.GeneralName) func(base *pki.GeneralName, excluded bool) bool {
	never := func(_ *pki.GeneralName, excluded bool) bool { return excluded }
	switch name.Kind {
	case pki.NameDNS:
		domain := strings.ToLower(strings.TrimSuffix(name.Value, "."))
		return func(base *pki.GeneralName, _ bool) bool { return domainWithin(domain, base.Value) }
	case pki.NameEmail:
		at := strings.LastIndexByte(name.Value, '@')
		if at < 0 {
			return never
		}
		local, host := name.Value[:at], strings.ToLower(name.Value[at+1:])
		return func(base *pki.GeneralName, _ bool) bool {
			if i := strings.LastIndexByte(base.Value, '@'); i >= 0 { // one mailbox; its local part is exact
				return local == base.Value[:i] && strings.EqualFold(host, base.Value[i+1:])
			}
			return hostWithin(host, base.Value)
		}
	case pki.NameURI:
		parsed, err := url.Parse(name.Value)
		if err != nil || parsed.Hostname() == "" || isAddress(parsed.Hostname()) {
			return never
		}
		host := strings.ToLower(parsed.Hostname())
		return func(base *pki.GeneralName, _ bool) bool { return hostWithin(host, base.Value) }
	case pki.NameDirectory:
		var own []string // the key of each component; together they are that of the name
		for _, component := range name.Directory.Components {
			own = append(own, pki.Name{Components: [][]pki.Attribute{component}}.Key())
		}
		return func(base *pki.GeneralName, _ bool) bool {
			rest, count := base.Directory.Key(), len(base.Directory.Components)
			if count > len(own) {
				return false
			}
			for _, key := range own[:count] {
				if !strings.HasPrefix(rest, key) {
					return false
				}
				rest = rest[len(key):]
			}
			return rest == ""
		}
	case pki.NameIP:
		return func(base *pki.GeneralName, excluded bool) bool {
			if !name.Address.IsValid() {
				return excluded
			}
			return base.Network.IsValid() && base.Network.Contains(name.Address)
		}
	}
	return never // kinds for which no comparison is defined
}

// domainWithin: the base itself and everything below it. The domain is in lower case.
func domainWithin(domain, base string) bool {
	base = strings.ToLower(base)
	if strings.HasPrefix(base, ".") { // not in the standard, and everywhere read as "below"
		return strings.HasSuffix(domain, base)
	}
	return base == "" || domain == base ||
		len(domain) > len(base) && domain[len(domain)-len(base)-1] == '.' && strings.HasSuffix(domain, base)
}

// hostWithin: with a period in front everything below, otherwise the host itself. The host is in lower case.
func hostWithin(host, base string) bool {
	base = strings.ToLower(base)
	if strings.HasPrefix(base, ".") {
		return strings.HasSuffix(host, base)
	}
	return host == base
}

func isAddress(host string) bool {
	_, err := netip.ParseAddr(host)
	return err == nil
}
