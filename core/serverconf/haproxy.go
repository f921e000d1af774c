package serverconf

import (
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"nurvik/core/facts"
)

var haproxy = Server{Name: "HAProxy", Form: "%s %s", Serves: []string{"https"}, Shape: Combined,
	Reload: "systemctl reload haproxy", Check: "haproxy -c -f /etc/haproxy/haproxy.cfg",
	Files: []FileDirective{{Part: PartCombined, Name: "bind :443 ssl crt"}},
	Main:  []string{"/etc/haproxy/haproxy.cfg"}, Packages: []string{"haproxy"},
	Apart: true, Recognise: recogniseHAProxy, read: readHAProxy,
	Keep: keepHAProxy,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "ssl-default-bind-options",
			Value: v.pick("ssl-min-ver TLSv1.2", "ssl-min-ver TLSv1.2 ssl-max-ver TLSv1.2",
				"ssl-min-ver TLSv1.3")}, true
	}}

var (
	haproxySection = regexp.MustCompile(`(?m)^(frontend|listen|backend)\s+\S+\s*(#.*)?$|^(global|defaults)\s*(#.*)?$`)
	haproxyBind    = regexp.MustCompile(`(?m)^\s+(bind|server|mode|stats)\s`)
)

func recogniseHAProxy(_, text string) Likeness {
	if haproxySection.MatchString(text) && haproxyBind.MatchString(text) {
		return IsMain
	}
	return IsOther
}

// keepHAProxy keeps the options that do not choose versions.
func keepHAProxy(old, value string) string {
	var kept []string
	list := strings.Fields(old)
	for i := 0; i < len(list); i++ {
		switch word := list[i]; {
		case word == "ssl-min-ver", word == "ssl-max-ver":
			i++
		case strings.HasPrefix(word, "force-"), strings.HasPrefix(word, "no-tlsv"), word == "no-sslv3":
		default:
			kept = append(kept, word)
		}
	}
	return strings.Join(append(strings.Fields(value), kept...), " ")
}

// haproxySections are the words that begin a section.
var haproxySections = words(`global defaults frontend listen backend peers resolvers userlist mailers cache program ring
	http-errors fcgi-app crt-store log-forward log-profile traces acme`)

// haproxyReader reads one configuration.
type haproxyReader struct {
	*reading
	crtBase, caBase string
	global          map[string]facts.Setting
}

func readHAProxy(r *reading, path string) {
	h := &haproxyReader{reading: r, global: map[string]facts.Setting{}}
	r.within(path, facts.Line{File: path}, func(text string) {
		var section *Directive
		var all []*Directive
		for _, l := range logicalLines(text, byBackslash, "#") {
			at := facts.Line{File: path, Line: l.first}
			if !r.one(at) {
				return
			}
			args, ok := fields(cutComment(l.text))
			if !ok {
				r.broken(at, facts.ConfSyntax, "a quote is not closed")
			}
			if len(args) == 0 {
				continue
			}
			d := &Directive{Name: args[0], Args: args[1:], Text: strings.TrimSpace(l.text), Line: at, Last: l.last}
			switch {
			case slices.Contains(haproxySections, d.Name):
				section = d
				all = append(all, d)
			case section == nil:
				r.broken(at, facts.ConfSyntax, "the line stands before the first section")
			default:
				section.Block = append(section.Block, d)
				section.Last = l.last
			}
		}
		h.sections(all)
	})
}

// cutComment cuts a comment off, which begins at a # outside of quotes.
func cutComment(line string) string {
	quote := rune(0)
	for i, c := range line {
		switch {
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote == 0 && c == '#' && (i == 0 || line[i-1] == ' ' || line[i-1] == '\t'):
			return line[:i]
		}
	}
	return line
}

func (h *haproxyReader) sections(all []*Directive) {
	mode := "tcp"
	for _, s := range all {
		switch s.Name {
		case "global":
			for _, d := range s.Block {
				h.global[d.Name] = d.setting(strings.Join(d.Args, " "))
				switch d.Name {
				case "crt-base":
					h.crtBase = h.m.At(d.Arg(0))
				case "ca-base":
					h.caBase = h.m.At(d.Arg(0))
				case "user":
					h.user = "root" // certificates are read before the rights are given up
				}
			}
		case "defaults":
			for _, d := range s.Block {
				if d.Name == "mode" {
					mode = d.Arg(0)
				}
			}
		case "frontend", "listen":
			h.frontend(s, mode)
		}
	}
	markDefaults(h.c.Sites)
}

