package serverconf

import (
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/spelling"
)

// words are the words of a list.
func words(list string) []string { return strings.Fields(list) }

// unknown notes a directive about TLS that the server does not know.
func (r *reading) unknown(d *Directive, known []string) {
	if near := spelling.Nearest(d.Name, known); near != "" {
		r.trouble(facts.NotUnderstood, d.Line, facts.ConfMisspelt, d.Name, near)
		return
	}
	r.trouble(facts.NotUnderstood, d.Line, facts.ConfUnknown, d.Name, r.c.Server)
}

// versions reads a list of versions by their names in this server.
func (r *reading) versions(s facts.Setting, names map[string]string) []string {
	var out []string
	for word := range strings.FieldsFuncSeq(s.Value, func(c rune) bool {
		return c == ' ' || c == ',' || c == ':' ||
			c == '\t'
	}) {
		version, known := names[word]
		switch {
		case !known:
			r.trouble(facts.NotUnderstood, s.Line, facts.ConfBadValue, s.Directive, word)
		case !slices.Contains(out, version):
			out = append(out, version)
		}
	}
	slices.Sort(out)
	return out
}

// allVersions are the names of versions, rising.
var allVersions = []string{"SSL 2.0", "SSL 3.0", "TLS 1.0", "TLS 1.1", "TLS 1.2", "TLS 1.3"}

// between are the versions from the lowest to the highest, "" for no bound.
func between(lowest, highest string) []string {
	var out []string
	for _, v := range allVersions[1:] {
		if v >= lowest && (highest == "" || v <= highest) {
			out = append(out, v)
		}
	}
	return out
}

// opensslVersions are the names of versions in OpenSSL's own commands.
var opensslVersions = map[string]string{"SSLv3": "SSL 3.0", "TLSv1": "TLS 1.0", "TLSv1.0": "TLS 1.0",
	"TLSv1.1": "TLS 1.1",
	"TLSv1.2": "TLS 1.2", "TLSv1.3": "TLS 1.3"}

// command applies a command of OpenSSL's configuration (SSL_CONF_cmd(3)) to a site.
func (r *reading) command(s *facts.Site, x facts.Setting, command string) {
	switch strings.ToLower(command) {
	case "minprotocol":
		s.Versions = slices.DeleteFunc(slices.Clone(s.Versions),
			func(v string) bool { return v < opensslVersions[x.Value] })
		s.VersionsBy = append(s.VersionsBy, x)
	case "maxprotocol":
		s.Versions = slices.DeleteFunc(slices.Clone(s.Versions),
			func(v string) bool { return v > opensslVersions[x.Value] })
		s.VersionsBy = append(s.VersionsBy, x)
	case "protocol":
		r.protocolCommand(s, x)
	case "cipherstring":
		s.Suites = x
	case "ciphersuites":
		s.Suites13 = x
	case "groups", "curves":
		s.Groups = x
	case "dhparameters":
		s.FiniteField = x
	case "options":
		for option := range strings.SplitSeq(x.Value, ",") {
			switch strings.ToLower(strings.TrimSpace(option)) {
			case "serverpreference":
				s.Order, s.OrderBy = facts.ServerOrder, x
			case "-serverpreference":
				s.Order, s.OrderBy = facts.ClientOrder, x
			}
		}
	case "sessionticket", "signaturealgorithms", "clientsignaturealgorithms", "recordpadding", "numtickets",
		"signaturalgorithms",
		"clientcafile", "chaincafile", "verifymode", "noresumptiononrenegotiation":
	default:
		r.trouble(facts.NotUnderstood, x.Line, facts.ConfUnknown, command, "OpenSSL")
	}
}

// protocolCommand is the older way to choose versions: ALL,-TLSv1.
func (r *reading) protocolCommand(s *facts.Site, x facts.Setting) {
	var on []string
	for i, word := range strings.FieldsFunc(x.Value, func(c rune) bool { return c == ',' || c == ' ' }) {
		name := strings.TrimLeft(word, "+-")
		version := opensslVersions[name]
		switch {
		case strings.EqualFold(name, "ALL"):
			on = slices.Clone(allVersions[1:])
			if word[0] == '-' {
				on = nil
			}
		case version == "":
			r.trouble(facts.NotUnderstood, x.Line, facts.ConfBadValue, x.Directive, word)
		case word[0] == '-':
			if i == 0 {
				on = slices.Clone(s.Versions)
			}
			on = slices.DeleteFunc(on, func(v string) bool { return v == version })
		default:
			on = append(on, version)
		}
	}
	slices.Sort(on)
	s.Versions, s.VersionsBy = slices.Compact(on), append(s.VersionsBy, x)
}

// markDefaults finds the site that clients without a known name are served: at each address and port the one that is
// said to be, else the first.
func markDefaults(sites []facts.Site) {
	type place struct {
		address string
		port    uint16
	}
	said, first := map[place]*facts.Listen{}, map[place]*facts.Listen{}
	for i := range sites {
		for j := range sites[i].Listens {
			l := &sites[i].Listens[j]
			at := place{l.Address, l.Port}
			if first[at] == nil {
				first[at] = l
			}
			if l.DefaultSite && said[at] == nil {
				said[at] = l
			}
		}
	}
	for at, l := range first {
		if said[at] == nil {
			l.DefaultSite = true
		}
	}
}

// blockNames are the names of what opens blocks in braces, at the beginning of lines.
func blockNames(text string) map[string]bool {
	out := map[string]bool{}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		name, _, _ := strings.Cut(line, " ")
		if strings.HasSuffix(line, "{") {
			out[strings.TrimSuffix(name, "{")] = true
		} else if i := strings.IndexByte(line, '{'); i > 0 && !strings.HasPrefix(line, "#") {
			out[strings.TrimSpace(strings.TrimSuffix(line[:i], "{"))] = true
		}
	}
	return out
}
