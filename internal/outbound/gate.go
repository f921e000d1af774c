// Package outbound says which addresses Nurvik may reach. Others choose them: whoever makes a certificate names the
// addresses of lists and responders, and whoever may change the estate names those of endpoints. So each purpose has
// its own, and an administrator can widen them by network and port.
package outbound

import (
	"fmt"
	"net/netip"
	"slices"
)

// Gate is what may be reached for one purpose.
type Gate struct {
	purpose string
	option  string // with which it is widened
	usual   []uint16
	allowed []Network
	free    func(netip.Addr) bool
}

// Issuers is the gate for lists, answers and certificates of issuers: public addresses, on any port, and the networks
// on ports 80 and 443 unless they name others.
func Issuers(allowed []Network) *Gate {
	return &Gate{purpose: "asked", option: "--allow-network", usual: []uint16{80, 443}, allowed: allowed,
		free: isPublic}
}

// Visits is the gate for visits of endpoints: public and private addresses, and the networks. This machine and its
// link, where services trust whoever reaches them, are not among them; own is where the service itself listens.
func Visits(own netip.AddrPort, allowed []Network) *Gate {
	at := []netip.Addr{own.Addr()}
	if own.Addr().IsUnspecified() {
		at = []netip.Addr{netip.MustParseAddr("127.0.0.1"), netip.IPv6Loopback()}
	}
	allowed = slices.Clone(allowed)
	for _, a := range at {
		if own.IsValid() {
			allowed = append(allowed, Network{netip.PrefixFrom(a, a.BitLen()), []uint16{own.Port()}})
		}
	}
	return &Gate{purpose: "visited", option: "--allow-visit", allowed: allowed, free: isElsewhere}
}

// RefusedError says that an address may not be reached.
type RefusedError struct {
	at              netip.AddrPort
	purpose, option string
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("%s may not be %s from this service: it is an address of the machine itself or of special use; "+
		"an administrator allows it with %s %s=%d", e.at, e.purpose, e.option,
		netip.PrefixFrom(e.at.Addr(), e.at.Addr().BitLen()), e.at.Port())
}

// Check returns a *RefusedError for what may not be reached.
func (g *Gate) Check(at netip.AddrPort) error {
	ends := netip.AddrPortFrom(meant(at.Addr()), at.Port())
	if slices.ContainsFunc(g.allowed, func(n Network) bool { return n.holds(ends, g.usual) }) || g.free(ends.Addr()) {
		return nil
	}
	return &RefusedError{ends, g.purpose, g.option}
}

// notPublic are networks for special purposes that netip has no word for
// (IANA special-purpose address registries).
var notPublic = []netip.Prefix{
	netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.18.0.0/15"),
	netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("0.0.0.0/8"),
	netip.MustParsePrefix("192.88.99.0/24"), netip.MustParsePrefix("::/96"), netip.MustParsePrefix("fec0::/10"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2001::/23"), netip.MustParsePrefix("2001:db8::/32"),
	netip.MustParsePrefix("2002::/16"), netip.MustParsePrefix("100::/64"), netip.MustParsePrefix("3fff::/20"),
	netip.MustParsePrefix("5f00::/16"),
}

// translated is the network of IPv6 addresses that stand for the IPv4 address in their last bytes (RFC 6052, 2.1).
var translated = netip.MustParsePrefix("64:ff9b::/96")

// meant is the address that packets to the address end at.
func meant(address netip.Addr) netip.Addr {
	address = address.Unmap().WithZone("")
	if translated.Contains(address) {
		bytes := address.As16()
		return netip.AddrFrom4([4]byte(bytes[12:]))
	}
	return address
}

// isPublic reports whether an address is one of the internet.
func isPublic(address netip.Addr) bool {
	return address.IsGlobalUnicast() && !address.IsPrivate() && !isIn(notPublic, address)
}

// told are addresses at which machines in clouds learn about themselves, their secrets included, beside those that are
// link-local.
var told = []netip.Prefix{netip.MustParsePrefix("fd00:ec2::254/128"), netip.MustParsePrefix("100.100.100.200/32"),
	netip.MustParsePrefix("168.63.129.16/32"), netip.MustParsePrefix("192.0.0.192/32")}

// nowhere are networks in which no endpoint can be, or which lead back to this machine.
var nowhere = []netip.Prefix{netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("::/96"), netip.MustParsePrefix("100::/64")}

// isElsewhere reports whether an address is another machine's: public or private, not loopback, link-local, multicast
// or one of those above.
func isElsewhere(address netip.Addr) bool {
	return address.IsGlobalUnicast() && !isIn(told, address) && !isIn(nowhere, address)
}

func isIn(networks []netip.Prefix, address netip.Addr) bool {
	return slices.ContainsFunc(networks, func(p netip.Prefix) bool { return p.Contains(address) })
}
