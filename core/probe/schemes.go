package probe

import (
	"context"
	"crypto/rand"
	"slices"

	"nurvik/core/tlswire"
)

// schemes finds the signature schemes with which the endpoint signs for the
// name. Up to TLS 1.2 each offer of suites that is answered with a signature
// can teach one more: those that were met are left out of the next offer.
type schemes struct {
	met  []tlswire.SignatureScheme
	kind string          // of the key that signed, by the suite; "" before the first
	done map[string]bool // kinds of key of which no further scheme is accepted
	two  bool            // there are two kinds, and leaving schemes out would change which suite is chosen
	over bool            // what is left of the suites signs nothing, most likely
}

// signs is the kind of key that a suite up to TLS 1.2 is signed with, "" for none.
func signs(s tlswire.Suite) string {
	p := s.Properties()
	if (p.KeyExchange == "ECDHE" || p.KeyExchange == "DHE") && (p.Authentication == "RSA" || p.Authentication == "ECDSA") {
		return p.Authentication
	}
	return ""
}

// signed takes in the scheme that an answer was signed with.
func (v *visit) signed(a tlswire.Answer) {
	if a.Proof == nil || a.Proof.Scheme == 0 || slices.Contains(v.schemes.met, a.Proof.Scheme) {
		return
	}
	v.schemes.met = append(v.schemes.met, a.Proof.Scheme)
	v.observation.Settings.SignatureSchemes = append(v.observation.Settings.SignatureSchemes, a.Proof.Scheme.String())
}

// narrow leaves out the schemes that were met. It reports whether it did.
func (v *visit) narrow(hello *tlswire.ClientHello) bool {
	s := &v.schemes
	if hello.Highest() != tlswire.TLS12 || s.two || s.over || s.done[s.kind] || len(s.met) == 0 {
		return false
	}
	hello.Signatures = without(tlswire.AllSignatures, s.met)
	return true
}

// andSchemes is what a connection asks beside its purpose.
const andSchemes = " and signature schemes"

// narrowed makes an exchange that leaves out the schemes that were met, and
// makes it again with all of them where the answer would say something else
// without that: a refusal, or a suite for another kind of key.
func (v *visit) narrowed(ctx context.Context, purpose string, hello tlswire.ClientHello) (tlswire.Answer, error) {
	s := &v.schemes
	whole := hello
	if !v.narrow(&hello) {
		answer, err := v.exchange(ctx, purpose, hello)
		s.note(answer)
		return answer, err
	}
	answer, err := v.exchange(ctx, purpose+andSchemes, hello)
	kind := signs(answer.Hello.Suite)
	if !refused(err) && (kind == "" || kind == s.kind) {
		s.note(answer)
		return answer, err
	}
	again, err := v.exchange(ctx, purpose, whole)
	if !refused(err) && signs(again.Hello.Suite) == s.kind { // what was refused was the schemes
		s.done[s.kind] = true
	}
	s.note(again)
	return again, err
}

// note keeps the kind of key that the endpoint signs with.
func (s *schemes) note(a tlswire.Answer) {
	switch kind := signs(a.Hello.Suite); {
	case a.Hello.Version != tlswire.TLS12:
	case kind == "":
		s.over = true
	case a.Proof == nil:
	case s.kind == "":
		s.kind = kind
	case s.kind != kind:
		s.two = true
	}
}

// enumerateSchemes asks for what no other offer showed.
func (v *visit) enumerateSchemes(ctx context.Context) {
	if versions := v.accepted(); len(versions) == 1 && versions[0] == tlswire.TLS13 {
		v.modernSchemes(ctx)
		return
	}
	for _, kind := range []string{"ECDSA", "RSA"} {
		suites := slices.DeleteFunc(slices.Clone(v.suites[tlswire.TLS12]), func(s tlswire.Suite) bool { return signs(s) != kind })
		for len(suites) > 0 && !v.schemes.done[kind] {
			hello := v.hello(tlswire.TLS12)
			hello.Suites, hello.Signatures = suites, without(tlswire.AllSignatures, v.schemes.met)
			answer, err := v.exchange(ctx, "further signature schemes", hello)
			if err != nil || answer.Proof == nil || !slices.Contains(hello.Signatures, answer.Proof.Scheme) {
				break
			}
			v.signed(answer)
		}
	}
}

// modernSchemes asks for the schemes of TLS 1.3, which only whole handshakes show.
func (v *visit) modernSchemes(ctx context.Context) {
	for {
		conn, record, ok := v.connect(ctx, "further signature schemes")
		if !ok {
			return
		}
		hello := v.hello(tlswire.TLS13)
		hello.Signatures = without(tlswire.AllSignatures, v.schemes.met)
		session, err := tlswire.Handshake(conn, hello, tlswire.Options{Random: rand.Reader, Records: v.prober.limits.Records, Shares: []tlswire.Group{tlswire.X25519, tlswire.P256}})
		v.close(conn, record, err)
		if session == nil || session.Proof == nil || !slices.Contains(hello.Signatures, session.Proof.Scheme) {
			return
		}
		v.signed(session.Answer)
	}
}

func newSchemes() schemes { return schemes{done: map[string]bool{}} }
