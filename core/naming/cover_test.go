package naming_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"nurvik/core/forge"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

func references(t testing.TB, names ...string) []naming.Reference {
	t.Helper()
	out := make([]naming.Reference, len(names))
	for i, n := range names {
		var err error
		out[i], err = naming.Parse(n)
		require.NoError(t, err)
	}
	return out
}

func TestRemarks(t *testing.T) {
	for entry, want := range map[string]string{
		"tides.tarnholm.example":        "",
		"*.tarnholm.example":            "",
		"xn--fhre-loa.tarnholm.example": "",
		"ti*.tarnholm.example":          "malformed a wildcard must be the whole first label (RFC 9525, 6.3)",
		"tides.*.example":               "malformed a wildcard must be the whole first label (RFC 9525, 6.3)",
		"tides.tarnholm.example.":       "malformed it ends with a dot",
		"tides..example":                "malformed a label is empty",
		"xn--a-ecp.tarnholm.example":    `malformed "xn--a-ecp" is no valid A-label (RFC 5891)`,
		"tides tarnholm.example":        "malformed it contains a character that host names do not have",
		"_tide.tarnholm.example":        "underscore host names have no underscore (RFC 1123); it is compared as it is",
		"*.com":                         `too-broad "com" is a suffix under which registries give names to anybody, so clients refuse it`,
		"*.co.uk":                       `too-broad "co.uk" is a suffix under which registries give names to anybody, so clients refuse it`,
		"*.github.io":                   "", // of the private section
		"*.quay":                        `broad it covers every name directly under "quay", which is no domain of a registry`,
		"tides":                         "internal it is a single label, which means another host on every network",
		"tides.local":                   `internal "local" is a special-use domain, which exists on the own network only`,
		"tides.home.arpa":               `internal "home.arpa" is a special-use domain, which exists on the own network only`,
		"tides.example":                 "",
		"10.1.2.3":                      "internal the address is private",
		"192.0.2.7":                     "",
		"fd00::1":                       "internal the address is private",
	} {
		said := ""
		for _, r := range naming.Remarks(withNames(t, entry)) {
			said = string(r.Kind) + " " + r.Reason
		}
		assert.Equal(t, want, said, entry)
	}
	both := naming.Remarks(withNames(t, "*.tarnholm.example", "tides.tarnholm.example", "a.tides.tarnholm.example",
		"*.TARNHOLM.example"))
	require.Len(t, both, 2)
	assert.Equal(t, naming.Remark{Kind: naming.Redundant, Entry: "tides.tarnholm.example",
		Reason: "*.TARNHOLM.example covers it"}, both[0])
	assert.Equal(t, "it is there twice", both[1].Reason)
}

func TestCommonNameApart(t *testing.T) {
	assert.Equal(t, "common.tarnholm.example", naming.CommonNameApart(withNames(t, "tides.tarnholm.example")))
	assert.Empty(t, naming.CommonNameApart(withNames(t, "Common.tarnholm.example")))
	assert.Empty(t, naming.CommonNameApart(withNames(t, "*.tarnholm.example")), "a wildcard covers it")
}

