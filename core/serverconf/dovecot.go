package serverconf

import (
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/facts"
)

var dovecot = Server{Name: "Dovecot", Form: "%s = %s", Serves: []string{"lmtp", "imap", "imaps", "pop3", "pop3s",
	"sieve"},
	Shape: Bundle, Reload: "doveadm reload", Check: "doveconf -n",
	Files: []FileDirective{{Part: PartBundle, Name: "ssl_cert", Form: "%s = <%s"}, {Part: PartKey, Name: "ssl_key",
		Form: "%s = <%s"}},
	Main: []string{"/etc/dovecot/dovecot.conf"}, Packages: []string{"dovecot-core"},
	Recognise: recogniseDovecot, read: readDovecot,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "ssl_min_protocol", Value: v.pick("TLSv1.2", "TLSv1.2", "TLSv1.3"),
			Note: v.pick("", "it can only set the oldest version", "")}, true
	}}

var dovecotSetting = regexp.MustCompile(`(?m)^\s*(ssl_cert|ssl_key|ssl_server_cert_file|ssl_min_protocol|protocols|mail_location|` +
	`!include|!include_try|auth_mechanisms)\b\s*[=a-zA-Z/]`)

func recogniseDovecot(path, text string) Likeness {
	if !dovecotSetting.MatchString(text) {
		return IsOther
	}
	switch base := filepath.Base(path); {
	case base == "dovecot.conf":
		return IsMain
	case strings.Contains(path, "dovecot") || strings.Contains(text, "ssl_cert"):
		return IsFragment
	}
	return IsOther
}

// dovecotReader reads one configuration. Settings that stand in a filter hold only there.
type dovecotReader struct {
	*reading
	protocols []string
	listeners map[string]*dovecotListener // by service and name
	filters   []dovecotFilter
	global    map[string]facts.Setting
}

type dovecotFilter struct {
	kind, name string // such as local_name, and what for
	facts.Line
	settings map[string]facts.Setting
}

type dovecotListener struct {
	service, name string
	port          int
	ssl           string
	address       string
	facts.Line
}

func readDovecot(r *reading, path string) {
	d := &dovecotReader{reading: r, listeners: map[string]*dovecotListener{}, global: map[string]facts.Setting{}}
	r.user = "root"
	d.file(path, facts.Line{File: path})
	d.sites()
}

func (d *dovecotReader) file(path string, from facts.Line) {
	d.within(path, from, func(text string) {
		lines := logicalLines(text, byBackslash, "#")
		at := 0
		d.block(path, lines, &at, nil)
	})
}

// block reads lines up to the end of the block. within are the names of the open blocks.
func (d *dovecotReader) block(path string, lines []textLine, at *int, within []string) {
	filter := map[string]facts.Setting{}
	start := facts.Line{File: path}
	if *at > 0 && *at <= len(lines) {
		start.Line = lines[*at-1].first
	}
	for ; *at < len(lines); *at++ {
		l := lines[*at]
		line := facts.Line{File: path, Line: l.first}
		text := strings.TrimSpace(cutComment(l.text))
		if !d.one(line) {
			return
		}
		switch {
		case text == "}":
			d.closed(within, start, filter)
			return
		case strings.HasSuffix(text, "{"):
			if len(within) == maxDepth {
				d.limit(line, facts.ConfTooDeep, maxDepth)
				return
			}
			*at++
			d.block(path, lines, at, append(slices.Clone(within), strings.TrimSpace(strings.TrimSuffix(text, "{"))))
		case strings.HasPrefix(text, "!include"):
			d.include(text, path, line)
		default:
			name, value := assignment(text)
			if !strings.Contains(text, "=") && len(within) == 0 {
				d.broken(line, facts.ConfSyntax, "the line has no \"=\"")
				continue
			}
			d.set(within, filter, facts.Setting{Directive: name, Value: value, Line: line})
		}
	}
	if len(within) > 0 {
		d.broken(start, facts.ConfSyntax, "the block that begins here is not closed")
		d.closed(within, start, filter)
	}
}

func (d *dovecotReader) include(text, path string, line facts.Line) {
	word, pattern, _ := strings.Cut(text, " ")
	pattern = d.absolute(strings.TrimSpace(pattern), filepath.Dir(path))
	files := d.matching(pattern, line)
	if len(files) == 0 && word == "!include" && !strings.ContainsAny(pattern, "*?[") {
		d.broken(line, facts.ConfNoInclude, pattern)
	}
	for _, file := range files {
		d.file(file, line)
	}
}

// dovecotTLS are the settings about TLS of releases 2.3 and 2.4.
var dovecotTLS = words(`ssl ssl_ca ssl_cert ssl_key ssl_key_password ssl_dh ssl_min_protocol ssl_cipher_list ssl_cipher_suites
	ssl_curve_list ssl_prefer_server_ciphers ssl_verify_client_cert ssl_require_crl ssl_options ssl_cert_username_field
	ssl_crypto_device ssl_alt_cert ssl_alt_key ssl_client_ca_file ssl_client_ca_dir ssl_client_cert ssl_client_key
	ssl_client_require_valid_cert ssl_server_cert_file ssl_server_key_file ssl_server_ca_file ssl_server_dh_file
	ssl_server_prefer_ciphers ssl_server_request_client_cert ssl_server_key_password ssl_server_alt_cert_file
	ssl_server_alt_key_file ssl_protocols ssl_parameters_regenerate ssl_dh_parameters_length ssl_server_require_crl
	ssl_client_cert_file ssl_client_key_file ssl_peer_certificate_fingerprint_hash ssl_server_cert_username_field ssl_cipher`)

