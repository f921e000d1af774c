package chain

import (
	"maps"
	"slices"

	"nurvik/core/pki"
)

// PolicyInputs are what a caller may demand of policies (RFC 5280, 6.1.1 c, e,
// f and g). The zero value demands nothing.
type PolicyInputs struct {
	Accepted       []pki.OID // nil for any
	Explicit       bool      // a path must be valid for one of them
	InhibitMapping bool
	InhibitAny     bool
}

// policyNode is a node of the graph of valid policies. RFC 9618 gives the
// graph in place of the tree of RFC 5280, which grows without bounds.
type policyNode struct {
	policy   pki.OID
	expected map[pki.OID]bool
	parents  []*policyNode
}

// policyState is what is carried along the path (RFC 5280, 6.1.2).
type policyState struct {
	graph                       map[pki.OID]*policyNode // of the last depth; nil when no policy is valid any more
	explicit, mapping, anyLimit int
}

// policyFailure processes the policies of the path, which has the leaf first,
// and returns those for which it is valid too.
func (s *search) policyFailure(path []*pki.Certificate) ([]pki.OID, []Failure) {
	n, in := len(path)-1, s.query.Policies // certificates below the anchor
	start := func(now bool) int {
		if now {
			return 0
		}
		return n + 1
	}
	state := policyState{explicit: start(in.Explicit), mapping: start(in.InhibitMapping),
		anyLimit: start(in.InhibitAny), graph: map[pki.OID]*policyNode{pki.AnyPolicy: {policy: pki.AnyPolicy,
			expected: map[pki.OID]bool{pki.AnyPolicy: true}}}}
	for i := n - 1; i >= 0; i-- {
		c := path[i]
		if !s.query.Budget.spend(state.size(c) * 2 / 3) {
			return nil, s.tooCostly(c, "too many policies would have to be followed")
		}
		state.process(c, i == 0)
		if state.explicit == 0 && state.graph == nil {
			return nil, []Failure{{PolicyNotAllowed, c,
				"a policy is required from here on, and none is valid any more"}}
		}
		if i == 0 {
			break
		}
		for _, m := range c.PolicyMappings {
			if m.Issuer == pki.AnyPolicy || m.Subject == pki.AnyPolicy {
				return nil, []Failure{{PolicyNotAllowed, c, "it maps the policy anyPolicy"}}
			}
		}
		state.mapPolicies(c)
		state.prepare(c)
	}
	return state.wrapUp(path[0], in)
}

// size is how much there is to follow for the next certificate: what takes about two thirds of a microsecond each.
func (s *policyState) size(c *pki.Certificate) int {
	total := len(c.Policies) + len(c.PolicyMappings)
	for _, node := range s.graph {
		total += 1 + len(node.expected)
	}
	return total
}

// process is RFC 5280, 6.1.3 d and e, on the graph of RFC 9618.
func (s *policyState) process(c *pki.Certificate, final bool) {
	if !c.HasPolicies || s.graph == nil {
		s.graph = nil
		return
	}
	next, parents := map[pki.OID]*policyNode{}, map[pki.OID][]*policyNode{} // by the policy that they expect
	for _, node := range s.graph {
		for p := range node.expected {
			parents[p] = append(parents[p], node)
		}
	}
	add := func(p pki.OID, above []*policyNode) {
		if next[p] == nil && len(above) > 0 {
			next[p] = &policyNode{p, map[pki.OID]bool{p: true}, above}
		}
	}
	anyParent, any := s.graph[pki.AnyPolicy], false
	for _, p := range c.Policies {
		switch {
		case p == pki.AnyPolicy:
			any = true
		case len(parents[p]) > 0:
			add(p, parents[p])
		case anyParent != nil:
			add(p, []*policyNode{anyParent})
		}
	}
	if any && (s.anyLimit > 0 || !final && c.SelfIssued()) {
		for p, above := range parents {
			add(p, above)
		}
	}
	if s.graph = next; len(next) == 0 {
		s.graph = nil
	}
}

// mapPolicies is RFC 5280, 6.1.4 b.
func (s *policyState) mapPolicies(c *pki.Certificate) {
	if s.graph == nil {
		return
	}
	mapped := map[pki.OID]map[pki.OID]bool{}
	for _, m := range c.PolicyMappings {
		if mapped[m.Issuer] == nil {
			mapped[m.Issuer] = map[pki.OID]bool{}
		}
		mapped[m.Issuer][m.Subject] = true
	}
	for from, to := range mapped {
		switch {
		case s.mapping == 0:
			delete(s.graph, from)
		case s.graph[from] != nil:
			s.graph[from].expected = to
		case s.graph[pki.AnyPolicy] != nil:
			s.graph[from] = &policyNode{from, to, s.graph[pki.AnyPolicy].parents}
		}
	}
	if len(s.graph) == 0 {
		s.graph = nil
	}
}

// prepare is RFC 5280, 6.1.4 h to j.
func (s *policyState) prepare(c *pki.Certificate) {
	if !c.SelfIssued() {
		for _, counter := range []*int{&s.explicit, &s.mapping, &s.anyLimit} {
			*counter = max(*counter-1, 0)
		}
	}
	for counter, limit := range map[*int]*int{&s.explicit: c.PolicyConstraints.RequireExplicit,
		&s.mapping: c.PolicyConstraints.InhibitMapping, &s.anyLimit: c.PolicyConstraints.InhibitAny} {
		if limit != nil {
			*counter = min(*counter, *limit)
		}
	}
}

// wrapUp is RFC 5280, 6.1.5 a, b and g.
func (s *policyState) wrapUp(leaf *pki.Certificate, in PolicyInputs) ([]pki.OID, []Failure) {
	policies := s.accepted(in.Accepted)
	explicit := max(s.explicit-1, 0)
	if r := leaf.PolicyConstraints.RequireExplicit; r != nil && *r == 0 {
		explicit = 0
	}
	if explicit == 0 && len(policies) == 0 {
		return nil, []Failure{{PolicyNotAllowed, leaf,
			"a policy is required, and the path is valid for none that is accepted"}}
	}
	return policies, nil
}

// accepted are the policies for which the path is valid, of those that the
// caller accepts, as the anchor's domain names them: the
// user-constrained-policy-set (RFC 9618, 5.4).
func (s *policyState) accepted(policies []pki.OID) []pki.OID {
	set, seen := map[pki.OID]bool{}, map[*policyNode]bool{}
	next := slices.Collect(maps.Values(s.graph))
	if s.graph[pki.AnyPolicy] != nil {
		set[pki.AnyPolicy] = true
	}
	for ; len(next) > 0; next = next[1:] {
		node := next[0]
		if seen[node] || node.policy == pki.AnyPolicy {
			continue
		}
		seen[node] = true
		for _, parent := range node.parents {
			if parent.policy == pki.AnyPolicy {
				set[node.policy] = true
			}
		}
		next = append(next, node.parents...)
	}
	switch {
	case policies == nil || slices.Contains(policies, pki.AnyPolicy):
		policies = slices.Collect(maps.Keys(set))
	case !set[pki.AnyPolicy]:
		policies = slices.DeleteFunc(slices.Clone(policies), func(p pki.OID) bool { return !set[p] })
	}
	return slices.Sorted(slices.Values(policies))
}