func TestMissed(t *testing.T) {
	for name, tt := range map[string]struct{ entry, asked, nearest, reason string }{
		"two labels": {"*.tarnholm.example", "low.tides.tarnholm.example", "*.tarnholm.example",
			"a wildcard covers one label only"},
		"the bare domain": {"*.tarnholm.example", "tarnholm.example", "*.tarnholm.example",
			"a wildcard does not cover the bare domain"},
		"the common name": {"tides.tarnholm.example", "common.tarnholm.example", "common.tarnholm.example",
			"only the common name has it, which clients ignore (RFC 9525, 2)"},
		"with www": {"www.harbour.example", "harbour.example", "www.harbour.example",
			"it has the www in front"},
		"without www": {"harbour.example", "www.harbour.example", "harbour.example",
			"it lacks the www in front"},
		"one letter": {"tide.tarnholm.example", "tides.tarnholm.example", "tide.tarnholm.example",
			"one character is another"},
		"a partial wildcard": {"ti*.tarnholm.example", "tides.tarnholm.example", "ti*.tarnholm.example",
			"a wildcard must be the whole first label (RFC 9525, 6.3)"},
		"a dot at the end": {"tides.tarnholm.example.", "tides.tarnholm.example", "tides.tarnholm.example.",
			"it ends with a dot"},
		"under a suffix": {"*.com", "tides.com", "*.com", `"com" is a suffix under which registries give names to anybody, so clients refuse it`},
		"another host": {"pilots.tarnholm.example", "tides.tarnholm.example", "pilots.tarnholm.example",
			"it is for another host of the same domain"},
		"nothing like it": {"pilots.skerry.example", "tides.tarnholm.example", "", "no entry is for this name"},
		"an address":      {"192.0.2.8", "192.0.2.7", "", "no entry is for this name"},
		"a longer name of it": {"tides.tarnholm.example", "tidess.tarnholm.example", "tides.tarnholm.example",
			"one character is another"},
	} {
		r := references(t, tt.asked)[0]
		c := withNames(t, tt.entry)
		_, covered := r.CoveredBy(c)
		require.False(t, covered, name)
		m := r.Missed(c)
		assert.Equal(t, tt.nearest, m.Entry, name)
		assert.Equal(t, tt.reason, m.Reason, name)
		assert.NotEmpty(t, m.Remedy, name)
	}
}

func TestPropose(t *testing.T) {
	names := references(t, "tides.tarnholm.example", "pilots.tarnholm.example", "low.tides.tarnholm.example",
		"192.0.2.7",
		"tarnholm.example", "a.co.uk", "b.co.uk", "TIDES.tarnholm.example.")
	assert.Equal(t, []string{"*.tarnholm.example", "192.0.2.7", "a.co.uk", "b.co.uk", "low.tides.tarnholm.example",
		"tarnholm.example"}, naming.Propose(names, true))
	assert.Equal(t, []string{"192.0.2.7", "a.co.uk", "b.co.uk", "low.tides.tarnholm.example", "pilots.tarnholm.example",
		"tarnholm.example", "tides.tarnholm.example"}, naming.Propose(names, false))
	c := withNames(t, naming.Propose(names, true)...)
	for _, r := range names {
		_, covered := r.CoveredBy(c)
		assert.True(t, covered, r)
	}
}

func TestMatrix(t *testing.T) {
	names := references(t, "tides.tarnholm.example", "tarnholm.example", "tides.tarnholm.example.",
		"tides.local")
	m := naming.Compare(names, []naming.Column{
		naming.NewColumn("one", withNames(t, "*.tarnholm.example", "pilots.skerry.example")),
		naming.NewColumn("two", withNames(t, "tides.tarnholm.example"))})
	require.Len(t, m.Needed, 3, "each name counts once")
	assert.Equal(t, []naming.Cell{{Certificate: 0, Entry: "*.tarnholm.example"}, {Certificate: 1,
		Entry: "tides.tarnholm.example"}}, m.Needed[0].Covered)
	assert.Empty(t, m.Needed[0].Missed)
	assert.Equal(t, "a wildcard does not cover the bare domain", m.Needed[1].Missed[0].Reason)
	assert.NotEmpty(t, m.Needed[2].Outside)
	assert.False(t, m.Covers())
	assert.Equal(t, []string{"pilots.skerry.example"}, m.Certificates[0].Unneeded)
	assert.Empty(t, m.Certificates[1].Unneeded)
}

// TestManyCertificates: of very many the nearest is found all the same.
func TestManyCertificates(t *testing.T) {
	var columns []naming.Column
	for i := range 120 {
		columns = append(columns, naming.NewColumn(fmt.Sprint(i), withNames(t,
			fmt.Sprintf("*.q%d.tarnholm.example", i))))
	}
	m := naming.Compare(references(t, "a.q70.tarnholm.example", "q77.tarnholm.example"), columns)
	assert.Equal(t, 70, m.Needed[0].Covered[0].Certificate)
	assert.Equal(t, []naming.Cell{{Certificate: 77, Entry: "*.q77.tarnholm.example",
		Reason: "a wildcard does not cover the bare domain",
		Remedy: "Have the bare domain q77.tarnholm.example added."}}, m.Needed[1].Missed)
}

