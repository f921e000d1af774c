package probe

import (
	"errors"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
	"slices"
)

// kindOfKey is what a server can have one certificate of each for.
type kindOfKey string

// The kinds.
const (
	rsaKeys     kindOfKey = "RSA"
	ecKeys      kindOfKey = "ECDSA"
	edwardsKeys kindOfKey = "EdDSA"
)

var allKinds = []kindOfKey{rsaKeys, ecKeys, edwardsKeys}

// kindOf is the kind of a leaf's key, "" for keys that no handshake uses.
func kindOf(c *pki.Certificate) kindOfKey {
	switch c.PublicKey.Algorithm {
	case pki.KeyRSA, pki.KeyRSAPSS:
		return rsaKeys
	case pki.KeyEC:
		return ecKeys
	case pki.KeyEd25519, pki.KeyEd448:
		return edwardsKeys
	}
	return ""
}

// signs reports whether keys of the kind sign with the scheme.
func (k kindOfKey) signs(s tlswire.SignatureScheme) bool {
	switch k {
	case rsaKeys:
		return s.RSA()
	case edwardsKeys:
		return s == 0x0807 || s == 0x0808
	}
	return !s.RSA() && s != 0x0807 && s != 0x0808
}

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
	if (p.KeyExchange == "ECDHE" || p.KeyExchange == "DHE") &&
		(p.Authentication == "RSA" || p.Authentication == "ECDSA") {
		return p.Authentication
	}
	return ""
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

func newSchemes() schemes { return schemes{done: map[string]bool{}} }

func without[T comparable](all, some []T) []T {
	return slices.DeleteFunc(slices.Clone(all), func(x T) bool { return slices.Contains(some, x) })
}

// proven says whether the handshake proved the leaf's key.
func proven(leaf *pki.Certificate, a tlswire.Answer) facts.Possession {
	switch {
	case a.Proof != nil:
		err := pki.CheckHandshake(leaf.PublicKey, uint16(a.Proof.Scheme), a.Proof.Message, a.Proof.Signature)
		switch {
		case err == nil:
			return facts.PossessionShown
		case errors.Is(err, pki.ErrBadSignature):
			return facts.PossessionFailed
		}
	case a.Finished: // with static RSA the Finished message shows it
		return facts.PossessionShown
	}
	return facts.PossessionNotShown
}
