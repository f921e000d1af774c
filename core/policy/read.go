package policy

import (
	"embed"
	"errors"
	"fmt"
	"nurvik/core/inputfile"
	"nurvik/core/strictyaml"
	"os"
	"slices"
	"strings"
	"sync"
)

//go:embed *.yaml
var builtin embed.FS

// Names lists the built-in policies.
func Names() []string {
	entries, _ := builtin.ReadDir(".") // an embedded folder can always be read
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	return names
}

// Builtin returns the built-in policy of the name. The error lists those there are.
func Builtin(name string) (Policy, error) {
	if !slices.Contains(Names(), name) {
		return Policy{}, fmt.Errorf("there is no policy %q; there is: %s", name, strings.Join(Names(), ", "))
	}
	data, err := builtin.ReadFile(name + ".yaml")
	if err != nil {
		return Policy{}, err
	}
	return Parse(name+".yaml", data)
}

// BuiltinText is the built-in policy of the name as it is written.
func BuiltinText(name string) (string, error) {
	data, err := builtin.ReadFile(name + ".yaml")
	return string(data), err
}

// Open is the default policy. It panics when that cannot be read, which a test reads first.
func Open() Policy {
	p, err := Builtin(Default)
	if err != nil {
		panic("policy: the embedded default cannot be read: " + err.Error())
	}
	return p
}

// Load returns the built-in policy of the name, or reads the file of that path.
func Load(nameOrPath string) (Policy, error) {
	if slices.Contains(Names(), nameOrPath) {
		return Builtin(nameOrPath)
	}
	data, err := inputfile.Read(nameOrPath)
	if errors.Is(err, os.ErrNotExist) {
		return Policy{}, fmt.Errorf("there is no policy and no file %q; built in are: %s", nameOrPath,
			strings.Join(Names(), ", "))
	}
	if err != nil {
		return Policy{}, err
	}
	return Parse(nameOrPath, data)
}

// Parse reads a policy, with what it inherits beneath. Errors name file and line.
func Parse(path string, data []byte) (Policy, error) {
	var own Policy
	if err := strictyaml.Decode(path, data, &own); err != nil {
		return Policy{}, err
	}
	p := Policy{}
	if own.Inherits != "" {
		var err error
		if p, err = Builtin(own.Inherits); err != nil {
			return Policy{}, &strictyaml.Error{Name: path, Text: "inherits: " + err.Error()}
		}
		p.Name, p.About, p.Inherits = "", "", ""
	}
	if err := strictyaml.Decode(path, data, &p); err != nil { // over what is inherited, key by key
		return Policy{}, err
	}
	p.Suites.met, p.Groups.met = new(sync.Map), new(sync.Map)
	return p, p.check(path, data)
}

// For is the policy that an endpoint of the scheme and port is judged by: the
// opportunistic one where clients check nobody, unless another was asked for.
func For(p Policy, scheme string, port uint16) Policy {
	if p.Chosen || p.Name != Default || scheme != "xmpp-server" && (scheme != "smtp" || port != 25) {
		return p
	}
	if own, err := opportunistic(); err == nil {
		return own
	}
	return p
}

var opportunistic = sync.OnceValues(func() (Policy, error) { return Builtin(Opportunistic) })
