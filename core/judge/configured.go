package judge

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nurvik/core/chain"
	"nurvik/core/ciphers"
	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/serverconf"
)

// configured is a server's configuration under judgement, with the files that it names.
type configured struct {
	context *Context
	facts   *facts.Configuration
	machine *machine
	sites   []*site
}

// machine is what else lies where the configuration was read.
type machine struct {
	files  map[string]*facts.File
	inodes map[[2]uint64]*facts.File
	result *pairing.Result
	pairs  *pairs
	newer  map[pki.Fingerprint]pairing.Step // what superseded a certificate
}

// newMachine indexes files by their paths, and by what they are whatever way leads to them.
func newMachine(files []facts.File, result *pairing.Result, context *Context) *machine {
	m := &machine{files: map[string]*facts.File{}, inodes: map[[2]uint64]*facts.File{}, result: result,
		newer: map[pki.Fingerprint]pairing.Step{}}
	for i := range files {
		m.files[files[i].Path] = &files[i]
		if a := files[i].Access; a != nil && a.Inode != 0 && files[i].Archive == "" {
			m.inodes[[2]uint64{a.Device, a.Inode}] = &files[i]
		}
	}
	if result != nil {
		m.pairs = newPairs(files, result, context)
		m.pairs.superseded(func(old, next pairing.Step) { m.newer[old.Certificate.SHA256] = next })
	}
	return m
}

// site is one place of a configuration under judgement.
type site struct {
	*facts.Site
	label      string // what people call it
	identities []*identity
	policy     policy.Policy
	// told is what it says of versions, suites and groups, as if an address had shown it; nil without TLS.
	told *address
	expansion
}

// identity is a certificate with its key as they are configured.
type identity struct {
	*facts.Identity
	file, keyFile, chainFile *facts.File // nil where they were not read
	given                    []*pki.Certificate
	leaf                     *pki.Certificate // nil where there is none
	bundle                   *bundle
}

// configure makes a configuration ready for the checks.
func configure(c *facts.Configuration, m *machine, context *Context) *configured {
	out := &configured{context: context, facts: c, machine: m}
	for i := range c.Sites {
		s := &site{Site: &c.Sites[i], policy: context.Policy}
		s.label = labelOf(s.Site)
		if len(s.Listens) > 0 {
			s.policy = policy.For(context.Policy, s.Listens[0].Scheme, s.Listens[0].Port)
		}
		for n := range s.Identities {
			s.identities = append(s.identities, m.identity(c, &s.Identities[n], context))
		}
		out.sites = append(out.sites, s)
		if s.TLS() {
			out.tell(s)
		}
	}
	return out
}

// labelOf is the first name of a site, or where it listens.
func labelOf(s *facts.Site) string {
	if len(s.Names) > 0 {
		return s.Names[0].Value
	}
	for _, l := range s.Listens {
		return strings.TrimPrefix(fmt.Sprintf("%s:%d", l.Address, l.Port), ":")
	}
	return ""
}

// named finds the file that a setting names, nil where it was not read.
func (m *machine) named(c *facts.Configuration, x facts.Setting) *facts.File {
	if x.Value == "" {
		return nil
	}
	if f := m.files[x.Value]; f != nil {
		return f
	}
	for i := range c.Named {
		if n := &c.Named[i]; n.Path == x.Value && n.Inode != 0 {
			return m.inodes[[2]uint64{n.Device, n.Inode}]
		}
	}
	return nil
}

