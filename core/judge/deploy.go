package judge

import (
	"slices"
	"strings"
	"time"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/plain"
	"nurvik/core/serverconf"
)

// deployDefaultName notes that clients which send another name, or none, get another certificate.
func deployDefaultName(a *address) []Finding {
	if a.bundle == nil {
		return nil
	}
	leaf := a.bundle.leaf
	for _, x := range a.seen.Others {
		if x.To == "other-key" || len(x.Certificates) == 0 {
			continue
		}
		c, err := pki.ParseCertificate(x.Certificates[0])
		if err != nil || c.Fingerprint() == leaf.Fingerprint() || slices.Equal(c.HostNames(), leaf.HostNames()) {
			continue
		}
		f := found("deploy.default-name-differs", "default", c.Label(),
			"Clients that send no SNI, or an unknown name in it, get the certificate of %s.", c.Label())
		f.Evidence = certificateEvidence(c)
		return []Finding{f}
	}
	return nil
}

// betterSaid are findings of the configuration that these say better, since they know what is served.
var betterSaid = map[string][]string{"deploy.key-differs": {keyMismatchCode}}

// deployServed compares what a place serves with what it is told to serve.
func deployServed(p *placed) []Finding {
	var out []Finding
	for _, s := range p.served {
		id, told := p.configures(s.Certificate)
		var f Finding
		switch {
		case told:
			f = deployKeyDiffers(p, id)
		case s.before, p.told[s.Fingerprint()]: // another of the places that answer there
		case len(p.site.identities) == 0 || p.site.identities[0].leaf == nil:
		default:
			f = deployOther(p, s)
		}
		if f.Code != "" {
			f.Addresses = []string{s.address}
			out = append(out, f)
		}
	}
	return out
}

// deployOther is for a served leaf that is not the configured one.
func deployOther(p *placed, s servedLeaf) Finding {
	want := p.site.identities[0].leaf
	for _, id := range p.site.identities { // of several kinds of key the one of the same kind
		if id.leaf != nil && id.leaf.PublicKey.Algorithm == s.PublicKey.Algorithm {
			want = id.leaf
		}
	}
	x := p.site.identities[0].Certificate
	onDisk := ""
	if p.machine.pairs != nil {
		if paths := p.machine.pairs.holders(s.Fingerprint(), facts.Certificate); len(paths) > 0 {
			onDisk = paths[0]
		}
	}
	var f Finding
	if want.NotBefore.After(s.NotBefore) || onDisk != "" {
		f = aboutCertificate("deploy.not-reloaded", s.Certificate,
			"%s serves the certificate that was issued on %s, and %s, "+
				"which its configuration names in %s, holds one that was issued on %s: the server was not reloaded.",
			p.endpoint.Target, day(s.NotBefore), x.Value, placeOf(p.site.place(x)), day(want.NotBefore))
		f.Remedy = "Reload the server: " + reloadOf(p.facts.Server) + "."
	} else if s.NotBefore.After(p.from.Known) && !p.from.Known.IsZero() {
		return Finding{} // it is newer than what is known of the machine
	} else {
		f = aboutCertificate("deploy.other-source", s.Certificate,
			"The certificate that %s serves lies in no file that was read here; "+
				"its configuration names %s, in %s.", p.endpoint.Target, x.Value, placeOf(p.site.place(x)))
	}
	f.Evidence.File, f.Evidence.Line = p.site.place(x).File, p.site.place(x).Line
	f.Evidence.Paths = []string{x.Value}
	return f
}

// deployKeyDiffers is for a served leaf that is the configured one, whose key file holds another key by now.
func deployKeyDiffers(p *placed, id *identity) Finding {
	keys, known := id.keys()
	if !known || len(keys) == 0 || slices.Contains(keys, id.leaf.PublicKey.Match()) {
		return Finding{}
	}
	x := orElse(id.Key, id.Certificate)
	f := aboutCertificate("deploy.key-differs", id.leaf,
		"%s serves the certificate of %s with its key, and the key file %s on disk holds "+
			"another key: the next restart fails, or clients fail after it.", p.endpoint.Target, id.leaf.Label(),
		x.Value)
	f.Evidence.File, f.Evidence.Line = p.site.place(x).File, p.site.place(x).Line
	f.Evidence.Paths = []string{x.Value}
	return f
}

