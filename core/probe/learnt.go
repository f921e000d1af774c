package probe

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"encoding/hex"
	"errors"
	"fmt"
	"math/big"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"
	"slices"
)

// visit is one visit in the making.
type visit struct {
	*line
	call         Call
	observation  facts.Observation
	answers      map[tlswire.Version]facts.Version
	suites       map[tlswire.Version][]tlswire.Suite // accepted, in the order found
	groups       []tlswire.Group                     // accepted, in the order found
	groupVersion tlswire.Version                     // of which the groups are
	schemes      schemes
	leaf         *pki.Certificate
	protocols    *[]string // to offer by ALPN instead of the usual ones, where those are refused
}

// newVisit is a visit that has learnt nothing yet.
func newVisit(l *line, call Call) *visit {
	unknown := facts.Unknown
	return &visit{
		line: l, call: call, answers: map[tlswire.Version]facts.Version{},
		suites: map[tlswire.Version][]tlswire.Suite{}, schemes: newSchemes(),
		observation: facts.Observation{
			Address: l.address, ServerName: call.ServerName, Effort: call.Effort,
			Versions: []facts.Version{}, Certificates: [][]byte{}, Connections: []facts.Connection{},
			Settings: &facts.Settings{RenegotiationInfo: unknown, ExtendedMasterSecret: unknown,
				EncryptThenMAC: unknown, Compression: unknown,
				FallbackSignal: unknown, SessionTickets: unknown, Resumption: unknown, Heartbeat: unknown,
				DowngradeMarker:  unknown,
				ToleratesUnknown: unknown, ToleratesLarge: unknown},
		},
	}
}

// hello is an ordinary hello for the versions.
func (v *visit) hello(versions ...tlswire.Version) tlswire.ClientHello {
	h := tlswire.Ordinary(versions...)
	h.ServerName = v.call.ServerName
	if h.Protocols = v.call.usualProtocols(); v.protocols != nil {
		h.Protocols = *v.protocols
	}
	_, _ = rand.Read(h.Random[:]) // crypto/rand never fails
	if h.Offers(tlswire.TLS13) {
		h.SessionID = slices.Clone(h.Random[:])
		_, _ = rand.Read(h.SessionID)
	} else { // what would be refused beside TLS 1.3
		h.Compression, h.Heartbeat = true, true
	}
	return h
}

// checked notes what was chosen without having been offered.
func (v *visit) checked(hello tlswire.ClientHello, answer tlswire.Answer, err error) error {
	h := answer.Hello
	if h.Version == 0 {
		return err
	}
	what := ""
	switch {
	case !slices.Contains(hello.Versions, h.Version):
		what = h.Version.String()
	case !slices.Contains(hello.Suites, h.Suite):
		what = h.Suite.String()
	default:
		return err
	}
	v.observation.Settings.NotOffered = what
	return &tlswire.BadMessageError{Reason: "answered with " + what + ", which was not offered"}
}

// conclude settles the outcome: any TLS answer is one.
func (v *visit) conclude() facts.Observation {
	o := &v.observation
	o.Outcome, o.Detail, o.Connections = v.failure, v.detail, v.connections
	for _, version := range slices.Backward(tlswire.Versions) {
		fact, known := v.answers[version]
		if !known {
			continue
		}
		for i, s := range v.suites[version] {
			if i == 0 {
				fact.Suite = s.String()
			}
			fact.Suites = append(fact.Suites, s.String())
		}
		o.Versions = append(o.Versions, fact)
		if fact.Answer == facts.Accepted || fact.Answer == facts.Declined && fact.Detail.Code != facts.Closed {
			o.Outcome, o.Detail = facts.Answered, facts.Reason{}
		}
	}
	if o.Outcome == "" {
		o.Outcome = facts.Timeout
	}
	if accepted := v.accepted(); len(accepted) > 0 && len(o.Certificates) == 0 && !o.Unseen.Given() {
		o.Unseen = facts.Because(facts.SendsNone, v.suites[accepted[0]][0])
	}
	if o.Outcome != facts.Answered {
		o.Settings = nil
		if o.Outcome != facts.BadMessage {
			o.Versions = []facts.Version{}
		}
	}
	return *o
}

// absorb takes in what an answer shows beside version and suite.
func (v *visit) absorb(a tlswire.Answer) {
	o := &v.observation
	if len(a.Chain.Certificates) > 0 && len(o.Certificates) == 0 {
		o.Certificates, o.Staple, o.Timestamps = a.Chain.Certificates, a.Chain.Staple, a.Chain.Timestamps
		v.leaf, _ = pki.ParseCertificate(a.Chain.Certificates[0])
	}
	if o.Staple == nil && len(a.Chain.Certificates) > 0 && slices.Equal(a.Chain.Certificates[0], o.Certificates[0]) {
		o.Staple = a.Chain.Staple
	}
	v.possession(a)
	if a.Request != nil && o.ClientCertificate == nil {
		o.ClientCertificate = &facts.ClientAuth{}
		for _, der := range a.Request.Issuers {
			if name, err := pki.ParseName(der); err == nil {
				o.ClientCertificate.Issuers = append(o.ClientCertificate.Issuers, pki.Printable(name.String()))
			}
		}
	}
	if k := a.Exchange; k != nil && len(k.Prime) > 0 {
		v.finite(k.Prime)
	}
	if a.Hello.Version < tlswire.TLS13 {
		v.shown(a.Hello)
	} else if p := a.Protocol(); p != "" && o.Settings.ALPN == "" {
		o.Settings.ALPN = p
	}
}

