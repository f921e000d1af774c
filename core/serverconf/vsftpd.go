package serverconf

import (
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"nurvik/core/facts"
)

var vsftpd = Server{Name: "vsftpd", Form: "%s=%s", Serves: []string{"ftp", "ftps"}, Shape: Bundle,
	Reload: "systemctl restart vsftpd",
	Files:  []FileDirective{{Part: PartBundle, Name: "rsa_cert_file"}, {Part: PartKey, Name: "rsa_private_key_file"}},
	Main:   []string{"/etc/vsftpd.conf", "/etc/vsftpd/vsftpd.conf"}, Packages: []string{"vsftpd"},
	Recognise: recogniseVsftpd, SystemVersions: true, read: readVsftpd,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "ssl_ciphers", Value: "ECDHE+AESGCM:ECDHE+CHACHA20",
			Note: "it cannot choose versions; these cipher suites need TLS 1.2 or later"}, v.TLS12
	}}

var vsftpdSetting = regexp.MustCompile(`(?m)^(anonymous_enable|local_enable|listen|rsa_cert_file|ssl_enable|pasv_enable)=`)

func recogniseVsftpd(path, text string) Likeness {
	if strings.Contains(filepath.Base(path), "vsftpd") && vsftpdSetting.MatchString(text) {
		return IsMain
	}
	return IsOther
}

var vsftpdTLS = words(`ssl_enable ssl_tlsv1 ssl_tlsv1_1 ssl_tlsv1_2 ssl_tlsv1_3 ssl_sslv2 ssl_sslv3 ssl_ciphers ssl_request_cert
	ssl_sni_hostname`)

func readVsftpd(r *reading, path string) {
	settings := map[string]facts.Setting{}
	r.user = "root"
	r.within(path, facts.Line{File: path}, func(text string) {
		for _, l := range logicalLines(text, never, "#") {
			line := facts.Line{File: path, Line: l.first}
			name, value, ok := strings.Cut(l.text, "=")
			switch {
			case !r.one(line):
				return
			case !ok:
				r.broken(line, facts.ConfSyntax, "the line has no \"=\"")
				continue
			case strings.TrimSpace(name) != name || value != "" && value[0] == ' ':
				r.broken(line, facts.ConfSyntax, "this server allows no white space around \"=\"")
				continue
			}
			if strings.HasPrefix(name, "ssl_") && !slices.Contains(vsftpdTLS, name) {
				r.unknown(&Directive{Name: name, Line: line}, vsftpdTLS)
			}
			settings[name] = settingOf(path, l, name, value)
		}
	})
	one := func(name, otherwise string) facts.Setting {
		if x, set := settings[name]; set {
			return x
		}
		return facts.Setting{Directive: name, Value: otherwise, Default: true}
	}
	s := facts.Site{Line: one("ssl_enable", "NO").Line, Off: !yes(one("ssl_enable", "NO").Value)}
	s.File = path
	scheme, port := "ftp", one("listen_port", "21")
	if yes(one("implicit_ssl", "NO").Value) {
		scheme = "ftps"
	}
	if s.Off {
		scheme = "http"
	}
	host, number, ok := hostPort(port.Value, 21)
	if !ok {
		r.broken(port.Line, facts.ConfBadValue, port.Directive, port.Value)
		number = 21
	}
	if x := one("listen_address", ""); !x.Default {
		host = x.Value
	}
	s.Listens = []facts.Listen{{Setting: port, Address: host, Port: number, Scheme: scheme, DefaultSite: true}}
	if !s.Off {
		c, k := one("rsa_cert_file", "/usr/share/ssl/certs/vsftpd.pem"), one("rsa_private_key_file", "")
		if e := one("ecdsa_cert_file", ""); !e.Default {
			c, k = e, one("ecdsa_private_key_file", "")
		}
		id := facts.Identity{Certificate: r.names(facts.RoleCertificate, c, "/")}
		if !k.Default {
			id.Key = r.names(facts.RoleKey, k, "/")
		}
		s.Identities = []facts.Identity{id}
		vsftpdVersions(r, &s, one)
	}
	r.c.Sites = append(r.c.Sites, s)
}

func vsftpdVersions(r *reading, s *facts.Site, one func(name, otherwise string) facts.Setting) {
	usual := "DES-CBC3-SHA"
	if atLeast(r.c.Release, 3, 0, 4) {
		usual = "ECDHE-RSA-AES256-GCM-SHA384"
	}
	s.Suites = one("ssl_ciphers", usual)
	for _, v := range []struct{ setting, version, usual string }{{"ssl_sslv3", "SSL 3.0", "NO"},
		{"ssl_tlsv1", "TLS 1.0", "YES"},
		{"ssl_tlsv1_1", "TLS 1.1", "YES"}, {"ssl_tlsv1_2", "TLS 1.2", "YES"}, {"ssl_tlsv1_3", "TLS 1.3", "YES"}} {
		x := one(v.setting, v.usual)
		if yes(x.Value) {
			s.Versions = append(s.Versions, v.version)
		}
		s.VersionsBy = append(s.VersionsBy, x)
	}
	s.Order, s.OrderBy = facts.ClientOrder, facts.Setting{Directive: "ssl_ciphers", Value: "the client's",
		Default: true}
	s.Groups = facts.Setting{Directive: "ssl_ciphers", Value: "auto", Default: true}
	s.NoDHE = true
	s.Clients = one("ssl_request_cert", "YES")
	if x := one("ca_certs_file", ""); !x.Default {
		s.Authorities = append(s.Authorities, r.names(facts.RoleAuthorities, x, "/"))
	}
	for _, name := range []string{"ssl_sslv2", "ssl_sslv3"} {
		if x := one(name, "NO"); !x.Default && yes(x.Value) {
			s.Obsolete = append(s.Obsolete, x)
		}
	}
}
