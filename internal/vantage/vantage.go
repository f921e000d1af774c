// Package vantage is a place in the network from which visits are made: it
// gives a visit its connections, its name resolution and its clock.
package vantage

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"nurvik/core/facts"
	"nurvik/core/limits"
	"nurvik/core/probe"
)

// NameServer is one to ask instead of the system's.
type NameServer struct {
	Address   string // ADDRESS or ADDRESS:PORT; "" for the system's
	Validates bool   // it validates DNSSEC, and the way to it can be trusted
}

// Network returns this machine's network. Where a name server is named, that
// one is asked instead of the system's, and for more than addresses.
func Network(nameServer NameServer) (probe.Network, error) {
	resolver := &net.Resolver{Dial: dialNoting("")}
	var records func(context.Context, string, uint16) *facts.DNS
	if nameServer.Address != "" {
		address, err := serverAddress(nameServer.Address)
		if err != nil {
			return probe.Network{}, err
		}
		records = asker{server: address, trusted: nameServer.Validates}.records
		resolver = &net.Resolver{PreferGo: true, Dial: dialNoting(address)}
	}
	routes := &routes{known: map[bool]bool{}}
	return probe.Network{
		Dial: func(ctx context.Context, address netip.AddrPort) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", address.String())
		},
		Lookup: func(ctx context.Context, host string) ([]netip.Addr, error) {
			// The dot at the end keeps search domains out: a target is a full name.
			note := &note{}
			found, err := resolver.LookupNetIP(context.WithValue(ctx, noteKey{}, note), "ip", host+".")
			if exhausted := note.get(); err != nil && exhausted != nil {
				return nil, exhausted
			}
			return found, plain(host, err)
		},
		Records:  records,
		HasRoute: routes.has,
		Now:      time.Now,
	}, nil
}

func serverAddress(text string) (string, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.AddrPortFrom(a, 53).String(), nil
	}
	if _, err := netip.ParseAddrPort(text); err != nil {
		return "", fmt.Errorf("%q is no name server: write ADDRESS or ADDRESS:PORT", text)
	}
	return text, nil
}

// Afford lowers the number of connections at once to what this process may open.
func Afford(l limits.Limits) limits.Limits {
	const others = 64 // files, sockets of name servers, the service's own connections
	var descriptors syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &descriptors); err != nil {
		return l
	}
	if most := min(descriptors.Cur, 1<<20); uint64(l.Over(limits.Defaults).AtOnce)+others > most {
		l.AtOnce = max(1, int(most)-others)
	}
	return l
}

// plain says in one sentence why a name has no address.
func plain(host string, err error) error {
	var failure *net.DNSError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &failure) && failure.IsNotFound:
		return fmt.Errorf("the name server knows no address of %s", host)
	case errors.As(err, &failure) && failure.IsTimeout:
		return fmt.Errorf("the name server did not answer in time for %s", host)
	}
	return fmt.Errorf("the name server could not tell the address of %s: %w", host, err)
}

// routes remembers which address families have a route from here.
type routes struct {
	mutex sync.Mutex
	known map[bool]bool // by whether the family is IPv4
}

func (r *routes) has(address netip.Addr) bool {
	if address.IsLoopback() {
		return true
	}
	family := address.Is4()
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if known, ok := r.known[family]; ok {
		return known
	}
	// Connecting a UDP socket sends nothing; it only asks the routing table.
	conn, err := net.Dial("udp", netip.AddrPortFrom(address, 9).String())
	if err == nil {
		_ = conn.Close()
	}
	r.known[family] = !errors.Is(err, syscall.ENETUNREACH) && !errors.Is(err, syscall.EADDRNOTAVAIL) &&
		!errors.Is(err, syscall.EAFNOSUPPORT)
	return r.known[family]
}

// note keeps an error of dialling that the resolver would only repeat as text.
type note struct {
	mutex     sync.Mutex
	exhausted error
}

type noteKey struct{}

func (n *note) get() error {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return n.exhausted
}

// dialNoting dials a name server, the one at the address where it is given. That
// this machine has run out of something goes into the lookup's note.
func dialNoting(address string) func(ctx context.Context, network, own string) (net.Conn, error) {
	return func(ctx context.Context, network, own string) (net.Conn, error) {
		conn, err := (&net.Dialer{}).DialContext(ctx, network, cmp.Or(address, own))
		if n, ok := ctx.Value(noteKey{}).(*note); ok {
			if e := probe.Exhausted(err); e != nil {
				n.mutex.Lock()
				defer n.mutex.Unlock()
				n.exhausted = e
			}
		}
		return conn, err
	}
}
