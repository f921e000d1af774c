package serverconf

import (
	"encoding/base64"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"nurvik/core/facts"
)

var slapd = Server{Name: "slapd", Aliases: []string{"openldap"}, Form: "%s %s", Serves: []string{"ldap", "ldaps"},
	Shape:  Split,
	Reload: "systemctl restart slapd", Check: "slaptest -u",
	Files: []FileDirective{{Part: PartLeaf, Name: "TLSCertificateFile"}, {Part: PartKey, Name: "TLSCertificateKeyFile"},
		{Part: PartChain, Name: "TLSCACertificateFile"}},
	Main: []string{"/etc/ldap/slapd.conf",
		"/etc/ldap/slapd.d/cn=config.ldif"}, Packages: []string{"slapd"}, Library: GnuTLS,
	Recognise: recogniseSlapd, read: readSlapd,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "TLSCipherSuite", Value: "SECURE128:-VERS-ALL" +
			v.pick(":+VERS-TLS1.3:+VERS-TLS1.2", ":+VERS-TLS1.2", ":+VERS-TLS1.3")}, true
	}}

var slapdSetting = regexp.MustCompile(`(?mi)^(database|suffix|rootdn|modulepath|TLSCertificateFile|TLSCACertificateFile)\s`)

func recogniseSlapd(path, text string) Likeness {
	switch {
	case strings.HasSuffix(path, "cn=config.ldif") && strings.Contains(text, "olcGlobal"):
		return IsMain
	case filepath.Base(path) == "slapd.conf" && slapdSetting.MatchString(text):
		return IsMain
	}
	return IsOther
}

// slapdTLS are the settings of both forms, without "olc".
var slapdTLS = words(`TLSCACertificate TLSCACertificateFile TLSCACertificatePath TLSCertificate TLSCertificateFile
	TLSCertificateKey TLSCertificateKeyFile TLSCipherSuite TLSCRLCheck TLSCRLFile TLSDHParamFile TLSECName
	TLSProtocolMin
	TLSRandFile TLSVerifyClient`)

// slapdReader reads one configuration of either form.
type slapdReader struct {
	*reading
	settings map[string]facts.Setting
}

func readSlapd(r *reading, path string) {
	s := &slapdReader{r, map[string]facts.Setting{}}
	r.user = "openldap"
	if strings.HasSuffix(path, ".ldif") {
		s.ldif(path)
	} else {
		s.file(path, facts.Line{File: path})
	}
	s.site()
}

// file reads slapd.conf and what it includes.
func (s *slapdReader) file(path string, from facts.Line) {
	s.within(path, from, func(text string) {
		for _, l := range logicalLines(text, byIndent, "#") {
			args, ok := fields(l.text)
			line := facts.Line{File: path, Line: l.first}
			if !s.one(line) || len(args) == 0 {
				return
			}
			if !ok {
				s.broken(line, facts.ConfSyntax, "a quote is not closed")
			}
			if strings.EqualFold(args[0], "include") && len(args) > 1 {
				file := s.absolute(args[1], filepath.Dir(path))
				if strings.HasSuffix(file, ".schema") { // schemas have nothing about TLS, and there are many
					continue
				}
				s.file(file, line)
				continue
			}
			s.set(settingOf(path, l, args[0], strings.Join(args[1:], " ")))
		}
	})
}

// ldif reads the entry cn=config (RFC 2849): folded lines, and values in base64 behind two colons.
func (s *slapdReader) ldif(path string) {
	s.within(path, facts.Line{File: path}, func(text string) {
		var lines []textLine
		for i, line := range strings.Split(text, "\n") {
			line = strings.TrimSuffix(line, "\r")
			if rest, folded := strings.CutPrefix(line, " "); folded && len(lines) > 0 {
				lines[len(lines)-1].text += rest
				lines[len(lines)-1].last = i + 1
				continue
			}
			if line == "" || line[0] == '#' {
				continue
			}
			lines = append(lines, textLine{line, i + 1, i + 1})
		}
		for _, l := range lines {
			name, value, ok := strings.Cut(l.text, ":")
			if !ok || !s.one(facts.Line{File: path, Line: l.first}) {
				continue
			}
			if encoded, is := strings.CutPrefix(value, ":"); is {
				decoded, err := base64.StdEncoding.DecodeString(strings.TrimSpace(encoded))
				if err != nil {
					s.broken(facts.Line{File: path, Line: l.first}, facts.ConfSyntax,
						"the value of "+name+" is no base64")
					continue
				}
				value = string(decoded)
			}
			s.set(settingOf(path, l, name, strings.TrimSpace(value)))
		}
	})
}

