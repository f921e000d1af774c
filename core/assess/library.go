package assess

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"nurvik/core/endpoint"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

// Library holds what settings refer to by name: trust stores and policies. It
// may be used by one goroutine at a time.
type Library struct {
	Stores   map[string]*trust.Store
	Policies map[string]policy.Policy // beside the built-in ones
	System   func() (*trust.Store, error)

	read map[string]policy.Policy // built-in ones, and the default for names that are gone; each is read once
}

// Expect is what settings expect of their endpoint. A store or policy that is
// gone is replaced by one that accepts nothing, or by the default policy, which
// the judgement then says by its name.
func (l *Library) Expect(s endpoint.Settings) Expectation {
	x := Expectation{Policy: l.Policy(s.Policy), Names: s.References(), Authenticated: s.Authenticated}
	trusted := s.Trust
	if len(s.Trust)+len(s.Audiences) == 0 {
		trusted = []string{trust.SystemName}
	}
	x.Trust, x.Audiences = l.named(trusted), l.named(s.Audiences)
	return x
}

// Policy is the policy of the name; one that is named is chosen, and holds for every endpoint that names it.
func (l *Library) Policy(name string) policy.Policy {
	if p, ok := l.Policies[name]; ok {
		p.Chosen = name != ""
		return p
	}
	p, ok := l.read[name]
	if !ok {
		var err error
		if p, err = policy.Builtin(name); err != nil {
			p = policy.Open()
		}
		p.Chosen = err == nil && name != ""
		if l.read == nil {
			l.read = map[string]policy.Policy{}
		}
		l.read[name] = p
	}
	return p
}

// PolicyNamed is the policy of the name; the error lists those there are.
func (l *Library) PolicyNamed(name string) (policy.Policy, error) {
	if _, own := l.Policies[name]; own || slices.Contains(policy.Names(), name) {
		return l.Policy(name), nil
	}
	all := append(policy.Names(), slices.Sorted(maps.Keys(l.Policies))...)
	return policy.Policy{}, fmt.Errorf("there is no policy %q; there are %s", name, strings.Join(all, ", "))
}

// All are the stores, in the order of their names.
func (l *Library) All() []*trust.Store {
	var out []*trust.Store
	for _, name := range slices.Sorted(maps.Keys(l.Stores)) {
		out = append(out, l.Stores[name])
	}
	return out
}

func (l *Library) named(names []string) []*trust.Store {
	var out []*trust.Store
	for _, name := range names {
		s, ok := l.Stores[name]
		if !ok {
			s = trust.New(name, nil)
			if name == trust.SystemName && l.System != nil {
				if system, err := l.System(); err == nil {
					s = system
				}
			}
			if l.Stores == nil {
				l.Stores = map[string]*trust.Store{}
			}
			l.Stores[name] = s
		}
		out = append(out, s)
	}
	return out
}
