// Package endpoint names the places where TLS is served: a name or address, a
// port, and how TLS begins there.
package endpoint

import (
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/naming"
	"nurvik/core/plain"
)

// Endpoint is a place where TLS is served. It is comparable; its text form is
// canonical: equal endpoints have equal texts. The zero value is none.
type Endpoint struct {
	Scheme string // "https" and so on; decides how TLS begins
	Host   string // canonical host name or address, without brackets
	Port   uint16
}

// schemes that start TLS at once, with their registered ports (IANA service names).
var schemes = map[string]uint16{"https": 443, "smtps": 465, "imaps": 993, "pop3s": 995, "ftps": 990, "ldaps": 636,
	"xmpps": 5223}

// upgrades are the protocols that begin in plaintext, with their well-known ports.
var upgrades = map[string]uint16{"smtp": 25, "submission": 587, "lmtp": 24, "imap": 143, "pop3": 110, "ftp": 21,
	"ldap": 389, "xmpp": 5222,
	"xmpp-server": 5269, "postgres": 5432, "mysql": 3306, "nntp": 119, "sieve": 4190}

// portOf is the port of a scheme, 0 for a scheme that is not known.
func portOf(scheme string) uint16 {
	if port, ok := schemes[scheme]; ok {
		return port
	}
	return upgrades[scheme]
}

// schemeOf is how TLS begins on a well-known port, "" for others.
func schemeOf(port uint16) string {
	for _, list := range []map[string]uint16{schemes, upgrades} {
		for scheme, known := range list {
			if known == port {
				return scheme
			}
		}
	}
	return ""
}

// ParseError says why a text names no endpoint, and the way out.
type ParseError struct{ Text, Reason string }

func (e *ParseError) Error() string { return fmt.Sprintf("%q is no endpoint: %s", e.Text, e.Reason) }

// Parse reads host, host:port, scheme://host or scheme://host:port. Without a
// port the scheme's is taken, without both 443. The error is a *ParseError.
func Parse(text string) (Endpoint, error) {
	scheme, rest, hasScheme := strings.Cut(text, "://")
	if !hasScheme {
		scheme, rest = "", text
	}
	rest = strings.TrimSuffix(rest, "/")
	host, port, err := splitPort(rest)
	if err != nil {
		return Endpoint{}, &ParseError{text, err.Error()}
	}
	name, err := naming.Parse(host)
	if err != nil {
		return Endpoint{}, &ParseError{text, err.Error()}
	}
	e := Endpoint{Scheme: strings.ToLower(scheme), Host: name.String(), Port: port}
	return e.settle(text)
}

// settle fills in scheme and port from each other.
func (e Endpoint) settle(text string) (Endpoint, error) {
	if e.Scheme == "http" {
		return Endpoint{}, &ParseError{text, "http carries no TLS; name the https endpoint"}
	}
	if e.Scheme == "" {
		if e.Scheme = schemeOf(e.Port); e.Scheme == "" {
			e.Scheme = "https"
		}
	}
	port := portOf(e.Scheme)
	if port == 0 {
		known := slices.Sorted(maps.Keys(schemes))
		return Endpoint{}, &ParseError{text,
			fmt.Sprintf("the scheme %q is not known; known are %s, and %s with an upgrade", e.Scheme,
				strings.Join(known, ", "), strings.Join(slices.Sorted(maps.Keys(upgrades)), ", "))}
	}
	if e.Port == 0 {
		e.Port = port
	}
	return e, nil
}

func splitPort(text string) (host string, port uint16, err error) {
	if address, err := netip.ParseAddr(naming.Unbracket(text)); err == nil {
		return address.String(), 0, nil
	}
	host, digits, found := strings.Cut(text, ":")
	if strings.HasPrefix(text, "[") {
		host, digits, err = net.SplitHostPort(text)
		if err != nil {
			return "", 0, fmt.Errorf("an IPv6 address with a port is written [address]:port")
		}
		found = true
	}
	if host == "" {
		return "", 0, fmt.Errorf("the host is missing")
	}
	if !found {
		return host, 0, nil
	}
	n, err := strconv.ParseUint(digits, 10, 16)
	if err != nil || n == 0 {
		return "", 0, fmt.Errorf("the port %q is no number from 1 to 65535", digits)
	}
	return host, uint16(n), nil
}

func (e Endpoint) hostPort() string {
	if e.Port == 0 {
		return e.Host
	}
	return net.JoinHostPort(e.Host, strconv.Itoa(int(e.Port)))
}

// String returns host:port, with the scheme in front where the port alone
// would not tell how TLS begins.
func (e Endpoint) String() string {
	if scheme := schemeOf(e.Port); scheme == e.Scheme || scheme == "" && e.Scheme == "https" {
		return e.hostPort()
	}
	return e.Scheme + "://" + e.hostPort()
}

// ServerName is the name to send in the handshake, "" for an address (RFC 6066, 3).
func (e Endpoint) ServerName() string {
	if _, err := netip.ParseAddr(e.Host); err == nil {
		return ""
	}
	return e.Host
}

// MarshalText implements encoding.TextMarshaler.
func (e Endpoint) MarshalText() ([]byte, error) { return []byte(e.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (e *Endpoint) UnmarshalText(text []byte) (err error) {
	*e, err = Parse(string(text))
	return err
}

// VisitAt is where to visit an endpoint instead of where the name leads: an address and,
// optionally, another port.
type VisitAt struct {
	Address netip.Addr
	Port    uint16 // 0 for the endpoint's own
}

// ParseVisitAt reads ADDRESS or ADDRESS:PORT.
func ParseVisitAt(text string) (VisitAt, error) {
	if err := plain.Check(text, false); err != nil { // a zone could be any text
		return VisitAt{}, err
	}
	if address, err := netip.ParseAddr(naming.Unbracket(text)); err == nil {
		return VisitAt{Address: address}, nil
	}
	both, err := netip.ParseAddrPort(text)
	if err != nil || both.Port() == 0 {
		return VisitAt{},
			fmt.Errorf("%q is no address to visit: write ADDRESS or ADDRESS:PORT, with [brackets] around an IPv6 "+
				"address that has a port", text)
	}
	return VisitAt{Address: both.Addr(), Port: both.Port()}, nil
}

// On returns the address and port for the endpoint.
func (c VisitAt) On(e Endpoint) netip.AddrPort {
	if c.Port == 0 {
		return netip.AddrPortFrom(c.Address, e.Port)
	}
	return netip.AddrPortFrom(c.Address, c.Port)
}
