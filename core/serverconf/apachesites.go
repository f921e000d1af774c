package serverconf

import (
	"strings"

	"nurvik/core/facts"
)

// apacheLevel are the statements of one level that are about TLS, by their names in lower case, the latest last.
type apacheLevel map[string][]*Directive

// sites makes places of the statements.
func (a *apacheReader) sites(top []*Directive) {
	level := a.level(top, nil)
	var listens []facts.Listen
	for _, d := range top {
		if !strings.EqualFold(d.Name, "Listen") {
			continue
		}
		host, port, ok := hostPort(d.Arg(0), 0)
		if !ok || port == 0 {
			a.broken(d.Line, facts.ConfBadValue, "Listen", d.Arg(0))
			continue
		}
		listens = append(listens, facts.Listen{Setting: d.setting(d.Text), Address: host, Port: port, Scheme: "http"})
	}
	main := facts.Site{Line: facts.Line{File: a.c.Path}}
	a.site(&main, top, level)
	if main.TLS() || len(main.Identities) > 0 && !main.Off {
		main.Listens = listens
		for i := range main.Listens {
			main.Listens[i].Scheme = "https"
		}
		a.c.Sites = append(a.c.Sites, main)
	}
	for _, d := range top {
		if strings.EqualFold(d.Name, "VirtualHost") && d.Opens {
			a.host(d, level, listens)
		}
	}
	markDefaults(a.c.Sites)
}

// host reads one virtual host. It listens where its address is one that the server listens at.
func (a *apacheReader) host(d *Directive, above apacheLevel, listens []facts.Listen) {
	s := facts.Site{Line: d.Line, Last: d.Last}
	for _, x := range d.Block {
		switch strings.ToLower(x.Name) {
		case "servername":
			name := x.Arg(0)
			if _, rest, has := strings.Cut(name, "://"); has {
				name = rest
			}
			name, _, _ = strings.Cut(name, ":")
			s.Names = append(s.Names, x.setting(name))
		case "serveralias":
			for _, name := range x.Args {
				s.Names = append(s.Names, x.setting(name))
			}
		}
	}
	a.site(&s, d.Block, a.level(d.Block, above))
	for _, text := range d.Args {
		host, port, ok := hostPort(text, 0)
		if !ok {
			a.trouble(facts.NotUnderstood, d.Line, facts.ConfBadValue, "<VirtualHost>", text)
			continue
		}
		for _, l := range listens {
			if port != 0 && port != l.Port || host != "" && l.Address != "" && host != l.Address {
				continue
			}
			at := facts.Listen{Setting: d.setting(text), Address: l.Address, Port: l.Port, Scheme: "http"}
			if host != "" {
				at.Address = host
			}
			if !s.Off {
				at.Scheme = "https"
			}
			s.Listens = append(s.Listens, at)
		}
		if len(listens) == 0 && port != 0 { // a fragment: where the server listens stands elsewhere
			at := facts.Listen{Setting: d.setting(text), Address: host, Port: port, Scheme: "http"}
			if !s.Off {
				at.Scheme = "https"
			}
			s.Listens = append(s.Listens, at)
		}
	}
	a.c.Sites = append(a.c.Sites, s)
}

// level collects the statements of a level.
func (a *apacheReader) level(block []*Directive, above apacheLevel) apacheLevel {
	own := apacheLevel{}
	for _, d := range block {
		name := strings.ToLower(d.Name)
		if !strings.HasPrefix(name, "ssl") {
			continue
		}
		if !knownApache[name] && !strings.HasPrefix(name, "sslproxy") {
			a.unknown(d, apacheSSL)
			continue
		}
		own[name] = append(own[name], d)
	}
	for name, list := range above {
		if own[name] == nil {
			own[name] = list
		}
	}
	return own
}

var knownApache = func() map[string]bool {
	out := map[string]bool{}
	for _, name := range apacheSSL {
		out[strings.ToLower(name)] = true
	}
	return out
}()

// one is the statement that holds, or the default.
func (l apacheLevel) one(name, otherwise string) facts.Setting {
	list := l[strings.ToLower(name)]
	if len(list) > 0 {
		d := list[len(list)-1]
		return d.setting(strings.Join(d.Args, " "))
	}
	if otherwise == "" {
		return facts.Setting{}
	}
	return facts.Setting{Directive: name, Value: otherwise, Default: true}
}

