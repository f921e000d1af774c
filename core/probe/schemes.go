package probe

import (
	"context"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// narrow leaves out the schemes that were met. It reports whether it did.
func narrow(v *visit, hello *tlswire.ClientHello) bool {
	s := &v.schemes
	if hello.Highest() != tlswire.TLS12 || s.two || s.over || s.done[s.kind] || len(s.met) == 0 || s.likelyAll() {
		return false
	}
	hello.Signatures = without(hello.Signatures, s.met)
	return true
}

// likelyAll reports whether most servers have no more schemes than were met: then one question by itself costs less.
func (s *schemes) likelyAll() bool {
	count := 0
	for _, m := range s.met {
		if m.RSA() == (s.kind == "RSA") {
			count++
		}
	}
	return count >= map[string]int{"RSA": 6, "ECDSA": 3}[s.kind]
}

// narrowed makes an exchange that leaves out the schemes that were met, and
// makes it again with all of them where the answer would say something else
// without that: a refusal, or a suite for another kind of key.
func narrowed(ctx context.Context, v *visit, purpose facts.Reason, hello tlswire.ClientHello) (tlswire.Answer, error) {
	s := &v.schemes
	whole := hello
	if !narrow(v, &hello) {
		answer, err := v.exchange(ctx, purpose, hello)
		s.note(answer)
		return answer, err
	}
	answer, err := v.exchange(ctx, also(purpose, facts.WithSchemes), hello)
	kind := signs(answer.Hello.Suite)
	if !refused(err) && (kind == "" || kind == s.kind) {
		s.note(answer)
		return answer, err
	}
	again, err := v.exchange(ctx, purpose, whole)
	if !refused(err) && signs(again.Hello.Suite) == s.kind { // what was refused was the schemes
		s.done[s.kind] = true
	}
	if s.note(again); refused(err) { // more that follows is refused as well, most likely
		s.over = true
	}
	return again, err
}

// enumerateSchemes asks for what no other offer showed.
func enumerateSchemes(ctx context.Context, v *visit) {
	if versions := v.accepted(); len(versions) == 1 && versions[0] == tlswire.TLS13 {
		modernSchemes(ctx, v)
		return
	}
	for _, kind := range []string{"ECDSA", "RSA"} {
		suites := slices.DeleteFunc(slices.Clone(v.suites[tlswire.TLS12]),
			func(s tlswire.Suite) bool { return signs(s) != kind })
		for len(suites) > 0 && !v.schemes.done[kind] {
			hello := v.hello(tlswire.TLS12)
			hello.Suites, hello.Signatures = suites, without(hello.Signatures, v.schemes.met)
			answer, err := v.exchange(ctx, facts.Because(facts.ForSchemes), hello)
			if err != nil || answer.Proof == nil || !slices.Contains(hello.Signatures, answer.Proof.Scheme) {
				v.schemes.done[kind] = true
				v.ended(ctx, err, func(why facts.Reason) { v.observation.Settings.SignatureSchemesCut = why })
				break
			}
			v.absorb(answer)
		}
	}
}

// modernSchemes asks for the schemes of TLS 1.3, which only whole handshakes show.
func modernSchemes(ctx context.Context, v *visit) {
	for {
		hello := v.hello(tlswire.TLS13)
		hello.Signatures = without(hello.Signatures, v.schemes.met)
		session, err := v.whole(ctx, facts.Because(facts.ForSchemes), hello, nil)
		if session.Proof == nil || !slices.Contains(hello.Signatures, session.Proof.Scheme) {
			v.ended(ctx, err, func(why facts.Reason) { v.observation.Settings.SignatureSchemesCut = why })
			return
		}
		v.signed(session.Answer)
	}
}
