package serverconf

import (
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/facts"
)

var nginx = Server{Name: "nginx", Form: "%s %s;", Serves: []string{"https"}, Shape: Bundle, Reload: "nginx -s reload",
	Check: "nginx -t",
	Files: []FileDirective{{Part: PartBundle, Name: "ssl_certificate"}, {Part: PartKey, Name: "ssl_certificate_key"}},
	Main:  []string{"/etc/nginx/nginx.conf"}, Packages: []string{"nginx", "nginx-core", "nginx-light", "nginx-full",
		"nginx-extras"},
	Recognise: recogniseNginx, read: readNginx,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "ssl_protocols", Value: v.pick("TLSv1.2 TLSv1.3", "TLSv1.2", "TLSv1.3")}, true
	}}

// recogniseNginx: a main file has an http, stream or mail block; a fragment has server blocks of its own.
func recogniseNginx(path, text string) Likeness {
	blocks := blockNames(text)
	switch {
	case blocks["http"] && (blocks["events"] || blocks["server"] || strings.Contains(text, "include")),
		blocks["events"] && (blocks["stream"] || blocks["mail"]):
		return IsMain
	case filepath.Base(path) == "nginx.conf" && blocks["events"]:
		return IsMain
	case blocks["server"] && (strings.Contains(text, "listen") || strings.Contains(text, "server_name")):
		return IsFragment
	}
	return IsOther
}

// nginxSSL are the directives about TLS that the server knows; other words that begin so are mistakes.
var nginxSSL = words(`ssl ssl_alpn ssl_buffer_size ssl_certificate ssl_certificate_cache ssl_certificate_compression
	ssl_certificate_key ssl_ciphers ssl_client_certificate ssl_conf_command ssl_crl ssl_dhparam ssl_early_data
	ssl_ecdh_curve ssl_handshake_timeout ssl_key_log ssl_name ssl_object_cache_inheritable ssl_ocsp ssl_ocsp_cache
	ssl_ocsp_responder ssl_password_file ssl_prefer_server_ciphers ssl_preread ssl_protocols ssl_reject_handshake
	ssl_session_cache ssl_session_ticket_key ssl_session_tickets ssl_session_timeout ssl_stapling ssl_stapling_file
	ssl_stapling_responder ssl_stapling_verify ssl_trusted_certificate ssl_verify_client ssl_verify_depth
	ssl_ech_file ssl_encrypted_hello_key`)

// nginxOnce are those that a block may have only once.
var nginxOnce = words(`ssl ssl_ciphers ssl_protocols ssl_prefer_server_ciphers ssl_dhparam ssl_ecdh_curve
	ssl_client_certificate ssl_trusted_certificate ssl_verify_client ssl_stapling ssl_password_file ssl_crl`)

// nginxVersions are the names of versions.
var nginxVersions = map[string]string{"SSLv2": "SSL 2.0", "SSLv3": "SSL 3.0", "TLSv1": "TLS 1.0", "TLSv1.1": "TLS 1.1",
	"TLSv1.2": "TLS 1.2", "TLSv1.3": "TLS 1.3"}

// nginxReader reads one server's tree.
type nginxReader struct {
	*reading
	prefix string // against which relative paths are
}

func readNginx(r *reading, path string) {
	n := &nginxReader{r, filepath.Dir(path)}
	var top []*Directive
	r.within(path, facts.Line{File: path}, func(text string) { top = n.parse(path, text) })
	none := map[string][]*Directive{}
	if slices.ContainsFunc(top, func(d *Directive) bool { return d.Name == "server" && d.Opens }) { // a fragment
		n.context(top, none, "https")
	}
	for _, d := range top {
		switch {
		case d.Name == "http" && d.Opens:
			n.context(d.Block, none, "https")
		case d.Name == "stream" && d.Opens:
			n.context(d.Block, none, "")
		case d.Name == "mail" && d.Opens:
			n.context(d.Block, none, "mail")
		case d.Name == "user":
			r.user = d.Arg(0)
		}
	}
	markDefaults(r.c.Sites)
}

