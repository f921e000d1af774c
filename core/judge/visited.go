package judge

import (
	"cmp"
	"slices"

	"nurvik/core/chain"
	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

// visited is an endpoint under judgement: its facts, and each address with the chain that it serves.
type visited struct {
	context   *Context
	facts     *facts.Endpoint
	host      string
	answered  bool // some address gave some answer
	addresses []*address
}

// address is one address of an endpoint that answered in TLS.
type address struct {
	context    *Context
	target     string // as the endpoint is called
	host       string
	seen       *facts.Observation
	versions   map[string]facts.Acceptance
	unreadable []error   // of certificates that were served, by their place; nil for those that are read
	bundle     *bundle   // nil where no certificate could be read
	others     []*bundle // that other clients get
}

// visit makes an endpoint ready for the checks.
func visit(e *facts.Endpoint, context *Context) *visited {
	v := &visited{context: context, facts: e, host: e.Endpoint}
	names := context.Names
	if parsed, err := endpoint.Parse(e.Endpoint); err == nil {
		v.host = parsed.Host
	}
	if len(names) == 0 {
		if own, err := naming.Parse(v.host); err == nil {
			names = []naming.Reference{own}
		}
	}
	for _, text := range context.Policy.Names.Required {
		if name, err := naming.Parse(text); err == nil { // they were checked when the policy was read
			names = append(slices.Clone(names), name)
		}
	}
	for i := range e.Observations {
		o := &e.Observations[i]
		v.answered = v.answered || answers(o.Outcome)
		if o.Outcome != facts.Answered {
			continue
		}
		a := &address{context: context, target: e.Endpoint, host: v.host, seen: o,
			versions: map[string]facts.Acceptance{}}
		for _, version := range o.Versions {
			a.versions[version.Name] = version.Answer
		}
		a.read(e, names)
		v.addresses = append(v.addresses, a)
	}
	return v
}

// answers reports whether an outcome is an answer, if only a bad one.
func answers(o facts.Outcome) bool {
	switch o {
	case facts.Answered, facts.NotTLS, facts.BadMessage, facts.TooSlow, facts.TooMuch, facts.DialogueRefused,
		facts.Early, facts.ExaminationFailed:
		return true
	}
	return false
}

// read decodes the chain that was served.
func (a *address) read(e *facts.Endpoint, names []naming.Reference) {
	var given []*pki.Certificate
	a.unreadable = make([]error, len(a.seen.Certificates))
	for i, der := range a.seen.Certificates {
		c, err := a.context.certificate(der)
		if a.unreadable[i] = err; err == nil {
			given = append(given, c)
		}
	}
	if len(given) == 0 {
		return
	}
	a.bundle = &bundle{context: a.context, host: a.host, asked: e.RevocationAsked, before13: a.acceptsBefore13(),
		possession: a.seen.Possession, staple: a.seen.Staple, timestamps: a.seen.Timestamps,
		records: e.DNS, renewal: e.Renewal, given: given, pool: chain.NewPool(given), leaf: given[chain.ServedLeaf(
			given)], names: names}
	for i := range a.seen.Others {
		if b := a.other(e, &a.seen.Others[i], names); b != nil {
			a.others = append(a.others, b)
		}
	}
}

// other is the chain that other clients get, nil where there is nothing to judge. What a server of many names has for
// names that it does not know is often a placeholder of its own.
func (a *address) other(e *facts.Endpoint, x *facts.Served, names []naming.Reference) *bundle {
	var given []*pki.Certificate
	for _, der := range x.Certificates {
		if c, err := a.context.certificate(der); err == nil {
			given = append(given, c)
		}
	}
	if len(given) == 0 {
		return nil
	}
	b := &bundle{context: a.context, host: a.host, before13: a.acceptsBefore13(), possession: x.Possession,
		staple: x.Staple, timestamps: x.Timestamps, records: e.DNS, given: given, pool: chain.NewPool(given),
		leaf: given[chain.ServedLeaf(given)], names: names}
	switch x.To {
	case "other-key":
		b.clients = "clients that accept only " + x.Key + " certificates"
		b.asked = e.RevocationAsked && slices.ContainsFunc(e.Revocation,
			func(r facts.Revocation) bool { return r.Certificate == b.leaf.Fingerprint() })
		return b
	case "no-name":
		b.clients = "clients that send no SNI"
	default:
		b.clients = "clients that send an unknown name in SNI"
	}
	b.names, b.records = nil, nil
	if b.leaf.SelfIssued() && !slices.Equal(b.leaf.HostNames(), a.bundle.leaf.HostNames()) {
		return nil
	}
	return b
}

func (a *address) accepts(version string) bool { return a.versions[version] == facts.Accepted }

func (a *address) acceptsBefore13() bool {
	for version, answer := range a.versions {
		if answer == facts.Accepted && version != "TLS 1.3" {
			return true
		}
	}
	return false
}

// each runs a check of addresses on every one of them.
func each(check func(*address) []Finding) func(*visited) []Finding {
	return func(v *visited) []Finding {
		var out []Finding
		for _, a := range v.addresses {
			for _, f := range check(a) {
				f.Addresses = []string{a.seen.Place()}
				out = append(out, f)
			}
		}
		return out
	}
}

// acceptedVersions are those that the address accepts, sorted.
func acceptedVersions(a *address) []string {
	var out []string
	for version, answer := range a.versions {
		if answer == facts.Accepted {
			out = append(out, version)
		}
	}
	slices.Sort(out)
	return out
}

// refusal says how every hello is refused, "" where the version is the reason, or something is accepted. What a server
// says to hellos of old versions alone counts for those.
func refusal(a *address) string {
	alert := ""
	for _, v := range a.seen.Versions {
		switch {
		case v.Answer != facts.Declined,
			v.Name >= "TLS 1.2" && v.Detail.Code == facts.Alert && slices.Contains(v.Detail.Args, "protocol_version"):
			return ""
		case v.Detail.Code == facts.Alert && len(v.Detail.Args) > 0:
			alert = cmp.Or(alert, "alert "+v.Detail.Args[0])
		}
	}
	return alert
}
