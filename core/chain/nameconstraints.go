package chain

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"nurvik/core/pki"
)

// maxNameChecks bounds the comparisons of names with constraints on one path:
// both lists can be long, and no real path comes near.
const maxNameChecks = 100_000

// nameFailure looks for a name that an authority above does not allow
// (RFC 5280, 6.1.3 b and c, and 6.1.4 g). The path has the leaf first; the
// anchor's own constraints do not count (6.1.1).
func nameFailure(path []*pki.Certificate) []Failure {
	checks := 0
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
			for _, name := range constrainedNames(c) {
				if checks += len(authority.NameConstraints.Permitted) +
					len(authority.NameConstraints.Excluded); checks > maxNameChecks {
					return []Failure{{NameNotAllowed, c,
						fmt.Sprintf("more than %d comparisons of names with constraints would be needed",
							maxNameChecks)}}
				}
				if why := disallowed(name, authority.NameConstraints); why != "" {
					return []Failure{{NameNotAllowed, c,
						fmt.Sprintf("the name %s is %s %s", pki.Printable(name.String()), why, authority.Label())}}
				}
			}
		}
	}
	return nil
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
	for _, base := range constraints.Excluded {
		if base.Kind == name.Kind && inSubtree(name, base, true) {
			return "excluded by"
		}
	}
	permitted, any := false, false
	for _, base := range constraints.Permitted {
		if base.Kind == name.Kind {
			any = true
			permitted = permitted || inSubtree(name, base, false)
		}
	}
	if any && !permitted {
		return "not among those permitted by"
	}
	return ""
}

// inSubtree compares by the rules of RFC 5280, section 4.2.1.10. A name that
// cannot be compared is taken for what forbids it.
func inSubtree(name, base pki.GeneralName, excluded bool) bool {
	switch name.Kind {
	case pki.NameDNS:
		return domainWithin(name.Value, base.Value)
	case pki.NameEmail:
		return mailboxWithin(name.Value, base.Value, excluded)
	case pki.NameURI:
		parsed, err := url.Parse(name.Value)
		if err != nil || parsed.Hostname() == "" || isAddress(parsed.Hostname()) {
			return excluded
		}
		return hostWithin(parsed.Hostname(), base.Value)
	case pki.NameDirectory:
		return name.Directory.Within(base.Directory)
	case pki.NameIP:
		if !name.Address.IsValid() {
			return excluded
		}
		return base.Network.IsValid() && base.Network.Contains(name.Address)
	}
	return excluded // kinds for which no comparison is defined
}

// domainWithin: the base itself and everything below it.
func domainWithin(domain, base string) bool {
	domain, base = strings.ToLower(strings.TrimSuffix(domain, ".")), strings.ToLower(base)
	if strings.HasPrefix(base, ".") { // not in the standard, and everywhere read as "below"
		return strings.HasSuffix(domain, base)
	}
	return base == "" || domain == base || strings.HasSuffix(domain, "."+base)
}

// hostWithin: with a period in front everything below, otherwise the host itself.
func hostWithin(host, base string) bool {
	host, base = strings.ToLower(host), strings.ToLower(base)
	if strings.HasPrefix(base, ".") {
		return strings.HasSuffix(host, base)
	}
	return host == base
}

func mailboxWithin(mailbox, base string, excluded bool) bool {
	at := strings.LastIndexByte(mailbox, '@')
	if at < 0 {
		return excluded
	}
	if i := strings.LastIndexByte(base, '@'); i >= 0 { // one mailbox; its local part is exact
		return mailbox[:at] == base[:i] && strings.EqualFold(mailbox[at+1:], base[i+1:])
	}
	return hostWithin(mailbox[at+1:], base)
}

func isAddress(host string) bool {
	_, err := netip.ParseAddr(host)
	return err == nil
}