func (s *slapdReader) set(x facts.Setting) {
	name := strings.TrimPrefix(strings.ToLower(x.Directive), "olc")
	if !strings.HasPrefix(name, "tls") {
		return
	}
	if !slices.ContainsFunc(slapdTLS, func(known string) bool { return strings.EqualFold(known, name) }) {
		s.unknown(&Directive{Name: x.Directive, Line: x.Line}, slapdTLS)
		return
	}
	s.settings[name] = x
}

var slapdServices = regexp.MustCompile(`(?m)^\s*SLAPD_SERVICES=["']?([^"'\n]*)`)

func (s *slapdReader) site() {
	services := "ldap:/// ldapi:///"
	at := facts.Line{File: s.c.Path}
	path := s.m.At("/etc/default/slapd")
	if data, err := s.m.read(path); err == nil {
		if m := slapdServices.FindStringSubmatchIndex(string(data)); m != nil {
			services = string(data)[m[2]:m[3]]
			at = facts.Line{File: path, Line: strings.Count(string(data)[:m[0]], "\n") + 1}
		}
	}
	site := facts.Site{Line: facts.Line{File: s.c.Path}}
	one := func(name string) facts.Setting { return s.settings[name] }
	c, k := one("tlscertificatefile"), one("tlscertificatekeyfile")
	site.Off = !c.Given()
	if c.Given() {
		site.Line = c.Line
		id := facts.Identity{Certificate: s.names(facts.RoleCertificate, c, "/")}
		if k.Given() {
			id.Key = s.names(facts.RoleKey, k, "/")
		} else {
			s.broken(c.Line, facts.ConfMissingPart, c.Directive, "TLSCertificateKeyFile")
		}
		if ca := one("tlscacertificatefile"); ca.Given() { // with which the server completes its chain too
			id.Chain = s.names(facts.RoleChain, ca, "/")
			site.Authorities = []facts.Setting{id.Chain}
		}
		site.Identities = []facts.Identity{id}
	}
	for service := range strings.FieldsSeq(services) {
		scheme, rest, ok := strings.Cut(service, "://")
		port := map[string]uint16{"ldap": 389, "ldaps": 636}[scheme]
		if !ok || port == 0 {
			continue
		}
		host, port, ok := hostPort(strings.TrimSuffix(rest, "/"), port)
		if !ok {
			host, port = "", map[string]uint16{"ldap": 389, "ldaps": 636}[scheme]
		}
		if site.Off {
			scheme = "http"
		}
		site.Listens = append(site.Listens, facts.Listen{Setting: facts.Setting{Directive: "SLAPD_SERVICES",
			Value: service,
			Line:  at}, Address: host, Port: port, Scheme: scheme, DefaultSite: true})
	}
	s.priorities(&site)
	s.c.Sites = append(s.c.Sites, site)
}

// slapdVersions are the numbers of versions in TLSProtocolMin, as they stand on the wire.
var slapdVersions = map[string]string{"3.0": "SSL 3.0", "3.1": "TLS 1.0", "3.2": "TLS 1.1", "3.3": "TLS 1.2",
	"3.4": "TLS 1.3"}

func (s *slapdReader) priorities(site *facts.Site) {
	site.Versions = between("TLS 1.0", "")
	site.Suites = facts.Setting{Directive: "TLSCipherSuite", Value: "NORMAL", Default: true}
	if x := s.settings["tlsciphersuite"]; x.Given() {
		site.Suites = x
	}
	site.VersionsBy = []facts.Setting{site.Suites}
	if x := s.settings["tlsprotocolmin"]; x.Given() {
		lowest := slapdVersions[x.Value]
		if lowest == "" {
			s.broken(x.Line, facts.ConfBadValue, x.Directive, x.Value)
		}
		site.Versions, site.VersionsBy = between(max(lowest, "TLS 1.0"), ""), []facts.Setting{x}
	}
	site.Order = facts.ClientOrder
	if x := s.settings["tlsverifyclient"]; x.Given() {
		site.Clients = x
	}
	if x := s.settings["tlsdhparamfile"]; x.Given() {
		site.FiniteField = s.names(facts.RoleParameters, x, "/")
	}
	site.NoDHE = !site.FiniteField.Given()
}
