package audit

import (
	"fmt"
	"io/fs"
	"maps"
	"nurvik/core/assess"
	"nurvik/core/inputfile"
	"nurvik/core/plain"
	"nurvik/internal/estatefile"
	"os"
	"path/filepath"
	"strings"
)

// sort takes the estate file out of the targets. One is obeyed, with the networks,
// the name server and the trust stores that it names, only where the caller
// surely means it: with --estate, or as the only target under a name that says
// so. Anywhere else, as in uploads/*, it is a file like any other.
func (p *planner) sort() (estate *estatefile.Estate, rest []string, err error) {
	path := p.request.Estate
	rest = p.request.Targets
	if path == "" && len(rest) == 1 && hasEstateName(rest[0]) {
		if data, err := inputfile.Read(rest[0]); err == nil && estatefile.Looks(data) {
			path, rest = rest[0], nil
		}
	}
	if path == "" {
		return nil, rest, nil
	}
	data, err := inputfile.Read(path)
	if err != nil {
		return nil, nil, &UsageError{fmt.Errorf("estate file: %w", err)}
	}
	e, err := estatefile.Parse(path, data)
	if err != nil {
		return nil, nil, &UsageError{err}
	}
	stores, err := e.LoadStores()
	if err != nil {
		return nil, nil, err
	}
	for name, s := range stores {
		p.loader.Named[name], p.stores[name] = s, s
	}
	policies, err := e.LoadPolicies()
	if err != nil {
		return nil, nil, &UsageError{err}
	}
	maps.Copy(p.policies, policies)
	p.defaults = e.Defaults
	p.plan.networks = append(p.plan.networks, e.AllowedNetworks()...)
	p.plan.limits, p.plan.resolver, p.caaIssuers = e.Limits, e.Resolver, e.CAAIssuers
	return e, rest, nil
}

// hasEstateName reports whether a name says that a file is meant to be read as YAML.
func hasEstateName(path string) bool {
	ending := strings.ToLower(filepath.Ext(path))
	return ending == ".yaml" || ending == ".yml"
}

// maxNotes is how many files are told that have the form of an estate file.
const maxNotes = 10

// noteEstates says of a target, or of what lies below it, that it has the form
// of an estate file and is not obeyed.
func (p *planner) noteEstates(target string) {
	note := func(path string) {
		if _, once := inputfile.Stream(path); once || len(p.plan.notes) >= maxNotes {
			return // looking would take it away from the reader
		}
		if data, err := inputfile.Read(path); err == nil && estatefile.Looks(data) {
			p.plan.notes = append(p.plan.notes,
				plain.Text(path)+" has the form of an estate file and is read as a file "+
					"like any other: nothing in it is obeyed. To audit the estate, name it alone and as .yaml or "+
					".yml, or with "+
					"--estate")
		}
	}
	info, err := os.Stat(target)
	switch {
	case err != nil:
	case !info.IsDir():
		note(target)
	default:
		_ = filepath.WalkDir(target, func(path string, entry fs.DirEntry, err error) error {
			if err == nil && entry.Type().IsRegular() && hasEstateName(path) {
				note(path)
			}
			return nil // what cannot be read is told by the walk that reads the files
		})
	}
}

func (p *planner) estate(e *estatefile.Estate) error {
	for _, entry := range e.Endpoints {
		if len(entry.Trust) == 0 {
			entry.Trust = p.request.Trust
		}
		if len(entry.Audiences) == 0 {
			entry.Audiences = p.request.Audiences
		}
		entry = e.Settled(entry)
		v, err := p.visitOf(entry)
		if err != nil {
			return err
		}
		if p.request.Policy == "" && entry.Policy != "" {
			library := assess.Library{Policies: p.policies}
			if v.expected.Policy, err = library.PolicyNamed(entry.Policy); err != nil {
				return &UsageError{fmt.Errorf("%s: %w", entry.Endpoint, err)}
			}
		}
		p.plan.visits = append(p.plan.visits, v)
	}
	return nil
}
