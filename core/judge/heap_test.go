package judge_test

import (
	"crypto/rand"
	"crypto/x509"
	encodingasn1 "encoding/asn1"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/assess"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/trust"
)

// list is a CRL of the issuer with the serial numbers revoked a day before it.
func (s *scene) list(issuer *forge.Authority, from, until time.Time, serials ...*big.Int) []byte {
	s.t.Helper()
	certificate, err := x509.ParseCertificate(issuer.DER)
	require.NoError(s.t, err)
	certificate.KeyUsage |= x509.KeyUsageCRLSign
	template := &x509.RevocationList{Number: big.NewInt(from.Unix()), ThisUpdate: from, NextUpdate: until}
	for _, serial := range serials {
		template.RevokedCertificateEntries = append(template.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: serial, RevocationTime: from.AddDate(0, 0, -1)})
	}
	der, err := x509.CreateRevocationList(rand.Reader, template, certificate, issuer.Key)
	require.NoError(s.t, err)
	return der
}

// TestListsBesideCertificates: what a CRL on the same disk revokes is revoked.
func TestListsBesideCertificates(t *testing.T) {
	s := newScene(t)
	serial := big.NewInt(4711)
	leaf := s.leaf(s.lower, func(w *forge.Template) { w.Serial = serial })
	day := func(n int) time.Time { return now.AddDate(0, 0, n) }
	revoked := []string{"revoke.revoked fault"}
	for name, tt := range map[string]struct {
		lists [][]byte
		want  []string
	}{
		"revoked":                    {[][]byte{s.list(s.lower, day(-2), day(5), serial)}, revoked},
		"by a list that has expired": {[][]byte{s.list(s.lower, day(-20), day(-10), serial)}, revoked},
		"by a list of the future":    {[][]byte{s.list(s.lower, day(1), day(5), serial)}, []string{}},
		"another serial number":      {[][]byte{s.list(s.lower, day(-2), day(5), big.NewInt(1))}, []string{}},
		"a list of another issuer":   {[][]byte{s.list(s.upper, day(-2), day(5), serial)}, []string{}},
		"a newer list takes it back": {[][]byte{s.list(s.lower, day(-9), day(-2), serial),
			s.list(s.lower, day(-2), day(5))}, []string{}},
		"a newer list in the future": {[][]byte{s.list(s.lower, day(-9), day(-2), serial),
			s.list(s.lower, day(2), day(5))}, revoked},
		"an intermediate is on it": {[][]byte{s.list(s.upper, day(-2), day(5), s.parse(s.lower.DER).Serial)},
			revoked},
		"signed by somebody else": {[][]byte{s.forgedList(day(-2), day(5), serial)}, []string{}},
		"an older one, and one newer": {[][]byte{s.list(s.lower, day(-9), day(-2)),
			s.list(s.lower, day(-2), day(5), serial)}, revoked},
	} {
		t.Run(name, func(t *testing.T) {
			e := assess.New(assess.Options{At: now, Anchors: []*trust.Store{s.outer}})
			files := []facts.File{file(leaf, s.lower.DER, s.upper.DER)}
			for _, der := range tt.lists {
				files = append(files, facts.File{Schema: facts.Schema, Path: "lists/lower.crl",
					Items: []facts.Item{{Kind: facts.RevocationList, DER: der}}})
			}
			e.LearnFacts(nil, files)
			judgements, _ := e.Files(files, assess.Expectation{Policy: s.policy, Trust: []*trust.Store{s.outer}})
			var got []string
			for _, c := range codes(judgements[0]) {
				got = append(got, c[:min(len(c), len("revoke.revoked fault"))])
			}
			assert.ElementsMatch(t, tt.want, got)
			if len(tt.want) > 0 {
				assert.Contains(t, judgements[0].Findings[0].Message, "by the CRL in lists/lower.crl, since")
			}
		})
	}
}

// forgedList is a list in the name of the lower authority, signed by another.
func (s *scene) forgedList(from, until time.Time, serial *big.Int) []byte {
	other := s.authority(s.upper, forge.Template{Name: "Lower"})
	return s.list(other, from, until, serial)
}

// TestOrderAndNamesakes: where there is no order nothing is out of it, and who shares a name is no impostor.
func TestOrderAndNamesakes(t *testing.T) {
	s := newScene(t)
	leaf := s.leaf(s.lower, nil)
	// A root whose only intermediate has its name, from elsewhere.
	twinRoot := s.authority(nil, forge.Template{Name: "Twin"})
	twin := s.authority(twinRoot, forge.Template{Name: "Twin"})
	store := trust.New("twin", []trust.Anchor{{Certificate: s.parse(twinRoot.DER), Kind: trust.Public}})
	below := s.leaf(twin, nil)
	shuffled := file(s.upper.DER, leaf, s.lower.DER)
	set := file(s.upper.DER, leaf, s.lower.DER)
	for i := range set.Items {
		set.Items[i].Container = "PKCS#7"
	}
	heap := s.context()
	heap.Heap = true
	unordered := heap
	unordered.Unordered = true
	twins := s.context()
	twins.Trust = []*trust.Store{store}
	for name, tt := range map[string]struct {
		file    facts.File
		context judge.Context
		want    []string
	}{
		"a file has an order":             {shuffled, s.context(), []string{"chain.wrong-order fault"}},
		"a PKCS#7 has none":               {set, s.context(), nil},
		"files named one by one have one": {shuffled, heap, []string{"chain.wrong-order fault"}},
		"a directory has none":            {shuffled, unordered, nil},
		"the same file given twice": {file(leaf, s.lower.DER, s.lower.DER, s.upper.DER), heap,
			[]string{"chain.duplicate note"}},
		"a root with its intermediate's name": {file(below, twin.DER, twinRoot.DER), twins,
			[]string{"chain.root-sent note"}},
	} {
		t.Run(name, func(t *testing.T) {
			var got []string
			for _, f := range judge.File(tt.file, tt.context).Findings {
				got = append(got, f.Code+" "+string(f.Severity))
			}
			assert.Equal(t, tt.want, got)
		})
	}
}

// TestIssuerAndSerialNameTheIssuer: with the right ones in the key identifier it is the signature that is wrong.
func TestIssuerAndSerialNameTheIssuer(t *testing.T) {
	s := newScene(t)
	lower := s.parse(s.lower.DER)
	pointing := func(serial *big.Int) []byte {
		type identifier struct {
			Issuer []encodingasn1.RawValue `asn1:"optional,tag:1"`
			Serial *big.Int                `asn1:"tag:2"`
		}
		parsed, err := x509.ParseCertificate(s.lower.DER)
		require.NoError(t, err)
		value, err := encodingasn1.Marshal(identifier{[]encodingasn1.RawValue{{Class: 2, Tag: 4, IsCompound: true,
			Bytes: parsed.RawIssuer}}, serial})
		require.NoError(t, err)
		return s.leaf(s.lower, func(w *forge.Template) {
			w.NoKeyIDs, w.Spoilt = true, true
			w.Extra = []forge.Extension{{ID: encodingasn1.ObjectIdentifier{2, 5, 29, 35}, Value: value}}
		})
	}
	for name, tt := range map[string]struct {
		serial *big.Int
		want   string
	}{"of this issuer": {lower.Serial, "chain.bad-signature"}, "of another": {big.NewInt(1), "chain.wrong-sibling"}} {
		j := judge.File(file(pointing(tt.serial), s.lower.DER, s.upper.DER), s.context())
		require.NotEmpty(t, j.Findings, name)
		assert.Equal(t, tt.want, j.Findings[0].Code, name)
	}
}
