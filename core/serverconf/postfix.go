package serverconf

import (
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"nurvik/core/facts"
)

var postfix = Server{Name: "Postfix", Form: "%s = %s", Serves: []string{"smtp", "smtps", "submission"}, Shape: Bundle,
	Reload: "postfix reload", Check: "postfix check",
	Files: []FileDirective{{Part: PartBundle, Name: "smtpd_tls_cert_file"},
		{Part: PartKey, Name: "smtpd_tls_key_file"}},
	Main: []string{"/etc/postfix/main.cf"}, Packages: []string{"postfix"},
	Recognise: recognisePostfix, read: readPostfix,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "smtpd_tls_protocols", Value: v.pick(">=TLSv1.2", ">=TLSv1.2, <=TLSv1.2",
			">=TLSv1.3")}, true
	}}

var postfixSetting = regexp.MustCompile(`(?m)^(smtpd_tls_\w+|smtpd_\w+|mydestination|mynetworks|queue_directory)\s*=`)

func recognisePostfix(path, text string) Likeness {
	if filepath.Base(path) == "main.cf" && postfixSetting.MatchString(text) {
		return IsMain
	}
	return IsOther
}

// postfixReader reads main.cf and master.cf.
type postfixReader struct {
	*reading
	settings   map[string]facts.Setting
	expansions int // of variables in the present value
}

// mostExpansions bounds the work for one value: variables that name others twice grow without end.
const mostExpansions = 1000

// postfixDefaults are what holds where nothing is set, for releases from 3.6.
var postfixDefaults = map[string]string{
	"smtpd_tls_security_level": "", "smtpd_use_tls": "no", "smtpd_enforce_tls": "no", "smtpd_tls_wrappermode": "no",
	"smtpd_tls_protocols": ">=TLSv1", "smtpd_tls_mandatory_protocols": ">=TLSv1", "smtpd_tls_ciphers": "medium",
	"smtpd_tls_mandatory_ciphers": "medium", "smtpd_tls_exclude_ciphers": "", "smtpd_tls_mandatory_exclude_ciphers": "",
	"tls_high_cipherlist":   "aNULL:-aNULL:HIGH:@STRENGTH",
	"tls_medium_cipherlist": "aNULL:-aNULL:HIGH:MEDIUM:+RC4:@STRENGTH",
	"tls_low_cipherlist":    "aNULL:-aNULL:HIGH:MEDIUM:LOW:+RC4:@STRENGTH", "tls_null_cipherlist": "eNULL:!aNULL",
	"tls_export_cipherlist":  "aNULL:-aNULL:HIGH:MEDIUM:LOW:EXPORT:+RC4:@STRENGTH",
	"tls_preempt_cipherlist": "no", "tls_eecdh_auto_curves": "X25519 X448 prime256v1 secp521r1 secp384r1",
	"smtpd_tls_eecdh_grade": "auto", "smtpd_tls_ask_ccert": "no", "smtpd_tls_req_ccert": "no",
	"inet_interfaces": "all", "smtpd_tls_key_file": "$smtpd_tls_cert_file",
	"smtpd_tls_eckey_file": "$smtpd_tls_eccert_file",
	"smtpd_tls_dkey_file":  "$smtpd_tls_dcert_file",
}

func readPostfix(r *reading, path string) {
	p := &postfixReader{reading: r, settings: map[string]facts.Setting{}}
	r.user = "root" // files are read before the rights are given up
	r.within(path, facts.Line{File: path}, func(text string) {
		for _, l := range logicalLines(text, byIndent, "#") {
			at := facts.Line{File: path, Line: l.first}
			if !r.one(at) {
				return
			}
			name, value, ok := strings.Cut(l.text, "=")
			if !ok {
				r.broken(at, facts.ConfSyntax, "the line has no \"=\"")
				continue
			}
			name = strings.TrimSpace(name)
			if strings.HasPrefix(name, "smtpd_tls_") && !slices.Contains(postfixTLS, name) {
				r.unknown(&Directive{Name: name, Line: at}, postfixTLS)
			}
			if first, twice := p.settings[name]; twice && strings.Contains(name, "tls") &&
				first.Value != strings.TrimSpace(value) {
				r.c.Sites = append(r.c.Sites, facts.Site{Line: at, Off: true,
					Contradicted: []facts.Setting{first, settingOf(path, l, name, strings.TrimSpace(value))}})
			}
			p.settings[name] = settingOf(path, l, name, strings.TrimSpace(value))
		}
	})
	p.master(filepath.Join(filepath.Dir(path), "master.cf"))
	markDefaults(r.c.Sites)
}

