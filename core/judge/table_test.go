package judge_test

import (
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

// TestTableHoldsTheCatalogue: every code has a row, and every row's codes are in the catalogue.
func TestTableHoldsTheCatalogue(t *testing.T) {
	var inTable, inCatalogue []string
	for _, row := range judge.Table() {
		inTable = append(inTable, row...)
	}
	for _, e := range judge.Catalogue() {
		inCatalogue = append(inCatalogue, e.Code)
	}
	slices.Sort(inTable)
	assert.Equal(t, slices.Sorted(slices.Values(inCatalogue)), slices.Compact(inTable))
}

// TestRulesAreInTheFilesOfTheirAreas: who looks for the rule of chain.incomplete finds it in chain.go.
func TestRulesAreInTheFilesOfTheirAreas(t *testing.T) {
	codes := map[string]bool{}
	for _, e := range judge.Catalogue() {
		codes[e.Code] = true
	}
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	met := map[string]bool{}
	for _, path := range files {
		if strings.HasSuffix(path, "_test.go") || path == "table.go" {
			continue
		}
		source, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`"([a-z]+\.[a-z0-9-]+)"`).FindAllStringSubmatch(string(source), -1) {
			if code := m[1]; codes[code] {
				area, _, _ := strings.Cut(code, ".")
				several := (area == "config" || area == "deploy") && strings.HasPrefix(path, area)
				assert.True(t, path == area+".go" || several, "%s in %s",
					code, path)
				met[code] = true
			}
		}
	}
	assert.Len(t, met, len(codes), "a code that no file names is found by no rule")
}

// TestOrderOfRulesDoesNotCount judges something with many findings by the table in other orders.
func TestOrderOfRulesDoesNotCount(t *testing.T) {
	s := newScene(t)
	late := s.leaf(s.lower, func(w *forge.Template) { w.Until, w.Names = now.AddDate(0, 0, -1), []string{"x.example"} })
	one, other := served("1.0,1.2", late, s.root.DER, s.upper.DER, s.lower.DER, s.upper.DER), served("1.3", late)
	other.Address = one.Address
	one.Settings = &facts.Settings{Compression: facts.Yes, Heartbeat: facts.Yes, RenegotiationInfo: facts.No}
	judged := func() string { return fmt.Sprintf("%+v", judge.Endpoint(observed(one, other), s.context()).Findings) }
	want := judged()
	require.Greater(t, strings.Count(want, "Code:"), 8, "there is much to find")
	for seed := range uint64(20) {
		back := judge.Shuffle(seed)
		got := judged()
		back()
		assert.Equal(t, want, got)
	}
}

// severities are cases of findings that no endpoint and no file of the harbour
// has: pairs of a code and a severity.
func severities(t *testing.T) map[string]judge.Judgement {
	s := newScene(t)
	leaf := s.leaf(s.lower, nil)
	crossed := s.again(s.rehearsal, s.upper, now.AddDate(-3, 0, 0), now.AddDate(0, 0, -10))
	odd := s.authority(nil, forge.Template{Name: "Odd Root", Serial: big.NewInt(0)})
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	short, err := forge.NewAuthority(nil, key, forge.RSASHA256,
		forge.Template{Name: "Short Root", From: now.AddDate(-2, 0, 0), Until: now.AddDate(5, 0, 0)})
	require.NoError(t, err)
	requiring := func(version string) judge.Context {
		c := s.context()
		c.Policy.Protocols.Required = []string{version}
		return c
	}
	broken := s.context()
	broken.Trust = append(broken.Trust, nil) // what no caller does
	material := s.context()
	material.Material = true
	material.Policy.Keys.ModulusRisk = 4096
	some := served("1.2,1.3", leaf, s.lower.DER, s.upper.DER)
	some.Versions[3].Suites = []string{"TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256", "TLS_RSA_WITH_AES_128_GCM_SHA256"}
	named := func(names ...string) judge.Judgement {
		return judge.File(file(s.leaf(s.lower, func(w *forge.Template) { w.Names = append(w.Names, names...) }),
			s.lower.DER,
			s.upper.DER), s.context())
	}
	needs := s.context()
	needs.Names = names(t, "tides.example")
	wide := s.leaf(s.lower, func(w *forge.Template) { w.Names = []string{"tides.example", "old.tides.example"} })
	inner := s.context()
	inner.Policy, err = policy.Load("internal")
	require.NoError(t, err)
	old := s.leaf(s.lower, func(w *forge.Template) { w.Sign = &forge.ECDSASHA1 })
	shipped := s.context()
	shipped.Trust = []*trust.Store{trust.New("system", []trust.Anchor{{Certificate: s.parse(s.root.DER),
		Kind:    trust.Public,
		Shipped: true}})}
	return map[string]judge.Judgement{
		"trust.timestamps-missing risk": judge.Endpoint(observed(served("1.3", leaf, s.lower.DER, s.upper.DER)),
			shipped),
		"algo.weak-signature risk":     judge.File(file(old, s.lower.DER, s.upper.DER), inner),
		"name.unneeded note":           judge.File(file(wide, s.lower.DER, s.upper.DER), needs),
		"name.wildcard-too-broad risk": named("*.quays"),
		"chain.expired-alternate note": judge.File(file(leaf, s.lower.DER, s.upper.DER, crossed), s.context()),
		"chain.wrong-order risk": judge.Endpoint(observed(served("1.3", leaf, s.upper.DER, s.lower.DER)),
			s.context()),
		"reach.examination-failed risk":   judge.Endpoint(observed(served("1.3", leaf)), broken),
		"file.malformed-certificate note": judge.File(file(odd.DER), s.context()),
		"key.too-short note":              judge.File(file(short.DER), material),
		"proto.without-tls12 fault": judge.Endpoint(observed(served("1.3", leaf, s.lower.DER, s.upper.DER)),
			requiring("TLS 1.2")),
		"proto.without-tls13 fault": judge.Endpoint(observed(served("1.2", leaf, s.lower.DER, s.upper.DER)),
			requiring("TLS 1.3")),
		"suite.no-forward-secrecy note": judge.Endpoint(observed(some), s.context()),
	}
}

// TestEverySeverityIsMet: each code of the catalogue is found in each of its
// severities, by the harbour, whose list another test holds to what is found,
// or by a case here.
func TestEverySeverityIsMet(t *testing.T) {
	truth, err := os.ReadFile("../../demo/truth.yaml")
	require.NoError(t, err)
	met := map[string]bool{}
	for _, pair := range regexp.MustCompile(`[a-z]+\.[a-z0-9-]+ (fault|risk|note|none)`).FindAllString(string(truth), -1) {
		met[pair] = true
	}
	for pair, j := range severities(t) {
		assert.False(t, met[pair], "%s: the harbour has it already", pair)
		var found []string
		for _, f := range j.Findings {
			found = append(found, f.Code+" "+string(f.Severity))
		}
		assert.Contains(t, found, pair)
		met[pair] = true
	}
	for _, e := range judge.Catalogue() {
		for _, severity := range e.Severities {
			assert.True(t, met[e.Code+" "+string(severity)], "%s is never found as %s", e.Code, severity)
		}
	}
}
