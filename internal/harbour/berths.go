package harbour

import (
	"crypto"
	"crypto/tls"
	"encoding/asn1"
	"math/big"
	"slices"
	"time"

	"golang.org/x/crypto/cryptobyte"
	cryptobyteasn1 "golang.org/x/crypto/cryptobyte/asn1"

	"nurvik/core/forge"
)

const domain = "tarnholm.example"

// berth is one endpoint of the harbour. The zero value of each field is the
// ordinary case: an EC key, from the outer issuer, in the middle of its life,
// with the full chain, over TLS 1.2 and 1.3.
type berth struct {
	host      string // without the domain; "" is the bare domain
	about     string
	addresses []string // where it listens, without the port
	outside   string   // who comes from outside of the harbour is led there instead
	closed    []string // addresses that it should have and where nothing listens
	trust     []string // stores of the estate file; default outer
	audiences []string
	noConnect bool // leave the address to the name server

	key       func(*keyring, string) (crypto.Signer, error)
	issuer    func(*issuers) *forge.Authority
	leaf      func(w *forge.Template, now time.Time) // changes the leaf that would be issued
	chain     func(leaf [][]byte, i *issuers) [][]byte
	min, max  uint16
	scheme    string    // "" for https
	between   string    // plaintext after the go-ahead of a dialogue
	refuses   dialogue  // instead of the usual dialogue of the scheme
	behave    behaviour // instead of TLS
	door      *door     // lets few connections in
	wire      *wire     // a server with a wider past, instead of the library's
	config    func(c *tls.Config, i *issuers, b berth) error
	loose     bool // without strict transport security
	plain     bool // plain HTTP on the plain port
	redirects bool // which leads to HTTPS
	revoked   bool
	staple    string // kind of the answer that comes along; "" for none

	pinned        string   // TLSA record: of its own "leaf", or of "another"
	unsigned      bool     // the name server cannot validate its records
	issuers       []string // of its CAA records; those of the domain hold without
	authenticated bool     // clients check whom they speak to
	renewal       *renewal // nil for nothing special
}

// noRevocation is the extension noRevAvail (RFC 9608, 2).
var noRevocation = forge.Extension{ID: asn1.ObjectIdentifier{2, 5, 29, 56}, Value: []byte{5, 0}}

// mustStaple demands a stapled OCSP response (RFC 7633).
var mustStaple = forge.Extension{ID: asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}, Value: []byte{0x30, 3, 2, 1, 5}}

// during is a validity as it is written, with whatever dates.
func during(from, until string) func(*forge.Template, time.Time) {
	return func(w *forge.Template, _ time.Time) {
		var b cryptobyte.Builder
		b.AddASN1(cryptobyteasn1.SEQUENCE, func(v *cryptobyte.Builder) {
			for _, text := range []string{from, until} {
				tag := cryptobyteasn1.GeneralizedTime
				if len(text) == len("060102150405Z") {
					tag = cryptobyteasn1.UTCTime
				}
				v.AddASN1(tag, func(t *cryptobyte.Builder) { t.AddBytes([]byte(text)) })
			}
		})
		w.Instead = map[forge.Part][]byte{forge.Validity: b.BytesOrPanic()}
	}
}

// endpoint is how the estate file names the berth.
func (b berth) endpoint() string {
	if b.scheme == "" {
		return b.fullName() + ":443"
	}
	return b.scheme + "://" + b.fullName()
}

// fullName is the host name.
func (b berth) fullName() string {
	if b.host == "" {
		return domain
	}
	return b.host + "." + domain
}

func lasting(start, end time.Duration) func(*forge.Template, time.Time) {
	return func(w *forge.Template, now time.Time) { w.From, w.Until = now.Add(start), now.Add(end-time.Second) }
}

func rsaKey(bits int) func(*keyring, string) (crypto.Signer, error) {
	return func(k *keyring, name string) (crypto.Signer, error) { return k.rsa(name, bits) }
}