// postfixTLS are the settings of the server side of TLS.
var postfixTLS = words(`smtpd_tls_CAfile smtpd_tls_CApath smtpd_tls_always_issue_session_ids smtpd_tls_ask_ccert
	smtpd_tls_auth_only smtpd_tls_ccert_verifydepth smtpd_tls_cert_file smtpd_tls_chain_files smtpd_tls_ciphers
	smtpd_tls_dcert_file smtpd_tls_dh1024_param_file smtpd_tls_dh512_param_file smtpd_tls_dkey_file
	smtpd_tls_eccert_file
	smtpd_tls_eckey_file smtpd_tls_eecdh_grade smtpd_tls_enable_rpk smtpd_tls_exclude_ciphers
	smtpd_tls_fingerprint_digest
	smtpd_tls_key_file smtpd_tls_loglevel smtpd_tls_mandatory_ciphers smtpd_tls_mandatory_exclude_ciphers
	smtpd_tls_mandatory_protocols smtpd_tls_protocols smtpd_tls_received_header smtpd_tls_req_ccert
	smtpd_tls_security_level
	smtpd_tls_session_cache_database smtpd_tls_session_cache_timeout smtpd_tls_wrappermode smtpd_tls_cipherlist`)

// master reads the services, each with settings of its own.
func (p *postfixReader) master(path string) {
	if _, err := p.m.read(path); err != nil { // main.cf by itself: the usual service
		p.service("smtp", nil, facts.Line{File: p.c.Path}, 0)
		return
	}
	p.within(path, facts.Line{File: p.c.Path}, func(text string) {
		for _, l := range logicalLines(text, byIndent, "#") {
			args, _ := fields(l.text)
			at := facts.Line{File: path, Line: l.first}
			if !p.one(at) || len(args) < 8 || args[1] != "inet" {
				continue
			}
			if command := args[7]; command != "smtpd" && command != "postscreen" {
				continue
			}
			own := map[string]facts.Setting{}
			for i := 8; i < len(args); i++ {
				if args[i] == "-o" && i+1 < len(args) {
					name, value, _ := strings.Cut(args[i+1], "=")
					own[name] = facts.Setting{Directive: name, Value: value, Line: lineOf(p.c, path, l, name)}
					i++
				}
			}
			p.service(args[0], own, at, l.last)
		}
	})
}

// lineOf finds the line among those of a statement that has the word.
func lineOf(c *facts.Configuration, path string, l textLine, word string) facts.Line {
	lines := c.Lines(path)
	for n := l.first; n <= l.last && n <= len(lines); n++ {
		if strings.Contains(lines[n-1], word) {
			return facts.Line{File: path, Line: n}
		}
	}
	return facts.Line{File: path, Line: l.first}
}

// postfixPorts are the names of services.
var postfixPorts = map[string]uint16{"smtp": 25, "smtps": 465, "submissions": 465, "submission": 587}

