package judge

import (
	"fmt"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// configTroubles tells what the server would refuse, and what was not understood: never skipped without a word.
func configTroubles(c *configured) []Finding {
	var out []Finding
	for _, t := range c.facts.Troubles {
		code := "config.not-understood"
		if t.Kind == facts.Broken {
			code = "config.broken"
		}
		f := c.finding(code, t.Line, strings.Join(append([]string{string(t.Reason.Code)}, t.Reason.Args...), " "),
			"%s.",
			words.Capital(words.Of(t.Reason)))
		switch {
		case t.Kind == facts.PassedOver:
			f.Severity = Note
		case t.Reason.Code == facts.ConfMisspelt:
			c.rename(&f, t)
		}
		out = append(out, f)
	}
	return out
}

// rename proposes the directive that may be meant.
func (c *configured) rename(f *Finding, t facts.Trouble) {
	lines := c.facts.Lines(t.File)
	if len(t.Reason.Args) < 2 || t.Line.Line == 0 || t.Line.Line > len(lines) {
		return
	}
	old := lines[t.Line.Line-1]
	if strings.Count(old, t.Reason.Args[0]) != 1 {
		return
	}
	c.replace(f, t.Line, old, strings.Replace(old, t.Reason.Args[0], t.Reason.Args[1], 1))
}

// configFiles tells of files that are named and that the server cannot open.
func configFiles(c *configured) []Finding {
	var out []Finding
	for i := range c.facts.Named {
		n := &c.facts.Named[i]
		if n.Role == facts.RoleAuthorities && n.Directory {
			continue
		}
		switch {
		case n.Missing:
			f := c.finding("config.file-missing", n.Line, n.Directive+" "+n.Path, "%s names %s, which does not exist.",
				c.naming(n), n.Path)
			f.Evidence.Paths = []string{n.Path}
			if n.Near != "" {
				f.Message += " " + n.Near + " may be meant."
				c.setPath(&f, n.Setting, n.Near, n.Setting)
			}
			out = append(out, f)
		case n.Directory && n.Role != facts.RoleCertificate:
			f := c.finding("config.file-unreadable", n.Line, n.Directive+" "+n.Path,
				"%s names %s, which is a directory.", n.Directive, n.Path)
			f.Remedy = "Name a file."
			out = append(out, f)
		case n.Refused != "":
			f := c.finding("config.file-unreadable", n.Line, n.Directive+" "+n.Path,
				"%s runs as %s, who may not open %s.", c.facts.Server, n.User, n.Refused)
			f.Remedy = fmt.Sprintf(
				"Let the group of %s read it, and nobody else: \"chgrp %s %s\" and \"chmod 640 %s\" (750 for a "+
					"directory).", n.User, n.User, n.Refused, n.Refused)
			out = append(out, f)
		case n.Failure != "":
			f := c.finding("config.file-unreadable", n.Line, n.Directive+" "+n.Path,
				"%s names %s, which cannot be read here: %s.",
				n.Directive, n.Path, n.Failure)
			f.Severity = Risk
			out = append(out, f)
		}
	}
	return out
}

// naming is who names a file: a directive, or the server's own default.
func (c *configured) naming(n *facts.NamedFile) string {
	if n.Default {
		return fmt.Sprintf("%s is not set, and the server's own default", n.Directive)
	}
	return n.Directive
}

// keyMismatchCode is left out where what is served says more.
const keyMismatchCode = "config.key-mismatch"

// configKeyMismatch compares the public half of each configured key with its certificate.
func configKeyMismatch(c *configured) []Finding {
	var out []Finding
	c.eachIdentity(func(s *site, id *identity) {
		keys, known := id.keys()
		if id.leaf == nil || !known || slices.Contains(keys, id.leaf.PublicKey.Match()) {
			return
		}
		x := id.Key
		if !x.Given() {
			x = id.Certificate
		}
		path := x.Value
		message := fmt.Sprintf("The private key in %s does not belong to the certificate of %s in %s.", path,
			id.leaf.Label(),
			id.Certificate.Value)
		if len(keys) == 0 {
			message = fmt.Sprintf("%s holds no private key, and the certificate of %s in %s needs one.", path,
				id.leaf.Label(),
				id.Certificate.Value)
		}
		f := c.finding(keyMismatchCode, s.place(x), s.label+" "+id.leaf.Fingerprint().String(), "%s", message)
		f.Evidence.Certificate, f.Evidence.Paths = fingerprint(id.leaf), []string{path, id.Certificate.Value}
		if c.machine.pairs != nil {
			if fits := c.machine.pairs.holders(id.leaf.PublicKey.Match(), facts.PrivateKey); len(fits) > 0 {
				f.Message += " Its key is in " + fits[0] + "."
				f.Evidence.Paths = append(f.Evidence.Paths, fits...)
				c.setPath(&f, x, fits[0], id.Certificate)
			}
		}
		out = append(out, f)
	})
	return out
}

func (c *configured) eachIdentity(do func(*site, *identity)) {
	for _, s := range c.sites {
		for _, id := range s.identities {
			if s.TLS() {
				do(s, id)
			}
		}
	}
}

// configChain judges whether the files that are configured give clients the whole chain.
func configChain(c *configured) []Finding {
	var out []Finding
	seen := map[string]bool{}
	c.eachIdentity(func(s *site, id *identity) {
		if id.bundle == nil || seen[id.Certificate.Value+"\x00"+id.Chain.Value] {
			return
		}
		seen[id.Certificate.Value+"\x00"+id.Chain.Value] = true
		lacks := func() bool {
			return slices.ContainsFunc(chainIncomplete(id.bundle), func(f Finding) bool { return f.Severity == Fault })
		}
		id.bundle.examine()
		switch alone := onlyLeaf(id); {
		case id.chainFile != nil && !id.certified(c):
			f := c.finding("config.chain-wrong", s.place(id.Chain), s.label+" "+id.leaf.Fingerprint().String(),
				"The chain file %s holds no certificate that certifies the one of %s in %s.", id.Chain.Value,
				id.leaf.Label(),
				id.Certificate.Value)
			f.Evidence.Certificate, f.Evidence.Issuer = fingerprint(id.leaf), id.leaf.Issuer.String()
			if whole := c.machine.whole(id.leaf); whole != "" {
				f.Message += " The whole chain is in " + whole + "."
				c.setPath(&f, id.Certificate, whole, id.Certificate)
				c.remove(&f, id.Chain)
			}
			out = append(out, f)
		case id.chainFile == nil && alone && !id.Chain.Given() && lacks():
			f := c.finding("config.leaf-only", s.place(id.Certificate), s.label+" "+id.leaf.Fingerprint().String(),
				"%s holds the certificate of %s alone, without the intermediates that clients need, and no chain is "+
					"named beside it.",
				id.Certificate.Value, id.leaf.Label())
			f.Evidence.Certificate, f.Evidence.Issuer = fingerprint(id.leaf), id.leaf.Issuer.String()
			for _, missing := range chainIncomplete(id.bundle) {
				f.Evidence.MissingPEM, f.Evidence.CAIssuers = missing.Evidence.MissingPEM, missing.Evidence.CAIssuers
			}
			if whole := c.machine.whole(id.leaf); whole != "" {
				f.Message += " The whole chain is in " + whole + "."
				c.setPath(&f, id.Certificate, whole, id.Certificate)
			}
			out = append(out, f)
		}
	})
	return out
}

// onlyLeaf reports whether the certificate's file holds nothing of a chain but the leaf.
func onlyLeaf(id *identity) bool {
	return len(id.file.Certificates()) == 1 && !id.leaf.SelfIssued()
}

// certified reports whether the chain file has the leaf's issuer, or none is needed.
func (id *identity) certified(c *configured) bool {
	if id.bundle.selfSigned(id.leaf) {
		return true
	}
	if id.bundle.context.Verifier.Certifies(id.bundle.context.budget, id.bundle.pool, id.leaf) {
		return true
	}
	for _, a := range c.context.anchors().Named(id.leaf.Issuer.Key()) {
		if id.bundle.context.Verifier.CheckWithin(id.bundle.context.budget, id.leaf, a.Certificate.PublicKey) == nil {
			return true
		}
	}
	return false
}

// whole is a file of this machine that holds the leaf first and more behind it.
func (m *machine) whole(leaf *pki.Certificate) string {
	return m.wholeOf(leaf.Fingerprint())
}

func (m *machine) wholeOf(leaf pki.Fingerprint) string {
	if m.pairs == nil {
		return ""
	}
	for _, path := range m.pairs.holders(leaf, facts.Certificate) {
		if f := m.files[path]; f != nil && f.Archive == "" && len(f.Certificates()) > 1 {
			return path
		}
	}
	return ""
}

// configNames compares the names that a site serves with its certificates.
func configNames(c *configured) []Finding {
	var out []Finding
	for _, s := range c.sites {
		if !s.TLS() || slices.ContainsFunc(s.identities, func(id *identity) bool { return id.leaf == nil }) {
			continue
		}
		for _, n := range s.names() {
			known := true
			covered := slices.ContainsFunc(s.identities, func(id *identity) bool {
				does, isName := covers(id.leaf, n.Value)
				known = known && isName
				return does
			})
			if covered || !known {
				continue
			}
			leaf := s.identities[0].leaf
			f := c.finding("config.unknown-name", s.place(n), n.Value,
				"%s is configured here, and the certificate in %s does not "+
					"cover it: it covers %s.", n.Value, s.Identities[0].Certificate.Value, orNothing(firstFew(
					leaf.HostNames())))
			f.Evidence.Certificate, f.Evidence.Names = fingerprint(leaf), leaf.HostNames()
			out = append(out, f)
		}
	}
	return out
}

func orNothing(text string) string {
	if text == "" {
		return "no name"
	}
	return text
}

// configOldSet tells of a certificate in use that a newer one on this machine has superseded.
func configOldSet(c *configured) []Finding {
	var out []Finding
	c.eachIdentity(func(s *site, id *identity) {
		if id.leaf == nil {
			return
		}
		next, superseded := c.machine.newer[id.leaf.Fingerprint()]
		if !superseded || slices.Contains(next.Paths, id.Certificate.Value) {
			return
		}
		f := c.finding("config.old-set", s.place(id.Certificate), s.label,
			"The certificate of %s in %s, issued on %s, is in use, and "+
				"a newer one for the same names, issued on %s, is in %s.", id.leaf.Label(), id.Certificate.Value,
			id.leaf.NotBefore.UTC().Format("2006-01-02"), next.Certificate.NotBefore.UTC().Format(
				"2006-01-02"), next.Paths[0])
		f.Evidence.Certificate, f.Evidence.Paths = fingerprint(id.leaf), slices.Concat(first(next.Paths),
			first(next.Keys))
		c.setPath(&f, id.Certificate, next.Paths[0], id.Certificate)
		if id.Key.Given() && len(next.Keys) > 0 && !slices.Contains(next.Keys, id.Key.Value) {
			c.setPath(&f, id.Key, next.Keys[0], id.Key)
		}
		out = append(out, f)
	})
	return out
}

// configTwoPlaces tells of one name that two blocks define for the same address and port: only the first is used.
func configTwoPlaces(c *configured) []Finding {
	type key struct {
		address string
		port    uint16
		name    string
	}
	var out []Finding
	first := map[key]*site{}
	for _, s := range c.sites {
		if !s.TLS() {
			continue
		}
		for _, l := range s.Listens {
			for _, n := range s.Names {
				k := key{l.Address, l.Port, strings.ToLower(n.Value)}
				other := first[k]
				switch {
				case l.Socket || other == s:
				case other == nil:
					first[k] = s
				default:
					f := c.finding("config.two-places", s.place(n), k.name,
						"%s on port %d is defined here and in %s; the server uses the "+
							"first and ignores the other.", n.Value, l.Port, placeOf(other.Site.Line))
					f.Evidence.Paths = []string{other.File, s.File}
					out = append(out, f)
				}
			}
		}
	}
	return out
}

// configDirectives tells of directives that the server no longer has, and of those that a later one makes void.
func configDirectives(c *configured) []Finding {
	var out []Finding
	for _, s := range c.sites {
		for _, x := range s.Obsolete {
			f := c.finding("config.obsolete-directive", s.place(x), s.label+" "+x.Directive,
				"%s is obsolete in this release of %s: it is ignored, or refused.", x.Directive, c.facts.Server)
			if !c.chained(&f, s, x) {
				c.remove(&f, x)
			}
			out = append(out, f)
		}
		for i := 0; i+1 < len(s.Contradicted); i += 2 {
			x, later := s.Contradicted[i], s.Contradicted[i+1]
			f := c.finding("config.contradiction", s.place(x), x.Directive,
				"%s is set to %q here and to %q in %s, which counts.",
				x.Directive, x.Value, later.Value, placeOf(later.Line))
			c.remove(&f, x)
			out = append(out, f)
		}
	}
	return out
}

// chained repairs an obsolete directive that names a chain: it goes where one file has the whole chain, and stays where
// clients would lose it. It reports whether the directive is one.
func (c *configured) chained(f *Finding, s *site, x facts.Setting) bool {
	for _, id := range s.identities {
		if id.Chain != x {
			continue
		}
		if id.leaf == nil {
			return true
		}
		if whole := c.machine.whole(id.leaf); whole != "" {
			c.setPath(f, id.Certificate, whole, id.Certificate)
			c.remove(f, x)
		}
		return true
	}
	return false
}

// configRedirect tells of names whose plain port serves pages instead of sending clients to HTTPS.
func configRedirect(c *configured) []Finding {
	protected := map[string]bool{}
	for _, s := range c.sites {
		for _, l := range s.Listens {
			for _, n := range s.names() {
				protected[strings.ToLower(n.Value)] = protected[strings.ToLower(n.Value)] || s.TLS() &&
					l.Scheme == "https"
			}
		}
	}
	var out []Finding
	for _, s := range c.sites {
		plain := slices.ContainsFunc(s.Listens, func(l facts.Listen) bool {
			return l.Scheme == "http" && !l.Socket &&
				l.Port == 80
		})
		if !plain || s.TLS() || s.Redirect.Given() {
			continue
		}
		for _, n := range s.names() {
			if !protected[strings.ToLower(n.Value)] {
				continue
			}
			f := c.finding("config.no-redirect", s.place(n), n.Value,
				"%s is served on the plain port here, without a redirect to HTTPS.", n.Value)
			if directive, value := redirectOf(c.facts.Server, n.Value); directive != "" {
				c.set(&f, facts.Setting{Directive: directive, Default: true}, value, n)
			}
			out = append(out, f)
			break
		}
	}
	return out
}

// redirectOf is how a server is told to send clients to HTTPS.
func redirectOf(server, name string) (directive, value string) {
	switch server {
	case "nginx":
		return "return", "301 https://$host$request_uri"
	case "Apache":
		return "Redirect", "permanent / https://" + name + "/"
	}
	return "", ""
}