// site reads the settings of one place.
func (a *apacheReader) site(s *facts.Site, block []*Directive, l apacheLevel) {
	engine := strings.ToLower(l.one("SSLEngine", "off").Value)
	s.Off = engine != "on" && engine != "optional"
	a.web(s, block)
	if s.Off {
		return
	}
	keys := l["sslcertificatekeyfile"]
	chain := l.one("SSLCertificateChainFile", "")
	if chain.Given() {
		chain = a.names(facts.RoleChain, chain, a.root)
		if atLeast(a.c.Release, 2, 4, 8) {
			s.Obsolete = append(s.Obsolete, chain)
		}
	}
	for i, d := range l["sslcertificatefile"] {
		id := facts.Identity{Certificate: a.names(facts.RoleCertificate, d.setting(d.Arg(0)), a.root), Chain: chain}
		if i < len(keys) {
			id.Key = a.names(facts.RoleKey, keys[i].setting(keys[i].Arg(0)), a.root)
		}
		s.Identities = append(s.Identities, id)
	}
	if len(s.Identities) == 0 {
		at := s.Line
		if e := l.one("SSLEngine", ""); e.Given() {
			at = e.Line
		}
		a.broken(at, facts.ConfMissingPart, "SSLEngine", "SSLCertificateFile")
	}
	for _, name := range []string{"SSLCACertificateFile", "SSLCACertificatePath"} {
		if x := l.one(name, ""); x.Given() {
			s.Authorities = append(s.Authorities, a.names(facts.RoleAuthorities, x, a.root))
		}
	}
	protocols := l.one("SSLProtocol", "all -SSLv3")
	s.VersionsBy, s.Versions = []facts.Setting{protocols}, a.protocols(protocols)
	s.Suites = facts.Setting{Directive: "SSLCipherSuite", Value: "DEFAULT", Default: true}
	for _, d := range l["sslciphersuite"] {
		switch {
		case len(d.Args) == 2 && d.Arg(0) == "TLSv1.3":
			s.Suites13 = d.setting(d.Arg(1))
		case len(d.Args) == 2:
			s.Suites = d.setting(d.Arg(1))
		default:
			s.Suites = d.setting(d.Arg(0))
		}
	}
	s.Suites.Value += ":!aNULL:!eNULL:!EXP" // which the server always adds
	s.OrderBy, s.Order = l.one("SSLHonorCipherOrder", "off"), facts.ClientOrder
	if yes(s.OrderBy.Value) {
		s.Order = facts.ServerOrder
	}
	s.Clients, s.Stapling = l.one("SSLVerifyClient", "none"), l.one("SSLUseStapling", "off")
	for _, d := range l["sslopensslconfcmd"] {
		a.command(s, d.setting(d.Arg(1)), d.Arg(0))
	}
}

// protocols reads SSLProtocol: words that add and take away, from the left to the right.
func (a *apacheReader) protocols(x facts.Setting) []string {
	on := map[string]bool{}
	for word := range strings.FieldsSeq(x.Value) {
		name := strings.TrimLeft(word, "+-")
		var which []string
		switch version, known := opensslVersions[name]; {
		case strings.EqualFold(name, "all"):
			which = allVersions[2:] // Debian's library has no SSL 3.0
		case known:
			which = []string{version}
		case strings.EqualFold(name, "SSLv2"):
		default:
			a.broken(x.Line, facts.ConfBadValue, x.Directive, word)
		}
		if word[0] != '-' && word[0] != '+' {
			on = map[string]bool{}
		}
		for _, v := range which {
			on[v] = word[0] != '-'
		}
	}
	var out []string
	for _, v := range allVersions {
		if on[v] {
			out = append(out, v)
		}
	}
	return out
}

// web reads what a web server says beside TLS.
func (a *apacheReader) web(s *facts.Site, block []*Directive) {
	for _, d := range block {
		switch strings.ToLower(d.Name) {
		case "header":
			args := d.Args
			if len(args) > 0 && (args[0] == "always" || args[0] == "onsuccess") {
				args = args[1:]
			}
			if len(args) > 2 && strings.EqualFold(args[1], "Strict-Transport-Security") {
				s.Transport = d.setting(args[2])
			}
		case "redirect", "redirectpermanent", "redirectmatch", "rewriterule":
			for _, arg := range d.Args {
				if strings.HasPrefix(arg, "https://") {
					s.Redirect = d.setting(arg)
				}
			}
		case "documentroot":
			s.Root = d.setting(a.absolute(d.Arg(0), a.root))
		case "location", "if", "directory", "ifmodule":
			a.web(s, d.Block)
		}
	}
}
