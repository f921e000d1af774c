package judge

import (
	"slices"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// Question is a certificate about whose revocation is to be asked.
type Question struct {
	Certificate, Issuer *pki.Certificate
	Staple              []byte // the answer that came along, for the leaf
	Near                chain.Surroundings
}

// Questions are what is to be learnt of an endpoint beyond its visits: the
// certificates whose revocation counts for the verdict, and those whose issuer
// is known nowhere and may be fetched.
func Questions(e facts.Endpoint, context Context) (questions []Question, lacking []*pki.Certificate) {
	context.ready()
	context.begin()
	context.learn(e.Fetched, nil, revokedWords)
	for _, a := range visit(&e, &context).addresses {
		if a.bundle == nil {
			continue
		}
		for _, b := range append([]*bundle{a.bundle}, a.others...) {
			if len(b.names) == 0 && b != a.bundle { // it is another's, as like as not
				continue
			}
			q, top := b.questions(b.staple)
			questions = append(questions, q...)
			if top != nil {
				lacking = append(lacking, top)
			}
		}
	}
	return unique(questions), lacking
}

// FileQuestions are the same for a file.
func FileQuestions(f facts.File, context Context) (questions []Question, lacking []*pki.Certificate) {
	context.ready()
	context.begin()
	context.learn(f.Fetched, nil, revokedWords)
	for _, b := range bundlesOf(open(&f, &context)) {
		q, top := b.questions(nil)
		questions = append(questions, q...)
		if top != nil {
			lacking = append(lacking, top)
		}
	}
	return unique(questions), lacking
}

// unique asks about a certificate once, however many addresses sent it, but
// reads every answer that came along.
func unique(list []Question) []Question {
	type id struct {
		certificate, issuer pki.Fingerprint
		staple              string
	}
	seen := map[id]bool{}
	return slices.DeleteFunc(list, func(q Question) bool {
		key := id{q.Certificate.Fingerprint(), q.Issuer.Fingerprint(), string(q.Staple)}
		defer func() { seen[key] = true }()
		return seen[key]
	})
}

func (b *bundle) questions(staple []byte) (questions []Question, lacking *pki.Certificate) {
	path := b.assess().path
	near := chain.Surroundings{Given: b.pool, Known: b.context.Known,
		Store: trust.Merge("all", append(slices.Clone(b.context.stores()), b.context.anchors())...)}
	if path.Anchor != nil {
		near.Anchor = path.Anchor.Certificate
	}
	for i, c := range path.Certificates[:len(path.Certificates)-1] {
		q := Question{Certificate: c, Issuer: path.Certificates[i+1], Near: near}
		if i == 0 {
			q.Staple = staple
		}
		questions = append(questions, q)
	}
	top := path.Certificates[len(path.Certificates)-1]
	if path.Anchor == nil && !top.SelfIssued() && !b.issuerKnown(top) {
		lacking = top
	}
	return questions, lacking
}

// Knows reports whether the certificate's issuer is known here, by name and signature.
func (c Context) Knows(x *pki.Certificate) bool {
	c.ready()
	c.begin()
	b := bundle{context: &c}
	return b.issuerKnown(x)
}