// frontend reads a section with its binds; each bind is a place of its own.
func (h *haproxyReader) frontend(section *Directive, mode string) {
	var transport, redirect facts.Setting
	for _, d := range section.Block {
		switch {
		case d.Name == "mode":
			mode = d.Arg(0)
		case strings.Contains(d.Text, "Strict-Transport-Security"):
			_, value, _ := strings.Cut(d.Text, "Strict-Transport-Security")
			transport = d.setting(strings.Trim(strings.TrimSpace(value), `"`))
		case d.Name == "redirect" || d.Name == "http-request" && d.Arg(0) == "redirect":
			if strings.Contains(d.Text, "scheme https") || strings.Contains(d.Text, "https://") {
				redirect = d.setting(d.Text)
			}
		}
	}
	scheme := "tls"
	if mode == "http" {
		scheme = "https"
	}
	for _, d := range section.Block {
		if d.Name != "bind" {
			continue
		}
		s := facts.Site{Line: section.Line, Last: section.Last, Transport: transport}
		protected := slices.Contains(d.Args, "ssl")
		if protected {
			h.bind(&s, d)
		} else {
			s.Redirect = redirect
		}
		for address := range strings.SplitSeq(d.Arg(0), ",") {
			h.listen(&s, d, address, scheme, protected)
		}
		if len(s.Listens) > 0 {
			h.c.Sites = append(h.c.Sites, s)
		}
	}
}

func (h *haproxyReader) listen(s *facts.Site, d *Directive, address, scheme string, protected bool) {
	l := facts.Listen{Setting: d.setting(address), Scheme: "http"}
	if protected {
		l.Scheme = scheme
	}
	for _, prefix := range []string{"ipv4@", "ipv6@", "tcp@", "tcp4@", "tcp6@"} {
		address = strings.TrimPrefix(address, prefix)
	}
	if strings.HasPrefix(address, "quic") {
		return
	}
	if strings.HasPrefix(address, "/") || strings.Contains(address, "@") {
		l.Socket = true
		s.Listens = append(s.Listens, l)
		return
	}
	host, port, ok := hostPort(strings.TrimPrefix(address, "*"), 0)
	if strings.HasPrefix(address, ":") {
		host, port, ok = hostPort("*"+address, 0)
	}
	if !ok || port == 0 {
		h.trouble(facts.NotUnderstood, d.Line, facts.ConfBadValue, "bind", address)
		return
	}
	l.Address, l.Port = host, port
	s.Listens = append(s.Listens, l)
}

