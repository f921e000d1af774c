package proposal

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/endpoint"
)

// MostSearched is how many places, each an address with a port, one search may look at.
const MostSearched = 1 << 16

// Range is a network in which endpoints are searched for, and on which ports.
type Range struct {
	Network netip.Prefix `json:"network"`
	Ports   []uint16     `json:"ports"`
}

// places is how many the range has; MostSearched+1 stands for all that are more.
func (r Range) places() int {
	bits := r.Network.Addr().BitLen() - r.Network.Bits()
	if bits > 16 {
		return MostSearched + 1
	}
	return min(len(r.Ports)<<bits, MostSearched+1)
}

// Ranges are those of one search. No two of them overlap.
type Ranges []Range

// Choose takes ranges out of those that may be searched: networks that lie in them, on their ports, or on those of
// the given ones that may be searched there. Without networks all are meant. The errors say what may not be searched.
func Choose(allowed Ranges, networks []netip.Prefix, ports []uint16) (Ranges, error) {
	if len(networks) == 0 {
		for _, a := range allowed {
			networks = append(networks, a.Network)
		}
	}
	var out Ranges
	for _, network := range networks {
		network = network.Masked()
		i := slices.IndexFunc(allowed, func(a Range) bool {
			return a.Network.Bits() <= network.Bits() && a.Network.Contains(network.Addr())
		})
		if i < 0 {
			return nil, fmt.Errorf("the network %s may not be searched; an administrator of the machine allows it "+
				"with nurvikd serve --search-network %s=443", network, network)
		}
		chosen := allowed[i].Ports
		if len(ports) > 0 {
			chosen = slices.DeleteFunc(slices.Clone(chosen), func(p uint16) bool { return !slices.Contains(ports, p) })
		}
		if len(chosen) == 0 {
			return nil, fmt.Errorf("none of these ports may be searched in %s; allowed are %s", network,
				allowed[i].PortList())
		}
		out = append(out, Range{network, chosen})
	}
	if err := out.Apart(); err != nil {
		return nil, err
	}
	if out.Size() > MostSearched {
		return nil, fmt.Errorf("these are more than %d places (each port of each address is one); search a smaller "+
			"network, or fewer ports", MostSearched)
	}
	return out, nil
}

// PortList is the ports with commas between them, for people.
func (r Range) PortList() string {
	words := make([]string, len(r.Ports))
	for i, p := range r.Ports {
		words[i] = strconv.Itoa(int(p))
	}
	return strings.Join(words, ", ")
}

// Apart says which networks overlap.
func (r Ranges) Apart() error {
	for i, one := range r {
		for _, other := range r[:i] {
			if one.Network.Overlaps(other.Network) {
				return fmt.Errorf("the networks %s and %s overlap", other.Network, one.Network)
			}
		}
	}
	return nil
}

// Size is how many places there are, at most MostSearched+1.
func (r Ranges) Size() int {
	size := 0
	for _, one := range r {
		size = min(size+one.places(), MostSearched+1)
	}
	return size
}

// Slice are the places from one position to another, in a fixed order: all ports of an address, then the next one.
// The ranges are those of Choose.
func (r Ranges) Slice(from, to int) []netip.AddrPort {
	var out []netip.AddrPort
	for _, one := range r {
		size := one.places()
		for n := max(from, 0); n < min(to, size); n++ {
			out = append(out, netip.AddrPortFrom(nth(one.Network, n/len(one.Ports)), one.Ports[n%len(one.Ports)]))
		}
		from, to = from-size, to-size
	}
	return out
}

// nth is an address of the network, which has 2^16 at most.
func nth(network netip.Prefix, n int) netip.Addr {
	bytes := network.Masked().Addr().AsSlice()
	last := len(bytes) - 1
	bytes[last] |= byte(n)
	bytes[last-1] |= byte(n >> 8)
	address, _ := netip.AddrFromSlice(bytes)
	return address
}

// Found is a place at which TLS was answered.
type Found struct {
	Address netip.AddrPort
	Scheme  string   // with which it was
	Names   []string // in the certificate
}

// Itself is the endpoint that has no name but its address.
func (f Found) Itself() Seen {
	return Seen{endpoint.Endpoint{Scheme: f.Scheme, Host: f.Address.Addr().String(), Port: f.Address.Port()},
		Source{Address: f.Address.String()}}
}

// OfFound is what a place leads to: a service under each name of its certificate.
func OfFound(f Found) (out []Seen) {
	s := f.Itself()
	for _, name := range f.Names {
		if host, ok := hostName(name); ok {
			s.Endpoint.Host = host
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(a, b Seen) int { return cmp.Compare(a.Endpoint.Host, b.Endpoint.Host) })
	return slices.Compact(out)
}
