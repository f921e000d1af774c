package serverconf

import (
	"fmt"
	"slices"
	"strings"
)

// Shape is how key, leaf and intermediates are put into files.
type Shape string

// The shapes.
const (
	Bundle   Shape = "bundle"   // leaf and intermediates in one file
	Split    Shape = "split"    // leaf, and intermediates apart
	Combined Shape = "combined" // key, leaf and intermediates in one file
	Pieces   Shape = "pieces"   // each CA certificate by itself, root first, then the leaf
	Keystore Shape = "keystore" // PKCS#12 or a Java keystore
	DER      Shape = "der"      // each certificate by itself, in DER
)

// Shapes are all of them.
func Shapes() []Shape { return []Shape{Bundle, Split, Combined, Pieces, Keystore, DER} }

// Part is what a file holds, for the line that names it.
type Part string

// The parts.
const (
	PartBundle   Part = "bundle"
	PartLeaf     Part = "leaf"
	PartChain    Part = "chain"
	PartKey      Part = "key"
	PartCombined Part = "combined"
	PartKeystore Part = "keystore"
	PartRoot     Part = "root"
)

// Server is one kind of server.
type Server struct {
	Name    string
	Aliases []string // other names that people call it by, in lower case
	Form    string   // of a line: the directive, then the value
	Serves  []string // the schemes of endpoints that it usually serves
	Shape   Shape    // the files that it wants
	Files   []Directive
	Reload  string // what makes it read them
}

// Directive names a file in the configuration.
type Directive struct {
	Part Part
	Name string
	Form string // instead of the server's
}

// servers in the order in which they are shown, the common ones of a scheme first.
var servers = []Server{
	{Name: "nginx", Form: "%s %s;", Serves: []string{"https"}, Shape: Bundle, Reload: "nginx -s reload",
		Files: []Directive{{Part: PartBundle, Name: "ssl_certificate"}, {Part: PartKey, Name: "ssl_certificate_key"}}},
	{Name: "Apache", Aliases: []string{"httpd", "apache2"}, Form: "%s %s", Serves: []string{"https"}, Shape: Bundle,
		Reload: "apachectl graceful",
		Files: []Directive{{Part: PartBundle, Name: "SSLCertificateFile"},
			{Part: PartKey, Name: "SSLCertificateKeyFile"}}},
	{Name: "HAProxy", Form: "%s %s", Serves: []string{"https"}, Shape: Combined, Reload: "systemctl reload haproxy",
		Files: []Directive{{Part: PartCombined, Name: "bind :443 ssl crt"}}},
	{Name: "lighttpd", Form: "%s = %q", Serves: []string{"https"}, Shape: Bundle, Reload: "systemctl reload lighttpd",
		Files: []Directive{{Part: PartBundle, Name: "ssl.pemfile"}, {Part: PartKey, Name: "ssl.privkey"}}},
	{Name: "Tomcat", Aliases: []string{"java"}, Form: `<Certificate %s="%s"/>`, Serves: []string{"https"}, Shape: Keystore,
		Reload: "systemctl restart tomcat10",
		Files:  []Directive{{Part: PartKeystore, Name: "certificateKeystoreFile"}}},
	{Name: "Postfix", Form: "%s = %s", Serves: []string{"smtp", "smtps", "submission"}, Shape: Bundle,
		Reload: "postfix reload",
		Files: []Directive{{Part: PartBundle, Name: "smtpd_tls_cert_file"}, {Part: PartKey,
			Name: "smtpd_tls_key_file"}}},
	{Name: "Exim", Aliases: []string{"exim4"}, Form: "%s = %s", Serves: []string{"smtp", "smtps", "submission"},
		Shape: Bundle, Reload: "systemctl reload exim4",
		Files: []Directive{{Part: PartBundle, Name: "tls_certificate"}, {Part: PartKey, Name: "tls_privatekey"}}},
	{Name: "Dovecot", Form: "%s = %s", Serves: []string{"lmtp", "imap", "imaps", "pop3", "pop3s", "sieve"},
		Shape:  Bundle,
		Reload: "doveadm reload",
		Files: []Directive{{Part: PartBundle, Name: "ssl_cert", Form: "%s = <%s"}, {Part: PartKey, Name: "ssl_key",
			Form: "%s = <%s"}}},
	{Name: "slapd", Aliases: []string{"openldap"}, Form: "%s %s", Serves: []string{"ldap", "ldaps"}, Shape: Split,
		Reload: "systemctl restart slapd",
		Files: []Directive{{Part: PartLeaf, Name: "TLSCertificateFile"}, {Part: PartKey, Name: "TLSCertificateKeyFile"},
			{Part: PartChain, Name: "TLSCACertificateFile"}}},
	{Name: "vsftpd", Form: "%s=%s", Serves: []string{"ftp", "ftps"}, Shape: Bundle, Reload: "systemctl restart vsftpd",
		Files: []Directive{{Part: PartBundle, Name: "rsa_cert_file"}, {Part: PartKey, Name: "rsa_private_key_file"}}},
	{Name: "Prosody", Form: "ssl = { %s = %s }", Serves: []string{"xmpp", "xmpps", "xmpp-server"}, Shape: Bundle,
		Reload: "prosodyctl reload",
		Files: []Directive{{Part: PartBundle, Name: "certificate", Form: "ssl = { %s = %q }"},
			{Part: PartKey, Name: "key", Form: "ssl = { %s = %q }"}}},
	{Name: "PostgreSQL", Aliases: []string{"postgres"}, Form: "%s = '%s'", Serves: []string{"postgres"}, Shape: Bundle,
		Reload: "SELECT pg_reload_conf();",
		Files:  []Directive{{Part: PartBundle, Name: "ssl_cert_file"}, {Part: PartKey, Name: "ssl_key_file"}}},
	{Name: "MariaDB", Aliases: []string{"mysql"}, Form: "%s = %s", Serves: []string{"mysql"}, Shape: Bundle,
		Reload: "FLUSH SSL;",
		Files:  []Directive{{Part: PartBundle, Name: "ssl_cert"}, {Part: PartKey, Name: "ssl_key"}}},
}

// Servers are all kinds of server.
func Servers() []Server { return slices.Clone(servers) }

// Find is the server that people call so, in any case.
func Find(name string) (Server, error) {
	var names []string
	for _, s := range servers {
		names = append(names, strings.ToLower(s.Name))
		if strings.EqualFold(s.Name, name) || slices.Contains(s.Aliases, strings.ToLower(name)) {
			return s, nil
		}
	}
	return Server{}, fmt.Errorf("the server %q is not known; there are %s", name, strings.Join(names, ", "))
}

// Serving are the names of the servers that usually serve a scheme, the common ones first.
func Serving(scheme string) []string {
	var out []string
	for _, s := range servers {
		if slices.Contains(s.Serves, scheme) {
			out = append(out, s.Name)
		}
	}
	return out
}

// Line is how the server writes a directive with its value.
func Line(server, directive, value string) string {
	for _, s := range servers {
		if s.Name == server {
			return fmt.Sprintf(s.Form, directive, value)
		}
	}
	return directive + " " + value
}

// Lines name the files in the server's configuration; parts without a file have no line.
func (s Server) Lines(paths map[Part]string) []string {
	var out []string
	for _, d := range s.Files {
		form := d.Form
		if form == "" {
			form = s.Form
		}
		if path := paths[d.Part]; path != "" {
			out = append(out, fmt.Sprintf(form, d.Name, path))
		}
	}
	return out
}
