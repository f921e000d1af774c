package naming

import (
	"fmt"
	"net/netip"
	"strings"

	"golang.org/x/net/idna"
	"golang.org/x/net/publicsuffix"

	"nurvik/core/pki"
)

// RemarkKind tells apart what is remarkable about an entry.
type RemarkKind string

// What can be said of an entry by itself and beside the others.
const (
	Malformed     RemarkKind = "malformed"       // covers nothing
	AddressAsName RemarkKind = "address-as-name" // an address in a DNS entry: covers nothing
	TooBroad      RemarkKind = "too-broad"       // a wildcard directly under a suffix of the registries: covers nothing
	Broad         RemarkKind = "broad"           // a wildcard under a single label that no registry has
	Internal      RemarkKind = "internal"        // nobody outside can reach it
	Underscore    RemarkKind = "underscore"
	Redundant     RemarkKind = "redundant" // another entry covers it
)

// Remark is what is remarkable about an entry.
type Remark struct {
	Kind   RemarkKind `json:"kind"`
	Entry  string     `json:"entry"`
	Reason string     `json:"reason"`
}

// Remarks look at the alternative names of a certificate.
func Remarks(c *pki.Certificate) []Remark {
	var out []Remark
	remark := func(kind RemarkKind, entry, format string, args ...any) {
		out = append(out, Remark{kind, pki.Printable(entry), fmt.Sprintf(format, args...)})
	}
	first, under := map[string]bool{}, wildcards(c)
	for _, g := range c.AltNames {
		switch g.Kind {
		case pki.NameIP:
			if g.Address.IsValid() && private(g.Address) {
				remark(Internal, g.Value, "the address is private")
			}
		case pki.NameDNS:
			entry := strings.ToLower(g.Value)
			if kind, reason := entryDefect(entry); reason != "" {
				remark(kind, g.Value, "%s", reason)
				continue
			}
			if first[entry] {
				remark(Redundant, g.Value, "it is there twice")
				continue
			}
			first[entry] = true
			host := strings.TrimPrefix(entry, "*.")
			if host != entry && !strings.Contains(host, ".") && !specialUse[host] {
				remark(Broad, g.Value, "it covers every name directly under %q, which is no domain of a registry", host)
			} else if reason := unreachable(host); reason != "" {
				remark(Internal, g.Value, "%s", reason)
			}
			if strings.Contains(entry, "_") {
				remark(Underscore, g.Value, "host names have no underscore (RFC 1123); it is compared as it is")
			}
			_, parent, _ := strings.Cut(entry, ".")
			if by := under[parent]; by != "" && host == entry && matches(strings.ToLower(by), entry) {
				remark(Redundant, g.Value, "%s covers it", by)
			}
		}
	}
	return out
}

// entryDefect says why a DNS entry, in lower case, covers nothing; "" where it covers something.
func entryDefect(entry string) (RemarkKind, string) {
	if _, err := netip.ParseAddr(Unbracket(entry)); err == nil {
		return AddressAsName, "it is an address in a DNS entry, where clients do not look for addresses"
	}
	host, wild := strings.CutPrefix(entry, "*.")
	switch {
	case entry == "":
		return Malformed, "it is empty"
	case strings.Contains(host, "*"):
		return Malformed, "a wildcard must be the whole first label (RFC 9525, 6.3)"
	case strings.HasSuffix(entry, "."):
		return Malformed, "it ends with a dot"
	case !isASCII(entry):
		return Malformed, "it has letters outside of ASCII, which have to be written as A-labels (RFC 5280, 7.2)"
	}
	if reason := hostDefect(host); reason != "" {
		return Malformed, reason
	}
	for label := range strings.SplitSeq(host, ".") {
		if reason := internationalDefect(label); reason != "" {
			return Malformed, reason
		}
	}
	if wild && registrySuffix(host) {
		return TooBroad, fmt.Sprintf(
			"%q is a suffix under which registries give names to anybody, so clients refuse it",
			host)
	}
	return "", ""
}

// internationalDefect says why a label that begins as an A-label is none (RFC 5891, 4.2).
func internationalDefect(label string) string {
	if !strings.HasPrefix(label, "xn--") {
		return ""
	}
	plain, err := idna.Registration.ToUnicode(label)
	if err != nil || plain == label {
		return fmt.Sprintf("%q is no valid A-label (RFC 5891)", label)
	}
	return ""
}

// registrySuffix reports whether the domain is a suffix of the registry section of the public suffix list. The
// private section is about who shares a domain, not about who may have a certificate.
func registrySuffix(domain string) bool {
	suffix, icann := publicsuffix.PublicSuffix(domain)
	return icann && suffix == domain
}

// specialUse are domains that nobody outside can reach (RFC 6761, RFC 6762, RFC 8375, RFC 9476). Of the others in the
// registry, example is for manuals, and onion is reached in its own way.
var specialUse = map[string]bool{"localhost": true, "local": true, "test": true, "invalid": true, "home.arpa": true,
	"internal": true, "alt": true}

// unreachable says why nobody outside can reach a host, "" where somebody may.
func unreachable(host string) string {
	if !strings.Contains(host, ".") {
		if specialUse[host] {
			return fmt.Sprintf("%q is a special-use domain, which exists on the own network only", host)
		}
		return "it is a single label, which means another host on every network"
	}
	for domain := range specialUse {
		if strings.HasSuffix(host, "."+domain) || host == domain {
			return fmt.Sprintf("%q is a special-use domain, which exists on the own network only", domain)
		}
	}
	return ""
}

// private reports whether an address cannot be reached from outside.
func private(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() || a.IsUnspecified() ||
		netip.MustParsePrefix("100.64.0.0/10").Contains(a)
}

// wildcards are those of the certificate, by the domain that they are under.
func wildcards(c *pki.Certificate) map[string]string {
	out := map[string]string{}
	for _, g := range c.AltNames {
		if suffix, wild := strings.CutPrefix(strings.ToLower(g.Value), "*."); wild && g.Kind == pki.NameDNS {
			out[suffix] = g.Value
		}
	}
	return out
}

// CommonNameApart is the common name where it is a host name that no entry has, which would have mattered to clients
// before RFC 9525; "" where there is none.
func CommonNameApart(c *pki.Certificate) string {
	common := strings.ToLower(c.Subject.CommonName())
	r, err := Parse(strings.TrimPrefix(common, "*."))
	if err != nil || !strings.Contains(common, ".") && !r.IsAddress() {
		return ""
	}
	for _, g := range c.AltNames {
		if strings.EqualFold(g.Value, common) {
			return ""
		}
	}
	if _, covered := r.CoveredBy(c); covered && !strings.HasPrefix(common, "*.") {
		return ""
	}
	return c.Subject.CommonName()
}

// Outside says why nobody outside can reach what is needed, "" where somebody may.
func (r Reference) Outside() string {
	if r.address.IsValid() {
		if private(r.address) {
			return "the address is private"
		}
		return ""
	}
	return unreachable(r.host)
}
