package naming

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"nurvik/core/pki"
)

// Miss is why a certificate does not cover a name: the entry that comes
// nearest, what keeps it from covering the name, and what to do.
type Miss struct {
	Entry  string `json:"entry,omitempty" doc:"The entry that comes nearest"`
	Reason string `json:"reason"`
	Remedy string `json:"remedy"`
}

// Missed says why the certificate does not cover the name, which it does not.
func (r Reference) Missed(c *pki.Certificate) Miss {
	m, _ := r.miss(c)
	return m
}

// miss also says how near the miss is.
func (r Reference) miss(c *pki.Certificate) (Miss, int) {
	add := fmt.Sprintf("Have %s added.", r)
	best, rank := Miss{Reason: "no entry is for this name", Remedy: add}, 0
	if len(c.AltNames) == 0 {
		best.Reason = "the certificate has no alternative names"
	}
	offer := func(worth int, m Miss) {
		if worth > rank {
			best, rank = m, worth
		}
	}
	if strings.EqualFold(strings.TrimSuffix(c.Subject.CommonName(), "."), r.String()) {
		offer(7, Miss{c.Subject.CommonName(), "only the common name has it, which clients ignore (RFC 9525, 2)", add})
	}
	for _, g := range c.AltNames {
		value := strings.ToLower(g.Value)
		entry := pki.Printable(g.Value)
		switch {
		case r.scheme != "":
			if strings.Contains(value, r.host) {
				offer(6, Miss{entry, fmt.Sprintf("%s clients look for a URI entry with that scheme and host", r.scheme),
					add})
			}
		case g.Kind == pki.NameDNS && r.address.IsValid():
			if a, err := netip.ParseAddr(Unbracket(value)); err == nil && a.Unmap() == r.address {
				offer(9, Miss{entry, "the address is in a DNS entry, where clients do not look for addresses",
					"Have it written as an IP entry."})
			}
		case g.Kind == pki.NameDNS:
			r.missedBy(value, entry, add, offer)
		case g.Kind == pki.NameURI || g.Kind == pki.NameOther:
			if r.host != "" && strings.Contains(value, r.host) {
				offer(6, Miss{entry, "it is a URI or SRV entry, which covers no plain host name", add})
			}
		}
	}
	return best, rank
}

// missedBy compares a host name with one DNS entry.
func (r Reference) missedBy(value, entry, add string, offer func(int, Miss)) {
	suffix, wild := strings.CutPrefix(value, "*.")
	switch _, reason := entryDefect(value); {
	case reason != "" && (strings.TrimSuffix(value, ".") == r.host || wild && strings.HasSuffix(r.host, "."+suffix) ||
		partial(value, r.host)):
		offer(8, Miss{entry, reason, add})
	case wild && r.host == suffix:
		offer(8, Miss{entry, "a wildcard does not cover the bare domain", "Have the bare domain " + suffix + " added."})
	case wild && strings.HasSuffix(r.host, "."+suffix):
		_, parent, _ := strings.Cut(r.host, ".")
		offer(8, Miss{entry, "a wildcard covers one label only", fmt.Sprintf("Have %s or *.%s added.", r.host, parent)})
	case value == "www."+r.host:
		offer(5, Miss{entry, "it has the www in front", add})
	case r.host == "www."+value:
		offer(5, Miss{entry, "it lacks the www in front", add})
	case distance(value, r.host) == 1:
		offer(4, Miss{entry, "one character is another", "Have the name corrected: " + r.host + "."})
	case sameParent(value, r.host):
		offer(1, Miss{entry, "it is for another host of the same domain", add})
	}
}

// partial reports whether an entry with a wildcard in the midst of a label or name was meant for the host.
func partial(entry, host string) bool {
	before, after, found := strings.Cut(entry, "*")
	return found && strings.HasPrefix(host, before) && strings.HasSuffix(host, after) && len(host) > len(before+after)
}

func sameParent(a, b string) bool {
	_, x, okA := strings.Cut(a, ".")
	_, y, okB := strings.Cut(b, ".")
	return okA && okB && x == y && strings.Contains(x, ".")
}

// distance is how many characters have to be exchanged, put in or left out, up to 2.
func distance(a, b string) int {
	if a == b {
		return 0
	}
	if len(a) > len(b) {
		a, b = b, a
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	if len(a) == len(b) && a[i+1:] == b[i+1:] || len(a)+1 == len(b) && a[i:] == b[i+1:] {
		return 1
	}
	return 2
}

// Propose is the smallest set of entries that covers all names: with wildcards where one takes the place of several
// names, or without any. Nothing is proposed that covers a name of somebody else's domain.
func Propose(names []Reference, wildcards bool) []string {
	parents := map[string][]string{}
	out := []string{}
	for _, r := range names {
		_, parent, found := strings.Cut(r.host, ".")
		apart := r.address.IsValid() || r.scheme != "" || strings.HasPrefix(r.host, "_") // has an entry of its own kind
		if apart || !wildcards || !found || !strings.Contains(parent, ".") || registrySuffix(parent) {
			out = append(out, r.String())
			continue
		}
		if !slices.Contains(parents[parent], r.host) {
			parents[parent] = append(parents[parent], r.host)
		}
	}
	for parent, hosts := range parents {
		if len(hosts) > 1 {
			hosts = []string{"*." + parent}
		}
		out = append(out, hosts...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
