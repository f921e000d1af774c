package judge

import (
	"net/netip"
	"strings"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/naming"
)

// PlacesOf are the places of a machine's configurations at which the endpoints are, as far as names, ports and
// addresses tell: a site of the endpoint's name at its port; a site without names only where its own address was
// visited, or where the machine itself is called as the endpoint. An address that nobody visited is another place.
func PlacesOf(machine string, all []facts.Configuration, observed []facts.Endpoint) []Placed {
	type listening struct {
		configuration, site int
		listen              *facts.Listen
	}
	byPort := map[uint16][]listening{}
	for c := range all {
		for s := range all[c].Sites {
			site := &all[c].Sites[s]
			if !site.TLS() {
				continue
			}
			for l := range site.Listens {
				x := &site.Listens[l]
				if !x.Socket && x.Port != 0 && x.Scheme != "http" {
					byPort[x.Port] = append(byPort[x.Port], listening{c, s, x})
				}
			}
		}
	}
	var out []Placed
	for e := range observed {
		host := observed[e].Endpoint
		if parsed, err := endpoint.Parse(host); err == nil {
			host = parsed.Host
		}
		best, fit := []Placed(nil), 0
		seen := map[Placed]bool{}
		for i := range observed[e].Observations {
			o := &observed[e].Observations[i]
			for _, l := range byPort[o.Address.Port()] {
				how := fits(&all[l.configuration].Sites[l.site], l.listen, host, machine, o.Address.Addr())
				at := Placed{Configuration: l.configuration, Site: l.site, Endpoint: e}
				switch {
				case how == 0 || how < fit || seen[at]:
				case how > fit:
					best, fit, seen = []Placed{at}, how, map[Placed]bool{at: true}
				default:
					best, seen[at] = append(best, at), true
				}
			}
		}
		out = append(out, best...)
	}
	return out
}

// fits says how well a site fits an endpoint that was visited at the address: 0 not at all.
func fits(s *facts.Site, l *facts.Listen, host, machine string, visited netip.Addr) int {
	own, err := netip.ParseAddr(l.Address)
	exact := err == nil && own.Unmap() == visited.Unmap()
	if anywhere := l.Address == "" || l.Address == "*" || err == nil && own.IsUnspecified(); !anywhere && !exact {
		return 0
	}
	if len(s.Names) == 0 {
		if exact || machine != "" && strings.EqualFold(machine, host) {
			return 1
		}
		return 0
	}
	reference, err := naming.Parse(host)
	if err != nil {
		return 0
	}
	fit := 0
	for _, n := range s.Names {
		switch name := strings.TrimPrefix(n.Value, "."); {
		case strings.EqualFold(name, host):
			return 3
		case strings.HasPrefix(n.Value, "."), strings.HasPrefix(n.Value, "*."):
			suffix := "." + strings.ToLower(strings.TrimLeft(n.Value, "*."))
			if strings.HasSuffix(strings.ToLower(reference.String()), suffix) {
				fit = 2
			}
		}
	}
	return fit
}
