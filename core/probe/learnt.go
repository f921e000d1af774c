package probe

import (
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

	good     *tlswire.ClientHello        // was answered
	doubtful []func(facts.Reason)        // of lists that have ended with a refusal since then
	shares   facts.Answer                // hellos of TLS 1.3 without a key share are refused
	odd      bool                        // the first hello was not answered, but another was
	small    bool                        // long hellos are not answered
	many     facts.Answer                // all suites can be offered at once
	record   *facts.Connection           // of the connection that is under way
	aside    *aside                      // a connection that is asked something slow meanwhile
	nameless bool                        // what clients get that name nobody was asked
	page     int                         // how many can be where not
	kinds    []kindOfKey                 // of which a chain was served
	leaves   map[string]*pki.Certificate // by their DER; nil for what cannot be read
	proven   map[provenLeaf]facts.Possession
}

// current are the versions that a modern hello offers, newest first.
var current = []tlswire.Version{tlswire.TLS13, tlswire.TLS12, tlswire.TLS11, tlswire.TLS10}

// newVisit is a visit that has learnt nothing yet.
func newVisit(l *line, call Call) *visit {
	unknown := facts.Unknown
	return &visit{
		line: l, call: call, answers: map[tlswire.Version]facts.Version{},
		suites: map[tlswire.Version][]tlswire.Suite{}, schemes: newSchemes(),
		leaves: map[string]*pki.Certificate{}, proven: map[provenLeaf]facts.Possession{},
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
	if v.small {
		h = tlswire.Small(versions...)
	}
	h.ServerName = v.call.ServerName
	if h.Protocols = v.call.usualProtocols(); v.protocols != nil {
		h.Protocols = *v.protocols
	}
	_, _ = rand.Read(h.Random[:]) // crypto/rand never fails
	if h.Offers(tlswire.TLS13) {
		h.SessionID = slices.Clone(h.Random[:])
		_, _ = rand.Read(h.SessionID)
	} else { // what would be refused beside TLS 1.3
		h.Compression, h.Heartbeat = true, !v.small
	}
	return h
}

// checked notes what was chosen without having been offered.
func (v *visit) checked(hello tlswire.ClientHello, answer tlswire.Answer, err error) error {
	h, what := answer.Hello, ""
	var unasked *tlswire.NotOfferedError
	switch {
	case errors.As(err, &unasked):
		what = unasked.What
	case h.Version == 0:
		return err
	case !slices.Contains(hello.Versions, h.Version):
		what = h.Version.String()
	case !slices.Contains(hello.Suites, h.Suite):
		what = h.Suite.String()
	default:
		return err
	}
	v.observation.Settings.NotOffered = what
	return &tlswire.NotOfferedError{What: what}
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
		if o.Detail.Code != facts.ChoseUnasked {
			o.Settings = nil
		}
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
		v.leaf = v.parsed(a.Chain.Certificates[0])
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

// possession verifies what the endpoint signed under the leaf that it served, once for each leaf and version. A
// failure anywhere is a failure.
func (v *visit) possession(a tlswire.Answer) {
	o := &v.observation
	if len(a.Chain.Certificates) == 0 {
		return
	}
	if a.Proof != nil {
		v.signed(a)
		if o.Settings.SignatureScheme == "" && a.Proof.Scheme != 0 {
			o.Settings.SignatureScheme = a.Proof.Scheme.String()
		}
	}
	id := provenLeaf{string(a.Chain.Certificates[0]), a.Hello.Version}
	if v.proven[id] == facts.PossessionShown {
		return
	}
	leaf := v.parsed(a.Chain.Certificates[0])
	if leaf == nil {
		return
	}
	v.proven[id] = proven(leaf, a)
	switch p := v.proven[id]; {
	case leaf != v.leaf: // it is told of the other chain
	case o.Possession == facts.PossessionFailed:
	case p == facts.PossessionFailed, p == facts.PossessionShown, o.Possession == "":
		o.Possession = p
	}
	v.met(leaf, a)
}

// provenLeaf is a leaf, in DER, as it was served in a version.
type provenLeaf struct {
	leaf    string
	version tlswire.Version
}

// parsed decodes a leaf, once.
func (v *visit) parsed(der []byte) *pki.Certificate {
	c, known := v.leaves[string(der)]
	if !known {
		c, _ = pki.ParseCertificate(der) // what cannot be read is judged as such
		v.leaves[string(der)] = c
	}
	return c
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

// signed takes in the scheme that an answer was signed with.
func (v *visit) signed(a tlswire.Answer) {
	if a.Proof == nil || a.Proof.Scheme == 0 || slices.Contains(v.schemes.met, a.Proof.Scheme) {
		return
	}
	v.schemes.met = append(v.schemes.met, a.Proof.Scheme)
	v.observation.Settings.SignatureSchemes = append(v.observation.Settings.SignatureSchemes, a.Proof.Scheme.String())
}

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

// met notes the chain of a kind of key that was not met before. The first is the one of the observation.
func (v *visit) met(leaf *pki.Certificate, a tlswire.Answer) {
	kind := kindOf(leaf)
	if kind == "" || slices.Contains(v.kinds, kind) {
		return
	}
	if v.kinds = append(v.kinds, kind); len(v.kinds) == 1 {
		return
	}
	v.observation.Others = append(v.observation.Others, facts.Served{To: "other-key", Key: string(kind),
		Version: a.Hello.Version.String(), ServerName: v.call.ServerName, Certificates: a.Chain.Certificates,
		Staple: a.Chain.Staple, Timestamps: a.Chain.Timestamps, Possession: proven(leaf, a)})
}

// missing are the kinds of key that were not met.
func (v *visit) missing() []kindOfKey { return without(allKinds, v.kinds) }

// aside is a connection on which the web server is asked while the visit goes on.
type aside struct {
	conn   *countingConn
	record *facts.Connection
	done   chan struct{}
	http   *facts.HTTP
}

// join waits for what goes on aside.
func (v *visit) join() {
	x := v.aside
	if x == nil {
		return
	}
	<-x.done
	v.aside = nil
	v.connections = slices.Insert(v.connections, 0, *x.record)
	if x.http != nil {
		v.observation.HTTP = x.http
	}
}
