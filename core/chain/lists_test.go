package chain_test

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	stdasn1 "encoding/asn1"
	"encoding/hex"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/crypto/ocsp"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/pki"
)

// roll is a revocation list that is written byte by byte.
type roll struct {
	entries    string // hexadecimal, what comes before the entry of the certificate
	revoked    bool   // the certificate itself
	next       string // hexadecimal instead of the usual nextUpdate; "-" for none
	extensions string // hexadecimal
	from       time.Time
	reason     byte   // of the entry, 0 for none
	issuer     []byte // the entry's certificate issuer, DER of a name
}

// tlv is one element of less than 128 bytes.
func tlv(tag byte, content ...[]byte) []byte {
	inside := bytes.Join(content, nil)
	return append([]byte{tag, byte(len(inside))}, inside...)
}

// extension is one in hexadecimal, by its identifier in hexadecimal.
func extension(id string, critical bool, value []byte) string {
	oid, _ := hex.DecodeString(id)
	flag := []byte{}
	if critical {
		flag = []byte{1, 1, 0xff}
	}
	return hex.EncodeToString(tlv(0x30, tlv(6, oid), flag, tlv(4, value)))
}

func (r roll) sign(t *testing.T, by *forge.Authority, c *pki.Certificate) *pki.RevocationList {
	t.Helper()
	issuer := parse(t, by.DER)
	var tbs cryptobyte.Builder
	tbs.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(1)
		b.AddBytes(unhex(t, "300a06082a8648ce3d040302"))
		b.AddBytes(issuer.Subject.Raw)
		if r.from.IsZero() {
			r.from = now.Add(-time.Hour)
		}
		b.AddASN1UTCTime(r.from)
		switch r.next {
		case "":
			b.AddASN1UTCTime(now.AddDate(0, 0, 1))
		case "-":
		default:
			b.AddBytes(unhex(t, r.next))
		}
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddBytes(unhex(t, r.entries))
			if r.revoked {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
					b.AddASN1(asn1.INTEGER, func(b *cryptobyte.Builder) { b.AddBytes(c.RawSerial) })
					b.AddASN1UTCTime(now.AddDate(0, 0, -1))
					if r.reason == 0 && r.issuer == nil {
						return
					}
					b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
						if r.reason != 0 {
							b.AddBytes(unhex(t, extension("551d15", false, []byte{0x0a, 1, r.reason})))
						}
						if r.issuer != nil {
							b.AddBytes(unhex(t, extension("551d1d", true, tlv(0x30, tlv(0xa4, r.issuer)))))
						}
					})
				})
			}
		})
		if r.extensions != "" {
			b.AddASN1(asn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
				b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddBytes(unhex(t, r.extensions)) })
			})
		}
	})
	body := tbs.BytesOrPanic()
	digest := sha256.Sum256(body)
	signature, err := by.Key.Sign(rand.Reader, digest[:], crypto.SHA256)
	require.NoError(t, err)
	var out cryptobyte.Builder
	out.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddBytes(body)
		b.AddBytes(unhex(t, "300a06082a8648ce3d040302"))
		b.AddASN1BitString(signature)
	})
	l, err := pki.ParseRevocationList(out.BytesOrPanic())
	require.NoError(t, err)
	return l
}

