package judge

import (
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// showing is what a place shows, as far as it is compared with others: "" for what is not known.
type showing struct{ place, leaves, versions string }

func showingOf(a *address) showing {
	leaves := []string{pki.FingerprintOf(a.seen.Certificates[0]).String()}
	for _, x := range a.seen.Others {
		if x.To == "other-key" && len(x.Certificates) > 0 {
			leaves = append(leaves, pki.FingerprintOf(x.Certificates[0]).String())
		}
	}
	slices.Sort(leaves)
	var versions []string
	for _, version := range a.seen.Versions {
		if a.seen.Cut.Given() { // what was not asked is no difference
			break
		}
		if version.Answer == facts.Accepted {
			versions = append(versions, version.Name)
		}
	}
	return showing{a.seen.Place(), strings.Join(leaves, " "), strings.Join(versions, ", ")}
}

// compared are the aspects of what is shown, with what to say of a difference among addresses and among vantages.
var compared = []struct {
	subject, addresses, vantages string
	of                           func(showing) string
}{
	{"certificates", "The addresses serve different certificates", "it serves other certificates than",
		func(s showing) string { return s.leaves }},
	{"versions", "The addresses accept different protocol versions", "it accepts other protocol versions than",
		func(s showing) string { return s.versions }},
}

// deployAddressesDiffer compares what the addresses of one endpoint show: the leaf, and the versions. Each vantage may
// have other addresses, and is looked at by itself.
func deployAddressesDiffer(v *visited) []Finding {
	var out []Finding
	for _, vantage := range v.vantages() {
		var all []showing
		for _, a := range v.addresses {
			if a.seen.Vantage == vantage && len(a.seen.Certificates) > 0 {
				all = append(all, showingOf(a))
			}
		}
		for _, x := range compared {
			i := other(all, x.of)
			if i < 0 {
				continue
			}
			f := found("deploy.addresses-differ", x.subject, x.subject, "%s: %s and %s.", x.addresses, all[0].place,
				all[i].place)
			f.Evidence.Observations = []string{all[0].place + ": " + x.of(all[0]), all[i].place + ": " + x.of(all[i])}
			out = append(out, f)
		}
	}
	return out
}

// other is the first that differs from the one at the beginning, -1 for none. What is not known is no difference.
func other(all []showing, of func(showing) string) int {
	return slices.IndexFunc(all, func(s showing) bool { return of(s) != of(all[0]) && of(s) != "" && of(all[0]) != "" })
}

// deployVantagesDiffer compares what the vantages see of an endpoint: whether it answers, and with what. A vantage of
// which not all was visited is compared as far as it is known.
func deployVantagesDiffer(v *visited) []Finding {
	vantages := v.vantages()
	if len(vantages) < 2 {
		return nil
	}
	var all []showing
	var answered, silent []string
	for _, vantage := range vantages {
		if !v.answeredFrom(vantage) {
			if why, known := v.silence(vantage); known {
				silent = append(silent, fromWords(vantage)+": "+why)
			}
			continue
		}
		answered = append(answered, fromWords(vantage))
		all = append(all, v.showing(vantage))
	}
	var out []Finding
	if len(answered) > 0 && len(silent) > 0 {
		f := found("deploy.vantages-differ", "reach", "reach", "It answers %s, and does not %s.", answered[0],
			silent[0])
		f.Evidence.Observations = silent
		out = append(out, f)
	}
	for _, x := range compared {
		i := other(all, x.of)
		if i < 0 {
			continue
		}
		f := found("deploy.vantages-differ", x.subject, x.subject, "Visited %s, %s %s.",
			all[i].place, x.vantages, all[0].place)
		f.Evidence.Observations = []string{all[0].place + ": " + x.of(all[0]), all[i].place + ": " + x.of(all[i])}
		out = append(out, f)
	}
	return out
}

// showing is what all addresses show together to a vantage: "" where one of them was not seen to the end.
func (v *visited) showing(vantage string) showing {
	out := showing{place: fromWords(vantage)}
	var leaves, versions []string
	for _, a := range v.addresses {
		if a.seen.Vantage != vantage {
			continue
		}
		if len(a.seen.Certificates) == 0 {
			return out
		}
		s := showingOf(a)
		leaves, versions = append(leaves, strings.Fields(s.leaves)...), append(versions, s.versions)
	}
	if v.missed(vantage) {
		return out
	}
	slices.Sort(leaves)
	slices.Sort(versions)
	out.leaves = strings.Join(slices.Compact(leaves), " ")
	if !slices.Contains(versions, "") {
		out.versions = strings.Join(slices.Compact(versions), "; ")
	}
	return out
}

// vantages are those from which the endpoint was visited or looked up, in the order that it names them.
func (v *visited) vantages() []string {
	var out []string
	for _, l := range v.facts.Vantages {
		out = append(out, l.Name)
	}
	for _, o := range v.facts.Observations {
		if !slices.Contains(out, o.Vantage) {
			out = append(out, o.Vantage)
		}
	}
	return out
}

// answeredFrom reports whether some address gave some answer to the vantage.
func (v *visited) answeredFrom(vantage string) bool {
	return slices.ContainsFunc(v.facts.Observations, func(o facts.Observation) bool {
		return o.Vantage == vantage && answers(o.Outcome)
	})
}

// missed reports whether an address was not visited from the vantage.
func (v *visited) missed(vantage string) bool {
	return slices.ContainsFunc(v.facts.Unvisited, func(place string) bool {
		return place == facts.PlaceFrom(facts.AddressOf(place), vantage)
	})
}

// silence says why nothing answered a vantage; it is not known where not everything was visited.
func (v *visited) silence(vantage string) (why string, known bool) {
	for _, l := range v.facts.Vantages {
		if l.Name == vantage && l.ResolveError.Given() {
			return words.Of(l.ResolveError), true
		}
	}
	for _, o := range v.facts.Observations {
		if o.Vantage == vantage {
			return o.Address.String() + ": " + words.Of(o.Detail), !v.missed(vantage)
		}
	}
	return "", false
}

// fromWords names a vantage in a sentence.
func fromWords(vantage string) string {
	if vantage == "" {
		return "from where the service is"
	}
	return "from " + vantage
}
