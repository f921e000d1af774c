package probe

import (
	"context"
	"crypto/rand"
	"errors"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
	"slices"
)

// otherChains asks for the chains that other clients get: with another kind of
// key, without a server name, with a foreign one.
func otherChains(ctx context.Context, v *visit) {
	versions := v.accepted()
	if len(versions) == 0 {
		return
	}
	otherKey(ctx, v, versions)
	for _, other := range []struct {
		to, name string
		purpose  facts.Code
	}{{"no-name", "", facts.ForNoName}, {"foreign-name", foreignName, facts.ForForeignName}} {
		if other.name == v.call.ServerName {
			continue
		}
		chain, err := askChain(ctx, v, facts.Because(other.purpose), versions,
			func(h *tlswire.ClientHello) { h.ServerName = other.name })
		served := facts.Served{To: other.to, ServerName: other.name, Certificates: chain}
		var alert *tlswire.AlertError
		switch {
		case len(chain) > 0 && usualChain(v, chain):
			continue // as most do
		case len(chain) > 0:
		case errors.As(err, &alert):
			served.Refused = reasonOf(err)
		case errors.Is(err, tlswire.ErrClosed):
			served.Refused = facts.Because(facts.Closed)
		default:
			continue
		}
		v.observation.Others = append(v.observation.Others, served)
	}
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

// askChain gets the certificates in answer to a hello that was changed, in the
// clear where an older version is accepted.
func askChain(ctx context.Context, v *visit, purpose facts.Reason, versions []tlswire.Version,
	change func(*tlswire.ClientHello)) ([][]byte, error) {
	for _, x := range versions {
		if x < tlswire.TLS13 {
			hello := v.hello(x)
			change(&hello)
			v.schemes.over = false
			answer, err := narrowed(ctx, v, purpose, hello)
			if chain := answer.Chain.Certificates; len(chain) > 0 && usualChain(v, chain) {
				v.signed(answer)
			}
			return answer.Chain.Certificates, err
		}
	}
	conn, record, ok := v.connect(ctx, purpose)
	if !ok {
		return nil, errNoConnection
	}
	defer conn.Close()
	hello := v.hello(tlswire.TLS13)
	change(&hello)
	session, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader,
		Records: v.prober.limits.Records, Shares: []tlswire.Group{tlswire.X25519, tlswire.P256}})
	v.close(conn, record, err)
	if session == nil {
		return nil, err
	}
	return session.Chain.Certificates, err
}

// otherKey looks for a leaf with another kind of key. Up to TLS 1.2 the suites
// tell whether there can be one, in TLS 1.3 the signature schemes ask for it.
func otherKey(ctx context.Context, v *visit, versions []tlswire.Version) {
	if v.leaf == nil {
		return
	}
	kind := v.leaf.PublicKey.Algorithm
	var wanted []tlswire.Suite
	older := slices.IndexFunc(versions, func(x tlswire.Version) bool { return x < tlswire.TLS13 })
	authentication := "ECDSA"
	if kind == pki.KeyEC || kind == pki.KeyEd25519 {
		authentication = "RSA"
	}
	change := func(h *tlswire.ClientHello) {
		h.Signatures = slices.DeleteFunc(slices.Clone(h.Signatures),
			func(s tlswire.SignatureScheme) bool { return s.RSA() != (authentication == "RSA") })
	}
	if older >= 0 {
		for _, s := range v.suites[versions[older]] {
			if s.Properties().Authentication == authentication ||
				authentication == "RSA" && s.Properties().KeyExchange == "RSA" {
				wanted = append(wanted, s)
			}
		}
		if len(wanted) == 0 {
			return
		}
		change = func(h *tlswire.ClientHello) { h.Suites = wanted }
	}
	chain, _ := askChain(ctx, v, facts.Because(facts.ForOtherKey), versions, change)
	if len(chain) == 0 || sameChain(chain, v.observation.Certificates) {
		return
	}
	v.observation.Others = append(v.observation.Others,
		facts.Served{To: "other-key", ServerName: v.call.ServerName, Certificates: chain})
}