// TestListsThatCannotBeProcessed say of nobody that he is not revoked; of whom they name they say that he is.
func TestListsThatCannotBeProcessed(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	c := leaf(t, root, nil)
	rootC := parse(t, root.DER)
	const (
		point  = "0603551d1c" // the issuing distribution point
		number = "0603551d14"
	)
	for name, tt := range map[string]struct {
		list roll
		good bool
	}{
		"an ordinary one":               {roll{}, true},
		"without a next one":            {roll{next: "-"}, true},
		"a scope of NULL, critical":     {roll{extensions: "300e" + point + "0101ff04020500"}, false},
		"a scope with something behind": {roll{extensions: "3010" + point + "0101ff040430000500"}, false},
		"a number that is none":         {roll{extensions: "3009" + number + "04020500"}, true}, // not critical
		"the number twice": {roll{extensions: "300a0603551d140403020101300a0603551d140403020102"},
			false},
		"an extension without value": {roll{extensions: "30050603551d14"}, false},
		"a broken entry before":      {roll{entries: "30020500"}, false},
		"an entry that is none":      {roll{entries: "0500"}, false},
		"an entry with a reason that is none": {roll{
			entries: "301f020107170d3236303130313030303030305a300b30090603551d1504020500"}, true},
		"the same, critical": {roll{
			entries: "3022020107170d3236303130313030303030305a300e300c0603551d150101ff04020500"}, false},
		"a next date that cannot be read": {roll{next: "1702393a"}, false},
		"a next date that is none":        {roll{next: "0500"}, false},
		"something behind everything":     {roll{next: "-", extensions: ""}, true},
	} {
		for _, revoked := range []bool{false, true} {
			tt.list.revoked = revoked
			l := chain.Lists{Verifier: new(chain.Verifier), Lists: []*pki.RevocationList{tt.list.sign(t, root, c)},
				Store: store(rootC), At: now}.Of(c, rootC)
			assert.Equal(t, tt.good && !revoked, l.Good(), "%s: %v", name, l.Problems)
			if revoked && name != "a next date that is none" && name != "an entry that is none" {
				assert.NotNil(t, l.Revoked, "%s: who is named is revoked", name)
			}
		}
	}
}

// TestListsOfAnotherRoot: the signer of a list must lead to the anchor of the path (RFC 5280, 6.3.3 f).
func TestListsOfAnotherRoot(t *testing.T) {
	root, other := authority(t, nil, forge.Template{Name: "Root"}), authority(t, nil, forge.Template{Name: "Other"})
	rootC, otherC := parse(t, root.DER), parse(t, other.DER)
	lower := authority(t, root, forge.Template{Name: "Lower"})
	namesake := authority(t, other, forge.Template{Name: "Lower"}) // signs lists under the name of the issuer
	c := leaf(t, lower, nil)
	for name, tt := range map[string]struct {
		by     *forge.Authority
		anchor *pki.Certificate
		good   bool
	}{
		"the issuer itself":              {lower, rootC, true},
		"one below another root":         {namesake, rootC, false},
		"where no anchor is known, any":  {namesake, nil, true},
		"one below that root, by a twin": {lower, rootC, true},
	} {
		l := chain.Lists{Verifier: new(chain.Verifier), Lists: []*pki.RevocationList{roll{}.sign(t, tt.by, c),
			roll{}.sign(t, other, c), roll{}.sign(t, root, c)},
			Known: pool(parse(t, lower.DER), parse(t, namesake.DER)), Store: store(rootC, otherC), Anchor: tt.anchor,
			At: now}
		assert.Equal(t, tt.good, l.Of(c, parse(t, lower.DER)).Good(), name)
	}
}

// TestStaleLists: what has expired is no answer, unless an old one will do.
func TestStaleLists(t *testing.T) {
	root := authority(t, nil, forge.Template{Name: "Root"})
	c, rootC := leaf(t, root, nil), parse(t, root.DER)
	lists := chain.Lists{Verifier: new(chain.Verifier), Lists: []*pki.RevocationList{roll{revoked: true}.sign(t, root,
		c)},
		Store: store(rootC), At: now.AddDate(0, 0, 3)}
	l := lists.Of(c, rootC)
	assert.False(t, l.Determined)
	assert.True(t, l.IsStale)
	lists.Stale = true
	l = lists.Of(c, rootC)
	assert.NotNil(t, l.Revoked)
	assert.True(t, l.Expires.Before(lists.At))
}