func (n *nginxReader) parse(path, text string) []*Directive {
	b := &bracesReader{r: n.reading, file: path, text: text, line: 1,
		raw: func(name string) bool { return strings.HasSuffix(name, "_by_lua_block") }}
	b.include = func(d *Directive) (out []*Directive) {
		pattern := n.absolute(d.Arg(0), n.prefix)
		for _, file := range n.matching(pattern, d.Line) {
			n.within(file, d.Line, func(text string) { out = append(out, n.parse(file, text)...) })
		}
		if len(out) == 0 && !strings.ContainsAny(pattern, "*?[") && len(n.matching(pattern, d.Line)) == 0 {
			n.broken(d.Line, facts.ConfNoInclude, pattern)
		}
		return out
	}
	out, _ := b.block(0, facts.Line{})
	return out
}

// context reads the servers of an http, stream or mail block, which inherit what stands beside them.
func (n *nginxReader) context(block []*Directive, above map[string][]*Directive, scheme string) {
	here := n.inherit(block, above)
	for _, d := range block {
		if d.Name == "server" && d.Opens {
			n.server(d, n.inherit(d.Block, here), scheme)
		}
	}
}

// inherit is what holds in a block: its own directives, and those of the level above where it has none of a name.
func (n *nginxReader) inherit(block []*Directive, above map[string][]*Directive) map[string][]*Directive {
	own := map[string][]*Directive{}
	for _, d := range block {
		switch {
		case strings.HasPrefix(d.Name, "ssl"):
			n.known(d)
			if first := own[d.Name]; len(first) > 0 && slices.Contains(nginxOnce, d.Name) {
				n.broken(d.Line, facts.ConfTwice, d.Name, first[0].Line.Line)
				continue
			}
			own[d.Name] = append(own[d.Name], d)
		case slices.Contains([]string{"add_header", "root", "protocol", "starttls"}, d.Name):
			own[d.Name] = append(own[d.Name], d)
		}
	}
	for name, list := range above {
		if own[name] == nil {
			own[name] = list
		}
	}
	return own
}

func (n *nginxReader) known(d *Directive) {
	if slices.Contains(nginxSSL, d.Name) {
		return
	}
	n.unknown(d, nginxSSL)
}

// server reads one server block.
func (n *nginxReader) server(d *Directive, holds map[string][]*Directive, scheme string) {
	s := facts.Site{Line: d.Line, Last: d.Last}
	for _, x := range d.Block {
		switch x.Name {
		case "listen":
			n.listen(&s, x, scheme, holds)
		case "server_name":
			for _, name := range x.Args {
				if name != "" && name != "_" && name != "$hostname" {
					s.Names = append(s.Names, x.setting(name))
				}
			}
		case "ssl":
			s.Obsolete = append(s.Obsolete, x.setting(x.Arg(0)))
		}
	}
	if len(s.Listens) == 0 && scheme == "https" {
		s.Listens = []facts.Listen{{Setting: facts.Setting{Directive: "listen", Value: "80", Default: true}, Port: 80,
			Scheme: "http"}}
	}
	n.web(&s, d.Block, holds)
	protected := slices.ContainsFunc(s.Listens, func(l facts.Listen) bool { return l.Scheme != "http" })
	if !protected {
		n.c.Sites = append(n.c.Sites, s)
		return
	}
	n.tls(&s, holds)
	n.c.Sites = append(n.c.Sites, s)
}

