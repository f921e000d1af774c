// Package estatefile reads and writes the file in which people keep their
// estate. Its form is described in docs/estate-file.md.
package estatefile

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"nurvik/core/endpoint"
	"nurvik/core/inputfile"
	"nurvik/core/judge"
	"nurvik/core/limits"
	"nurvik/core/naming"
	"nurvik/core/policy"
	"nurvik/core/strictyaml"
	"nurvik/core/trust"
	"nurvik/internal/outbound"
)

// Estate is the contents of an estate file.
type Estate struct {
	Name     string            `yaml:"name,omitempty"`
	Stores   map[string]Store  `yaml:"stores,omitempty"`
	Policies map[string]Policy `yaml:"policies,omitempty"`
	Defaults Defaults          `yaml:"defaults,omitempty"`
	// that issuers may be asked in, beside the public ones
	Networks []outbound.NetworkEntry `yaml:"networks,omitempty,flow"`
	Resolver *Resolver               `yaml:"resolver,omitempty"` // name server to ask instead of the system's
	Limits   limits.Limits           `yaml:"limits,omitempty"`   // of visits
	// the names in CAA records by which CAs go, by the common name or the organisation of the CA
	CAAIssuers map[string][]string `yaml:"caa-issuers,omitempty"`
	Endpoints  []endpoint.Settings `yaml:"endpoints"`

	path string // for error messages and relative paths
}

// Store is a trust store that the estate names.
type Store struct {
	Kind trust.Kind `yaml:"kind,omitempty"`
	Path string     `yaml:"path,omitempty"` // file or directory, relative to the estate file
	PEM  string     `yaml:"pem,omitempty"`  // the anchors themselves, instead of a path
}

// Resolver is a name server.
type Resolver struct {
	Address   string `yaml:"address"`             // ADDRESS or ADDRESS:PORT
	Validates bool   `yaml:"validates,omitempty"` // it validates DNSSEC, and the way to it can be trusted
}

// Defaults hold for every endpoint that does not say otherwise.
type Defaults struct {
	Policy    string            `yaml:"policy,omitempty"`
	Trust     []string          `yaml:"trust,omitempty,flow"`
	Audiences []string          `yaml:"audiences,omitempty,flow"`
	Owner     string            `yaml:"owner,omitempty"`
	Labels    map[string]string `yaml:"labels,omitempty"`
}

// Policy is a policy that the estate names.
type Policy struct {
	Path string `yaml:"path,omitempty"` // of its file, relative to the estate file
	Text string `yaml:"text,omitempty"` // the policy itself, instead of a path
}

// Looks reports whether the bytes seem to be an estate file: a YAML document
// with a list of endpoints. It decides how a file named in a call is read.
func Looks(data []byte) bool {
	if bytes.Contains(data, []byte("-----BEGIN ")) && !bytes.Contains(data, []byte("endpoints:")) {
		return false
	}
	var top map[string]yaml.Node
	if yaml.Unmarshal(data, &top) != nil {
		// A broken estate file should be told as such and not as an unknown file.
		return bytes.HasPrefix(data, []byte("endpoints:")) || bytes.Contains(data, []byte("\nendpoints:"))
	}
	_, ok := top["endpoints"]
	return ok
}

// Read reads and checks the estate file. Errors name file and line.
func Read(path string) (*Estate, error) {
	data, err := inputfile.Read(path)
	if err != nil {
		return nil, err
	}
	return Parse(path, data)
}

// Parse reads and checks an estate; the path is for messages and for what is relative to it.
func Parse(path string, data []byte) (*Estate, error) {
	e := &Estate{path: path}
	if err := strictyaml.Decode(path, data, e); err != nil {
		return nil, err
	}
	e.path = path
	return e, e.check(data)
}

// check looks for what YAML cannot know. All defects are reported together.
func (e *Estate) check(data []byte) error {
	lines := entryLines(data)
	var failures []error
	fail := func(line int, format string, args ...any) {
		failures = append(failures, &strictyaml.Error{Name: e.path, Line: line, Text: fmt.Sprintf(format, args...)})
	}
	for name, s := range e.Stores {
		if (s.Path == "") == (s.PEM == "") {
			fail(0, "the store %q needs either a path or pem", name)
		}
		if s.Kind != "" && !slices.Contains([]trust.Kind{trust.Public, trust.Private, trust.Rehearsal}, s.Kind) {
			fail(0, "the store %q has the kind %q; there are public, private and rehearsal", name, s.Kind)
		}
	}
	for name, p := range e.Policies {
		if (p.Path == "") == (p.Text == "") {
			fail(0, "the policy %q needs either a path or text", name)
		}
		if slices.Contains(policy.Names(), name) {
			fail(0, "the policy %q is built in; give yours another name", name)
		}
	}
	for _, n := range e.Networks {
		if _, err := n.Parse(); err != nil {
			fail(0, "networks: %v", err)
		}
	}
	for issuer, caa := range e.CAAIssuers {
		for _, name := range caa {
			if _, err := naming.Parse(name); err != nil {
				fail(0, "caa-issuers: %q of %q is no host name, as the domains in CAA records are", name, issuer)
			}
		}
	}
	if err := e.Limits.Check(); err != nil {
		fail(0, "limits: %v", err)
	}
	seen := map[string]int{}
	for i := range e.Endpoints {
		line := 0
		if i < len(lines) {
			line = lines[i]
		}
		entry := &e.Endpoints[i]
		defects := entry.Settle(endpoint.Known{})
		for _, d := range defects {
			fail(line, "%v", d.Err)
		}
		if len(defects) > 0 {
			continue
		}
		if first, twice := seen[entry.Endpoint]; twice {
			fail(line, "%s is listed twice, first in line %d", entry.Endpoint, first)
		}
		seen[entry.Endpoint] = line
	}
	return errors.Join(failures...)
}