// TestSeveralAnswers: the newest counts, and of two of one time the one that says revoked.
func TestSeveralAnswers(t *testing.T) {
	a := newAnswering(t)
	at := func(status int, ago time.Duration) []byte {
		return a.response(t, a.std, a.authority.Key, func(r *ocsp.Response) {
			r.Status, r.ThisUpdate, r.RevokedAt = status, now.Add(-ago), now.Add(-48*time.Hour)
		})
	}
	join := func(first, second []byte) []byte { // two answers in one response, signed anew
		x, err := pki.ParseOCSPResponse(first)
		require.NoError(t, err)
		y, err := pki.ParseOCSPResponse(second)
		require.NoError(t, err)
		return a.resign(t, x, y)
	}
	old, now1 := 24*time.Hour, time.Hour
	for name, tt := range map[string]struct {
		first, second []byte
		want          facts.RevocationStatus
	}{
		"good is newer":    {at(ocsp.Revoked, old), at(ocsp.Good, now1), facts.RevocationGood},
		"revoked is newer": {at(ocsp.Good, old), at(ocsp.Revoked, now1), facts.RevocationRevoked},
		"of one time":      {at(ocsp.Good, now1), at(ocsp.Revoked, now1), facts.RevocationRevoked},
	} {
		for _, der := range [][]byte{join(tt.first, tt.second), join(tt.second, tt.first)} {
			r := new(chain.Verifier).StatusAnswer(der, a.leaf, a.issuer, nil, now)
			assert.Equal(t, tt.want, r.Status, "%s: %v", name, r.Detail)
		}
	}
}

// resign puts the answers of two responses into one.
func (a answering) resign(t *testing.T, x, y *pki.OCSPResponse) []byte {
	t.Helper()
	answers := func(r *pki.OCSPResponse) []byte {
		s := cryptobyte.String(r.RawTBS)
		var tbs, list cryptobyte.String
		require.True(t, s.ReadASN1(&tbs, asn1.SEQUENCE) && tbs.SkipASN1(asn1.Tag(1).ContextSpecific().Constructed()) &&
			tbs.SkipASN1(asn1.GeneralizedTime) && tbs.ReadASN1(&list, asn1.SEQUENCE))
		return list
	}
	var tbs cryptobyte.Builder
	tbs.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(asn1.Tag(1).ContextSpecific().Constructed(),
			func(b *cryptobyte.Builder) { b.AddBytes(a.issuer.Subject.Raw) })
		b.AddASN1GeneralizedTime(now)
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) { b.AddBytes(answers(x)); b.AddBytes(answers(y)) })
	})
	body := tbs.BytesOrPanic()
	digest := sha256.Sum256(body)
	signature, err := a.authority.Key.Sign(rand.Reader, digest[:], crypto.SHA256)
	require.NoError(t, err)
	var out cryptobyte.Builder
	out.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Enum(0)
		b.AddASN1(asn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
			b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1ObjectIdentifier([]int{1, 3, 6, 1, 5, 5, 7, 48, 1, 1})
				b.AddASN1(asn1.OCTET_STRING, func(b *cryptobyte.Builder) {
					b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
						b.AddBytes(body)
						b.AddBytes(unhex(t, "300a06082a8648ce3d040302"))
						b.AddASN1BitString(signature)
					})
				})
			})
		})
	})
	return out.BytesOrPanic()
}

// TestAppointedResponders: RFC 6960, 4.2.2.2.
func TestAppointedResponders(t *testing.T) {
	a := newAnswering(t)
	for name, tt := range map[string]struct {
		change func(*x509.Certificate)
		at     time.Time
		good   bool
	}{
		"no key usage": {func(*x509.Certificate) {}, now, true},
		"digital signature": {func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageDigitalSignature }, now,
			true},
		"another key usage": {func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageKeyEncipherment }, now,
			false},
		"an unknown critical one": {func(c *x509.Certificate) {
			c.ExtraExtensions = append(c.ExtraExtensions,
				critical())
		}, now, false},
		"expired when it is used": {func(c *x509.Certificate) { c.NotAfter = now.Add(10 * time.Minute) },
			now.Add(20 * time.Minute), false},
	} {
		signer, key := a.delegate(t, tt.change)
		der := a.response(t, signer, key, func(r *ocsp.Response) { r.NextUpdate = now.AddDate(0, 0, 7) })
		r := new(chain.Verifier).StatusAnswer(der, a.leaf, a.issuer, nil, tt.at)
		assert.Equal(t, tt.good, r.Status == facts.RevocationGood, "%s: %v", name, r.Detail)
	}
}

func critical() pkix.Extension {
	return pkix.Extension{Id: stdasn1.ObjectIdentifier{1, 2, 3, 4}, Critical: true, Value: []byte{5, 0}}
}