// set notes a setting where it stands.
func (d *dovecotReader) set(within []string, filter map[string]facts.Setting, x facts.Setting) {
	if strings.HasPrefix(x.Directive, "ssl") && !slices.Contains(dovecotTLS, x.Directive) &&
		(len(within) == 0 || !strings.HasPrefix(within[0], "service")) {
		d.unknown(&Directive{Name: x.Directive, Line: x.Line}, dovecotTLS)
		return
	}
	switch {
	case len(within) == 0:
		if x.Directive == "protocols" {
			d.protocols = d.protocolList(x.Value)
		}
		d.global[x.Directive] = x
	case len(within) == 2 && strings.HasPrefix(within[0], "service") && strings.HasPrefix(within[1], "inet_listener"):
		d.listener(within, x)
	default:
		filter[x.Directive] = x
	}
}

func (d *dovecotReader) protocolList(value string) []string {
	var out []string
	for word := range strings.FieldsSeq(strings.ReplaceAll(value, ",", " ")) {
		if word == "$protocols" {
			out = append(out, d.protocols...)
			continue
		}
		out = append(out, word)
	}
	return out
}

func (d *dovecotReader) listener(within []string, x facts.Setting) {
	service := strings.TrimSpace(strings.TrimPrefix(within[0], "service"))
	name := strings.TrimSpace(strings.TrimPrefix(within[1], "inet_listener"))
	l := d.listeners[service+" "+name]
	if l == nil {
		l = &dovecotListener{service: service, name: name, port: -1, Line: x.Line}
		d.listeners[service+" "+name] = l
	}
	switch x.Directive {
	case "port":
		l.port, _ = strconv.Atoi(x.Value)
	case "ssl":
		l.ssl = x.Value
	case "address", "listen":
		l.address = x.Value
	}
}

// closed keeps the settings of a filter.
func (d *dovecotReader) closed(within []string, start facts.Line, settings map[string]facts.Setting) {
	kind, name, _ := strings.Cut(strings.Join(within, " "), " ")
	switch kind {
	case "local_name", "local", "protocol", "remote":
		if len(settings) > 0 {
			d.filters = append(d.filters, dovecotFilter{kind, strings.Trim(strings.TrimSpace(name), `"`), start, settings})
		}
	}
}

// dovecotServices are the listeners of each protocol, with their usual ports.
var dovecotServices = []struct {
	protocol, service, name, scheme string
	port                            int
	wrapped                         bool
}{
	{"imap", "imap-login", "imap", "imap", 143, false}, {"imap", "imap-login", "imaps", "imaps", 993, true},
	{"pop3", "pop3-login", "pop3", "pop3", 110, false}, {"pop3", "pop3-login", "pop3s", "pop3s", 995, true},
	{"sieve", "managesieve-login", "sieve", "sieve", 4190, false},
	{"submission", "submission-login", "submission", "submission", 587, false},
	{"lmtp", "lmtp", "lmtp", "lmtp", 0, false},
}

func (d *dovecotReader) sites() {
	s := facts.Site{Line: facts.Line{File: d.c.Path}}
	if x, set := d.global["ssl"]; set {
		s.Off = strings.EqualFold(x.Value, "no")
		s.Line = x.Line
	}
	d.tls(&s, d.global)
	if len(s.Identities) > 0 {
		s.Line = s.Identities[0].Certificate.Line
	}
	addresses := []string{""}
	if x, set := d.global["listen"]; set {
		addresses = nil
		for address := range strings.FieldsFuncSeq(x.Value, func(c rune) bool { return c == ',' || c == ' ' }) {
			if address == "*" || address == "::" || address == "[::]" {
				address = ""
			}
			if !slices.Contains(addresses, address) {
				addresses = append(addresses, address)
			}
		}
	}
	for _, service := range dovecotServices {
		if !slices.Contains(d.protocols, service.protocol) {
			continue
		}
		port, at, scheme := service.port, facts.Line{}, service.scheme
		own := addresses
		if l := d.listeners[service.service+" "+service.name]; l != nil {
			at = l.Line
			if l.port >= 0 {
				port = l.port
			}
			if l.address != "" {
				own = []string{strings.Trim(l.address, "*:[]")}
			}
			if yes(l.ssl) && !service.wrapped {
				scheme += "s"
			}
		}
		if port == 0 {
			continue
		}
		for _, address := range own {
			x := facts.Setting{Directive: "inet_listener " + service.name, Value: strconv.Itoa(port), Line: at,
				Default: at.Line == 0}
			s.Listens = append(s.Listens, facts.Listen{Setting: x, Address: address, Port: uint16(port), Scheme: scheme,
				DefaultSite: true})
		}
	}
	if s.Off {
		for i := range s.Listens {
			s.Listens[i].Scheme = "http"
		}
	}
	d.c.Sites = append(d.c.Sites, s)
	for _, f := range d.filters {
		d.filtered(f, s)
	}
}

