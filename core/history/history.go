// Package history says in words what has changed at an endpoint from one audit to another.
package history

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nurvik/core/chain"
	"nurvik/core/compare"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// Between are the changes, in sentences; none where everything that was seen both times is as it was. Nothing is
// concluded from what one of the two did not see: an address that was not visited, a visit that was cut short.
func Between(before, after facts.Endpoint) []string {
	old, now := answered(before), answered(after)
	switch {
	case len(old) == 0 && len(now) == 0:
		return nil
	case len(now) == 0 && !whole(after), len(old) == 0 && !whole(before):
		return nil
	case len(now) == 0:
		return []string{"It no longer answers" + why(after) + "."}
	case len(old) == 0:
		return []string{"It answers."}
	}
	out := addresses(before, after)
	common := slices.DeleteFunc(now, func(o facts.Observation) bool { return at(old, o) == nil })
	old = slices.DeleteFunc(old, func(o facts.Observation) bool { return at(common, o) == nil })
	if len(common) == 0 {
		return out
	}
	out = append(out, leaves(old, common)...)
	if slices.ContainsFunc(slices.Concat(old, common), func(o facts.Observation) bool { return o.Cut.Given() }) {
		return out
	}
	first := compare.OfEndpoint("the chain of before", facts.Endpoint{Observations: old})
	second := compare.OfEndpoint("The chain", facts.Endpoint{Observations: common})
	for _, d := range compare.Compare(first, second).Differences {
		if d.Aspect == compare.Chain || d.Aspect == compare.Settings {
			out = append(out, d.Text)
		}
	}
	return out
}

// answered are the visits that were answered in TLS.
func answered(e facts.Endpoint) []facts.Observation {
	return slices.DeleteFunc(slices.Clone(e.Observations),
		func(o facts.Observation) bool { return o.Outcome != facts.Answered })
}

// whole reports whether every address was visited, or none is known: else the others may have answered.
func whole(e facts.Endpoint) bool {
	return len(e.Unvisited) == 0 && len(e.NoRoute) == 0 && (len(e.Observations) > 0 || e.ResolveError.Given())
}

// why is what was met instead of an answer, after a colon.
func why(e facts.Endpoint) string {
	if e.ResolveError.Given() {
		return ": " + words.Of(e.ResolveError)
	}
	for _, o := range e.Observations {
		return ": " + string(o.Outcome)
	}
	return ""
}

// at is the visit to the same place.
func at(visits []facts.Observation, like facts.Observation) *facts.Observation {
	for i := range visits {
		if visits[i].Address == like.Address && visits[i].Vantage == like.Vantage {
			return &visits[i]
		}
	}
	return nil
}

// addresses tells where the endpoint is, and is not any more.
func addresses(before, after facts.Endpoint) (out []string) {
	for _, o := range after.Observations {
		old := at(before.Observations, o)
		switch {
		case old == nil && !left(before, o):
			out = append(out, fmt.Sprintf("Now also at %s.", o.Place()))
		case old != nil && old.Outcome == facts.Answered && o.Outcome != facts.Answered:
			out = append(out, fmt.Sprintf("%s no longer answers: %s.", o.Place(), o.Outcome))
		case old != nil && old.Outcome != facts.Answered && o.Outcome == facts.Answered:
			out = append(out, fmt.Sprintf("%s answers again.", o.Place()))
		}
	}
	for _, o := range before.Observations {
		if at(after.Observations, o) == nil && !left(after, o) {
			out = append(out, fmt.Sprintf("No longer at %s.", o.Place()))
		}
	}
	return out
}

// left reports whether the address is one of the endpoint that was not visited, or not from that vantage.
func left(e facts.Endpoint, o facts.Observation) bool {
	asked := slices.ContainsFunc(e.Observations, func(x facts.Observation) bool { return x.Vantage == o.Vantage }) ||
		slices.ContainsFunc(e.Vantages, func(v facts.Vantage) bool { return v.Name == o.Vantage && v.Unvisited == "" })
	return !asked || slices.Contains(e.Unvisited, o.Place()) ||
		slices.Contains(e.NoRoute, facts.PlaceFrom(o.Address.Addr().String(), o.Vantage))
}

// leaves tells which certificates were changed; the visits are of the same addresses.
func leaves(old, now []facts.Observation) (out []string) {
	type step struct{ from, to *pki.Certificate }
	var steps []step
	places := map[[2]pki.Fingerprint][]string{}
	before, after := map[pki.Fingerprint]bool{}, map[pki.Fingerprint]bool{}
	for _, o := range now {
		from, to := leafOf(*at(old, o)), leafOf(o)
		if from == nil || to == nil {
			continue
		}
		before[from.Fingerprint()], after[to.Fingerprint()] = true, true
		if from.Fingerprint() == to.Fingerprint() {
			continue
		}
		key := [2]pki.Fingerprint{from.Fingerprint(), to.Fingerprint()}
		if places[key] == nil {
			steps = append(steps, step{from, to})
		}
		places[key] = append(places[key], o.Place())
	}
	for _, s := range steps {
		where := ""
		if at := places[[2]pki.Fingerprint{s.from.Fingerprint(), s.to.Fingerprint()}]; len(at) < len(now) {
			where = " at " + strings.Join(at, ", ")
		}
		out = append(out, exchange(s.from, s.to, where)...)
	}
	switch {
	case len(before) == 1 && len(after) > 1:
		out = append(out, "The addresses serve different certificates.")
	case len(before) > 1 && len(after) == 1:
		out = append(out, "All addresses serve the same certificate.")
	}
	return out
}

// exchange tells of a new certificate in the place of another.
func exchange(from, to *pki.Certificate, where string) []string {
	key := "with a new key"
	if from.PublicKey.Match() == to.PublicKey.Match() {
		key = "with the same key"
	}
	dates := "until " + day(to.NotAfter)
	if old := day(from.NotAfter); old != day(to.NotAfter) {
		dates += " instead of " + old
	}
	out := []string{fmt.Sprintf("Another certificate %s%s: %s.", key, where, dates)}
	if a, b := from.Issuer.Label(), to.Issuer.Label(); a != b {
		out = append(out, fmt.Sprintf("Issued by %s instead of %s.", b, a))
	}
	side := func(name string, c *pki.Certificate) compare.Side {
		return compare.OfFiles(name, []facts.File{{Items: []facts.Item{{Kind: facts.Certificate, DER: c.Raw}}}})
	}
	for _, p := range compare.Compare(side("before", from), side("now", to)).Pairs {
		for _, d := range p.Differences {
			if d.Aspect == compare.Names || d.Aspect == compare.Usages || d.Aspect == compare.Strength {
				out = append(out, d.Text)
			}
		}
	}
	return out
}

func day(t time.Time) string {
	if t.IsZero() {
		return "a day that cannot be read"
	}
	return t.UTC().Format(time.DateOnly)
}

// leafOf is the certificate of the server itself, nil where none was seen.
func leafOf(o facts.Observation) *pki.Certificate {
	var served []*pki.Certificate
	for _, der := range o.Certificates {
		if c, err := pki.ParseCertificate(der); err == nil {
			served = append(served, c)
		}
	}
	if len(served) == 0 {
		return nil
	}
	return served[chain.ServedLeaf(served)]
}
