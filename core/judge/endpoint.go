package judge

import (
	"fmt"
	"slices"
	"strings"

	"nurvik/core/chain"
	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

// endpointChecks are run on each address that served certificates, in this order.
var endpointChecks = []func(*bundle){checkPath, checkSibling, checkOrder, checkRoot, checkSurplus, checkAlternates, checkOutlived, checkLength, checkAudiences, checkRevocation, checkTime, checkLifetime, checkNames, checkKeys, checkSignatures, checkForm, checkPins, checkAuthorization}

// Endpoint judges what was observed of an endpoint.
func Endpoint(e facts.Endpoint, context Context) Judgement {
	j := Judgement{Target: e.Endpoint, Kind: "endpoint", Chains: []Chain{}}
	if e.ResolveError != "" {
		host := hostOf(e.Endpoint)
		f := found("dns.unresolved", host, host, "%s.", capital(e.ResolveError))
		j.Findings, j.Verdict, j.Certificates = []Finding{f}, Unreachable, []pki.Description{}
		return j
	}
	context.ready()
	context.learn(e.Fetched, e.Revocation)
	names := context.Names
	if len(names) == 0 {
		if own, err := naming.Parse(hostOf(e.Endpoint)); err == nil {
			names = []naming.Reference{own}
		}
	}
	for _, text := range context.Policy.Names.Required {
		if name, err := naming.Parse(text); err == nil { // they were checked when the policy was read
			names = append(slices.Clone(names), name)
		}
	}
	pool := newPool()
	findings, answered := reach(e)
	for _, o := range e.Observations {
		b := bundle{context: &context, target: e.Endpoint, records: e.DNS, host: hostOf(e.Endpoint), asked: e.RevocationAsked, names: names, versions: map[string]facts.Acceptance{}}
		if o.Outcome == facts.Answered {
			b.observed(o)
			if b.leaf != nil {
				j.draw(&b, o.Address.String(), pool)
			}
		}
		for _, f := range b.findings {
			f.Addresses = []string{o.Address.String()}
			findings = append(findings, f)
		}
	}
	j.Findings = withSettings(j.Target, merge(context.settle(j.Target, append(findings, addressesDiffer(e)...))))
	j.Verdict = verdictOf(j.Findings)
	if !answered {
		j.Verdict = Unreachable
	}
	j.Certificates = pool.descriptions()
	return j
}

func hostOf(target string) string {
	if e, err := endpoint.Parse(target); err == nil {
		return e.Host
	}
	return target
}

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// observed judges one address that answered.
func (b *bundle) observed(o facts.Observation) {
	for _, v := range o.Versions {
		b.versions[v.Name] = v.Answer
		if v.Answer == facts.Garbled && (o.Settings == nil || o.Settings.NotOffered == "") { // that has a code of its own
			f := found("reach.bad-message", v.Name, v.Name, "The answer to an offer of %s cannot be decoded: %s.", v.Name, v.Detail)
			b.add(f)
		}
	}
	if o.Cut != "" {
		b.add(found("reach.too-slow", b.target, b.target, "The visit was ended before everything was asked: %s.", o.Cut))
	}
	checkVersions(b)
	checkSuites(b, o)
	checkGroups(b, o)
	b.read(o)
	checkWeb(b, o, b.host)
	checkSettings(b, o)
	if b.leaf == nil {
		return
	}
	checkDefault(b, o)
	b.assessed, b.assembled = b.assess(), b.assemble()
	for _, check := range endpointChecks {
		check(b)
	}
}

// read decodes the chain that was served.
func (b *bundle) read(o facts.Observation) {
	for i, der := range o.Certificates {
		c, err := pki.ParseCertificate(der)
		if err != nil {
			b.add(found("reach.bad-message", fmt.Sprintf("certificate %d", i+1), fmt.Sprintf("certificate %d", i+1), "Certificate %d of the chain cannot be decoded: %v.", i+1, err))
			continue
		}
		b.given = append(b.given, c)
	}
	if len(b.given) > 0 {
		b.leaf = b.given[chain.ServedLeaf(b.given)]
		b.pool = chain.NewPool(b.given)
	}
}

// reach judges how the visits ended, and tells whether any address gave an answer.
func reach(e facts.Endpoint) (findings []Finding, answered bool) {
	answers := func(o facts.Observation) bool {
		return o.Outcome == facts.Answered || o.Outcome == facts.NotTLS || o.Outcome == facts.BadMessage || o.Outcome == facts.TooSlow || o.Outcome == facts.TooMuch ||
			o.Outcome == facts.DialogueRefused || o.Outcome == facts.Early
	}
	answered = slices.ContainsFunc(e.Observations, answers)
	for _, o := range e.Observations {
		address := o.Address.String()
		var f Finding
		switch {
		case o.Outcome == facts.Answered:
			continue
		case o.Outcome == facts.NotTLS:
			f = found("reach.not-tls", e.Endpoint, e.Endpoint, "Something else than TLS answers on the port: %s.", o.Detail)
		case o.Outcome == facts.TooSlow:
			f = found("reach.too-slow", e.Endpoint, e.Endpoint, "The endpoint answers too slowly, and the visit was ended: %s.", o.Detail)
		case o.Outcome == facts.TooMuch:
			f = found("reach.too-much", e.Endpoint, e.Endpoint, "The endpoint answers without end, and the visit was ended: %s.", o.Detail)
		case o.Outcome == facts.DialogueRefused:
			f = found("reach.dialogue-refused", e.Endpoint, e.Endpoint, "The plaintext dialogue did not lead to TLS: %s.", o.Detail)
		case o.Outcome == facts.Early:
			f = found("reach.plaintext-after-upgrade", e.Endpoint, e.Endpoint, "The upgrade to TLS can be tampered with: %s.", o.Detail)
		case o.Outcome == facts.BadMessage:
			f = found("reach.bad-message", e.Endpoint, e.Endpoint, "TLS answers, but %s.", o.Detail)
		case answered:
			f = found("reach.address-refused", address, address, "%s does not answer, while other addresses do: %s.", address, o.Detail)
		default:
			f = found(unreachableCodes[o.Outcome], e.Endpoint, e.Endpoint, "%s.", capital(o.Detail))
		}
		f.Addresses = []string{address}
		f.Evidence.Observations = []string{address + ": " + o.Detail}
		findings = append(findings, f)
	}
	return findings, answered
}

var unreachableCodes = map[facts.Outcome]string{facts.Refused: "reach.refused", facts.Timeout: "reach.timeout", facts.Reset: "reach.reset"}

// draw adds the bundle's chain to the judgement; equal chains are drawn once.
func (j *Judgement) draw(b *bundle, address string, pool *pool) {
	view := b.context.Verifier.Draw(b.given, b.assessed.path, b.assessed.store)
	pool.add(b.given[:len(view.Given)]...)
	pool.add(b.assessed.path.Certificates...)
	for _, a := range b.assembled {
		for _, p := range a.paths[:min(len(a.paths), maxShown)] {
			pool.add(p.Certificates...)
		}
	}
	if j.Leaf == nil {
		j.Leaf, j.Issuer = fingerprint(b.leaf), b.leaf.Issuer.Label()
		if !b.leaf.NotAfter.IsZero() {
			j.NotAfter = &b.leaf.NotAfter
		}
	}
	same := func(c Chain) bool {
		return slices.Equal(c.View.Given, view.Given) && slices.Equal(c.View.Right, view.Right)
	}
	if i := slices.IndexFunc(j.Chains, same); i >= 0 {
		j.Chains[i].Addresses = append(j.Chains[i].Addresses, address)
		return
	}
	c := Chain{View: view, Audiences: b.audiences(), Revocation: b.states(), Bundle: b.bundlePEM()}
	if address != "" {
		c.Addresses = []string{address}
	}
	j.Chains = append(j.Chains, c)
}

// bundlePEM is the repaired chain.
func (b *bundle) bundlePEM() []string {
	path := b.assessed.path
	right := slices.EqualFunc(b.given, path.Below(), func(x, y *pki.Certificate) bool { return x.Fingerprint() == y.Fingerprint() })
	if !path.Valid() || right && !b.context.Bundles {
		return nil
	}
	var out []string
	for _, c := range path.Below() {
		out = append(out, c.PEM())
	}
	return out
}

// pool collects each certificate once, in the order met.
type pool struct {
	seen map[pki.Fingerprint]bool
	list []pki.Description
}

func newPool() *pool { return &pool{seen: map[pki.Fingerprint]bool{}, list: []pki.Description{}} }

func (p *pool) add(certificates ...*pki.Certificate) {
	for _, c := range certificates {
		if !p.seen[c.Fingerprint()] {
			p.seen[c.Fingerprint()] = true
			p.list = append(p.list, c.Describe())
		}
	}
}

func (p *pool) descriptions() []pki.Description { return p.list }
