package judge

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/ciphers"
	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// versionsNamed are the versions by the names that facts have for them.
var versionsNamed = func() map[string]tlswire.Version {
	out := map[string]tlswire.Version{}
	for _, v := range tlswire.Versions {
		out[v.String()] = v
	}
	return out
}()

// expansion is what a site accepts by its lists.
type expansion struct {
	accepted      []ciphers.Accepted // versions with their suites in order, newest first
	groups        []tlswire.Group
	refused       []string // versions that it is told to speak and the library does not
	unknown       []string // words of its lists that the library does not know
	unknownGroups []string // the same of its groups
	listError     error    // why the library refuses the list whole
	serverOrder   bool     // the list itself asks for the server's order
}

// expand expands the lists of a site. A group list that says nothing but "auto" leaves it to the library.
func expand(s *facts.Site, l facts.Library, server ciphers.Server) (x expansion) {
	list := s.Suites.Value
	switch l.Name {
	case "GnuTLS":
		g := ciphers.GnuTLS{System: l.System}
		if s.Suites.Default && l.List != "" {
			list = l.List
		}
		a, err := g.Priorities(list)
		x.listError, x.accepted, x.groups = err, g.Accepts(a, server), a.Groups
		x.serverOrder = a.ServerOrder
		return x
	case "Java":
		return expandJava(l, list, server)
	}
	o := opensslOf(l)
	if s.Suites.Default && list == "DEFAULT" && l.List != "" {
		list = l.List
	}
	a, err := o.List(list)
	x.listError, x.unknown = err, a.Unknown
	if s.Suites13.Given() {
		named := o.Suites13(s.Suites13.Value)
		if s.Suites13.Directive == s.Suites.Directive { // one list for both
			apart := func(word string) bool { return slices.Contains(strings.Split(s.Suites13.Value, ":"), word) }
			x.unknown = slices.DeleteFunc(slices.Clone(x.unknown), apart)
			if errors.Is(err, ciphers.ErrNoCipher) && len(x.unknown) == 0 {
				x.listError = nil // it has those of TLS 1.3 alone
			}
		}
		a.Suites13, x.unknown = named.Suites13, append(x.unknown, named.Unknown...)
	}
	var refused []tlswire.Version
	x.accepted, refused = o.Accepts(a, server)
	for _, v := range refused {
		x.refused = append(x.refused, v.String())
	}
	x.groups = o.DefaultGroups()
	if list := s.Groups.Value; list != "" && list != "auto" && list != "none" {
		x.groups, x.unknownGroups = o.Groups(list)
	}
	return x
}

// opensslOf is the library as facts tell of it.
func opensslOf(l facts.Library) ciphers.OpenSSL {
	o := ciphers.Debian
	major, rest, _ := strings.Cut(l.Version, ".")
	minor, _, _ := strings.Cut(rest, ".")
	if n, err := strconv.Atoi(major); err == nil {
		o.Major = n
	}
	if n, err := strconv.Atoi(minor); err == nil {
		o.Minor = n
	}
	o.Weak = l.Weak
	o.Level = l.Level
	return o
}

// expandJava takes lists of either kind: names with commas, or an OpenSSL list, which the server turns into names.
func expandJava(l facts.Library, list string, server ciphers.Server) (x expansion) {
	j := ciphers.Java{Disabled: l.Disabled}
	j.Major, _ = strconv.Atoi(l.Version)
	var names []string
	for _, v := range server.Versions {
		names = append(names, map[tlswire.Version]string{tlswire.SSL30: "SSLv3", tlswire.TLS10: "TLSv1",
			tlswire.TLS11: "TLSv1.1", tlswire.TLS12: "TLSv1.2", tlswire.TLS13: "TLSv1.3"}[v])
	}
	versions, _ := j.Versions(names)
	for _, v := range server.Versions {
		if !slices.Contains(versions, v) {
			x.refused = append(x.refused, v.String())
		}
	}
	server.Versions, server.DHE = versions, true
	var a ciphers.Allowed
	if strings.Contains(list, "TLS_") || strings.Contains(list, "SSL_") {
		a = j.List(strings.FieldsFunc(list, func(c rune) bool { return c == ',' || c == ' ' || c == ':' }))
		x.unknown = a.Unknown
	} else {
		expanded, err := ciphers.OpenSSL{Major: 3, Weak: true}.List(list)
		x.listError, x.unknown = err, expanded.Unknown
		all := []string{}
		for _, suite := range append(append([]tlswire.Suite{}, ciphers.Default13...), expanded.Suites...) {
			all = append(all, suite.String())
		}
		a = j.List(all)
	}
	x.accepted = j.Accepts(a, server)
	return x
}