// bind reads the words of a bind line with ssl.
func (h *haproxyReader) bind(s *facts.Site, d *Directive) {
	global := func(name, otherwise string) facts.Setting {
		if x, set := h.global[name]; set {
			return x
		}
		return facts.Setting{Directive: name, Value: otherwise, Default: true}
	}
	lowest, highest := "TLSv1.2", ""
	options := global("ssl-default-bind-options", "")
	s.Suites, s.Suites13 = global("ssl-default-bind-ciphers", "DEFAULT"), facts.Setting{}
	if x, set := h.global["ssl-default-bind-ciphersuites"]; set {
		s.Suites13 = x
	}
	s.Groups = global("ssl-default-bind-curves", "")
	if s.Groups.Value == "" {
		s.Groups = facts.Setting{Directive: "ssl-default-bind-curves", Value: "auto", Default: true}
	}
	s.Order, s.OrderBy = facts.ServerOrder, options
	off := map[string]bool{}
	s.VersionsBy = []facts.Setting{options}
	own := false // the line has options of its own
	apply := func(list []string, by facts.Setting) {
		for i, word := range list {
			next := ""
			if i+1 < len(list) {
				next = list[i+1]
			}
			switch word {
			case "ssl-min-ver":
				lowest, own = next, own || !by.Default && by.Directive == "bind"
			case "ssl-max-ver":
				highest, own = next, own || by.Directive == "bind"
			case "no-sslv3", "no-tlsv10", "no-tlsv11", "no-tlsv12", "no-tlsv13":
				off[map[string]string{"no-sslv3": "SSL 3.0", "no-tlsv10": "TLS 1.0", "no-tlsv11": "TLS 1.1",
					"no-tlsv12": "TLS 1.2", "no-tlsv13": "TLS 1.3"}[word]] = true
			case "force-tlsv10", "force-tlsv11", "force-tlsv12", "force-tlsv13", "force-sslv3":
				v := map[string]string{"force-sslv3": "SSLv3", "force-tlsv10": "TLSv1.0", "force-tlsv11": "TLSv1.1",
					"force-tlsv12": "TLSv1.2", "force-tlsv13": "TLSv1.3"}[word]
				lowest, highest, own = v, v, own || by.Directive == "bind"
			case "prefer-client-ciphers":
				s.Order = facts.ClientOrder
			}
		}
	}
	apply(strings.Fields(options.Value), options)
	line := d.setting(versionWords(d.Args))
	for i, word := range d.Args {
		next := d.Arg(i + 1)
		switch word {
		case "crt":
			h.certificate(s, d, next)
		case "crt-list":
			h.crtList(s, d, h.absolute(next, filepath.Dir(h.c.Path)))
		case "ca-file":
			base := h.caBase
			if base == "" {
				base = filepath.Dir(h.c.Path)
			}
			s.Authorities = append(s.Authorities, h.names(facts.RoleAuthorities, d.setting(next), base))
		case "verify":
			s.Clients = d.setting(next)
		case "ciphers":
			s.Suites = d.setting(next)
		case "ciphersuites":
			s.Suites13 = d.setting(next)
		case "curves", "ecdhe":
			s.Groups = d.setting(next)
		}
	}
	apply(d.Args, line)
	if own {
		s.VersionsBy = []facts.Setting{line}
	}
	for _, v := range between(opensslVersions[lowest], opensslVersions[highest]) {
		if !off[v] {
			s.Versions = append(s.Versions, v)
		}
	}
	s.NoDHE = atLeast(h.c.Release, 2, 6)
	for _, name := range []string{"ssl-dh-param-file", "tune.ssl.default-dh-param"} {
		if x, set := h.global[name]; set {
			s.FiniteField, s.NoDHE = x, false
		}
	}
	if len(s.Identities) == 0 && !strings.Contains(d.Text, "crt") {
		h.broken(d.Line, facts.ConfMissingPart, "bind with ssl", "crt")
	}
}

// versionWords are the words of a bind line that choose versions.
func versionWords(list []string) string {
	var out []string
	for i, word := range list {
		switch {
		case (word == "ssl-min-ver" || word == "ssl-max-ver") && i+1 < len(list):
			out = append(out, word, list[i+1])
		case strings.HasPrefix(word, "force-"), strings.HasPrefix(word, "no-tlsv"), word == "no-sslv3":
			out = append(out, word)
		}
	}
	return strings.Join(out, " ")
}

// certificate notes a file of key and certificates, or each of a directory.
func (h *haproxyReader) certificate(s *facts.Site, d *Directive, path string) {
	base := h.crtBase
	if base == "" {
		base = filepath.Dir(h.c.Path)
	}
	path = h.absolute(path, base)
	if strings.Contains(path, "${") {
		h.trouble(facts.NotUnderstood, d.Line, facts.ConfNotComputed, "crt", path)
		return
	}
	files, full := h.m.names(path)
	if full {
		h.limit(d.Line, facts.ConfTooManyFiles, maxFiles)
	}
	if len(files) == 0 {
		files = []string{""}
	}
	for _, file := range files {
		switch filepath.Ext(file) {
		case ".key", ".ocsp", ".sctl", ".issuer", ".dh":
			continue
		}
		x := d.setting(filepath.Join(path, file))
		id := facts.Identity{Certificate: h.names(facts.RoleCertificate, x, "/")}
		if beside, _ := h.m.list(id.Certificate.Value + ".key"); len(beside) > 0 {
			id.Key = h.names(facts.RoleKey, d.setting(beside[0]), "/")
		}
		s.Identities = append(s.Identities, id)
	}
}

// crtList reads a list of certificates with the names that each is for.
func (h *haproxyReader) crtList(s *facts.Site, d *Directive, path string) {
	h.within(path, d.Line, func(text string) {
		for _, l := range logicalLines(text, never, "#") {
			file, _, _ := strings.Cut(strings.TrimSpace(l.text), " ")
			x := &Directive{Name: "crt-list", Line: facts.Line{File: path, Line: l.first}}
			h.certificate(s, x, file)
		}
	})
}
