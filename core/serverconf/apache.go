package serverconf

import (
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"nurvik/core/facts"
)

var apache = Server{Name: "Apache", Aliases: []string{"httpd", "apache2"}, Form: "%s %s", Serves: []string{"https"},
	Shape: Bundle, Reload: "apachectl graceful", Check: "apachectl configtest",
	Files: []FileDirective{{Part: PartBundle, Name: "SSLCertificateFile"},
		{Part: PartKey, Name: "SSLCertificateKeyFile"}},
	Main: []string{"/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf"}, Packages: []string{"apache2",
		"apache2-bin"},
	Recognise: recogniseApache, read: readApache,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "SSLProtocol", Value: v.pick("-all +TLSv1.2 +TLSv1.3", "-all +TLSv1.2",
			"-all +TLSv1.3")}, true
	}}

var apacheStatement = regexp.MustCompile(`(?im)^\s*(<VirtualHost\s|SSLEngine\s|SSLCertificateFile\s|SSLProtocol\s|SSLCipherSuite\s)`)
var apacheWhole = regexp.MustCompile(`(?im)^\s*(ServerRoot|Include|IncludeOptional|LoadModule|PidFile)\s`)
var apacheListens = regexp.MustCompile(`(?im)^\s*Listen\s`)

func recogniseApache(path, text string) Likeness {
	base := filepath.Base(path)
	switch {
	case apacheWhole.MatchString(text) && (base == "apache2.conf" || base == "httpd.conf"),
		apacheWhole.MatchString(text) && apacheListens.MatchString(text) && apacheStatement.MatchString(text):
		return IsMain
	case apacheStatement.MatchString(text):
		return IsFragment
	}
	return IsOther
}

// apacheSSL are the directives about TLS of the server side.
var apacheSSL = words(`SSLCACertificateFile SSLCACertificatePath SSLCADNRequestFile SSLCADNRequestPath SSLCARevocationCheck
	SSLCARevocationFile SSLCARevocationPath SSLCertificateChainFile SSLCertificateFile SSLCertificateKeyFile
	SSLCipherSuite
	SSLCompression SSLCryptoDevice SSLEngine SSLFIPS SSLHonorCipherOrder SSLInsecureRenegotiation
	SSLOCSPDefaultResponder
	SSLOCSPEnable SSLOCSPNoverify SSLOCSPOverrideResponder SSLOCSPProxyURL SSLOCSPResponderCertificateFile
	SSLOCSPResponderTimeout SSLOCSPResponseMaxAge SSLOCSPResponseTimeSkew SSLOCSPUseRequestNonce SSLOpenSSLConfCmd
	SSLOptions
	SSLPassPhraseDialog SSLPolicy SSLProtocol SSLRandomSeed SSLRenegBufferSize SSLRequire SSLRequireSSL SSLSessionCache
	SSLSessionCacheTimeout SSLSessionTicketKeyFile SSLSessionTickets SSLSRPUnknownUserSeed SSLSRPVerifierFile
	SSLStaplingCache SSLStaplingErrorCacheTimeout SSLStaplingFakeTryLater SSLStaplingForceURL
	SSLStaplingResponderTimeout
	SSLStaplingResponseMaxAge SSLStaplingResponseTimeSkew SSLStaplingReturnResponderErrors
	SSLStaplingStandardCacheTimeout
	SSLStrictSNIVHostCheck SSLUserName SSLUseStapling SSLVerifyClient SSLVerifyDepth SSLVHostSNIPolicy SSLMutex`)

// apacheReader reads one configuration.
type apacheReader struct {
	*reading
	root    string // ServerRoot
	defined map[string]string
	flags   map[string]bool // IfDefine
	modules map[string]bool
	loads   bool // it loads modules itself, so that the others are not there
	macros  map[string]*Directive
}

func readApache(r *reading, path string) {
	a := &apacheReader{reading: r, root: filepath.Dir(path), defined: map[string]string{}, flags: map[string]bool{},
		modules: map[string]bool{}, macros: map[string]*Directive{}}
	a.environment(filepath.Join(filepath.Dir(path), "envvars"))
	var top []*Directive
	r.within(path, facts.Line{File: path}, func(text string) { top = a.parse(path, text) })
	if r.user == "" {
		r.user = a.defined["APACHE_RUN_USER"]
	}
	a.sites(top)
}

var exported = regexp.MustCompile(`(?m)^\s*export\s+(\w+)=(\S*)`)

// environment reads what Debian's start script sets.
func (a *apacheReader) environment(path string) {
	data, err := a.m.read(path)
	if err != nil {
		return
	}
	for _, m := range exported.FindAllStringSubmatch(string(data), -1) {
		a.defined[m[1]] = strings.ReplaceAll(strings.Trim(m[2], `"'`), "$SUFFIX", "")
	}
}