// listen reads one listen directive.
func (n *nginxReader) listen(s *facts.Site, d *Directive, scheme string, holds map[string][]*Directive) {
	l := facts.Listen{Setting: d.setting(d.Arg(0)), Scheme: "http"}
	for _, word := range d.Args[min(1, len(d.Args)):] {
		switch word {
		case "ssl":
			l.Scheme = scheme
		case "default_server", "default":
			l.DefaultSite = true
		case "quic": // QUIC is not looked at
			return
		}
	}
	if all := holds["ssl"]; len(all) > 0 && all[0].Arg(0) == "on" {
		l.Scheme = scheme
	}
	address := d.Arg(0)
	if strings.HasPrefix(address, "unix:") {
		l.Socket = true
		s.Listens = append(s.Listens, l)
		return
	}
	host, port, ok := hostPort(address, 80)
	if !ok {
		n.trouble(facts.NotUnderstood, d.Line, facts.ConfBadValue, "listen", address)
		return
	}
	l.Address, l.Port = host, port
	switch {
	case scheme == "mail" || scheme == "":
		l.Scheme = nginxScheme(l, holds, scheme)
	}
	if l.Scheme == "" {
		return
	}
	s.Listens = append(s.Listens, l)
}

// nginxScheme is what is spoken at a place of the stream or mail block.
func nginxScheme(l facts.Listen, holds map[string][]*Directive, scheme string) string {
	if scheme == "" { // a stream: TLS at once, or none
		if l.Scheme == "http" {
			return "http"
		}
		return "tls"
	}
	protocol := ""
	for _, d := range holds["protocol"] {
		protocol = d.Arg(0)
	}
	starttls := ""
	for _, d := range holds["starttls"] {
		starttls = d.Arg(0)
	}
	switch {
	case l.Scheme == "mail" && protocol != "":
		return protocol + "s"
	case starttls == "on" || starttls == "only":
		return protocol
	}
	return "http"
}

// hostPort reads an address with a port, of which either may be missing.
func hostPort(text string, port uint16) (host string, _ uint16, ok bool) {
	number := func(t string) (uint16, bool) {
		n, err := strconv.ParseUint(t, 10, 16)
		return uint16(n), err == nil && n > 0
	}
	if n, is := number(text); is {
		return "", n, true
	}
	host = text
	if at := strings.LastIndexByte(text, ':'); at >= 0 && !strings.HasSuffix(text, "]") {
		n, is := number(text[at+1:])
		if !is {
			return "", 0, false
		}
		host, port = text[:at], n
	}
	host = strings.Trim(host, "[]")
	switch a, err := netip.ParseAddr(host); {
	case host == "*" || host == "_default_":
		return "", port, true
	case err == nil && a.IsUnspecified():
		return "", port, true
	}
	return host, port, host+text != "" && !strings.ContainsAny(host, " /")
}

// web reads what a web server says beside TLS.
func (n *nginxReader) web(s *facts.Site, block []*Directive, holds map[string][]*Directive) {
	headers := holds["add_header"]
	for _, d := range block {
		redirected := func(x *Directive) {
			if x.Name == "return" && strings.HasPrefix(x.Arg(0), "30") && strings.HasPrefix(x.Arg(1), "https://") {
				s.Redirect = x.setting(x.Arg(1))
			}
			if x.Name == "rewrite" && strings.HasPrefix(x.Arg(1), "https://") {
				s.Redirect = x.setting(x.Arg(1))
			}
		}
		redirected(d)
		if d.Name == "location" || d.Name == "if" {
			for _, x := range d.Block {
				redirected(x)
				if x.Name == "add_header" {
					headers = append(slices.Clone(headers), x)
				}
			}
		}
	}
	for _, d := range headers {
		if strings.EqualFold(d.Arg(0), "Strict-Transport-Security") {
			s.Transport = d.setting(d.Arg(1))
		}
	}
	for _, d := range holds["root"] {
		s.Root = d.setting(n.absolute(d.Arg(0), n.prefix))
	}
}

