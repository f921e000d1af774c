package serverconf

import (
	"fmt"
	"slices"
	"strings"

	"nurvik/core/facts"
)

// kinds in the order in which they are shown, the common ones of a scheme first. A new kind is a file of its own and a
// word here.
var kinds = []*Server{&nginx, &apache, &haproxy, &lighttpd, &tomcat, &postfix, &exim, &dovecot, &slapd, &vsftpd,
	&prosody,
	&postgresql, &mariadb}

// Likeness says what a file is to a kind of server.
type Likeness int

// What a file may be.
const (
	IsOther    Likeness = iota
	IsFragment          // a part that a main file includes
	IsMain              // a whole configuration begins with it
)

// Recognised is the kind of server that a file is configuration of.
type Recognised struct {
	Server string
	Like   Likeness
}

// maxHead is how much of a file recognition looks at, in bytes.
const maxHead = 256 << 10

// Recognise finds out by path and contents of which server a file is the configuration.
func Recognise(path string, data []byte) Recognised {
	text := string(data[:min(len(data), maxHead)])
	if strings.IndexByte(text, 0) >= 0 {
		return Recognised{}
	}
	best := Recognised{}
	for _, k := range kinds {
		if k.Recognise == nil {
			continue
		}
		like := k.Recognise(path, text)
		for _, main := range k.Main {
			if strings.HasSuffix(path, main) && like != IsOther {
				return Recognised{k.Name, IsMain}
			}
		}
		if like > best.Like {
			best = Recognised{k.Name, like}
		}
	}
	return best
}

// Read reads the configuration that begins with the file.
func Read(m *Machine, server, path string) facts.Configuration {
	c := facts.Configuration{Schema: facts.Schema, Server: server, Path: path, Root: m.Root, Files: []string{},
		Sites: []facts.Site{}}
	i := slices.IndexFunc(kinds, func(k *Server) bool { return k.Name == server })
	if i < 0 {
		panic("serverconf: no server " + server) // the name comes from Recognise
	}
	k := kinds[i]
	c.Release = m.Package(k.Packages...)
	c.Library = m.library(k.Library)
	r := &reading{m: m, c: &c}
	k.read(r, path)
	if k.SystemVersions && len(c.Library.Versions) > 0 {
		for i := range c.Sites {
			c.Sites[i].Versions = slices.DeleteFunc(c.Sites[i].Versions,
				func(v string) bool { return !slices.Contains(c.Library.Versions, v) })
		}
	}
	return c
}

// Find is the server that people call so, in any case.
func Find(name string) (Server, error) {
	var names []string
	for _, s := range kinds {
		names = append(names, strings.ToLower(s.Name))
		if strings.EqualFold(s.Name, name) || slices.Contains(s.Aliases, strings.ToLower(name)) {
			return *s, nil
		}
	}
	return Server{}, fmt.Errorf("the server %q is not known; there are %s", name, strings.Join(names, ", "))
}

// Servers are all kinds of server.
func Servers() []Server {
	var out []Server
	for _, k := range kinds {
		out = append(out, *k)
	}
	return out
}

// Serving are the names of the servers that usually serve a scheme, the common ones first.
func Serving(scheme string) []string {
	var out []string
	for _, s := range kinds {
		if slices.Contains(s.Serves, scheme) {
			out = append(out, s.Name)
		}
	}
	return out
}

// Line is how the server writes a directive with its value.
func Line(server, directive, value string) string {
	for _, s := range kinds {
		if s.Name == server {
			return fmt.Sprintf(s.Form, directive, value)
		}
	}
	return directive + " " + value
}
