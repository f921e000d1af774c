package serverconf_test

import (
	"fmt"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/words"
)

// shown writes a configuration so that people can compare it: a line a fact, with its place.
func shown(c facts.Configuration, root string) string {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	at := func(l facts.Line) string {
		if l.Line == 0 {
			return strings.TrimPrefix(l.File, root)
		}
		return fmt.Sprintf("%s:%d", strings.TrimPrefix(l.File, root), l.Line)
	}
	set := func(what string, s facts.Setting) {
		switch {
		case !s.Given():
		case s.Default:
			say("    %s: %s (default)", what, s.Value)
		default:
			say("    %s: %s (%s, %s)", what, strings.ReplaceAll(s.Value, root, ""), s.Directive, at(s.Line))
		}
	}
	say("%s %s", c.Server, strings.TrimPrefix(c.Path, root))
	for _, s := range c.Sites {
		say("  site %s", at(s.Line))
		if s.Off {
			say("    no TLS")
		}
		for _, l := range s.Listens {
			usual := ""
			if l.DefaultSite {
				usual = ", default site"
			}
			if l.Socket {
				usual += ", socket"
			}
			say("    listens: %s %s:%d%s", l.Scheme, l.Address, l.Port, usual)
		}
		for _, n := range s.Names {
			set("name", n)
		}
		for _, i := range s.Identities {
			set("certificate", i.Certificate)
			set("key", i.Key)
			set("chain", i.Chain)
			if i.Alias != "" {
				say("    alias: %s", i.Alias)
			}
		}
		for _, a := range s.Authorities {
			set("authorities", a)
		}
		for _, a := range s.Secrets {
			set("secret", a)
		}
		if len(s.Versions) > 0 {
			say("    versions: %s", strings.Join(s.Versions, ", "))
		}
		for _, v := range s.VersionsBy {
			set("by", v)
		}
		set("suites", s.Suites)
		set("suites 1.3", s.Suites13)
		set("groups", s.Groups)
		if s.Order != "" {
			say("    order: %s", s.Order)
		}
		set("DHE", s.FiniteField)
		set("clients", s.Clients)
		set("stapling", s.Stapling)
		set("strict transport", s.Transport)
		set("redirect", s.Redirect)
		set("root", s.Root)
		for _, o := range s.Obsolete {
			set("obsolete", o)
		}
		for _, o := range s.Contradicted {
			set("contradicted", o)
		}
	}
	for _, n := range c.Named {
		if n.Missing || n.Failure != "" {
			say("  %s missing: %v %s %s", n.Role, n.Missing, strings.TrimPrefix(n.Path, root), n.Failure)
		}
	}
	for _, t := range c.Troubles {
		say("  %s at %s: %s", t.Kind, at(t.Line), strings.ReplaceAll(words.Of(t.Reason), root, ""))
	}
	return out.String()
}
