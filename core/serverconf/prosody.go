package serverconf

import (
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/facts"
)

var prosody = Server{Name: "Prosody", Form: "ssl = { %s = %s }", Serves: []string{"xmpp", "xmpps", "xmpp-server"},
	Shape:  Bundle,
	Reload: "prosodyctl reload", Check: "prosodyctl check config",
	Files: []FileDirective{{Part: PartBundle, Name: "certificate", Form: "ssl = { %s = %q }"},
		{Part: PartKey, Name: "key", Form: "ssl = { %s = %q }"}},
	Main: []string{"/etc/prosody/prosody.cfg.lua"}, Packages: []string{"prosody"},
	Apart: true, Recognise: recogniseProsody, read: readProsody,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "protocol", Value: v.pick(`"tlsv1_2+"`, `"tlsv1_2"`, `"tlsv1_3"`)}, true
	}}

var prosodyHost = regexp.MustCompile(`(?m)^\s*(VirtualHost|Component)\s*\(?\s*["']`)

func recogniseProsody(path, text string) Likeness {
	switch {
	case !strings.HasSuffix(path, ".lua") || !prosodyHost.MatchString(text):
		return IsOther
	case strings.Contains(text, "modules_enabled") || filepath.Base(path) == "prosody.cfg.lua":
		return IsMain
	}
	return IsFragment
}

// prosodyReader reads one configuration.
type prosodyReader struct {
	*reading
	hosts []*prosodyHostBlock
	main  string
}

type prosodyHostBlock struct {
	name string
	facts.Line
	settings map[string]prosodyValue
}

type prosodyValue struct {
	value
	name string
	file string
}

func (v prosodyValue) setting(text string) facts.Setting {
	return facts.Setting{Directive: v.name, Value: text, Line: facts.Line{File: v.file, Line: v.line}}
}

func readProsody(r *reading, path string) {
	p := &prosodyReader{reading: r, main: path,
		hosts: []*prosodyHostBlock{{Line: facts.Line{File: path}, settings: map[string]prosodyValue{}}}}
	r.user = "prosody"
	p.file(path, facts.Line{File: path})
	p.sites()
}

func (p *prosodyReader) file(path string, from facts.Line) {
	p.within(path, from, func(text string) {
		tokens := p.tokens(path, text, "--", "==", "~=", "..")
		for at := 0; at < len(tokens); {
			at = p.statement(path, tokens, at)
		}
	})
}

// statement reads one statement; what is no assignment, host or include is code, which is passed over with a word.
func (p *prosodyReader) statement(path string, tokens []token, at int) int {
	t := tokens[at]
	line := facts.Line{File: path, Line: t.line}
	if !p.one(line) {
		return len(tokens)
	}
	next := func(i int) token {
		if at+i < len(tokens) {
			return tokens[at+i]
		}
		return token{}
	}
	switch {
	case t.text == ";" && !t.quoted:
		return at + 1
	case (t.text == "VirtualHost" || t.text == "Component" || t.text == "Include") && !t.quoted:
		argument, skip := next(1), 2
		if argument.text == "(" && !argument.quoted {
			argument, skip = next(2), 4
		}
		if t.text == "Include" {
			p.include(argument.text, line)
			return at + skip
		}
		p.hosts = append(p.hosts, &prosodyHostBlock{argument.text, line, map[string]prosodyValue{}})
		if t.text == "Component" && next(skip).quoted { // the module that it runs
			skip++
		}
		return at + skip
	case !t.quoted && next(1).text == "=" && !next(1).quoted:
		v, end := readValue(tokens, at+2, "{", "}", "=", 0)
		for end < len(tokens) && (tokens[end].text == ".." || tokens[end].text == "(" || tokens[end].text == "or") &&
			!tokens[end].quoted {
			v.opaque = "a computation"
			_, end = readValue(tokens, end+1, "{", "}", "=", 0)
		}
		p.hosts[len(p.hosts)-1].settings[t.text] = prosodyValue{v, t.text, path}
		return end
	case t.text == "local" && !t.quoted:
		p.trouble(facts.PassedOver, line, facts.ConfNotComputed, "local", "a computation")
	}
	return at + 1
}

func (p *prosodyReader) include(pattern string, line facts.Line) {
	path := p.absolute(pattern, filepath.Dir(p.main))
	files := p.matching(path, line)
	if len(files) == 0 && !strings.ContainsAny(path, "*?[") {
		p.broken(line, facts.ConfNoInclude, path)
	}
	for _, file := range files {
		p.file(file, line)
	}
}

