package audit

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/plain"
	"nurvik/core/serverconf"
)

// Finds collects the files that look like the configuration of a server, while they are read for something else.
type Finds struct {
	mutex    sync.Mutex
	all      []find
	named    map[string]bool // by the call itself
	machines map[string]*serverconf.Machine
	roots    []string // of file systems of other machines that were recognised
}

// find is a file that looks like the configuration of a server.
type find struct {
	path string
	serverconf.Recognised
}

// look is called for each file that is read.
func (f *Finds) look(path string, data []byte) {
	r := serverconf.Recognise(path, data)
	if r.Like == serverconf.IsOther {
		return
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.all = append(f.all, find{path, r})
}

// has reports whether the file was taken for configuration.
func (f *Finds) has(path string) bool {
	if f == nil {
		return false
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return slices.ContainsFunc(f.all, func(x find) bool { return x.path == path })
}

// count is how many files were taken for configuration.
func (f *Finds) count() int {
	if f == nil {
		return 0
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return len(f.all)
}

// name notes a file that the call names itself.
func (f *Finds) name(path string) {
	if f == nil {
		return
	}
	if f.named == nil {
		f.named = map[string]bool{}
	}
	f.named[path] = true
}

// directoryWords are parts of paths that say whose configuration lies there.
var directoryWords = map[string][]string{"nginx": {"nginx"}, "Apache": {"apache", "httpd"}, "Dovecot": {"dovecot"},
	"lighttpd": {"lighttpd"}, "Prosody": {"prosody"}, "MariaDB": {"mysql", "mariadb"}}

// read reads the configurations: those that begin with a main file, and parts of one where there is no main file of
// that
// server, or the call names them.
func (f *Finds) read() []facts.Configuration {
	slices.SortFunc(f.all, func(a, b find) int { return strings.Compare(a.path, b.path) })
	mains := map[string]bool{}
	for _, x := range f.all {
		mains[x.Server] = mains[x.Server] || x.Like == serverconf.IsMain
	}
	var out []facts.Configuration
	read := map[string]bool{} // files that belong to one that was read
	take := func(x find) {
		path := filepath.Clean(x.path)
		if read[path] {
			return
		}
		c := serverconf.Read(f.machineOf(path), x.Server, path)
		for _, file := range c.Files {
			read[file] = true
		}
		out = append(out, c)
	}
	for _, x := range f.all {
		if x.Like == serverconf.IsMain {
			take(x)
		}
	}
	for _, x := range f.all {
		belongs := slices.ContainsFunc(directoryWords[x.Server],
			func(word string) bool { return strings.Contains(x.path, word) })
		if x.Like == serverconf.IsFragment && (f.named[x.path] || !mains[x.Server] && belongs) {
			take(x)
		}
	}
	return out
}

// machineOf is the machine whose configuration the file is: below a directory that looks like the root of a file
// system,
// as in a backup or an image, absolute paths lead into that.
func (f *Finds) machineOf(path string) *serverconf.Machine {
	root := ""
	for at := filepath.Dir(path); at != "/" && at != "."; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, "etc/os-release")); err == nil {
			root = at
			break
		}
	}
	if f.machines == nil {
		f.machines = map[string]*serverconf.Machine{}
	}
	if f.machines[root] == nil {
		f.machines[root] = &serverconf.Machine{Root: root}
		if root != "" {
			f.roots = append(f.roots, root)
		}
	}
	return f.machines[root]
}

// configurations reads what was found, and the material that is named there and was not read yet.
func (p *planner) configurations() error {
	if p.finds == nil {
		return nil
	}
	p.plan.configurations = p.finds.read()
	if roots := p.finds.roots; len(roots) > 0 {
		some := plain.Text(strings.Join(roots[:min(len(roots), 3)], ", "))
		if len(roots) > 3 {
			some += fmt.Sprintf(" and %d more", len(roots)-3)
		}
		p.plan.notes = append(p.plan.notes,
			some+": this looks like the file system of another machine, so the paths in its "+
				"configuration are looked up below it")
	}
	known := map[[2]uint64]bool{}
	for _, f := range p.plan.files {
		if f.Access != nil {
			known[[2]uint64{f.Access.Device, f.Access.Inode}] = true
		}
	}
	for i := range p.plan.configurations {
		for _, n := range p.plan.configurations[i].Named {
			id := [2]uint64{n.Device, n.Inode}
			switch n.Role {
			case facts.RoleCertificate, facts.RoleKey, facts.RoleChain:
			default:
				continue
			}
			if n.Missing || n.Directory || n.Failure != "" || n.Inode != 0 && known[id] {
				continue
			}
			known[id] = true
			files, err := p.reader.ReadFile(n.Path)
			if err != nil && len(files) == 0 {
				continue // told by the configuration: the file is not what it should be
			}
			p.plan.files = append(p.plan.files, files...)
		}
	}
	if p.request.Visits {
		return p.visitPlaces()
	}
	return nil
}

// visitPlaces plans a visit to each place that a configuration of this machine says is listening with TLS: at its
// address, or at the loopback address where it listens at all, under its first name.
func (p *planner) visitPlaces() error {
	met := map[string]bool{}
	for i := range p.plan.configurations {
		c := &p.plan.configurations[i]
		if c.Root != "" {
			continue // its servers do not run here
		}
		for n := range c.Sites {
			s := &c.Sites[n]
			for _, l := range s.Listens {
				endpointText, at := placeOf(s, l)
				if !s.TLS() || endpointText == "" || met[endpointText+" "+at] {
					continue
				}
				met[endpointText+" "+at] = true
				settings := endpoint.Settings{Endpoint: endpointText, VisitAt: []string{at}, Trust: p.request.Trust,
					Audiences: p.request.Audiences, HTTPPort: p.request.HTTPPort}
				if defects := settings.Settle(endpoint.Known{}); len(defects) > 0 {
					p.plan.unexamined = append(p.plan.unexamined, Unexamined{plain.Text(endpointText),
						defects[0].Err.Error()})
					continue
				}
				v, err := p.visitOf(settings)
				if err != nil {
					return err
				}
				p.plan.places = append(p.plan.places,
					judge.Placed{Configuration: i, Site: n, Endpoint: len(p.plan.visits)})
				p.plan.visits = append(p.plan.visits, v)
			}
		}
	}
	return nil
}

// placeOf is how a place is called as an endpoint, and the address at which it is visited; "" where it cannot be.
func placeOf(s *facts.Site, l facts.Listen) (endpointText, at string) {
	if l.Socket || l.Port == 0 || l.Scheme == "http" {
		return "", ""
	}
	address := l.Address
	switch address {
	case "", "*":
		address = "127.0.0.1"
	case "localhost":
		address = "127.0.0.1"
	}
	parsed, err := netip.ParseAddr(address)
	if err != nil {
		return "", ""
	}
	name := parsed.String()
	for _, n := range s.Names {
		if !strings.ContainsAny(n.Value, "*~^$") && strings.Contains(n.Value, ".") && !strings.HasPrefix(n.Value, ".") {
			name = n.Value
			break
		}
	}
	port := strconv.Itoa(int(l.Port))
	endpointText = net.JoinHostPort(name, port)
	if l.Scheme != "tls" {
		endpointText = l.Scheme + "://" + endpointText
	}
	return endpointText, netip.AddrPortFrom(parsed, l.Port).String()
}
