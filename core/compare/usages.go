package compare

import (
	"bytes"
	"slices"
	"strings"

	"nurvik/core/pki"
)

// expected are usages that issuers put into every server's certificate, asked for or not.
var expected = []string{"digital signature", "key encipherment", "key agreement",
	pki.UsageServerAuth.Words(), pki.UsageClientAuth.Words()}

// usages compares the CA flag and what the key may be used for.
func (c *comparison) usages(a, b *thing) {
	x, y := a.extensions, b.extensions
	c.authority(a, b)
	asked := a.request != nil && b.certificate != nil
	for _, u := range []struct {
		field       string
		first, last []string
		has, gets   bool
	}{
		{"key usage", x.KeyUsage.Words(), y.KeyUsage.Words(), x.HasKeyUsage, y.HasKeyUsage},
		{"extended key usage", words(x.ExtKeyUsage), words(y.ExtKeyUsage), x.HasExtKeyUsage, y.HasExtKeyUsage},
	} {
		c.row(u.field, u.first, u.last)
		lost, gained := without(u.first, u.last), without(u.last, u.first)
		row := &c.rows[len(c.rows)-1]
		row.Same = u.has == u.gets && len(lost)+len(gained) == 0
		switch {
		case row.Same:
		case asked && !u.has: // the issuer's own profile fills in what nobody asked for
			if odd := without(gained, expected); len(odd) > 0 {
				c.add(Usages, true, count(len(odd), "usage")+" too many", "Granted and never asked for: %s.",
					strings.Join(odd, ", "))
			} else {
				c.add(Usages, false, "", "Not asked for, and added by the issuer as usual: %s.",
					strings.Join(gained, ", "))
			}
		case !u.has:
			c.add(Usages, true, "limited usages", "The %s was not limited, and is now: %s.", u.field,
				strings.Join(u.last, ", "))
		case !u.gets && asked:
			c.add(Usages, true, "usages not granted", "The %s that was asked for is not in the certificate: %s.",
				u.field,
				strings.Join(u.first, ", "))
		case !u.gets:
			c.add(Usages, true, "unlimited usages", "The %s was limited, and is not any more: %s.", u.field,
				strings.Join(u.first, ", "))
		default:
			if len(lost) > 0 {
				c.add(Usages, true, count(len(lost), "usage")+" fewer", "No longer allowed by the %s: %s.", u.field,
					strings.Join(lost, ", "))
			}
			if len(gained) > 0 {
				c.add(Usages, true, count(len(gained), "usage")+" more", "Newly allowed by the %s: %s.", u.field,
					strings.Join(gained, ", "))
			}
		}
	}
}

// authority compares the CA flag.
func (c *comparison) authority(a, b *thing) {
	flag := func(t *thing) bool { return t.extensions.BasicConstraints != nil && t.extensions.BasicConstraints.CA }
	word := func(ca bool) []string {
		if ca {
			return []string{"yes"}
		}
		return []string{"no"}
	}
	first, second := flag(a), flag(b)
	c.row("CA", word(first), word(second))
	asked := a.request != nil && b.certificate != nil
	switch {
	case first == second:
	case asked && first:
		c.add(Usages, true, "CA flag refused", "The request asks to be a CA, and the certificate is none.")
	case asked:
		c.add(Usages, true, "a CA", "The certificate is that of a CA, which the request does not ask for.")
	case first:
		c.add(Usages, true, "no CA any more", "The first is a CA, the second is none.")
	default:
		c.add(Usages, true, "now a CA", "The second is a CA, the first is none.")
	}
}

func words(ids []pki.OID) []string {
	var out []string
	for _, id := range ids {
		out = append(out, id.Words())
	}
	return out
}

// without are the texts that the others do not have.
func without(list, others []string) []string {
	var out []string
	for _, text := range list {
		if !slices.Contains(others, text) && !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return out
}

// compared are the extensions that are compared as what they mean, or that differ in any two certificates: names,
// usages, key identifiers, addresses of the issuer, timestamps of logs.
var compared = map[pki.OID]bool{"2.5.29.14": true, "2.5.29.15": true, "2.5.29.17": true, "2.5.29.19": true,
	"2.5.29.35": true, "2.5.29.37": true}

// own are those that only an issuer can fill in; no request lacks them.
var own = map[pki.OID]bool{"2.5.29.14": true, "2.5.29.31": true, "2.5.29.32": true, "2.5.29.35": true,
	"2.5.29.46": true, "1.3.6.1.5.5.7.1.1": true, "1.3.6.1.4.1.11129.2.4.2": true}

// others compares the extensions that are left, as a whole.
func (c *comparison) others(a, b *thing) {
	first, second := extensionsOf(a), extensionsOf(b)
	names := func(list []pki.Extension) []string {
		var out []string
		for _, x := range list {
			out = append(out, x.ID.Words())
		}
		return out
	}
	lost, gained := without(names(first), names(second)), without(names(second), names(first))
	if len(first)+len(second) > 0 {
		c.row("other extensions", names(first), names(second))
		c.rows[len(c.rows)-1].Same = len(lost)+len(gained) == 0
	}
	asked := a.request != nil && b.certificate != nil
	switch {
	case len(lost) > 0 && asked:
		c.add(Others, false, count(len(lost), "extension")+" not granted",
			"Extensions that were asked for and not granted: %s.",
			strings.Join(lost, ", "))
	case len(lost) > 0:
		c.add(Others, false, "", "Extensions that are gone: %s.", strings.Join(lost, ", "))
	}
	var beyond []string
	for _, x := range second {
		if slices.Contains(gained, x.ID.Words()) && !(asked && own[x.ID]) {
			beyond = append(beyond, x.ID.Words())
		}
	}
	switch {
	case len(beyond) > 0 && asked:
		c.add(Others, false, count(len(beyond), "extension")+" too many", "Extensions that nobody asked for: %s.",
			strings.Join(beyond, ", "))
	case len(beyond) > 0:
		c.add(Others, false, "", "Extensions that are new: %s.", strings.Join(beyond, ", "))
	}
	var changed []string
	for _, x := range first {
		for _, y := range second {
			if x.ID == y.ID && !own[x.ID] && (!bytes.Equal(x.Value, y.Value) || x.Critical != y.Critical) {
				changed = append(changed, x.ID.Words())
			}
		}
	}
	if len(changed) > 0 {
		c.add(Others, false, "", "Extensions with another value: %s.", strings.Join(changed, ", "))
	}
}

func extensionsOf(t *thing) []pki.Extension {
	var out []pki.Extension
	for _, x := range t.extensions.Extensions {
		if !compared[x.ID] {
			out = append(out, x)
		}
	}
	return out
}
