package draft

import (
	"errors"
	"fmt"

	"nurvik/core/strictyaml"
)

// Plan is a file of many wishes.
type Plan struct {
	Defaults Entry   `yaml:"defaults,omitempty"`
	Requests []Entry `yaml:"requests"`
}

// Entry is one wish of a plan.
type Entry struct {
	File     string   `yaml:"file,omitempty"` // base of the files' names; by default the first name
	Names    []string `yaml:"names,omitempty,flow"`
	Key      string   `yaml:"key,omitempty"`
	Subject  Subject  `yaml:"subject,omitempty"`
	Staple   bool     `yaml:"staple,omitempty"`
	Template string   `yaml:"template,omitempty"`
}

// Subject is what people fill in of a subject.
type Subject struct {
	Country      string `yaml:"country,omitempty"` // two letters, ISO 3166
	State        string `yaml:"state,omitempty"`
	Locality     string `yaml:"locality,omitempty"`
	Organisation string `yaml:"organisation,omitempty"`
	Unit         string `yaml:"unit,omitempty"`
	CommonName   string `yaml:"common_name,omitempty"`
	Email        string `yaml:"email,omitempty"`
}

// Apply sets what is filled in.
func (s Subject) Apply(w *Wish) {
	for _, f := range []Field{{Country, s.Country}, {State, s.State}, {Locality, s.Locality},
		{Organisation, s.Organisation}, {Unit, s.Unit}, {CommonName, s.CommonName}, {Email, s.Email}} {
		if f.Value != "" {
			w.Set(f.Type, f.Value)
		}
	}
}

// Named is a wish with the base of its files' names, "" for the first name.
type Named struct {
	Wish
	File string
}

// ParsePlan reads a plan in YAML. Errors name the line, or the entry by its number; all are told.
func ParsePlan(name string, data []byte) ([]Named, error) {
	var p Plan
	if err := strictyaml.Decode(name, data, &p); err != nil {
		return nil, err
	}
	if len(p.Requests) == 0 {
		return nil, &strictyaml.Error{Name: name, Text: "there are no requests in the plan"}
	}
	var out []Named
	var failures []error
	if d := p.Defaults; len(d.Names) > 0 || d.File != "" || d.Subject.CommonName != "" {
		failures = append(failures, &strictyaml.Error{Name: name,
			Text: "names, file and common_name belong to each request, not to the defaults"})
	}
	for i, e := range p.Requests {
		n := Named{File: e.File, Wish: Wish{Names: e.Names, Key: KeyKind(orElse(e.Key, p.Defaults.Key)),
			Staple: e.Staple || p.Defaults.Staple, Template: orElse(e.Template, p.Defaults.Template)}}
		p.Defaults.Subject.Apply(&n.Wish)
		e.Subject.Apply(&n.Wish)
		if err := n.Settle(); err != nil {
			failures = append(failures, &strictyaml.Error{Name: name, Text: fmt.Sprintf("request %d: %v", i+1, err)})
		}
		out = append(out, n)
	}
	return out, errors.Join(failures...)
}

func orElse(first, second string) string {
	if first != "" {
		return first
	}
	return second
}
