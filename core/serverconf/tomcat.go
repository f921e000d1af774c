package serverconf

import (
	"encoding/xml"
	"errors"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/facts"
)

var tomcat = Server{Name: "Tomcat", Aliases: []string{"java"}, Form: `<Certificate %s="%s"/>`, Serves: []string{"https"},
	Shape: Keystore, Reload: "systemctl restart tomcat10",
	Files:    []FileDirective{{Part: PartKeystore, Name: "certificateKeystoreFile"}},
	Main:     []string{"/etc/tomcat9/server.xml", "/etc/tomcat10/server.xml", "/etc/tomcat11/server.xml"},
	Packages: []string{"tomcat11", "tomcat10", "tomcat9"}, Library: Java,
	Apart: true, Recognise: recogniseTomcat, read: readTomcat,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "protocols", Value: v.pick("TLSv1.2,TLSv1.3", "TLSv1.2", "TLSv1.3")}, true
	}}

func recogniseTomcat(path, text string) Likeness {
	if strings.Contains(text, "<Server") && strings.Contains(text, "<Connector") && strings.HasSuffix(path, ".xml") {
		return IsMain
	}
	return IsOther
}

// element is one of XML, with its attributes and the line that it begins in.
type element struct {
	name     string
	attrs    map[string]string
	line     int
	last     int
	children []*element
}

// attr is an attribute by one of its names, in any case, as older releases wrote some otherwise.
func (e *element) attr(names ...string) (name, text string) {
	for _, wanted := range names {
		for name, text := range e.attrs {
			if strings.EqualFold(name, wanted) {
				return name, text
			}
		}
	}
	return "", ""
}

// deepestElement is how deep elements may lie in each other.
const deepestElement = 64

// elements reads a document.
func (r *reading) elements(path, text string) *element {
	decoder := xml.NewDecoder(strings.NewReader(text))
	decoder.Strict = true
	decoder.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	root := &element{}
	stack := []*element{root}
	for {
		line, _ := decoder.InputPos()
		t, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return root
		}
		if err != nil {
			line, _ = decoder.InputPos()
			var syntax *xml.SyntaxError
			if errors.As(err, &syntax) {
				err = errors.New(syntax.Msg)
			}
			r.broken(facts.Line{File: path, Line: line}, facts.ConfSyntax, err.Error())
			return root
		}
		switch t := t.(type) {
		case xml.StartElement:
			e := &element{name: t.Name.Local, attrs: map[string]string{}, line: line}
			for _, a := range t.Attr {
				e.attrs[a.Name.Local] = a.Value
			}
			if !r.one(facts.Line{File: path, Line: line}) || len(stack) > deepestElement {
				return root
			}
			top := stack[len(stack)-1]
			top.children = append(top.children, e)
			stack = append(stack, e)
		case xml.EndElement:
			stack[len(stack)-1].last, _ = decoder.InputPos()
			if len(stack) > 1 {
				stack = stack[:len(stack)-1]
			}
		}
	}
}

// tomcatReader reads one configuration.
type tomcatReader struct {
	*reading
	path string
	base string // CATALINA_BASE, which relative paths are below
}

func readTomcat(r *reading, path string) {
	t := &tomcatReader{r, path, filepath.Dir(filepath.Dir(path))}
	r.user = "tomcat"
	if strings.HasPrefix(filepath.Base(filepath.Dir(path)), "tomcat") { // Debian links conf to /etc/tomcat10
		t.base = r.m.At("/var/lib/" + filepath.Base(filepath.Dir(path)))
	}
	r.within(path, facts.Line{File: path}, func(text string) { t.walk(r.elements(path, text)) })
	markDefaults(r.c.Sites)
}

func (t *tomcatReader) walk(e *element) {
	for _, x := range e.children {
		if x.name == "Connector" {
			t.connector(x)
			continue
		}
		t.walk(x)
	}
}

func (t *tomcatReader) setting(e *element, otherwise string, names ...string) facts.Setting {
	if name, text := e.attr(names...); name != "" {
		return facts.Setting{Directive: name, Value: text, Line: t.lineOf(e, name)}
	}
	return facts.Setting{Directive: names[0], Value: otherwise, Default: true}
}

// lineOf is the line of an element that has the attribute.
func (t *tomcatReader) lineOf(e *element, name string) facts.Line {
	lines := t.c.Lines(t.path)
	for n := max(e.line, 1); n <= len(lines) && n < e.line+200; n++ {
		if strings.Contains(lines[n-1], name+"=") || strings.Contains(lines[n-1], name+" =") {
			return facts.Line{File: t.path, Line: n}
		}
	}
	return facts.Line{File: t.path, Line: e.line}
}

func (t *tomcatReader) connector(e *element) {
	if _, protocol := e.attr("protocol"); strings.Contains(strings.ToUpper(protocol), "AJP") {
		return
	}
	port := t.setting(e, "", "port")
	number, err := strconv.ParseUint(port.Value, 10, 16)
	if err != nil {
		t.trouble(facts.NotUnderstood, facts.Line{File: t.path, Line: e.line}, facts.ConfBadValue, "port", port.Value)
		return
	}
	_, enabled := e.attr("SSLEnabled")
	listen := facts.Listen{Setting: port, Port: uint16(number), Scheme: "http"}
	_, listen.Address = e.attr("address")
	if !strings.EqualFold(enabled, "true") {
		s := facts.Site{Line: facts.Line{File: t.path, Line: e.line}, Last: e.last, Off: true,
			Listens: []facts.Listen{listen}}
		if _, to := e.attr("redirectPort"); to != "" {
			s.Redirect = t.setting(e, "", "redirectPort")
		}
		t.c.Sites = append(t.c.Sites, s)
		return
	}
	listen.Scheme = "https"
	hosts := slices.DeleteFunc(slices.Clone(e.children), func(x *element) bool { return x.name != "SSLHostConfig" })
	if len(hosts) == 0 {
		hosts = []*element{e} // the older form: all on the connector
	}
	_, usual := e.attr("defaultSSLHostConfigName")
	for _, h := range hosts {
		t.host(e, h, listen, usual)
	}
}

