// Package endpoint names the places where TLS is served: a name or address, a
// port, and how TLS begins there.
package endpoint

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/naming"
)

// Endpoint is a place where TLS is served. It is comparable; its text form is
// canonical: equal endpoints have equal texts. The zero value is none.
type Endpoint struct {
	Scheme string // "https" and so on; decides how TLS begins
	Host   string // canonical host name or address, without brackets
	Port   uint16
}

// schemes that start TLS at once, with their registered ports (IANA service names).
var schemes = map[string]uint16{"https": 443, "smtps": 465, "imaps": 993, "pop3s": 995, "ftps": 990, "ldaps": 636, "xmpps": 5223}

// upgrades are the protocols that begin in plaintext. Visits do not speak them yet.
var upgrades = []string{"smtp", "submission", "lmtp", "imap", "pop3", "ftp", "ldap", "xmpp", "xmpp-server", "postgres", "mysql", "nntp", "sieve"}

// upgradePorts are the well-known ports of those protocols.
var upgradePorts = map[uint16]string{21: "ftp", 24: "lmtp", 25: "smtp", 110: "pop3", 119: "nntp", 143: "imap", 389: "ldap", 587: "submission",
	3306: "mysql", 4190: "sieve", 5222: "xmpp", 5269: "xmpp-server", 5432: "postgres"}

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
	if slices.Contains(upgrades, e.Scheme) || e.Scheme == "" && upgradePorts[e.Port] != "" {
		protocol := e.Scheme
		if protocol == "" {
			protocol = upgradePorts[e.Port]
		}
		return Endpoint{}, &ParseError{text, fmt.Sprintf("%s begins in plaintext, and this version visits only endpoints where TLS begins at once; where it does, write https://%s", protocol, e.hostPort())}
	}
	if e.Scheme == "http" {
		return Endpoint{}, &ParseError{text, "http carries no TLS; name the https endpoint"}
	}
	if e.Scheme == "" {
		e.Scheme = "https"
		for scheme, port := range schemes {
			if port == e.Port {
				e.Scheme = scheme
			}
		}
	}
	port, known := schemes[e.Scheme]
	if !known {
		return Endpoint{}, &ParseError{text, fmt.Sprintf("the scheme %q is not known; known are https, smtps, imaps, pop3s, ftps, ldaps and xmpps", e.Scheme)}
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
	if e.Scheme == "https" && upgradePorts[e.Port] == "" || schemes[e.Scheme] == e.Port {
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

// Connect is where to connect instead of where the name leads: an address and,
// optionally, another port.
type Connect struct {
	Address netip.Addr
	Port    uint16 // 0 for the endpoint's own
}

// ParseConnect reads ADDRESS or ADDRESS:PORT.
func ParseConnect(text string) (Connect, error) {
	if address, err := netip.ParseAddr(naming.Unbracket(text)); err == nil {
		return Connect{Address: address}, nil
	}
	both, err := netip.ParseAddrPort(text)
	if err != nil || both.Port() == 0 {
		return Connect{}, fmt.Errorf("%q is no address to connect to: write ADDRESS or ADDRESS:PORT, with [brackets] around an IPv6 address that has a port", text)
	}
	return Connect{Address: both.Addr(), Port: both.Port()}, nil
}

// On returns the address and port for the endpoint.
func (c Connect) On(e Endpoint) netip.AddrPort {
	if c.Port == 0 {
		return netip.AddrPortFrom(c.Address, e.Port)
	}
	return netip.AddrPortFrom(c.Address, c.Port)
}