func BenchmarkMatrix(b *testing.B) {
	var columns []naming.Column
	var names []naming.Reference
	for i := range 10_000 {
		columns = append(columns, naming.NewColumn(fmt.Sprint(i), withNames(b, fmt.Sprintf("q%d.tarnholm.example", i),
			fmt.Sprintf("*.s%d.tarnholm.example", i))))
	}
	for i := range 1000 {
		names = append(names, references(b, fmt.Sprintf("a.s%d.tarnholm.example", 20*i))...)
	}
	for b.Loop() {
		naming.Compare(names, columns)
	}
}

// identified is a certificate with one DNS entry, one URI entry and one SRV-ID (RFC 4985).
func identified(t *testing.T) *pki.Certificate {
	t.Helper()
	var names cryptobyte.Builder
	names.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		text := func(tag uint8, value string) {
			b.AddASN1(asn1.Tag(tag).ContextSpecific(), func(b *cryptobyte.Builder) { b.AddBytes([]byte(value)) })
		}
		text(2, "tides.example")
		text(6, "sip:Voice.example;transport=tls")
		b.AddASN1(asn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
			b.AddASN1ObjectIdentifier([]int{1, 3, 6, 1, 5, 5, 7, 8, 7})
			b.AddASN1(asn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
				b.AddASN1(asn1.IA5String,
					func(b *cryptobyte.Builder) { b.AddBytes([]byte("_xmpp-client.Tides.example")) })
			})
		})
	})
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(nil, key, forge.Template{Name: "x", SPKI: spki, From: time.Unix(1e9, 0),
		Until: time.Unix(2e9, 0),
		Extra: []forge.Extension{{ID: []int{2, 5, 29, 17}, Value: names.BytesOrPanic()}}})
	require.NoError(t, err)
	c, err := pki.ParseCertificate(der)
	require.NoError(t, err)
	require.Empty(t, c.Anomalies)
	return c
}

func TestIdentities(t *testing.T) {
	c := identified(t)
	for name, want := range map[string]struct {
		entry string // that covers it, "" for none
		wrong bool   // it is no name
	}{
		"tides.example":              {"tides.example", false},
		"sip:voice.example":          {"sip:Voice.example;transport=tls", false},
		"SIP:voice.example.":         {"sip:Voice.example;transport=tls", false},
		"sips:voice.example":         {"", false},
		"sip:tides.example":          {"", false}, // a DNS entry is none of that scheme
		"voice.example":              {"", false}, // a URI entry covers no plain host name
		"_xmpp-client.tides.example": {"SRV _xmpp-client.Tides.example", false},
		"_xmpp-server.tides.example": {"", false},
		"https://tides.example":      {"", true},
		"sip:192.0.2.7":              {"", true},
		"sip:":                       {"", true},
		"tides.example:443":          {"", true},
	} {
		r, err := naming.ParseIdentity(name)
		if want.wrong {
			require.Error(t, err, name)
			continue
		}
		require.NoError(t, err, name)
		entry, covered := r.CoveredBy(c)
		assert.Equal(t, want.entry != "", covered, name)
		assert.Equal(t, want.entry, entry.Value, name)
		m := naming.Compare([]naming.Reference{r}, []naming.Column{naming.NewColumn("x", c)})
		assert.Equal(t, covered, m.Covers(), name)
		if covered {
			assert.Len(t, m.Certificates[0].Unneeded, 2, name)
		}
	}
	r, err := naming.ParseIdentity("sips:voice.example")
	require.NoError(t, err)
	assert.Equal(t, "sips clients look for a URI entry with that scheme and host", r.Missed(c).Reason)
	assert.Equal(t, []string{"_a.example", "_b.example", "sip:c.example", "sip:d.example"},
		naming.Propose(mustIdentities(t,
			"_a.example", "_b.example", "sip:c.example", "sip:d.example"), true), "no wildcard takes their place")
}

func mustIdentities(t *testing.T, names ...string) (out []naming.Reference) {
	t.Helper()
	for _, n := range names {
		r, err := naming.ParseIdentity(n)
		require.NoError(t, err)
		out = append(out, r)
	}
	return out
}
