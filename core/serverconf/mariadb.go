package serverconf

import (
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/facts"
)

var mariadb = Server{Name: "MariaDB", Aliases: []string{"mysql"}, Form: "%s = %s", Serves: []string{"mysql"},
	Shape:  Bundle,
	Reload: "FLUSH SSL;", Check: "mariadbd --help --verbose",
	Files: []FileDirective{{Part: PartBundle, Name: "ssl_cert"}, {Part: PartKey, Name: "ssl_key"}},
	Main:  []string{"/etc/mysql/my.cnf", "/etc/my.cnf"}, Packages: []string{"mariadb-server", "mysql-server"},
	Recognise: recogniseMariaDB, read: readMariaDB, SystemVersions: true,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "tls_version", Value: v.pick("TLSv1.2,TLSv1.3", "TLSv1.2", "TLSv1.3")}, true
	}}

var (
	mariadbGroup = regexp.MustCompile(`(?m)^\s*\[(mysqld|mariadbd?|server|client-server|mysqld-[\d.]+|mariadb-[\d.]+|mariadbd-[\d.]+)\]`)
	mariadbDir   = regexp.MustCompile(`(?m)^!include(dir)?\s`)
)

func recogniseMariaDB(path, text string) Likeness {
	switch base := filepath.Base(path); {
	case (base == "my.cnf" || base == "mariadb.cnf") && (mariadbGroup.MatchString(text) ||
		mariadbDir.MatchString(text)):
		return IsMain
	case strings.HasSuffix(base, ".cnf") && mariadbGroup.MatchString(text):
		return IsFragment
	}
	return IsOther
}

var mariadbTLS = words(`ssl ssl-ca ssl-capath ssl-cert ssl-cipher ssl-crl ssl-crlpath ssl-key ssl-passphrase tls-version
	ssl-verify-server-cert ssl-fips-mode`)

// mariadbReader reads one configuration; of an option the last line counts.
type mariadbReader struct {
	*reading
	options map[string]facts.Setting
}

func readMariaDB(r *reading, path string) {
	m := &mariadbReader{r, map[string]facts.Setting{}}
	r.user = "mysql"
	m.file(path, facts.Line{File: path})
	m.site()
}

func (m *mariadbReader) file(path string, from facts.Line) {
	m.within(path, from, func(text string) {
		server := false
		for _, l := range logicalLines(text, never, "#;") {
			line := facts.Line{File: path, Line: l.first}
			text := strings.TrimSpace(l.text)
			switch {
			case !m.one(line):
				return
			case strings.HasPrefix(text, "!includedir"):
				directory := m.absolute(strings.TrimSpace(strings.TrimPrefix(text, "!includedir")), filepath.Dir(path))
				for _, file := range m.matching(filepath.Join(directory, "*.cnf"), line) {
					m.file(file, line)
				}
			case strings.HasPrefix(text, "!include"):
				m.file(m.absolute(strings.TrimSpace(strings.TrimPrefix(text, "!include")), filepath.Dir(path)), line)
			case strings.HasPrefix(text, "["):
				server = mariadbGroup.MatchString(text)
			case server:
				m.option(path, l)
			}
		}
	})
}

// option reads one option of the server; names may be written with hyphens or underscores.
func (m *mariadbReader) option(path string, l textLine) {
	name, value := assignment(l.text)
	name = strings.ReplaceAll(strings.TrimPrefix(name, "loose-"), "_", "-")
	if skip, is := strings.CutPrefix(name, "skip-"); is && skip == "ssl" {
		name, value = "ssl", "0"
	} else if value == "" && !strings.Contains(l.text, "=") {
		value = "1"
	}
	x := settingOf(path, l, name, value)
	written, _ := assignment(l.text)
	x.Directive = written
	if (strings.HasPrefix(name, "ssl") || strings.HasPrefix(name, "tls")) && !slices.Contains(mariadbTLS, name) {
		m.unknown(&Directive{Name: written, Line: x.Line}, mariadbTLS)
		return
	}
	m.options[name] = x
}

func (m *mariadbReader) site() {
	one := func(name, otherwise string) facts.Setting {
		if x, set := m.options[name]; set {
			return x
		}
		return facts.Setting{Directive: name, Value: otherwise, Default: true}
	}
	c, k := one("ssl-cert", ""), one("ssl-key", "")
	s := facts.Site{Line: c.Line, Off: c.Value == "" || one("ssl", "1").Value == "0"}
	if s.File == "" {
		s.File = m.c.Path
	}
	port := one("port", "3306")
	number, err := strconv.ParseUint(port.Value, 10, 16)
	if err != nil {
		m.broken(port.Line, facts.ConfBadValue, port.Directive, port.Value)
		number = 3306
	}
	address := one("bind-address", "").Value
	if address == "*" || address == "0.0.0.0" || address == "::" {
		address = ""
	}
	scheme := "mysql"
	if s.Off {
		scheme = "http"
	}
	if x := one("skip-networking", "0"); !yes(x.Value) {
		for host := range strings.SplitSeq(address, ",") {
			s.Listens = append(s.Listens, facts.Listen{Setting: port, Address: host, Port: uint16(number),
				Scheme: scheme, DefaultSite: true})
		}
	}
	if s.Off {
		m.c.Sites = append(m.c.Sites, s)
		return
	}
	directory := one("datadir", "/var/lib/mysql").Value
	id := facts.Identity{Certificate: m.names(facts.RoleCertificate, c, directory)}
	if k.Value != "" {
		id.Key = m.names(facts.RoleKey, k, directory)
	} else {
		m.broken(c.Line, facts.ConfMissingPart, c.Directive, "ssl_key")
	}
	s.Identities = []facts.Identity{id}
	if x := one("ssl-ca", ""); x.Value != "" {
		s.Authorities = append(s.Authorities, m.names(facts.RoleAuthorities, x, directory))
	}
	usual := "TLSv1.2,TLSv1.3"
	if !atLeast(m.c.Release, 11, 4) {
		usual = "TLSv1.1,TLSv1.2,TLSv1.3"
	}
	versions := one("tls-version", usual)
	s.VersionsBy, s.Versions = []facts.Setting{versions}, m.versions(versions, opensslVersions)
	s.Suites = one("ssl-cipher", "DEFAULT")
	s.Suites13 = newestOf(s.Suites)
	s.Groups = facts.Setting{Directive: "ssl_cipher", Value: "auto", Default: true}
	s.Order = facts.ClientOrder
	m.c.Sites = append(m.c.Sites, s)
}

// newestOf are the suites of TLS 1.3 in the list for all versions, which hold there alone; without any all of them do.
func newestOf(list facts.Setting) facts.Setting {
	words := strings.FieldsFunc(list.Value, func(c rune) bool { return strings.ContainsRune(":, ", c) })
	words = slices.DeleteFunc(words, func(word string) bool { return !strings.HasPrefix(word, "TLS_") })
	if len(words) == 0 {
		return facts.Setting{}
	}
	list.Value = strings.Join(words, ":")
	return list
}
