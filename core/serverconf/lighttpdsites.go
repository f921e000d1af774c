package serverconf

import (
	"path/filepath"
	"slices"
	"strings"

	"nurvik/core/facts"
)

// lighttpdSSL are the settings about TLS.
var lighttpdSSL = words(`ssl.engine ssl.pemfile ssl.privkey ssl.ca-file ssl.ca-dn-file ssl.ca-crl-file ssl.cipher-list
	ssl.honor-cipher-order ssl.openssl.ssl-conf-cmd ssl.dh-file ssl.ec-curve ssl.use-sslv2 ssl.use-sslv3 ssl.read-ahead
	ssl.disable-client-renegotiation ssl.verifyclient.activate ssl.verifyclient.enforce ssl.verifyclient.depth
	ssl.verifyclient.exportcert ssl.verifyclient.username ssl.verifyclient.ca-file ssl.verifyclient.ca-dn-file
	ssl.verifyclient.ca-crl-file ssl.acme-tls-1 ssl.stapling-file ssl.stek-file ssl.empty-fragments ssl.unclean-shutdown
	ssl.ech-opts ssl.non-ech-host ssl.debug`)

func isLighttpdSSL(name string) bool { return slices.Contains(lighttpdSSL, name) }

// sites makes places of the blocks: the server itself, each socket, and each host in them with a certificate of its
// own.
func (l *lighttpdReader) sites() {
	port := "80"
	if x, set := l.top.settings["server.port"]; set {
		port = x.text
	}
	at := facts.Setting{Directive: "server.port", Value: port, Line: facts.Line{File: l.main}, Default: true}
	if x, set := l.top.settings["server.port"]; set {
		at = x.setting(x.text)
	}
	host := ""
	if x, set := l.top.settings["server.bind"]; set {
		host = x.text + ":"
	}
	l.place(l.top, nil, host+port, at)
	for _, b := range l.top.blocks {
		if b.field == "SERVERsocket" && b.operator == "==" {
			l.place(b, []*lighttpdBlock{l.top}, b.wanted, facts.Setting{Directive: `$SERVER["socket"]`, Value: b.wanted, Line: b.Line})
		}
	}
	markDefaults(l.c.Sites)
}

// place makes a site of a socket, and of the hosts in it.
func (l *lighttpdReader) place(b *lighttpdBlock, above []*lighttpdBlock, address string, by facts.Setting) {
	levels := append([]*lighttpdBlock{b}, above...)
	engine, _ := find(levels, "ssl.engine")
	s := facts.Site{Line: b.Line, Last: b.last, Off: !yes(engine.text)}
	host, port, ok := hostPort(strings.TrimPrefix(address, "*"), 0)
	if strings.HasPrefix(address, ":") {
		host, port, ok = hostPort("*"+address, 0)
	}
	if !ok || port == 0 {
		if !strings.HasPrefix(address, "/") {
			l.trouble(facts.NotUnderstood, b.Line, facts.ConfBadValue, by.Directive, address)
		}
		return
	}
	listen := facts.Listen{Setting: by, Address: host, Port: port, Scheme: "https"}
	if s.Off {
		listen.Scheme = "http"
	}
	s.Listens = []facts.Listen{listen}
	l.fill(&s, levels)
	l.c.Sites = append(l.c.Sites, s)
	hosts := b.blocks
	if len(above) > 0 {
		hosts = slices.Concat(b.blocks, l.top.blocks)
	}
	for _, h := range hosts {
		if h.field != "HTTPhost" {
			continue
		}
		if _, own := h.settings["ssl.pemfile"]; !own || s.Off {
			continue
		}
		x := facts.Site{Line: h.Line, Last: h.last, Listens: slices.Clone(s.Listens)}
		if h.operator == "==" {
			x.Names = []facts.Setting{{Directive: `$HTTP["host"]`, Value: h.wanted, Line: h.Line}}
		} else {
			l.trouble(facts.PassedOver, h.Line, facts.ConfNotComputed, `$HTTP["host"]`, "a pattern")
		}
		l.fill(&x, append([]*lighttpdBlock{h}, levels...))
		l.c.Sites = append(l.c.Sites, x)
	}
}