// parse reads a file into statements; conditions are decided on the way, as the server does.
func (a *apacheReader) parse(path, text string) []*Directive {
	lines := logicalLines(text, byBackslash, "#")
	at := 0
	return a.section(path, lines, &at, nil)
}

// section reads statements up to the end of the open section.
func (a *apacheReader) section(path string, lines []textLine, at *int, open *Directive) (out []*Directive) {
	for ; *at < len(lines) && !a.full; *at++ {
		l := lines[*at]
		line := facts.Line{File: path, Line: l.first}
		text := strings.TrimSpace(l.text)
		if strings.HasPrefix(text, "</") {
			name := strings.TrimSpace(strings.TrimSuffix(text[2:], ">"))
			switch {
			case open != nil && strings.EqualFold(name, open.Name):
				open.Last = l.last
				return out
			case open != nil:
				a.broken(line, facts.ConfSyntax, "</"+name+"> ends a section, and <"+open.Name+"> is open")
				return out
			}
			a.broken(line, facts.ConfSyntax, "</"+name+"> ends a section that is not open")
			continue
		}
		text = a.expand(text, line)
		if !a.one(line) {
			return out
		}
		if strings.HasPrefix(text, "<") {
			if !strings.HasSuffix(text, ">") {
				a.broken(line, facts.ConfSyntax, "the section does not end with \">\"")
			}
			inner := strings.TrimSpace(strings.TrimSuffix(text[1:], ">"))
			name, rest, _ := strings.Cut(inner, " ")
			d := a.directive(name, rest, line, l.last)
			d.Opens = true
			*at++
			d.Block = a.opened(path, lines, at, d)
			if *at >= len(lines) && d.Last == l.last && !a.full {
				a.broken(line, facts.ConfSyntax, "the section <"+name+"> is not closed")
			}
			out = append(out, a.decided(d)...)
			continue
		}
		name, rest, _ := strings.Cut(strings.ReplaceAll(text, "\t", " "), " ")
		out = append(out, a.statement(a.directive(name, rest, line, l.last))...)
	}
	return out
}

// opened reads what stands in a section: what a condition rules out is only passed over.
func (a *apacheReader) opened(path string, lines []textLine, at *int, d *Directive) []*Directive {
	switch strings.ToLower(d.Name) {
	case "ifmodule", "ifdefine", "ifversion", "iffile", "ifdirective", "ifsection":
		if !a.holds(d) {
			for depth := 1; *at < len(lines); *at++ {
				text := strings.ToLower(strings.TrimSpace(lines[*at].text))
				if strings.HasPrefix(text, "<"+strings.ToLower(d.Name)) {
					depth++
				}
				if strings.HasPrefix(text, "</"+strings.ToLower(d.Name)) {
					if depth--; depth == 0 {
						d.Last = lines[*at].last
						return nil
					}
				}
			}
			return nil
		}
	case "macro":
		start := *at
		for ; *at < len(lines); *at++ {
			if strings.HasPrefix(strings.ToLower(strings.TrimSpace(lines[*at].text)), "</macro") {
				d.Last = lines[*at].last
				break
			}
		}
		a.macro(path, d, lines[start:min(*at, len(lines))])
		return nil
	}
	return a.section(path, lines, at, d)
}

func (a *apacheReader) directive(name, rest string, line facts.Line, last int) *Directive {
	args, ok := fields(rest)
	if !ok {
		a.broken(line, facts.ConfSyntax, "a quote is not closed")
	}
	return &Directive{Name: name, Args: args, Text: strings.TrimSpace(rest), Line: line, Last: last}
}

// decided puts the contents of a condition that holds in its place.
func (a *apacheReader) decided(d *Directive) []*Directive {
	switch strings.ToLower(d.Name) {
	case "ifmodule", "ifdefine", "ifversion", "iffile", "ifdirective", "ifsection", "requireall", "requireany":
		return d.Block
	case "macro":
		return nil
	}
	return []*Directive{d}
}

// holds decides a condition.
func (a *apacheReader) holds(d *Directive) bool {
	word, not := strings.CutPrefix(d.Arg(0), "!")
	is := true
	switch strings.ToLower(d.Name) {
	case "ifmodule":
		is = !a.loads || a.modules[word] || a.modules[strings.TrimSuffix(strings.TrimPrefix(word, "mod_"),
			".c")+"_module"] ||
			slices.Contains([]string{"core.c", "mod_so.c", "http_core.c", "mod_unixd.c"}, word)
	case "ifdefine":
		is = a.flags[word]
	case "ifversion":
		return a.versionHolds(d.Args)
	case "iffile":
		paths, _ := a.m.list(a.absolute(word, a.root))
		is = len(paths) > 0
	}
	return is != not
}