// tls reads the settings of TLS.
func (n *nginxReader) tls(s *facts.Site, holds map[string][]*Directive) {
	one := func(name, otherwise string) facts.Setting {
		if d := holds[name]; len(d) > 0 {
			return d[0].setting(strings.Join(d[0].Args, " "))
		}
		if otherwise == "" {
			return facts.Setting{}
		}
		return facts.Setting{Directive: name, Value: otherwise, Default: true}
	}
	keys := holds["ssl_certificate_key"]
	for i, d := range holds["ssl_certificate"] {
		if n.variable(d) {
			continue
		}
		id := facts.Identity{Certificate: n.names(facts.RoleCertificate, d.setting(d.Arg(0)), n.prefix)}
		if i < len(keys) && !n.variable(keys[i]) {
			id.Key = n.names(facts.RoleKey, keys[i].setting(keys[i].Arg(0)), n.prefix)
		}
		s.Identities = append(s.Identities, id)
	}
	for _, named := range []struct {
		name string
		role facts.FileRole
	}{{"ssl_client_certificate", facts.RoleAuthorities}, {"ssl_trusted_certificate", facts.RoleAuthorities},
		{"ssl_password_file", facts.RoleSecret}, {"ssl_dhparam", facts.RoleParameters}} {
		x := one(named.name, "")
		if !x.Given() {
			continue
		}
		x = n.names(named.role, x, n.prefix)
		switch named.name {
		case "ssl_client_certificate":
			s.Authorities = append(s.Authorities, x)
		case "ssl_password_file":
			s.Secrets = append(s.Secrets, x)
		case "ssl_dhparam":
			s.FiniteField = x
		}
	}
	s.NoDHE = !s.FiniteField.Given()
	usual := "TLSv1.2 TLSv1.3"
	switch {
	case !atLeast(n.c.Release, 1, 23, 4):
		usual = "TLSv1 TLSv1.1 TLSv1.2"
	case !atLeast(n.c.Release, 1, 27, 3):
		usual = "TLSv1 TLSv1.1 TLSv1.2 TLSv1.3"
	}
	protocols := one("ssl_protocols", usual)
	s.VersionsBy = []facts.Setting{protocols}
	s.Versions = n.versions(protocols, nginxVersions)
	s.Suites = one("ssl_ciphers", "HIGH:!aNULL:!MD5")
	s.Groups = one("ssl_ecdh_curve", "auto")
	s.OrderBy = one("ssl_prefer_server_ciphers", "off")
	s.Order = facts.ClientOrder
	if s.OrderBy.Value == "on" {
		s.Order = facts.ServerOrder
	}
	s.Clients, s.Stapling = one("ssl_verify_client", "off"), one("ssl_stapling", "off")
	n.commands(s, holds["ssl_conf_command"])
	reject := one("ssl_reject_handshake", "off")
	switch {
	case len(s.Identities) == 0 && reject.Value != "on" && len(holds["ssl_certificate"]) == 0:
		n.broken(s.Line, facts.ConfMissingPart, "the place that listens with ssl", "ssl_certificate")
	case len(keys) < len(holds["ssl_certificate"]):
		n.broken(holds["ssl_certificate"][len(keys)].Line, facts.ConfMissingPart, "ssl_certificate",
			"ssl_certificate_key")
	}
}

// commands are settings that are handed to OpenSSL.
func (n *nginxReader) commands(s *facts.Site, list []*Directive) {
	for _, d := range list {
		n.command(s, d.setting(d.Arg(1)), d.Arg(0))
	}
}

// variable reports whether the file that is named depends on the client, which nobody can read here.
func (n *nginxReader) variable(d *Directive) bool {
	value := d.Arg(0)
	switch {
	case strings.HasPrefix(value, "data:"), strings.Contains(value, "$"):
		n.trouble(facts.NotUnderstood, d.Line, facts.ConfNotComputed, d.Name, value)
		return true
	case strings.HasPrefix(value, "engine:"), strings.HasPrefix(value, "store:"):
		n.trouble(facts.NotUnderstood, d.Line, facts.ConfNotComputed, d.Name, "a key store outside of files")
		return true
	}
	return false
}