// possession verifies what the endpoint signed under the leaf that it served. A
// failure anywhere is a failure.
func (v *visit) possession(a tlswire.Answer) {
	o := &v.observation
	if len(a.Chain.Certificates) == 0 || o.Possession == facts.PossessionFailed {
		return
	}
	leaf, err := pki.ParseCertificate(a.Chain.Certificates[0])
	if err != nil {
		return
	}
	switch {
	case a.Proof != nil:
		v.signed(a)
		if o.Settings.SignatureScheme == "" && a.Proof.Scheme != 0 {
			o.Settings.SignatureScheme = a.Proof.Scheme.String()
		}
		switch err := pki.CheckHandshake(leaf.PublicKey, uint16(a.Proof.Scheme), a.Proof.Message, a.Proof.Signature); {
		case err == nil:
			o.Possession = facts.PossessionShown
		case errors.Is(err, pki.ErrBadSignature):
			o.Possession = facts.PossessionFailed
		}
	case a.Finished: // with static RSA the Finished message shows it
		o.Possession = facts.PossessionShown
	}
	if o.Possession == "" {
		o.Possession = facts.PossessionNotShown
	}
}

// shown notes the settings that a ServerHello up to TLS 1.2 shows.
func (v *visit) shown(h tlswire.ServerHello) {
	s := &v.observation.Settings
	note := func(into *facts.Answer, yes bool) {
		if *into == facts.Unknown || yes {
			*into = facts.No
			if yes {
				*into = facts.Yes
			}
		}
	}
	note(&(*s).Compression, h.Compression != 0)
	if h.Version == tlswire.SSL30 {
		return
	}
	note(&(*s).RenegotiationInfo, h.Renegotiation())
	note(&(*s).ExtendedMasterSecret, h.ExtendedMaster())
	note(&(*s).Heartbeat, h.Heartbeat())
	note(&(*s).SessionTickets, h.TicketPromised())
	if p := h.Suite.Properties(); !p.Authenticated && p.Strength > 0 && p.Cipher != "RC4-128" {
		note(&(*s).EncryptThenMAC, h.EncryptThenMAC())
	}
	if v.answers[tlswire.TLS13].Answer == facts.Accepted && h.Version == tlswire.TLS12 {
		note(&(*s).DowngradeMarker, h.DowngradeMarker())
	}
	if p := h.Protocol(); p != "" {
		(*s).ALPN = p
	}
}

// accepted lists the accepted versions, newest first.
func (v *visit) accepted() []tlswire.Version {
	var out []tlswire.Version
	for _, x := range slices.Backward(tlswire.Versions) {
		if v.answers[x].Answer == facts.Accepted && x != tlswire.SSL20 {
			out = append(out, x)
		}
	}
	return out
}

func (v *visit) fact() *facts.Groups {
	if v.observation.Groups == nil {
		v.observation.Groups = &facts.Groups{Accepted: []string{}}
	}
	return v.observation.Groups
}

// finite notes the prime of DHE; the smallest that is met counts.
func (v *visit) finite(prime []byte) {
	bits := new(big.Int).SetBytes(prime).BitLen()
	g := v.fact()
	if g.FiniteField == nil || bits < g.FiniteField.Bits {
		g.FiniteField = &facts.FiniteField{Bits: bits, Name: tlswire.PrimeName(prime), Prime: hex.EncodeToString(prime)}
	}
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

// signed takes in the scheme that an answer was signed with.
func (v *visit) signed(a tlswire.Answer) {
	if a.Proof == nil || a.Proof.Scheme == 0 || slices.Contains(v.schemes.met, a.Proof.Scheme) {
		return
	}
	v.schemes.met = append(v.schemes.met, a.Proof.Scheme)
	v.observation.Settings.SignatureSchemes = append(v.observation.Settings.SignatureSchemes, a.Proof.Scheme.String())
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

// encryptRSA encrypts a premaster secret as a client does.
func encryptRSA(leaf, secret []byte) ([]byte, error) {
	c, err := pki.ParseCertificate(leaf)
	if err != nil {
		return nil, err
	}
	if c.PublicKey.N == nil || !c.PublicKey.E.IsInt64() || c.PublicKey.Bits > 8192 {
		return nil, fmt.Errorf("the leaf has the key %s", c.PublicKey)
	}
	//lint:ignore SA1019 it is what suites with static RSA do
	return rsa.EncryptPKCS1v15(rand.Reader, &rsa.PublicKey{N: c.PublicKey.N, E: int(c.PublicKey.E.Int64())}, secret)
}

// exchange sends a hello on a connection of its own.
func (v *visit) exchange(ctx context.Context, purpose facts.Reason, hello tlswire.ClientHello) (tlswire.Answer, error) {
	conn, record, ok := v.connect(ctx, purpose)
	if !ok {
		return tlswire.Answer{}, errNoConnection
	}
	defer conn.Close()
	answer, err := tlswire.Exchange(conn, hello, tlswire.Options{Records: v.prober.limits.Records})
	err = conn.judged(err)
	v.close(conn, record, err)
	return answer, v.checked(hello, answer, err)
}

// offered are the suites that belong to the version, in the order of the offer.
func offered(version tlswire.Version) []tlswire.Suite {
	if version == tlswire.TLS13 {
		return tlswire.Modern
	}
	return tlswire.Classic()
}

func without[T comparable](all, some []T) []T {
	return slices.DeleteFunc(slices.Clone(all), func(x T) bool { return slices.Contains(some, x) })
}
