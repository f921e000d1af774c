package report_test

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/inventory"
	"nurvik/core/judge"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/internal/audit"
	"nurvik/internal/report"
)

func inventorySample() report.Inventory {
	day := func(text string) time.Time {
		at, err := time.Parse(time.DateOnly, text)
		if err != nil {
			panic(err)
		}
		return at
	}
	return report.Inventory{Schema: report.IdentifySchema,
		Unexamined: []audit.Unexamined{{Target: "/etc/ssl/none.pem", Reason: "no such file or directory"}},
		Files: []report.InventoryFile{
			{Path: "/etc/ssl/harbour/tides-fullchain.pem",
				Access: &facts.Access{Mode: 0o644, Owner: "root", Group: "root",
					Links: []string{"/etc/ssl/harbour/tides-fullchain.pem", "/srv/tides.pem"}},
				Entries: []inventory.Entry{{Kind: facts.Certificate, What: "certificate",
					Place: facts.Place{Line: 1, Form: "PEM", PEMLabel: "CERTIFICATE"}, Summary: pki.Summary{
						Label:     "tides.tarnholm.example",
						Names:     []string{"tides.tarnholm.example", "ebb.tarnholm.example", "flood.tarnholm.example"},
						NotBefore: day("2026-05-01"), NotAfter: day("2026-11-16"),
						Key: "EC P-256", Issuer: "Skerry Outer Issuing", SHA256: pki.Fingerprint{0xab, 0xcd}},
					Fields: []inventory.Field{{Name: "version", Values: []string{"3"}},
						{Name: "subject alternative name (2.5.29.17)",
							Values: []string{"dns:tides.tarnholm.example", "dns:ebb.tarnholm.example"}, Offset: 412}}}},
				Defects: []facts.Defect{{Kind: facts.LineEnds, Line: 1, Offset: 27,
					Reason: facts.Because(facts.WindowsLines), Grammar: facts.Standard},
					{Kind: facts.WhiteSpace, Line: 3, Offset: 90, Reason: facts.Because(facts.SpaceInside),
						Grammar: facts.Lax}}},
			{Path: "/srv/store.p12", Entries: []inventory.Entry{{Kind: facts.PrivateKey, What: "encrypted private key",
				Container: "PKCS#12", Alias: "a-very-long-alias-that-nobody-chose-0123456789",
				Remarks: []string{"locked: the password is wrong"}}}},
		}}
}

func TestIdentify(t *testing.T) {
	at := time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)
	for name, width := range map[string]int{"identify-wide": 0, "identify-terminal": 110} {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			require.NoError(t, report.Identify(inventorySample(), false, at).Text(&out, report.Style{Width: width}))
			golden(t, "testdata/"+name+".txt", out.String())
			for _, line := range strings.Split(out.String(), "\n") {
				if width > 0 {
					assert.LessOrEqual(t, utf8.RuneCountInString(line), width, line)
				}
			}
			assert.NotContains(t, out.String(), "Windows", "what hurts nobody is told only in full")
		})
	}
	t.Run("in full", func(t *testing.T) {
		var out bytes.Buffer
		require.NoError(t, report.Identify(inventorySample(), true, time.Time{}).Text(&out, report.Style{Width: 100}))
		golden(t, "testdata/identify-long.txt", out.String())
		assert.Contains(t, out.String(), "Windows line ends")
	})
}

// pairsSample is a directory with a set, last year's certificate, and a key that fits nothing.
func pairsSample(t *testing.T) *report.Pairs {
	t.Helper()
	at := time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)
	key := func() crypto.Signer {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return k
	}
	info := func(k crypto.Signer) []byte {
		spki, err := forge.PublicInfo(k)
		require.NoError(t, err)
		return spki
	}
	certificate := func(k crypto.Signer, from time.Time) facts.Item {
		der, err := forge.Issue(nil, k, forge.Template{Name: "tides.tarnholm.example",
			Names: []string{"tides.tarnholm.example"}, SPKI: info(k), From: from, Until: from.AddDate(0, 6, 0)})
		require.NoError(t, err)
		return facts.Item{Kind: facts.Certificate, DER: der}
	}
	private := func(k crypto.Signer) facts.Item {
		return facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{Structure: "PKCS#8", SPKI: info(k)}}
	}
	own := key()
	file := func(path string, items ...facts.Item) facts.File { return facts.File{Path: path, Items: items} }
	files := []facts.File{
		file("/etc/ssl/old.crt", certificate(own, at.AddDate(0, -7, 0))),
		file("/etc/ssl/tides.crt", certificate(own, at.AddDate(0, -1, 0))),
		file("/etc/ssl/tides.key", private(own)),
		file("/etc/ssl/spare.key", private(key())),
	}
	result := pairing.Pair(files, nil, at)
	judgements := []judge.Judgement{
		{Target: "/etc/ssl/old.crt", Verdict: judge.Sound,
			Findings: []judge.Finding{{Code: "pair.old-set", Severity: judge.Note, Message: "It was superseded.",
				Remedy: "Remove it."}}},
		{Target: "/etc/ssl/tides.crt", Verdict: judge.Sound}, {Target: "/etc/ssl/tides.key", Verdict: judge.Sound},
		{Target: "/etc/ssl/spare.key", Verdict: judge.Sound},
	}
	return report.NewPairs(result, judgements, nil, at, "open-web")
}

func TestPair(t *testing.T) {
	var out bytes.Buffer
	p := pairsSample(t)
	require.NoError(t, report.Pair(p).Text(&out, report.Style{Width: 100}))
	golden(t, "testdata/pair.txt", regexp.MustCompile(`key [0-9a-f]{12}`).ReplaceAllString(out.String(),
		"key 0123456789ab"))
	assert.True(t, p.Reaches(judge.Note))
	assert.False(t, p.Reaches(judge.Risk))
	p.Files[0].Findings[0].Waived = &policy.Waiver{Reason: "it is known", Until: "2099-01-01"}
	assert.False(t, p.Reaches(judge.Note), "what is waived does not count")
}