func (p *postfixReader) service(name string, own map[string]facts.Setting, at facts.Line, last int) {
	value := func(setting string) facts.Setting { return p.value(setting, own) }
	s := facts.Site{Line: at, Last: last}
	host, port, ok := hostPort(name, 25)
	if at := strings.LastIndexByte(name, ':'); at >= 0 {
		host = strings.Trim(name[:at], "[]")
		if n := postfixPorts[name[at+1:]]; n > 0 {
			port, ok = n, true
		}
	} else if n := postfixPorts[name]; n > 0 {
		host, port, ok = "", n, true
	}
	if !ok {
		p.trouble(facts.NotUnderstood, at, facts.ConfBadValue, "service", name)
		return
	}
	level := value("smtpd_tls_security_level")
	if level.Value == "" {
		level.Value = "none"
		if yes(value("smtpd_use_tls").Value) {
			level.Value = "may"
		}
		if yes(value("smtpd_enforce_tls").Value) {
			level.Value = "encrypt"
		}
	}
	wrapped := yes(value("smtpd_tls_wrappermode").Value)
	s.Off = level.Value == "none" && !wrapped
	scheme := "smtp"
	switch {
	case s.Off:
		scheme = "http"
	case wrapped:
		scheme = "smtps"
	case port == 587:
		scheme = "submission"
	}
	address := host
	if interfaces := value("inet_interfaces").Value; host == "" && interfaces == "loopback-only" {
		address = "127.0.0.1"
	}
	s.Listens = []facts.Listen{{Setting: facts.Setting{Directive: "master.cf", Value: name, Line: at}, Address: address,
		Port: port, Scheme: scheme}}
	if name := value("myhostname"); name.Given() && !name.Default {
		s.Names = nil // clients reach it by its MX records; the host's own name need not be covered
	}
	if !s.Off {
		p.tls(&s, value, level.Value == "encrypt" || wrapped)
	}
	p.c.Sites = append(p.c.Sites, s)
}

// value is a setting with its variables put in.
func (p *postfixReader) value(name string, own map[string]facts.Setting) facts.Setting {
	x, set := own[name]
	if !set {
		x, set = p.settings[name]
	}
	if !set {
		otherwise, known := postfixDefaults[name]
		if !known {
			return facts.Setting{}
		}
		if strings.HasSuffix(name, "_protocols") && !atLeast(p.c.Release, 3, 6) {
			otherwise = "!SSLv2, !SSLv3"
		}
		x = facts.Setting{Directive: name, Value: otherwise, Default: true}
	}
	p.expansions = 0
	x.Value = p.expand(x.Value, own, x.Line, 0)
	return x
}

var postfixVariable = regexp.MustCompile(`\$(?:\{(\w+)\}|\((\w+)\)|(\w+))`)

func (p *postfixReader) expand(text string, own map[string]facts.Setting, at facts.Line, depth int) string {
	if p.expansions++; depth > maxDepth || len(text) > maxValue || p.expansions > mostExpansions {
		p.broken(at, facts.ConfEndless, postfixVariable.FindString(text))
		return ""
	}
	size := 0
	return postfixVariable.ReplaceAllStringFunc(text, func(v string) string {
		name := strings.Trim(v, "${}()")
		x, set := own[name]
		if !set {
			x, set = p.settings[name]
		}
		if !set {
			x.Value = postfixDefaults[name]
		}
		if size > maxValue || p.expansions > mostExpansions {
			return ""
		}
		out := p.expand(x.Value, own, at, depth+1)
		size += len(out)
		return out
	})
}

// postfixProtocols reads a list of versions: those to take, those to leave out with "!", or bounds (3.6).
func (p *postfixReader) protocols(x facts.Setting) []string {
	names := map[string]string{"TLSv1": "TLS 1.0", "TLSv1.0": "TLS 1.0", "TLSv1.1": "TLS 1.1", "TLSv1.2": "TLS 1.2",
		"TLSv1.3": "TLS 1.3", "SSLv3": "SSL 3.0", "SSLv2": "SSL 2.0"}
	on, listed := slices.Clone(allVersions[1:]), []string(nil)
	for word := range strings.FieldsFuncSeq(x.Value, func(c rune) bool {
		return c == ',' || c == ' ' || c == ':' ||
			c == '\t'
	}) {
		name := strings.TrimLeft(word, "!<>=")
		version, known := names[name]
		if !known {
			p.broken(x.Line, facts.ConfBadValue, x.Directive, word)
			continue
		}
		on = slices.DeleteFunc(on, func(v string) bool {
			return word[0] == '!' && v == version || strings.HasPrefix(word, ">=") && v < version ||
				strings.HasPrefix(word, "<=") && v > version
		})
		if word == name {
			listed = append(listed, version)
		}
	}
	if listed != nil {
		return slices.DeleteFunc(on, func(v string) bool { return !slices.Contains(listed, v) })
	}
	return on
}