func (m *machine) identity(c *facts.Configuration, i *facts.Identity, context *Context) *identity {
	id := &identity{Identity: i, file: m.named(c, i.Certificate), keyFile: m.named(c, i.Key),
		chainFile: m.named(c, i.Chain)}
	if !i.Key.Given() {
		id.keyFile = id.file
	}
	if id.file == nil {
		return id
	}
	for _, f := range []*facts.File{id.file, id.chainFile} {
		if f == nil {
			continue
		}
		for n := range f.Items {
			item := &f.Items[n]
			if item.Kind != facts.Certificate || item.Trusted || i.Alias != "" && f == id.file &&
				!ofAlias(item, i.Alias) {
				continue
			}
			if x, err := context.certificate(item.DER); err == nil {
				id.given = append(id.given, x)
			}
		}
		if f == id.file && len(id.given) > 0 {
			id.leaf = id.given[chain.ServedLeaf(id.given)]
		}
	}
	if id.leaf != nil {
		id.bundle = &bundle{context: context, file: true, given: id.given, pool: chain.NewPool(id.given), leaf: id.leaf,
			unordered: id.chainFile != nil}
	}
	return id
}

func ofAlias(item *facts.Item, alias string) bool {
	return strings.EqualFold(item.Alias, alias) || item.Alias == ""
}

// keys are the public halves of the private keys in the key's file; known is false where one could not be opened.
func (id *identity) keys() (matches []pki.Fingerprint, known bool) {
	if id.keyFile == nil {
		return nil, false
	}
	known = true
	for n := range id.keyFile.Items {
		item := &id.keyFile.Items[n]
		switch {
		case item.Kind == facts.Keystore && item.Locked != "":
			known = false
		case item.Kind != facts.PrivateKey || item.Key == nil:
		case len(item.Key.SPKI) == 0:
			known = false
		default:
			if key, err := pki.ParsePublicKey(item.Key.SPKI); err == nil {
				matches = append(matches, key.Match())
			}
		}
	}
	return matches, known
}

// names are the names of the site that a certificate can cover: patterns are none.
func (s *site) names() []facts.Setting {
	var out []facts.Setting
	for _, n := range s.Names {
		if strings.ContainsAny(n.Value, "~$^|()") || n.Value == "localhost" ||
			strings.HasPrefix(n.Value, "localhost.") {
			continue
		}
		out = append(out, n)
	}
	return out
}

// covers reports whether a leaf covers a name as a configuration writes it: *.x and .x stand for all below x. known is
// false for what is no name.
func covers(leaf *pki.Certificate, name string) (covered, known bool) {
	if rest, all := strings.CutPrefix(name, "."); all {
		name = "*." + rest
	}
	if rest, wild := strings.CutPrefix(name, "*."); wild {
		return slices.ContainsFunc(leaf.HostNames(), func(n string) bool {
			return strings.EqualFold(n,
				"*."+rest)
		}), true
	}
	reference, err := naming.Parse(name)
	if err != nil {
		return false, false
	}
	_, covered = reference.CoveredBy(leaf)
	return covered, true
}

// tell expands what a site says of TLS into what it accepts, with the library that its server uses.
func (c *configured) tell(s *site) {
	server := ciphers.Server{DHE: !s.NoDHE}
	for _, id := range s.identities {
		if id.leaf == nil {
			continue
		}
		switch id.leaf.PublicKey.Algorithm {
		case pki.KeyRSA, pki.KeyRSAPSS:
			server.RSA = true
		case pki.KeyEd25519, pki.KeyEd448:
			server.EdDSA = true
		case pki.KeyEC:
			server.ECDSA = true
			if curve := id.leaf.PublicKey.Curve; curve != "" {
				server.Curves = append(server.Curves, curve)
			}
		}
	}
	if !server.RSA && !server.ECDSA && !server.EdDSA { // nothing is known of the key: either may be there
		server.RSA, server.ECDSA = true, true
	}
	for _, v := range s.Versions {
		if version, known := versionsNamed[v]; known {
			server.Versions = append(server.Versions, version)
		}
	}
	s.expansion = expand(s.Site, c.facts.Library, server)
	o := &facts.Observation{Outcome: facts.Answered}
	for _, a := range s.accepted {
		v := facts.Version{Name: a.Version.String(), Answer: facts.Accepted, Order: s.Order}
		if s.serverOrder {
			v.Order = facts.ServerOrder
		}
		for _, suite := range a.Suites {
			v.Suites = append(v.Suites, suite.String())
		}
		o.Versions = append(o.Versions, v)
	}
	if len(s.groups) > 0 {
		o.Groups = &facts.Groups{}
		for _, g := range s.groups {
			o.Groups.Accepted = append(o.Groups.Accepted, g.String())
		}
	}
	context := *c.context
	context.Policy = s.policy
	s.told = &address{context: &context, target: c.facts.Path, seen: o, versions: map[string]facts.Acceptance{}}
	for _, v := range o.Versions {
		s.told.versions[v.Name] = v.Answer
	}
}