// entryLines finds the line of each endpoint.
func entryLines(data []byte) []int {
	var document yaml.Node
	if yaml.Unmarshal(data, &document) != nil || len(document.Content) == 0 {
		return nil
	}
	top := document.Content[0]
	for i := 0; i+1 < len(top.Content); i += 2 {
		if top.Content[i].Value == "endpoints" {
			var lines []int
			for _, item := range top.Content[i+1].Content {
				lines = append(lines, item.Line)
			}
			return lines
		}
	}
	return nil
}

// Settled returns the entry with the defaults filled in.
func (e *Estate) Settled(entry endpoint.Settings) endpoint.Settings {
	if entry.Policy == "" {
		entry.Policy = e.Defaults.Policy
	}
	if len(entry.Trust) == 0 {
		entry.Trust = e.Defaults.Trust
	}
	if len(entry.Audiences) == 0 {
		entry.Audiences = e.Defaults.Audiences
	}
	if entry.Owner == "" {
		entry.Owner = e.Defaults.Owner
	}
	if len(e.Defaults.Labels) > 0 {
		labels := map[string]string{}
		for _, from := range []map[string]string{e.Defaults.Labels, entry.Labels} {
			for k, v := range from {
				labels[k] = v
			}
		}
		entry.Labels = labels
	}
	return entry
}

// LoadStores loads the stores that the estate names.
func (e *Estate) LoadStores() (map[string]*trust.Store, error) {
	stores := map[string]*trust.Store{}
	for name, s := range e.Stores {
		var store *trust.Store
		var err error
		if s.PEM != "" {
			store, err = trust.FromPEM(name, []byte(s.PEM), s.Kind)
		} else {
			path := e.beside(s.Path)
			if !strings.ContainsRune(path, '/') {
				path = "./" + path
			}
			if s.Kind != "" {
				path = string(s.Kind) + ":" + path
			}
			store, err = (&trust.Loader{}).Load(path)
		}
		if err != nil {
			return nil, &strictyaml.Error{Name: e.path, Text: fmt.Sprintf("store %s: %v", name, err)}
		}
		stores[name] = trust.New(name, store.Anchors)
	}
	return stores, nil
}

// beside is a path that is relative to the estate file.
func (e *Estate) beside(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(e.path), path)
}

// PolicyTexts reads the texts of the policies that the estate names.
func (e *Estate) PolicyTexts() (map[string]string, error) {
	out := map[string]string{}
	for name, p := range e.Policies {
		out[name] = p.Text
		if p.Path == "" {
			continue
		}
		data, err := inputfile.Read(e.beside(p.Path))
		if err != nil {
			return nil, &strictyaml.Error{Name: e.path, Text: fmt.Sprintf("policy %s: %v", name, err)}
		}
		out[name] = string(data)
	}
	return out, nil
}

// LoadPolicies reads and checks the policies that the estate names.
func (e *Estate) LoadPolicies() (map[string]policy.Policy, error) {
	texts, err := e.PolicyTexts()
	if err != nil {
		return nil, err
	}
	out := map[string]policy.Policy{}
	for name, text := range texts {
		path := e.path + ", policy " + name
		if from := e.Policies[name].Path; from != "" {
			path = e.beside(from)
		}
		p, err := policy.Parse(path, []byte(text))
		if err == nil {
			err = judge.CheckPolicy(p)
		}
		if err != nil {
			return nil, err
		}
		p.Name = name
		out[name] = p
	}
	return out, nil
}

// Write returns the estate as a file.
func (e *Estate) Write() ([]byte, error) {
	var out bytes.Buffer
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	if err := encoder.Encode(e); err != nil {
		return nil, err
	}
	return out.Bytes(), encoder.Close()
}

// AllowedNetworks are those that issuers may be asked in; they were checked when the file was read.
func (e *Estate) AllowedNetworks() []outbound.Network {
	var out []outbound.Network
	for _, entry := range e.Networks {
		if n, err := entry.Parse(); err == nil {
			out = append(out, n)
		}
	}
	return out
}