func (p *postfixReader) tls(s *facts.Site, value func(string) facts.Setting, mandatory bool) {
	directory := filepath.Dir(p.c.Path)
	add := func(certificate, key string) {
		c, k := value(certificate), value(key)
		if !c.Given() || c.Value == "" || c.Value == "none" {
			return
		}
		id := facts.Identity{Certificate: p.names(facts.RoleCertificate, c, directory)}
		if k.Value != "" && k.Value != c.Value {
			id.Key = p.names(facts.RoleKey, k, directory)
		}
		s.Identities = append(s.Identities, id)
	}
	if chains := value("smtpd_tls_chain_files"); chains.Given() && chains.Value != "" {
		for path := range strings.FieldsFuncSeq(chains.Value, func(c rune) bool { return c == ',' || c == ' ' }) {
			x := chains
			x.Value = path
			s.Identities = append(s.Identities, facts.Identity{Certificate: p.names(facts.RoleCertificate, x,
				directory)})
		}
	} else {
		add("smtpd_tls_cert_file", "smtpd_tls_key_file")
		add("smtpd_tls_eccert_file", "smtpd_tls_eckey_file")
		add("smtpd_tls_dcert_file", "smtpd_tls_dkey_file")
	}
	for _, name := range []string{"smtpd_tls_CAfile", "smtpd_tls_CApath"} {
		if x := value(name); x.Given() && x.Value != "" {
			s.Authorities = append(s.Authorities, p.names(facts.RoleAuthorities, x, directory))
		}
	}
	grade, protocols, exclude := value("smtpd_tls_ciphers"), value("smtpd_tls_protocols"), value(
		"smtpd_tls_exclude_ciphers").Value
	s.Exclude = value("smtpd_tls_exclude_ciphers")
	if mandatory {
		s.Exclude = value("smtpd_tls_mandatory_exclude_ciphers")
		grade, protocols = value("smtpd_tls_mandatory_ciphers"), value("smtpd_tls_mandatory_protocols")
		exclude += " " + value("smtpd_tls_mandatory_exclude_ciphers").Value
	}
	s.VersionsBy, s.Versions = []facts.Setting{protocols}, p.protocols(protocols)
	list := value("tls_" + grade.Value + "_cipherlist")
	if !list.Given() {
		p.broken(grade.Line, facts.ConfBadValue, grade.Directive, grade.Value)
	}
	s.Suites = facts.Setting{Directive: grade.Directive, Value: list.Value, Line: grade.Line, Default: grade.Default}
	if !list.Default {
		s.Suites.Directive, s.Suites.Line, s.Suites.Default = list.Directive, list.Line, false
	}
	for word := range strings.FieldsFuncSeq(exclude, func(c rune) bool {
		return c == ',' || c == ' ' || c == ':' ||
			c == '\t'
	}) {
		s.Suites.Value += ":!" + word
	}
	if !strings.Contains(s.Suites.Value, "@SECLEVEL") {
		s.Suites.Value += ":@SECLEVEL=0" // to which the server sets the library itself
	}
	s.Groups = value("tls_eecdh_auto_curves")
	if g := value("smtpd_tls_eecdh_grade"); g.Value == "none" {
		s.Groups = g
	}
	s.Groups.Value = strings.Join(strings.FieldsFunc(s.Groups.Value, func(c rune) bool {
		return c == ',' || c == ' ' ||
			c == ':'
	}), ":")
	s.OrderBy, s.Order = value("tls_preempt_cipherlist"), facts.ClientOrder
	if yes(s.OrderBy.Value) {
		s.Order = facts.ServerOrder
	}
	s.Clients = value("smtpd_tls_ask_ccert")
	if x := value("smtpd_tls_req_ccert"); yes(x.Value) {
		s.Clients = x
	}
	if yes(s.Clients.Value) { // an anonymous handshake has no client certificate, so the server takes such suites out
		s.Suites.Value += ":!aNULL"
	}
	if x := value("smtpd_tls_dh1024_param_file"); x.Given() && x.Value != "" && x.Value != "auto" {
		s.FiniteField = p.names(facts.RoleParameters, x, directory)
	}
}
