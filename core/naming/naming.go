// Package naming compares the names that clients use with the names in a
// certificate, as RFC 9525 says. The common name never counts.
package naming

import (
	"fmt"
	"net/netip"
	"strings"

	"golang.org/x/net/idna"

	"nurvik/core/pki"
)

// Reference is a name that a client uses: a host name or an address, or a host
// name with the scheme of a URI. The zero value is no reference.
type Reference struct {
	host    string     // lower case, A-labels, no trailing dot; "" for an address
	address netip.Addr // invalid for a host name
	scheme  string     // of a URI-ID (RFC 9525, 6.1), in lower case; mostly ""
}

// NotANameError says why a text is neither a host name nor an address.
type NotANameError struct{ Name, Reason string }

func (e *NotANameError) Error() string {
	return fmt.Sprintf("%q is neither a host name nor an address: %s", e.Name, e.Reason)
}

// Parse reads a name as a person gives it: in any case, with one trailing dot
// or without, with U-labels or A-labels, or an address with or without
// brackets. The error is a *NotANameError.
func Parse(name string) (Reference, error) {
	if address, err := netip.ParseAddr(Unbracket(name)); err == nil {
		return Reference{address: address.WithZone("")}, nil
	}
	host := strings.ToLower(strings.TrimSuffix(name, "."))
	if !isASCII(host) {
		converted, err := idna.Lookup.ToASCII(host)
		if err != nil {
			return Reference{}, &NotANameError{name, "its international form cannot be converted (RFC 5891)"}
		}
		host = converted
	}
	if reason := hostDefect(host); reason != "" {
		return Reference{}, &NotANameError{name, reason}
	}
	return Reference{host: host}, nil
}

// ParseIdentity reads what Parse does, and URIs of protocols whose clients look for URI entries, such as
// sip:voice.example; an SRV name such as _xmpp-client.example is a host name, and found in SRV entries too. Web
// addresses are refused: web clients look for the host.
func ParseIdentity(name string) (Reference, error) {
	scheme, rest, uri := strings.Cut(strings.ToLower(name), ":")
	if _, err := netip.ParseAddr(Unbracket(name)); err == nil || !uri || scheme == "" ||
		strings.Trim(scheme, "abcdefghijklmnopqrstuvwxyz0123456789+-.") != "" ||
		strings.Trim(rest, "0123456789") == "" {
		return Parse(name)
	}
	if scheme == "http" || scheme == "https" {
		return Reference{}, &NotANameError{name, "web clients compare the host; write it alone"}
	}
	r, err := Parse(strings.TrimPrefix(rest, "//"))
	if err != nil || r.host == "" {
		return Reference{}, &NotANameError{name, "behind the scheme of a URI a host name is needed (RFC 9525, 6.1)"}
	}
	r.scheme = scheme
	return r, nil
}

// Unbracket takes off the brackets that stand around an IPv6 address beside a
// port (RFC 3986, 3.2.2). A lone bracket stays, and makes the text no address.
func Unbracket(text string) string {
	if strings.HasPrefix(text, "[") && strings.HasSuffix(text, "]") {
		return text[1 : len(text)-1]
	}
	return text
}

// hostDefect says what keeps the text from being a host name (RFC 1123, 2.1;
// underscores are let through and match literally).
func hostDefect(host string) string {
	if host == "" {
		return "it is empty"
	}
	if len(host) > 253 {
		return "it is longer than 253 characters"
	}
	labels := strings.Split(host, ".")
	for _, label := range labels {
		switch {
		case label == "":
			return "a label is empty"
		case len(label) > 63:
			return "a label is longer than 63 characters"
		case strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-_") != "":
			return "it contains a character that host names do not have"
		case label[0] == '-' || label[len(label)-1] == '-':
			return "a label begins or ends with a hyphen"
		}
	}
	if last := labels[len(labels)-1]; strings.Trim(last, "0123456789") == "" {
		return "its last label is a number, and it is no address"
	}
	return ""
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// String returns the canonical form.
func (r Reference) String() string {
	switch {
	case r.address.IsValid():
		return r.address.String()
	case r.scheme != "":
		return r.scheme + ":" + r.host
	}
	return r.host
}

// IsAddress reports whether the reference is an address.
func (r Reference) IsAddress() bool { return r.address.IsValid() }

// CoveredBy returns the entry of the certificate that covers the reference,
// and whether there is one.
func (r Reference) CoveredBy(c *pki.Certificate) (pki.GeneralName, bool) {
	for _, entry := range c.AltNames {
		switch {
		case r.scheme != "":
			if entry.Kind == pki.NameURI && uriMatches(entry.Value, r) {
				return entry, true
			}
		case entry.Service != "" && strings.EqualFold(entry.Service, r.host):
			return entry, true
		case entry.Kind == pki.NameIP && r.address.IsValid() && entry.Address.IsValid():
			if entry.Address == r.address { // an IPv4-mapped one only its own sixteen bytes (RFC 9525, 6.4)
				return entry, true
			}
		case entry.Kind == pki.NameDNS && r.host != "":
			if matches(entry.Value, r.host) {
				return entry, true
			}
		}
	}
	return pki.GeneralName{}, false
}

// uriMatches compares scheme and host of a URI entry (RFC 9525, 6.5).
func uriMatches(entry string, r Reference) bool {
	scheme, rest, _ := strings.Cut(strings.ToLower(entry), ":")
	host := strings.TrimPrefix(rest, "//")
	if i := strings.IndexAny(host, "/?#;:"); i >= 0 {
		host = host[:i]
	}
	if i := strings.LastIndexByte(host, '@'); i >= 0 {
		host = host[i+1:]
	}
	return scheme == r.scheme && host == r.host
}

// matches compares a dNSName entry with a host name (RFC 9525, 6.3): case does
// not count, and a wildcard is the whole leftmost label and stands for exactly
// one label. RFC 6125, which it replaces, let a wildcard be a part of a label
// (6.4.3) and the common name count where there were no other names (6.4.4).
func matches(entry, host string) bool {
	entry = strings.ToLower(entry)
	if suffix, wild := strings.CutPrefix(entry, "*."); wild {
		_, rest, found := strings.Cut(host, ".")
		return found && rest == suffix && hostDefect(suffix) == "" && !registrySuffix(suffix)
	}
	return entry == host && hostDefect(entry) == ""
}