// filtered is a place that serves another certificate to some clients.
func (d *dovecotReader) filtered(f dovecotFilter, whole facts.Site) {
	merged := map[string]facts.Setting{}
	for name, x := range d.global {
		merged[name] = x
	}
	touches := false
	for name, x := range f.settings {
		merged[name] = x
		touches = touches || strings.HasPrefix(name, "ssl")
	}
	if !touches {
		return
	}
	s := facts.Site{Line: f.Line, Off: whole.Off}
	for _, l := range whole.Listens {
		l.DefaultSite = false
		if f.kind == "protocol" && l.Scheme != f.name && l.Scheme != f.name+"s" {
			continue
		}
		if f.kind == "local" {
			l.Address = f.name
		}
		s.Listens = append(s.Listens, l)
	}
	if f.kind == "local_name" {
		for name := range strings.FieldsSeq(f.name) {
			s.Names = append(s.Names, facts.Setting{Directive: "local_name", Value: name, Line: f.Line})
		}
	}
	d.tls(&s, merged)
	d.c.Sites = append(d.c.Sites, s)
}

func (d *dovecotReader) tls(s *facts.Site, settings map[string]facts.Setting) {
	one := func(otherwise string, names ...string) facts.Setting {
		for _, name := range names {
			if x, set := settings[name]; set {
				return x
			}
		}
		return facts.Setting{Directive: names[0], Value: otherwise, Default: true}
	}
	file := func(role facts.FileRole, x facts.Setting) facts.Setting {
		path, isFile := strings.CutPrefix(x.Value, "<")
		if !isFile && !strings.HasSuffix(x.Directive, "_file") {
			d.trouble(facts.NotUnderstood, x.Line, facts.ConfNotComputed, x.Directive, "a value that is no file")
			return facts.Setting{}
		}
		x.Value = strings.TrimSpace(path)
		return d.names(role, x, filepath.Dir(x.File))
	}
	for _, names := range [][2][]string{{{"ssl_cert", "ssl_server_cert_file"}, {"ssl_key", "ssl_server_key_file"}},
		{{"ssl_alt_cert", "ssl_server_alt_cert_file"}, {"ssl_alt_key", "ssl_server_alt_key_file"}}} {
		c, k := one("", names[0]...), one("", names[1]...)
		if c.Default || c.Value == "" {
			continue
		}
		id := facts.Identity{Certificate: file(facts.RoleCertificate, c)}
		if !k.Default && k.Value != "" {
			id.Key = file(facts.RoleKey, k)
		}
		if id.Certificate.Given() {
			s.Identities = append(s.Identities, id)
		}
	}
	if x := one("", "ssl_ca", "ssl_server_ca_file"); !x.Default && x.Value != "" {
		s.Authorities = append(s.Authorities, file(facts.RoleAuthorities, x))
	}
	usual := "TLSv1.2"
	if !atLeast(d.c.Release, 2, 3, 11) {
		usual = "TLSv1"
	}
	lowest := one(usual, "ssl_min_protocol")
	s.VersionsBy, s.Versions = []facts.Setting{lowest}, between(opensslVersions[lowest.Value], "")
	switch {
	case lowest.Value == "ANY" || lowest.Value == "LATEST":
		s.Versions = between("TLS 1.0", "")
		if lowest.Value == "LATEST" {
			s.Versions = []string{"TLS 1.3"}
		}
	case opensslVersions[lowest.Value] == "":
		d.broken(lowest.Line, facts.ConfBadValue, lowest.Directive, lowest.Value)
	}
	if x, set := settings["ssl_protocols"]; set && atLeast(d.c.Release, 2, 3) {
		s.Obsolete = append(s.Obsolete, x)
	}
	s.Suites = one("ALL:!kRSA:!SRP:!kDHd:!DSS:!aNULL:!eNULL:!EXPORT:!DES:!3DES:!MD5:!PSK:!RC4:!ADH:!LOW@STRENGTH",
		"ssl_cipher_list")
	if x, set := settings["ssl_cipher_suites"]; set {
		s.Suites13 = x
	}
	s.Groups = one("auto", "ssl_curve_list")
	if s.Groups.Value == "" {
		s.Groups.Value = "auto"
	}
	s.OrderBy, s.Order = one("no", "ssl_prefer_server_ciphers", "ssl_server_prefer_ciphers"), facts.ClientOrder
	if yes(s.OrderBy.Value) || s.OrderBy.Value == "server" {
		s.Order = facts.ServerOrder
	}
	s.Clients = one("no", "ssl_verify_client_cert", "ssl_server_request_client_cert")
	if x := one("", "ssl_dh", "ssl_server_dh_file"); !x.Default && x.Value != "" {
		s.FiniteField = file(facts.RoleParameters, x)
	}
	s.NoDHE = !s.FiniteField.Given()
}