// find is the setting of the innermost block that has it.
func find(levels []*lighttpdBlock, name string) (lighttpdSet, bool) {
	for _, b := range levels {
		if x, set := b.settings[name]; set {
			return x, true
		}
	}
	return lighttpdSet{}, false
}

func (l *lighttpdReader) fill(s *facts.Site, levels []*lighttpdBlock) {
	one := func(name, otherwise string) facts.Setting {
		if x, set := find(levels, name); set {
			return x.setting(strings.Join(x.texts(), ":"))
		}
		return facts.Setting{Directive: name, Value: otherwise, Default: true}
	}
	for _, name := range []string{"setenv.add-response-header", "setenv.set-response-header"} {
		if x, set := find(levels, name); set {
			for i, key := range x.keys {
				if strings.EqualFold(key, "Strict-Transport-Security") {
					s.Transport = x.setting(x.items[i].text)
				}
			}
		}
	}
	if x, set := find(levels, "url.redirect"); set {
		for _, item := range x.items {
			if strings.HasPrefix(item.text, "https://") {
				s.Redirect = x.setting(item.text)
			}
		}
	}
	directory := filepath.Dir(l.main)
	if x, set := find(levels, "server.document-root"); set {
		s.Root = x.setting(l.absolute(x.text, directory))
	}
	if s.Off {
		return
	}
	c := one("ssl.pemfile", "")
	if c.Default {
		l.broken(s.Line, facts.ConfMissingPart, "ssl.engine", "ssl.pemfile")
	} else {
		id := facts.Identity{Certificate: l.names(facts.RoleCertificate, c, directory)}
		if k := one("ssl.privkey", ""); !k.Default {
			id.Key = l.names(facts.RoleKey, k, directory)
		}
		if x := one("ssl.ca-file", ""); !x.Default {
			id.Chain = l.names(facts.RoleChain, x, directory)
		}
		s.Identities = []facts.Identity{id}
	}
	if x := one("ssl.verifyclient.ca-file", ""); !x.Default {
		s.Authorities = append(s.Authorities, l.names(facts.RoleAuthorities, x, directory))
	}
	s.Clients = one("ssl.verifyclient.activate", "disable")
	for _, name := range []string{"ssl.use-sslv2", "ssl.use-sslv3"} {
		if x := one(name, ""); !x.Default && atLeast(l.c.Release, 1, 4, 68) {
			s.Obsolete = append(s.Obsolete, x)
		}
	}
	s.VersionsBy = []facts.Setting{{Directive: "ssl.openssl.ssl-conf-cmd", Value: "MinProtocol TLSv1.2", Default: true}}
	s.Versions = between("TLS 1.2", "")
	if !atLeast(l.c.Release, 1, 4, 56) {
		s.Versions = between("TLS 1.0", "")
	}
	usual, honour := "EECDH+AESGCM:AES256+EECDH:CHACHA20:!SHA1:!SHA256:!SHA384", "disable"
	if !atLeast(l.c.Release, 1, 4, 68) {
		usual, honour = "HIGH", "enable"
	}
	s.Suites, s.Groups = one("ssl.cipher-list", usual), one("ssl.ec-curve", "auto")
	s.OrderBy, s.Order = one("ssl.honor-cipher-order", honour), facts.ClientOrder
	if yes(s.OrderBy.Value) {
		s.Order = facts.ServerOrder
	}
	s.Stapling = one("ssl.stapling-file", "")
	if x := one("ssl.dh-file", ""); !x.Default {
		s.FiniteField = l.names(facts.RoleParameters, x, directory)
	}
	if x, set := find(levels, "ssl.openssl.ssl-conf-cmd"); set {
		for i, key := range x.keys {
			if strings.EqualFold(key, "MinProtocol") { // which is set before the others
				s.Versions, s.VersionsBy = between("", ""), nil
				l.command(s, x.setting(x.items[i].text), key)
			}
		}
		for i, key := range x.keys {
			if !strings.EqualFold(key, "MinProtocol") {
				l.command(s, x.setting(x.items[i].text), key)
			}
		}
	}
}