func (a *apacheReader) versionHolds(args []string) bool {
	operator, version := "=", ""
	switch len(args) {
	case 1:
		version = args[0]
	case 2:
		operator, version = args[0], args[1]
	}
	than := []int{}
	for field := range strings.SplitSeq(version, ".") {
		n := 0
		for _, c := range field {
			n = n*10 + int(c-'0')
		}
		than = append(than, n)
	}
	least := atLeast(a.c.Release, than...)
	switch operator {
	case ">=", ">":
		return least
	case "<", "<=":
		return !least
	}
	return least
}

// statement obeys what concerns reading itself.
func (a *apacheReader) statement(d *Directive) []*Directive {
	switch strings.ToLower(d.Name) {
	case "include", "includeoptional":
		return a.include(d)
	case "define":
		if len(d.Args) > 1 {
			a.defined[d.Arg(0)] = d.Arg(1)
		}
		a.flags[d.Arg(0)] = true
		return nil
	case "undefine":
		delete(a.defined, d.Arg(0))
		a.flags[d.Arg(0)] = false
		return nil
	case "loadmodule":
		a.loads = true
		a.modules[d.Arg(0)] = true
		a.modules["mod_"+strings.TrimSuffix(d.Arg(0), "_module")+".c"] = true
		return nil
	case "serverroot":
		a.root = a.m.At(d.Arg(0))
		return nil
	case "user":
		a.user = d.Arg(0)
	case "use":
		return a.use(d)
	}
	return []*Directive{d}
}

func (a *apacheReader) include(d *Directive) (out []*Directive) {
	pattern := a.absolute(d.Arg(0), a.root)
	files := a.matching(pattern, d.Line)
	if len(files) == 0 && strings.EqualFold(d.Name, "Include") && !strings.ContainsAny(pattern, "*?[") {
		a.broken(d.Line, facts.ConfNoInclude, pattern)
	}
	for _, file := range files {
		if names, _ := a.m.names(file); len(names) > 0 { // of a directory every file
			for _, name := range names {
				out = append(out, a.included(filepath.Join(file, name), d.Line)...)
			}
			continue
		}
		out = append(out, a.included(file, d.Line)...)
	}
	return out
}

func (a *apacheReader) included(file string, from facts.Line) (out []*Directive) {
	a.within(file, from, func(text string) { out = a.parse(file, text) })
	return out
}

// macro keeps the lines of a macro, which stand where it is used.
func (a *apacheReader) macro(path string, d *Directive, lines []textLine) {
	body := &Directive{Name: d.Arg(0), Args: d.Args[min(1, len(d.Args)):], Line: d.Line}
	for _, l := range lines {
		body.Block = append(body.Block, &Directive{Text: l.text, Line: facts.Line{File: path, Line: l.first},
			Last: l.last})
	}
	a.macros[strings.ToLower(d.Arg(0))] = body
}

func (a *apacheReader) use(d *Directive) []*Directive {
	m := a.macros[strings.ToLower(d.Arg(0))]
	if m == nil || len(m.Args) != len(d.Args)-1 {
		a.broken(d.Line, facts.ConfSyntax, "the macro "+d.Arg(0)+" is not defined with as many arguments")
		return nil
	}
	if len(a.open) >= maxDepth {
		a.limit(d.Line, facts.ConfTooDeep, maxDepth)
		return nil
	}
	var pairs []string
	for i, parameter := range m.Args {
		pairs = append(pairs, parameter, d.Args[i+1])
	}
	put := strings.NewReplacer(pairs...)
	lines := make([]textLine, len(m.Block))
	for i, l := range m.Block {
		lines[i] = textLine{put.Replace(l.Text), l.Line.Line, l.Last}
	}
	a.open = append(a.open, "macro "+m.Name+" "+strings.Join(d.Args, " "))
	defer func() { a.open = a.open[:len(a.open)-1] }()
	at := 0
	return a.section(m.File, lines, &at, nil)
}

var apacheVariable = regexp.MustCompile(`\$\{(\w+)\}`)

// expand puts variables in. One that is not set stays as it is, as the server leaves it.
func (a *apacheReader) expand(text string, line facts.Line) string {
	longest := 0
	for _, value := range a.defined {
		longest = max(longest, len(value))
	}
	for round := 0; strings.Contains(text, "${"); round++ {
		if strings.Count(text, "${")*longest > 16*maxValue {
			a.broken(line, facts.ConfEndless, apacheVariable.FindString(text))
			return text
		}
		put := apacheVariable.ReplaceAllStringFunc(text, func(v string) string {
			if value, set := a.defined[v[2:len(v)-1]]; set {
				return value
			}
			return v
		})
		if len(put) > maxValue || round > maxDepth {
			a.broken(line, facts.ConfEndless, apacheVariable.FindString(text))
			return text
		}
		if put == text {
			return text
		}
		text = put
	}
	return text
}