// deployRevoked tells of a revoked leaf that is still served although a newer one lies on the machine.
func deployRevoked(p *placed) []Finding {
	var out []Finding
	for _, s := range p.served {
		next, newer := p.machine.newer[s.Fingerprint()]
		if !newer || s.before || !p.revoked(s) {
			continue
		}
		f := aboutCertificate("deploy.revoked-still-served", s.Certificate,
			"%s is revoked and still served, although its successor lies in %s.", s.Label(), next.Paths[0])
		f.Evidence.Paths, f.Addresses, f.replaces = first(next.Paths), []string{s.address}, revokedCode
		out = append(out, f)
	}
	return out
}

// revoked reports whether the leaf is: as the judgement of the endpoint says, or a CRL among the files.
func (p *placed) revoked(s servedLeaf) bool {
	for _, f := range p.endpoint.Findings {
		if f.Code == revokedCode && f.Evidence.Certificate != nil && *f.Evidence.Certificate == s.Fingerprint() {
			return true
		}
	}
	id, told := p.configures(s.Certificate)
	if !told {
		return false
	}
	own := *p.context
	own.Trust = p.from.Trust
	own.begin()
	own.revoked = nil
	learnLists(&own, []*bundle{{context: &own, file: true, given: id.given, pool: chain.NewPool(id.given),
		leaf: id.leaf}})
	return own.revoked[s.Fingerprint()] != ""
}

// ReplacedElsewhere tells of endpoints that serve a certificate whose successor another endpoint serves already: one of
// many that was forgotten.
func ReplacedElsewhere(observed []facts.Endpoint, judgements []Judgement, context Context) {
	context.ready()
	type seen struct {
		leaf     *pki.Certificate
		endpoint int
		address  string
	}
	byNames := map[string][]seen{}
	for i := range observed {
		for _, o := range observed[i].Observations {
			if len(o.Certificates) == 0 {
				continue
			}
			leaf, err := context.certificate(o.Certificates[0])
			if err != nil || len(leaf.HostNames()) == 0 {
				continue
			}
			names := slices.Clone(leaf.HostNames())
			slices.Sort(names)
			key := leaf.Issuer.Key() + "\x00" + strings.ToLower(strings.Join(names, " "))
			byNames[key] = append(byNames[key], seen{leaf, i, o.Place()})
		}
	}
	for _, list := range byNames {
		slices.SortStableFunc(list, func(a, b seen) int { // whichever is met first, the same is named
			return strings.Compare(judgements[a.endpoint].Target, judgements[b.endpoint].Target)
		})
		for _, old := range list {
			for _, next := range list {
				if next.endpoint == old.endpoint || next.leaf.NotBefore.Sub(old.leaf.NotBefore) < apart ||
					context.At.Before(next.leaf.NotBefore) || context.At.After(next.leaf.NotAfter) {
					continue
				}
				j := &judgements[old.endpoint]
				f := aboutCertificate("deploy.replaced-elsewhere", old.leaf,
					"The certificate of %s, issued on %s, is still served here, and "+
						"%s serves its successor, issued on %s.", old.leaf.Label(), day(old.leaf.NotBefore),
					judgements[next.endpoint].Target, day(next.leaf.NotBefore))
				f.Addresses, f.Evidence.Places = []string{old.address}, []string{judgements[next.endpoint].Target}
				plain.CleanLines(&f)
				j.Findings = merge(append(j.Findings, settled(&context.Policy, context.At, j.Target, []Finding{f})...))
				if j.Verdict != Unreachable {
					j.Verdict = verdictOf(j.Findings)
				}
				break
			}
		}
	}
}

// apart is how long after another a certificate must have been issued to be its successor: those of two kinds of key
// are issued together.
const apart = 24 * time.Hour

// reloadOf is what makes a kind of server read its files again.
func reloadOf(server string) string {
	kind, err := serverconf.Find(server)
	if err != nil {
		return "restart it"
	}
	return kind.Reload
}
