package probe

import (
	"context"
	"errors"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
	"slices"
)

// otherNames asks for the chains that clients get which send no server name, or a foreign one.
func otherNames(ctx context.Context, v *visit, to, name string, purpose facts.Code) {
	if len(v.accepted()) == 0 || name == v.call.ServerName || name == "" && v.nameless {
		return
	}
	answer, err := askByName(ctx, v, facts.Because(purpose), name)
	otherName(v, facts.Served{To: to, ServerName: name}, answer, err)
}

// otherName takes in the chain for another name. The same chain as usual is nothing to tell.
func otherName(v *visit, served facts.Served, answer tlswire.Answer, err error) {
	chain := answer.Chain.Certificates
	var alert *tlswire.AlertError
	switch {
	case len(chain) > 0 && usualChain(v, chain):
		return
	case len(chain) > 0:
		served.Certificates, served.Version = chain, answer.Hello.Version.String()
		served.Staple, served.Timestamps = answer.Chain.Staple, answer.Chain.Timestamps
		if leaf, err := pki.ParseCertificate(chain[0]); err == nil {
			served.Possession = proven(leaf, answer)
		}
	case errors.As(err, &alert):
		served.Refused = reasonOf(err)
	case errors.Is(err, tlswire.ErrClosed):
		served.Refused = facts.Because(facts.Closed)
	default:
		return
	}
	v.observation.Others = append(v.observation.Others, served)
}

// foreignName is a name that no endpoint has (RFC 6761, 6.4).
const foreignName = "nobody.invalid"

// usualChain reports whether the chain is what a client gets that names the endpoint,
// with the one kind of key or the other.
func usualChain(v *visit, chain [][]byte) bool {
	return sameChain(chain, v.observation.Certificates) ||
		slices.ContainsFunc(v.observation.Others, func(s facts.Served) bool {
			return s.To == "other-key" && sameChain(chain, s.Certificates)
		})
}

func sameChain(a, b [][]byte) bool {
	return slices.EqualFunc(a, b, func(x, y []byte) bool { return slices.Equal(x, y) })
}

// askByName gets the certificates for a server name, in the clear where an older version is accepted.
func askByName(ctx context.Context, v *visit, purpose facts.Reason, name string) (tlswire.Answer, error) {
	for _, version := range v.accepted() {
		if version < tlswire.TLS13 {
			hello := v.hello(version)
			hello.ServerName = name
			order := version == v.groupVersion && len(v.groups) > 1 && v.observation.Groups.Order == ""
			if order { // whose order of groups counts, the answer tells too
				hello.Groups = withLeafCurve(v, reversedGroups(v))
			}
			v.schemes.over = false
			answer, err := narrowed(ctx, v, purpose, hello)
			if chain := answer.Chain.Certificates; len(chain) > 0 && usualChain(v, chain) {
				if v.signed(answer); order {
					groupsOrdered(v, answer.Group())
				}
			}
			return answer, err
		}
	}
	hello := v.hello(tlswire.TLS13)
	hello.ServerName = name
	session, err := v.whole(ctx, purpose, hello, nil)
	return session.Answer, err
}