// prosodyPorts are the settings for ports, with what listens where nothing is set.
var prosodyPorts = []struct {
	name, scheme string
	usual        []uint16
}{{"c2s_ports", "xmpp", []uint16{5222}}, {"c2s_direct_tls_ports", "xmpps", nil}, {"legacy_ssl_ports", "xmpps", nil},
	{"s2s_ports", "xmpp-server", []uint16{5269}}, {"s2s_direct_tls_ports", "xmpps-server", nil}, {"https_ports",
		"https", nil}}

func (p *prosodyReader) sites() {
	global := p.hosts[0].settings
	var listens []facts.Listen
	for _, ports := range prosodyPorts {
		v, set := global[ports.name]
		list := ports.usual
		if set {
			list = nil
			for _, text := range v.texts() {
				if n, err := strconv.ParseUint(text, 10, 16); err == nil {
					list = append(list, uint16(n))
				}
			}
		}
		for _, port := range list {
			x := facts.Setting{Directive: ports.name, Value: strconv.Itoa(int(port)), Default: !set}
			if set {
				x.Line = facts.Line{File: v.file, Line: v.line}
			}
			if ports.scheme == "xmpps-server" { // no scheme of endpoints is for it
				continue
			}
			listens = append(listens, facts.Listen{Setting: x, Port: port, Scheme: ports.scheme})
		}
	}
	for _, host := range p.hosts[1:] {
		if v, set := host.settings["enabled"]; set && v.text == "false" {
			continue
		}
		s := facts.Site{Line: host.Line, Listens: slices.Clone(listens),
			Names: []facts.Setting{{Directive: "VirtualHost", Value: host.name, Line: host.Line}}}
		p.tls(&s, host)
		s.Off = len(s.Identities) == 0
		if host.name != "localhost" || len(s.Identities) > 0 {
			p.c.Sites = append(p.c.Sites, s)
		}
	}
}

// prosodyVersions are what protocol may be set to.
var prosodyVersions = map[string][]string{"sslv23": allVersions[2:], "tlsv1": {"TLS 1.0"}, "tlsv1+": allVersions[2:],
	"tlsv1_1": {"TLS 1.1"}, "tlsv1_1+": allVersions[3:], "tlsv1_2": {"TLS 1.2"}, "tlsv1_2+": allVersions[4:],
	"tlsv1_3": {"TLS 1.3"}, "tlsv1_3+": allVersions[5:]}

// prosodyProfile is what holds where nothing is set.
type prosodyProfile struct {
	protocol, ciphers, ciphersuites, curves string
	serverOrder                             bool
}

// prosodyProfiles are the values of tls_profile (0.12). Before, there was one, which is called legacy now.
var prosodyProfiles = map[string]prosodyProfile{
	"modern": {protocol: "tlsv1_3", ciphers: "DEFAULT", curves: "X25519:prime256v1:secp384r1",
		ciphersuites: "TLS_AES_128_GCM_SHA256:TLS_AES_256_GCM_SHA384:TLS_CHACHA20_POLY1305_SHA256"},
	"intermediate": {protocol: "tlsv1_2+", curves: "X25519:prime256v1:secp384r1",
		ciphers: "ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:" +
			"ECDHE-RSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305:ECDHE-RSA-CHACHA20-POLY1305:" +
			"DHE-RSA-AES128-GCM-SHA256:DHE-RSA-AES256-GCM-SHA384",
		ciphersuites: "TLS_AES_128_GCM_SHA256:TLS_AES_256_GCM_SHA384:TLS_CHACHA20_POLY1305_SHA256"},
	"old": {protocol: "tlsv1+", curves: "X25519:prime256v1:secp384r1", serverOrder: true,
		ciphers: "ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:" +
			"ECDHE-RSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305:ECDHE-RSA-CHACHA20-POLY1305:" +
			"DHE-RSA-AES128-GCM-SHA256:DHE-RSA-AES256-GCM-SHA384:DHE-RSA-CHACHA20-POLY1305:" +
			"ECDHE-ECDSA-AES128-SHA256:ECDHE-RSA-AES128-SHA256:ECDHE-ECDSA-AES128-SHA:ECDHE-RSA-AES128-SHA:" +
			"ECDHE-ECDSA-AES256-SHA384:ECDHE-RSA-AES256-SHA384:ECDHE-ECDSA-AES256-SHA:ECDHE-RSA-AES256-SHA:" +
			"DHE-RSA-AES128-SHA256:DHE-RSA-AES256-SHA256:AES128-GCM-SHA256:AES256-GCM-SHA384:AES128-SHA256:" +
			"AES256-SHA256:AES128-SHA:AES256-SHA:DES-CBC3-SHA",
		ciphersuites: "TLS_AES_128_GCM_SHA256:TLS_AES_256_GCM_SHA384:TLS_CHACHA20_POLY1305_SHA256"},
	"legacy": {protocol: "tlsv1+", curves: "X25519:P-384:P-256:P-521", serverOrder: true,
		ciphers: "HIGH+kEECDH:HIGH+kEDH:HIGH:!PSK:!SRP:!3DES:!aNULL"},
}

