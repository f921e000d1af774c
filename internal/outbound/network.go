package outbound

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Network is one that may be reached beside what may be anyway.
type Network struct {
	Prefix netip.Prefix
	Ports  []uint16 // none means the usual ones of the purpose
}

// holds reports whether the port of the address is in it; usual are the ports where it names none, nil for all.
func (n Network) holds(at netip.AddrPort, usual []uint16) bool {
	ports := n.Ports
	if len(ports) == 0 {
		ports = usual
	}
	return n.Prefix.Contains(at.Addr()) && (ports == nil || slices.Contains(ports, at.Port()))
}

// ParseNetwork reads 10.0.0.0/8, or 10.0.0.0/8=80,8080 with the ports that may be reached there.
func ParseNetwork(text string) (Network, error) {
	prefix, ports, hasPorts := strings.Cut(text, "=")
	p, err := netip.ParsePrefix(prefix)
	if err != nil {
		return Network{}, fmt.Errorf("%q is no network: write ADDRESS/BITS, such as 10.0.0.0/8, or with ports "+
			"10.0.0.0/8=80,8080", text)
	}
	n := Network{Prefix: p.Masked()}
	if !hasPorts {
		return n, nil
	}
	for digits := range strings.SplitSeq(ports, ",") {
		port, err := strconv.ParseUint(digits, 10, 16)
		if err != nil || port == 0 {
			return Network{}, fmt.Errorf("%q is no port of the network %s: write numbers from 1 to 65535, with commas "+
				"between them", digits, n.Prefix)
		}
		n.Ports = append(n.Ports, uint16(port))
	}
	return n, nil
}

// ParseNetworks reads many. The error names the wrong one.
func ParseNetworks(texts []string) ([]Network, error) {
	var out []Network
	for _, text := range texts {
		n, err := ParseNetwork(text)
		if err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, nil
}

// NetworkEntry is a network as an estate file writes it: 10.0.0.0/8, or
// {network: 10.0.0.0/8, ports: [80, 8080]}.
type NetworkEntry struct {
	Network string   `yaml:"network"`
	Ports   []uint16 `yaml:"ports,flow"`
}

// UnmarshalYAML implements yaml.Unmarshaler.
func (e *NetworkEntry) UnmarshalYAML(node *yaml.Node) error {
	if node.Kind == yaml.ScalarNode {
		return node.Decode(&e.Network)
	}
	type plain NetworkEntry // without this method
	return node.Decode((*plain)(e))
}

// Parse checks the entry.
func (e NetworkEntry) Parse() (Network, error) {
	n, err := ParseNetwork(e.Network)
	if err == nil && len(e.Ports) > 0 {
		if slices.Contains(e.Ports, 0) {
			return n, fmt.Errorf("0 is no port of the network %s", e.Network)
		}
		n.Ports = e.Ports
	}
	return n, err
}
