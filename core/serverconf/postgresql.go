package serverconf

import (
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/facts"
)

var postgresql = Server{Name: "PostgreSQL", Aliases: []string{"postgres"}, Form: "%s = '%s'",
	Serves: []string{"postgres"},
	Shape:  Bundle, Reload: "SELECT pg_reload_conf();",
	Files:     []FileDirective{{Part: PartBundle, Name: "ssl_cert_file"}, {Part: PartKey, Name: "ssl_key_file"}},
	Packages:  []string{"postgresql-17", "postgresql-16", "postgresql-15", "postgresql-14", "postgresql-13"},
	Recognise: recognisePostgreSQL, read: readPostgreSQL,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "ssl_min_protocol_version", Value: v.pick("TLSv1.2", "TLSv1.2", "TLSv1.3"),
			Note: v.pick("", "and ssl_max_protocol_version = 'TLSv1.2'", "")}, true
	}}

var postgresqlSetting = regexp.MustCompile(`(?m)^\s*#?\s*(listen_addresses|shared_buffers|max_connections|ssl_cert_file)\s*=`)

func recognisePostgreSQL(path, text string) Likeness {
	if filepath.Base(path) == "postgresql.conf" && postgresqlSetting.MatchString(text) {
		return IsMain
	}
	return IsOther
}

var postgresqlTLS = words(`ssl ssl_ca_file ssl_cert_file ssl_ciphers ssl_crl_dir ssl_crl_file ssl_dh_params_file ssl_ecdh_curve
	ssl_groups ssl_key_file ssl_library ssl_max_protocol_version ssl_min_protocol_version ssl_passphrase_command
	ssl_passphrase_command_supports_reload ssl_prefer_server_ciphers ssl_tls13_ciphers ssl_sni ssl_renegotiation_limit`)

// postgresqlReader reads one configuration; of a setting the last line counts.
type postgresqlReader struct {
	*reading
	settings map[string]facts.Setting
}

func readPostgreSQL(r *reading, path string) {
	p := &postgresqlReader{r, map[string]facts.Setting{}}
	r.user = "postgres"
	p.file(path, facts.Line{File: path})
	directory := filepath.Dir(path)
	if x, set := p.settings["data_directory"]; set {
		directory = r.absolute(x.Value, directory)
	}
	auto := filepath.Join(directory, "postgresql.auto.conf")
	if found, _ := r.m.list(auto); len(found) > 0 {
		p.file(auto, facts.Line{File: path})
	}
	p.site(directory)
}

func (p *postgresqlReader) file(path string, from facts.Line) {
	p.within(path, from, func(text string) {
		for _, l := range logicalLines(text, never, "#") {
			line := facts.Line{File: path, Line: l.first}
			if !p.one(line) {
				return
			}
			name, value := assignment(l.text)
			name = strings.ToLower(name)
			directory := filepath.Dir(path)
			switch name {
			case "include", "include_if_exists":
				file := p.absolute(value, directory)
				if found, _ := p.m.list(file); len(found) > 0 || name == "include" {
					p.file(file, line)
				}
				continue
			case "include_dir":
				for _, file := range p.matching(filepath.Join(p.absolute(value, directory), "*.conf"), line) {
					p.file(file, line)
				}
				continue
			}
			if strings.HasPrefix(name, "ssl") && !slices.Contains(postgresqlTLS, name) {
				p.unknown(&Directive{Name: name, Line: line}, postgresqlTLS)
				continue
			}
			p.settings[name] = settingOf(path, l, name, value)
		}
	})
}

func (p *postgresqlReader) site(directory string) {
	one := func(name, otherwise string) facts.Setting {
		if x, set := p.settings[name]; set {
			return x
		}
		return facts.Setting{Directive: name, Value: otherwise, Default: true}
	}
	on := one("ssl", "off")
	s := facts.Site{Line: on.Line, Off: !yes(on.Value)}
	if s.File == "" {
		s.File = p.c.Path
	}
	port := one("port", "5432")
	number, err := strconv.ParseUint(port.Value, 10, 16)
	if err != nil {
		p.broken(port.Line, facts.ConfBadValue, "port", port.Value)
		number = 5432
	}
	scheme := "postgres"
	if s.Off {
		scheme = "http"
	}
	for address := range strings.FieldsFuncSeq(one("listen_addresses", "localhost").Value,
		func(c rune) bool { return c == ',' || c == ' ' }) {
		if address == "*" || address == "0.0.0.0" || address == "::" {
			address = ""
		}
		s.Listens = append(s.Listens, facts.Listen{Setting: port, Address: address, Port: uint16(number),
			Scheme: scheme, DefaultSite: true})
	}
	if !s.Off {
		s.Identities = []facts.Identity{{Certificate: p.names(facts.RoleCertificate, one("ssl_cert_file", "server.crt"),
			directory),
			Key: p.names(facts.RoleKey, one("ssl_key_file", "server.key"), directory)}}
		p.tls(&s, one, directory)
	}
	p.c.Sites = append(p.c.Sites, s)
}

func (p *postgresqlReader) tls(s *facts.Site, one func(name, otherwise string) facts.Setting, directory string) {
	if x := one("ssl_ca_file", ""); x.Value != "" {
		s.Authorities = append(s.Authorities, p.names(facts.RoleAuthorities, x, directory))
		s.Clients = x
	}
	usual := "TLSv1.2"
	if !atLeast(p.c.Release, 13) {
		usual = "TLSv1"
	}
	lowest, highest := one("ssl_min_protocol_version", usual), one("ssl_max_protocol_version", "")
	for _, x := range []facts.Setting{lowest, highest} {
		if x.Value != "" && opensslVersions[x.Value] == "" {
			p.broken(x.Line, facts.ConfBadValue, x.Directive, x.Value)
		}
	}
	s.Versions = between(opensslVersions[lowest.Value], opensslVersions[highest.Value])
	s.VersionsBy = []facts.Setting{lowest, highest}
	s.Suites = one("ssl_ciphers", "HIGH:MEDIUM:+3DES:!aNULL")
	if x := one("ssl_tls13_ciphers", ""); x.Value != "" {
		s.Suites13 = x
	}
	s.Groups = one("ssl_ecdh_curve", "prime256v1")
	if x := one("ssl_groups", ""); x.Value != "" {
		s.Groups = x
	}
	s.OrderBy, s.Order = one("ssl_prefer_server_ciphers", "on"), facts.ClientOrder
	if yes(s.OrderBy.Value) {
		s.Order = facts.ServerOrder
	}
	if x := one("ssl_dh_params_file", ""); x.Value != "" {
		s.FiniteField = p.names(facts.RoleParameters, x, directory)
	}
	if x := one("ssl_renegotiation_limit", ""); !x.Default {
		s.Obsolete = append(s.Obsolete, x)
	}
}