func (p *prosodyReader) profile() prosodyProfile {
	name := "intermediate"
	if !atLeast(p.c.Release, 0, 12) {
		name = "legacy"
	} else if v, set := p.hosts[0].settings["tls_profile"]; set {
		name = v.text
		if _, known := prosodyProfiles[name]; !known {
			p.trouble(facts.NotUnderstood, v.setting("").Line, facts.ConfBadValue, "tls_profile", name)
		}
	}
	return prosodyProfiles[name]
}

// tls reads the ssl tables: the host's own values before the general ones. Without a certificate the server looks for
// files of the host's name itself.
func (p *prosodyReader) tls(s *facts.Site, host *prosodyHostBlock) {
	own, general := host.settings["ssl"], p.hosts[0].settings["ssl"]
	one := func(key string) (prosodyValue, bool) {
		for _, table := range []prosodyValue{own, general} {
			if v, set := table.of(key); set {
				return prosodyValue{v, key, table.file}, true
			}
		}
		return prosodyValue{}, false
	}
	otherwise := func(key, text string) facts.Setting {
		if v, set := one(key); set {
			return v.setting(strings.Join(v.texts(), ":"))
		}
		return facts.Setting{Directive: key, Value: text, Default: true}
	}
	directory := filepath.Dir(p.main)
	c, set := one("certificate")
	if !set {
		if v, given := host.settings["certificate"]; given {
			c, set = v, true
		}
	}
	if set && c.opaque == "" {
		id := facts.Identity{Certificate: p.names(facts.RoleCertificate, c.setting(c.text), directory)}
		if k, keyed := one("key"); keyed {
			id.Key = p.names(facts.RoleKey, k.setting(k.text), directory)
		}
		s.Identities = append(s.Identities, id)
	} else if id, found := p.automatic(host, directory); found {
		s.Identities = append(s.Identities, id)
	}
	profile := p.profile()
	protocol := otherwise("protocol", profile.protocol)
	s.VersionsBy, s.Versions = []facts.Setting{protocol}, slices.Clone(prosodyVersions[protocol.Value])
	if s.Versions == nil {
		p.broken(protocol.Line, facts.ConfBadValue, "protocol", protocol.Value)
	}
	s.Suites = otherwise("ciphers", profile.ciphers)
	if x := otherwise("ciphersuites", profile.ciphersuites); x.Value != "" {
		s.Suites13 = x
	}
	s.Groups = otherwise("curveslist", profile.curves)
	if x := otherwise("curve", ""); !x.Default {
		s.Groups = x
	}
	s.OrderBy, s.Order = otherwise("options", ""), facts.ClientOrder
	if options, set := one("options"); set {
		keyed, is := options.of("cipher_server_preference")
		if is && keyed.text == "true" || slices.Contains(options.texts(), "cipher_server_preference") {
			s.Order = facts.ServerOrder
		}
	} else if profile.serverOrder {
		s.Order = facts.ServerOrder
	}
	s.Clients = otherwise("verify", "peer")
	if x, set := one("cafile"); set {
		s.Authorities = append(s.Authorities, p.names(facts.RoleAuthorities, x.setting(x.text), directory))
	}
	if x, set := one("dhparam"); set {
		s.FiniteField = p.names(facts.RoleParameters, x.setting(x.text), directory)
	}
	s.NoDHE = !s.FiniteField.Given()
}

// automatic finds the files that the server takes by itself: certs/NAME.crt and .key below its directory.
func (p *prosodyReader) automatic(host *prosodyHostBlock, directory string) (facts.Identity, bool) {
	base := filepath.Join(directory, "certs")
	x := facts.Setting{Directive: "VirtualHost", Line: host.Line, Default: true}
	if v, set := p.hosts[0].settings["certificates"]; set {
		base, x = p.absolute(v.text, directory), v.setting("")
	}
	for _, name := range []string{host.name + ".crt", filepath.Join(host.name, "fullchain.pem")} {
		path := filepath.Join(base, name)
		if found, _ := p.m.list(path); len(found) == 0 {
			continue
		}
		c, k := x, x
		c.Value = path
		k.Value = strings.TrimSuffix(path, ".crt") + ".key"
		if strings.HasSuffix(path, ".pem") {
			k.Value = filepath.Join(base, host.name, "privkey.pem")
		}
		return facts.Identity{Certificate: p.names(facts.RoleCertificate, c, "/"),
			Key: p.names(facts.RoleKey, k, "/")}, true
	}
	return facts.Identity{}, false
}