func (t *tomcatReader) host(connector, h *element, listen facts.Listen, usual string) {
	s := facts.Site{Line: facts.Line{File: t.path, Line: h.line}, Last: h.last}
	_, name := h.attr("hostName")
	if name != "" && name != "_default_" {
		s.Names = []facts.Setting{t.setting(h, "", "hostName")}
	}
	listen.DefaultSite = name == usual || name == "" || name == "_default_" && usual == ""
	s.Listens = []facts.Listen{listen}
	certificates := slices.DeleteFunc(slices.Clone(h.children),
		func(x *element) bool { return x.name != "Certificate" })
	if len(certificates) == 0 {
		certificates = []*element{h}
	}
	for _, c := range certificates {
		t.identity(&s, c)
	}
	if _, impl := connector.attr("sslImplementationName"); strings.Contains(impl, "OpenSSL") {
		t.trouble(facts.PassedOver, s.Line, facts.ConfNotComputed, "sslImplementationName", "OpenSSL")
	}
	protocols := t.setting(h, "all", "protocols", "sslEnabledProtocols", "sslProtocol")
	s.VersionsBy, s.Versions = []facts.Setting{protocols}, t.protocols(protocols)
	s.Suites = t.setting(h, "HIGH:!aNULL:!eNULL:!EXPORT:!DES:!RC4:!MD5:!kRSA", "ciphers")
	s.OrderBy, s.Order = t.setting(h, "false", "honorCipherOrder", "useServerCipherSuitesOrder"), facts.ClientOrder
	if yes(s.OrderBy.Value) {
		s.Order = facts.ServerOrder
	}
	s.Clients = t.setting(h, "none", "certificateVerification", "clientAuth")
	for _, name := range []string{"caCertificateFile", "truststoreFile"} {
		if x := t.setting(h, "", name); !x.Default {
			s.Authorities = append(s.Authorities, t.file(facts.RoleAuthorities, x))
		}
	}
	t.c.Sites = append(t.c.Sites, s)
}

// identity reads a certificate: of a keystore, or of files.
func (t *tomcatReader) identity(s *facts.Site, c *element) {
	store := t.setting(c, "", "certificateKeystoreFile", "keystoreFile")
	file := t.setting(c, "", "certificateFile", "SSLCertificateFile")
	switch {
	case !store.Default:
		_, alias := c.attr("certificateKeyAlias", "keyAlias")
		if x := t.file(facts.RoleCertificate, store); x.Given() {
			s.Identities = append(s.Identities, facts.Identity{Alias: alias, Certificate: x})
		}
	case !file.Default:
		id := facts.Identity{Certificate: t.file(facts.RoleCertificate, file)}
		if k := t.setting(c, "", "certificateKeyFile", "SSLCertificateKeyFile"); !k.Default {
			id.Key = t.file(facts.RoleKey, k)
		}
		if x := t.setting(c, "", "certificateChainFile", "SSLCertificateChainFile"); !x.Default {
			id.Chain = t.file(facts.RoleChain, x)
		}
		s.Identities = append(s.Identities, id)
	default:
		t.broken(s.Line, facts.ConfMissingPart, "SSLEnabled", "certificateKeystoreFile")
	}
}

// put puts the properties of the server's directories in.
func (t *tomcatReader) put(x facts.Setting) (_ facts.Setting, known bool) {
	x.Value = strings.NewReplacer("${catalina.base}", t.base, "${catalina.home}", t.base).Replace(x.Value)
	if strings.Contains(x.Value, "${") {
		t.trouble(facts.NotUnderstood, x.Line, facts.ConfNotComputed, x.Directive, "a property of the runtime")
		return x, false
	}
	return x, true
}

// file names a file of the given role, where its path can be known.
func (t *tomcatReader) file(role facts.FileRole, x facts.Setting) facts.Setting {
	x, known := t.put(x)
	if !known {
		return facts.Setting{}
	}
	return t.names(role, x, t.base)
}

// protocols reads a list of versions with signs, as "all,-TLSv1" or "+TLSv1.2+TLSv1.3".
func (t *tomcatReader) protocols(x facts.Setting) []string {
	text := strings.NewReplacer("+", ",+", "-", ",-").Replace(x.Value)
	on := map[string]bool{}
	for word := range strings.FieldsFuncSeq(text, func(c rune) bool { return c == ',' || c == ' ' }) {
		name := strings.TrimLeft(word, "+-")
		version := opensslVersions[name]
		switch {
		case strings.EqualFold(name, "all"), name == "TLS": // sslProtocol="TLS" means any
			for _, v := range allVersions[2:] {
				on[v] = word[0] != '-'
			}
		case name == "SSLv2Hello":
		case version == "":
			t.trouble(facts.NotUnderstood, x.Line, facts.ConfBadValue, x.Directive, word)
		default:
			on[version] = word[0] != '-'
		}
	}
	var out []string
	for _, v := range allVersions {
		if on[v] {
			out = append(out, v)
		}
	}
	return out
}
