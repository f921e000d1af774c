// Package proposal says which endpoints an estate may lack, from what has been seen elsewhere: names in certificates
// that are served or lie in files, places where servers are told to serve TLS, and what answers in networks that are
// searched. Whether they belong to the estate is for a person to decide.
package proposal

import (
	"cmp"
	"slices"
	"strings"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/naming"
)

// Source is where an endpoint was met: in a certificate, in the configuration of a server, or in a search of a network.
type Source struct {
	Certificate string `json:"certificate,omitempty" doc:"SHA-256 of a certificate with the name"`
	Endpoint    string `json:"endpoint,omitempty" doc:"That serves it"`
	HoldingID   int64  `json:"holding_id,omitempty" doc:"Or the holding with the file"`
	Holding     string `json:"holding,omitempty"`
	Path        string `json:"path,omitempty"`
	Line        int    `json:"line,omitempty"`
	Server      string `json:"server,omitempty" doc:"Whose configuration names it, such as nginx"`
	Address     string `json:"address,omitempty" doc:"Or the address with its port that answered a search"`
}

// Seen is an endpoint that was met somewhere.
type Seen struct {
	Endpoint endpoint.Endpoint
	Source   Source
}

// Proposal is an endpoint that the estate may lack.
type Proposal struct {
	Endpoint string   `json:"endpoint"`
	Sources  []Source `json:"sources" doc:"Where it was met, ten at most"`
	Places   int      `json:"places" doc:"At how many places"`
}

// mostSources is how many places a proposal names.
const mostSources = 10

// OfName is what a name in a certificate leads to: the same service under that name where the certificate is served at
// an endpoint, and else a web server. It is nothing for wildcards, addresses and what is no host name.
func OfName(name string, at Source) (Seen, bool) {
	host, ok := hostName(name)
	if !ok {
		return Seen{}, false
	}
	e, err := endpoint.Parse(at.Endpoint)
	if err != nil {
		e = endpoint.Endpoint{Scheme: "https", Port: 443}
	}
	e.Host = host
	return Seen{e, at}, true
}

// OfConfiguration is what a server is told to serve: each host name of a place with a certificate, on each port that a
// network reaches.
func OfConfiguration(c *facts.Configuration, at Source) []Seen {
	var out []Seen
	at.Server = c.Server
	for _, site := range c.Sites {
		if !site.TLS() {
			continue
		}
		for _, l := range site.Listens {
			if l.Socket || l.Port == 0 || l.Scheme == "http" || loopback(l.Address) {
				continue
			}
			for _, setting := range site.Names {
				host, ok := hostName(setting.Value)
				if !ok {
					continue
				}
				source := at
				source.Path, source.Line = cmp.Or(setting.File, c.Path), setting.Line.Line
				out = append(out, Seen{endpoint.Endpoint{Scheme: l.Scheme, Host: host, Port: l.Port}, source})
			}
		}
	}
	return out
}

// Join puts together what was met at several places, by endpoint.
func Join(seen []Seen) []Proposal {
	type met struct {
		endpoint string
		source   Source
	}
	by, known := map[string]*Proposal{}, map[met]bool{}
	for _, s := range seen {
		target := s.Endpoint.String()
		p := by[target]
		if p == nil {
			p = &Proposal{Endpoint: target}
			by[target] = p
		}
		at := met{target, s.Source}
		at.source.Certificate = "" // one place may hold several
		if known[at] {
			continue
		}
		known[at] = true
		if p.Places++; len(p.Sources) < mostSources {
			p.Sources = append(p.Sources, s.Source)
		}
	}
	out := make([]Proposal, 0, len(by))
	for _, p := range by {
		out = append(out, *p)
	}
	slices.SortFunc(out, func(a, b Proposal) int { return cmp.Compare(a.Endpoint, b.Endpoint) })
	return out
}

// hostName is the canonical form of a name that can be visited.
func hostName(text string) (string, bool) {
	name, err := naming.Parse(text)
	if err != nil || name.IsAddress() {
		return "", false
	}
	host := name.String()
	return host, strings.Contains(host, ".") && !strings.ContainsAny(host, "*_")
}

func loopback(address string) bool {
	return strings.HasPrefix(address, "127.") || address == "::1" || address == "localhost"
}