// place is where a setting is: where it is written, or where the site begins.
func (s *site) place(x facts.Setting) facts.Line {
	if x.Line.Line > 0 {
		return x.Line
	}
	for _, id := range s.Identities {
		if id.Certificate.Line.Line > 0 {
			return id.Certificate.Line
		}
	}
	return s.Line
}

// whose names the site in a subject where the setting is its own: one that several sites share is one finding.
func (s *site) whose(x facts.Setting) string {
	if x.Line.Line > 0 && x.File == s.File && x.Line.Line >= s.Line.Line && x.Line.Line <= s.Last {
		return s.label + " " + x.Directive
	}
	return x.Directive
}

// placeOf writes a place for people.
func placeOf(l facts.Line) string {
	if l.Line == 0 {
		return l.File
	}
	return fmt.Sprintf("%s:%d", l.File, l.Line)
}

// finding makes a finding of a configuration at a place. The subject has no line, which an edit elsewhere moves.
func (c *configured) finding(code string, at facts.Line, subject, message string, args ...any) Finding {
	f := found(code, strings.Join([]string{cmp.Or(at.File, c.facts.Path), subject}, " "), placeOf(at), message, args...)
	f.Evidence.File, f.Evidence.Line = cmp.Or(at.File, c.facts.Path), at.Line
	f.Edits = noEdits
	return f
}

// path is a path of this machine as the configuration would write it. It reports false for one that only this call
// knows.
func (c *configured) path(path string) (string, bool) {
	if c.facts.Root != "" {
		return strings.CutPrefix(path, c.facts.Root)
	}
	return path, strings.HasPrefix(path, "/")
}

// setPath proposes another file.
func (c *configured) setPath(f *Finding, x facts.Setting, path string, anchor facts.Setting) {
	if value, can := c.path(path); can {
		c.set(f, x, value, anchor)
	}
}

// set proposes another value for a directive, as a change of the very file where a single line does it.
func (c *configured) set(f *Finding, x facts.Setting, value string, anchor facts.Setting) {
	e := Edit{Server: c.facts.Server, File: x.File, Directive: x.Directive, Value: value}
	if e.File == "" {
		e.File = anchor.File
	}
	e.finish()
	if change, can := serverconf.Set(c.facts, x, value, anchor); can {
		e.change, e.Diff = &change, change.Diff(c.facts.Lines(change.File))
	}
	f.Edits = append(slices.Clone(f.Edits), e)
}

// replace proposes another text for a line.
func (c *configured) replace(f *Finding, at facts.Line, old, text string) {
	change := serverconf.Change{File: at.File, Line: at.Line, Old: []string{old}, New: []string{text}}
	f.Edits = append(slices.Clone(f.Edits), Edit{Server: c.facts.Server, File: at.File, Line: strings.TrimSpace(text),
		change: &change, Diff: change.Diff(c.facts.Lines(at.File))})
}

// remove proposes to take a directive out.
func (c *configured) remove(f *Finding, x facts.Setting) {
	e := Edit{Server: c.facts.Server, File: x.File, Directive: x.Directive, Note: "take the line out: " + x.Directive}
	if change, can := serverconf.Remove(c.facts, x); can {
		e.change, e.Diff = &change, change.Diff(c.facts.Lines(change.File))
	}
	f.Edits = append(slices.Clone(f.Edits), e)
}