// berths is the whole estate. What is true of each stands in demo/truth.yaml.
func berths(r *registry) []berth {
	inner := func(i *issuers) *forge.Authority { return i.inner }
	unpublished := func(w *forge.Template, _ time.Time) { w.Extra = append(w.Extra, noRevocation) }
	asking := func(place string) func(*forge.Template, time.Time) { // a responder, and no list
		return func(w *forge.Template, _ time.Time) { w.Unlisted, w.Responder = true, place+"/skerry-outer-issuing" }
	}
	return slices.Concat([]berth{
		{host: "tides", about: "tide tables, EC key", addresses: []string{"127.30.1.1"}},
		{host: "pilots", about: "pilot bookings, RSA key", addresses: []string{"127.30.1.2"}, key: rsaKey(2048)},
		{host: "ledger", about: "accounts, from the inner issuer", addresses: []string{"127.30.1.3"}, issuer: inner,
			trust: []string{"inner"}},
		{host: "quays", about: "quay cameras, two addresses", addresses: []string{"127.30.1.4", "127.30.1.5"}},
		{host: "mast", about: "weather mast, sends its root", addresses: []string{"127.30.1.6"},
			chain: func(c [][]byte, i *issuers) [][]byte { return append(c, i.outerRoot.DER) }},
		{host: "hawse", about: "an intermediate twice", addresses: []string{"127.30.1.10"},
			chain: func(c [][]byte, _ *issuers) [][]byte { return append(c, c[len(c)-1]) }},
		{host: "tarpot", about: "an intermediate of another issuer beside its own", addresses: []string{"127.30.1.11"},
			chain: func(c [][]byte, i *issuers) [][]byte { return append(c, i.inner.DER) }},
		{host: "sandbar", about: "its intermediate ends first", addresses: []string{"127.30.1.12"},
			issuer: func(i *issuers) *forge.Authority { return i.ebbing }},
		{host: "ropewalk", about: "TLS 1.2 only", addresses: []string{"127.30.1.7"}, max: tls.VersionTLS12},
		{host: "signal", about: "TLS 1.3 only", addresses: []string{"127.30.1.8"}, min: tls.VersionTLS13},
		{host: "mooring", about: "renewal is due", addresses: []string{"127.30.1.9"},
			leaf: lasting(-149*dayLong, 50*dayLong)},

		{host: "cranes", about: "expired yesterday", addresses: []string{"127.30.2.1"},
			leaf: lasting(-200*dayLong, -1*dayLong)},
		{host: "berths", about: "expires in nine days", addresses: []string{"127.30.2.2"},
			leaf: lasting(-190*dayLong, 9*dayLong)},
		{host: "relic", about: "expired three hundred years ago", addresses: []string{"127.30.2.5"},
			leaf: during("17000101000000Z", "17021231235959Z")},
		{host: "almanac", about: "a date beyond the year 9999", addresses: []string{"127.30.2.6"},
			leaf: during("260101000000Z", "99991231235959-0100")},
		{host: "customs", about: "valid from tomorrow", addresses: []string{"127.30.2.3"},
			leaf: lasting(1*dayLong, 200*dayLong)},

		{host: "lugger", about: "issued for three hundred days", addresses: []string{"127.30.2.4"},
			leaf: lasting(-20*dayLong, 280*dayLong)},

		{host: "ferries", about: "the intermediates are missing", addresses: []string{"127.30.3.1"},
			chain: func(c [][]byte, _ *issuers) [][]byte { return c[:1] }},
		{host: "lighthouse", about: "intermediates the wrong way round", addresses: []string{"127.30.3.2"},
			chain: func(c [][]byte, _ *issuers) [][]byte { return [][]byte{c[0], c[2], c[1]} }},
		{host: "harbourmaster", about: "a damaged signature", addresses: []string{"127.30.3.3"},
			leaf: func(w *forge.Template, _ time.Time) { w.Spoilt = true }},
		{host: "tollhouse", about: "issued by a server certificate", addresses: []string{"127.30.3.4"},
			issuer: func(i *issuers) *forge.Authority { return i.shop }, leaf: unpublished},
		{host: "quayside", about: "one intermediate too many", addresses: []string{"127.30.3.5"},
			issuer: func(i *issuers) *forge.Authority { return i.narrow }},
		{host: "weighbridge", about: "an unknown critical extension", addresses: []string{"127.30.3.6"},
			leaf: func(w *forge.Template, _ time.Time) {
				// the arc for examples (X.660)
				w.Extra = append(w.Extra, forge.Extension{ID: asn1.ObjectIdentifier{2, 999, 30, 6}, Critical: true,
					Value: []byte{5, 0}})
			}},

		{host: "keel", about: "the issuing certificate of two years ago", addresses: []string{"127.30.3.7"},
			chain: func(c [][]byte, i *issuers) [][]byte { return [][]byte{c[0], i.sibling.DER, c[2]} }},
		{host: "mainsail", about: "the issuing certificates of now and of two years ago",
			addresses: []string{"127.30.3.8"},
			chain:     func(c [][]byte, i *issuers) [][]byte { return append(c, i.sibling.DER) }},
		{host: "towline", about: "a very long chain", addresses: []string{"127.30.3.9"},
			issuer: func(i *issuers) *forge.Authority { return i.deep }},
		{host: "lateen", about: "an expired cross-certificate beside the chain", addresses: []string{"127.30.3.10"},
			chain: func(c [][]byte, i *issuers) [][]byte { return append(c, i.crossedPast.DER) }},
		{host: "fairlead", about: "two cross-certificates, to two roots", addresses: []string{"127.30.3.11"},
			trust: []string{"outer", "second"},
			chain: func(c [][]byte, i *issuers) [][]byte { return append(c, i.crossed.DER) }},
		{host: "compass", about: "another path leads to an expired root", addresses: []string{"127.30.3.12"},
			trust: []string{"outer", "old-light"},
			chain: func(c [][]byte, i *issuers) [][]byte { return append(c, i.crossedOld.DER) }},
		{host: "islet", about: "its issuer is to be fetched", addresses: []string{"127.30.3.13"},
			issuer: func(i *issuers) *forge.Authority { return i.far },
			chain:  func(c [][]byte, _ *issuers) [][]byte { return c[:1] }},

		{host: "slipway", about: "self-signed", addresses: []string{"127.30.4.1"},
			issuer: func(*issuers) *forge.Authority { return nil }},
		{host: "pontoon", about: "from a test CA", addresses: []string{"127.30.4.2"},
			issuer: func(i *issuers) *forge.Authority { return i.rehearsal }},
		{host: "gate", about: "from the inner issuer, met by outsiders", addresses: []string{"127.30.4.3"},
			issuer: inner},
		{host: "registry", about: "one audience does not trust it", addresses: []string{"127.30.4.4"},
			audiences: []string{"inner"}},
		{host: "beacon", about: "its anchor has expired", addresses: []string{"127.30.4.5"},
			trust:  []string{"old-light"},
			issuer: func(i *issuers) *forge.Authority { return i.oldLight }},

		{host: "canal", about: "from an issuer for other domains", addresses: []string{"127.30.4.6"},
			issuer: func(i *issuers) *forge.Authority { return i.inland }},
		{host: "postbox", about: "from an issuer for e-mail", addresses: []string{"127.30.4.7"},
			issuer: func(i *issuers) *forge.Authority { return i.letters }},
		{host: "pilotage", about: "lacks the policy that its issuer requires", addresses: []string{"127.30.4.8"},
			issuer: func(i *issuers) *forge.Authority { return i.strict }},

		{host: "", about: "the bare domain under a wildcard", addresses: []string{"127.30.5.1"},
			leaf: func(w *forge.Template, _ time.Time) { w.Names = []string{"*." + domain} }},

		{host: "capstan", about: "RSA 1024", addresses: []string{"127.30.6.1"}, key: rsaKey(1024)},
		{host: "foghorn", about: "signed with SHA-1", addresses: []string{"127.30.6.2"},
			leaf: func(w *forge.Template, _ time.Time) { w.Sign = &forge.ECDSASHA1 }},
		{host: "sextant", about: "signed with Ed448", addresses: []string{"127.30.6.3"}, trust: []string{"sextant"},
			issuer: func(i *issuers) *forge.Authority { return i.sextant }, leaf: unpublished},
		{host: "bilge", about: "a negative serial number", addresses: []string{"127.30.6.4"},
			leaf: func(w *forge.Template, _ time.Time) { w.Serial = big.NewInt(-3063) }},

		{host: "wreck", about: "revoked, by the list", addresses: []string{"127.30.9.2"}, revoked: true},
		{host: "flotsam", about: "revoked, by the responder", addresses: []string{"127.30.9.3"}, revoked: true,
			leaf: asking(r.base + "/status/good")},
		{host: "castaway", about: "the responder does not know it", addresses: []string{"127.30.9.4"},
			leaf: asking(r.base + "/status/unknown")},
		{host: "driftwood", about: "the responder's answers are old", addresses: []string{"127.30.9.5"},
			leaf: asking(r.base + "/status/stale")},
		{host: "fogbank", about: "the responder does not answer", addresses: []string{"127.30.9.6"},
			leaf: asking(r.deaf + "/status")},
		{host: "hermit", about: "its issuer publishes nothing", addresses: []string{"127.30.9.7"},
			leaf: func(w *forge.Template, _ time.Time) { w.Unlisted = true }},
		{host: "skiff", about: "lives for six days", addresses: []string{"127.30.9.8"},
			leaf: func(w *forge.Template, now time.Time) { w.Unlisted = true; lasting(-dayLong, 5*dayLong)(w, now) }},
		{host: "dinghy", about: "says that nothing is published", addresses: []string{"127.30.9.9"},
			leaf: func(w *forge.Template, _ time.Time) { w.Unlisted, w.Extra = true, append(w.Extra, noRevocation) }},
		{host: "flagstaff", about: "staples a good answer", addresses: []string{"127.30.9.10"}, staple: "good",
			leaf: func(w *forge.Template, now time.Time) {
				asking(r.base+"/status/good")(w, now)
				w.Extra = append(w.Extra, mustStaple)
			}},
		{host: "burgee", about: "demands a stapled answer and has none", addresses: []string{"127.30.9.12"},
			leaf: func(w *forge.Template, now time.Time) {
				asking(r.base+"/status/good")(w, now)
				w.Extra = append(w.Extra, mustStaple)
			}},
		{host: "semaphore", about: "staples an old answer", addresses: []string{"127.30.9.11"}, staple: "stale",
			leaf: asking(r.base + "/status/good")},
	}, settingBerths(), dialogueBerths(), reachBerths(), visitBerths(), renewalBerths(), deployBerths())
}
