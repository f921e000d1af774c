package judge_test

import (
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"math/big"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/intake"
	"nurvik/core/judge"
)

func TestExposure(t *testing.T) {
	m := newMaterials(t)
	encrypted := m.key("a")
	encrypted.Key = &facts.Key{SPKI: encrypted.Key.SPKI, Structure: "PKCS#8", Encrypted: true}
	tests := []struct {
		name   string
		path   string
		key    facts.Item
		access facts.Access
		want   []string
	}{
		{"owner only", "/etc/x.key", m.key("a"), facts.Access{Mode: 0o600, Owner: "web"}, []string{}},
		{"everyone", "/etc/x.key", m.key("a"), facts.Access{Mode: 0o644, Owner: "web"},
			[]string{"key.exposed fault file"}},
		{"everyone, encrypted", "/etc/x.key", encrypted, facts.Access{Mode: 0o644, Owner: "web"},
			[]string{"key.exposed risk file"}},
		{"everyone, but a directory bars the way", "/etc/x.key", m.key("a"),
			facts.Access{Mode: 0o644, Owner: "web", Barred: "/etc"}, []string{"key.exposed note file"}},
		{"the group", "/etc/x.key", m.key("a"), facts.Access{Mode: 0o640, Owner: "web", Group: "web"},
			[]string{"key.exposed risk file"}},
		{"the group, of root's file", "/etc/x.key", m.key("a"), facts.Access{Mode: 0o640, Owner: "root", Root: true},
			[]string{"key.exposed note file"}},
		{"the group, encrypted", "/etc/x.key", encrypted, facts.Access{Mode: 0o640, Owner: "web"},
			[]string{"key.exposed note file"}},
		{"the group, but a directory bars the way", "/etc/x.key", m.key("a"),
			facts.Access{Mode: 0o640, Owner: "web", BarredGroup: "/etc"}, []string{"key.exposed note file"}},
		{"certificates may be read", "/etc/x.crt", m.cert("tides", "a", 5), facts.Access{Mode: 0o644}, []string{}},
		{"below a published directory", "/var/www/html/x.key", m.key("a"), facts.Access{Mode: 0o600},
			[]string{"key.published fault file"}},
		{"in somebody's home page", "/home/kai/public_html/x.key", m.key("a"), facts.Access{Mode: 0o600},
			[]string{"key.published fault file"}},
		{"a name that only looks so", "/var/www-keys/x.key", m.key("a"), facts.Access{Mode: 0o600}, []string{}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			j := judge.File(accessible(at(tt.path, tt.key), tt.access),
				judge.Context{Policy: m.policy, At: now, Material: true})
			assert.Equal(t, tt.want, codes(j))
		})
	}
}

// TestRefusedBy shows of each form what the finding claims: that Go's TLS does
// not load the file, although what it holds is whole.
func TestRefusedBy(t *testing.T) {
	m := newMaterials(t)
	private, err := x509.MarshalPKCS8PrivateKey(m.signer("a"))
	require.NoError(t, err)
	key := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})
	good := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: m.cert("tides", "a", 5).DER}))
	_, err = tls.X509KeyPair([]byte(good), key)
	require.NoError(t, err, "the clean file is loaded")
	spoilt := map[string]string{
		"file.utf-16":             utf16(good),
		"file.wrong-label":        strings.ReplaceAll(good, "CERTIFICATE", "CERTIFCATE"),
		"file.typographic-dashes": strings.ReplaceAll(good, "-----", "—–-"),
		"file.entities":           strings.ReplaceAll(good, "-----", "&#45;&#45;&#45;&#45;&#45;"),
		"file.double-base64":      base64.StdEncoding.EncodeToString([]byte(good)),
		"file.byte-order-mark":    "\ufeff" + good,
		"file.run-together":       strings.TrimSuffix(good, "\n") + good,
		"file.white-space":        strings.ReplaceAll(good, "\n", " \n"),
		"file.line-length":        rewrapped(good),
	}
	for code, text := range spoilt {
		t.Run(code, func(t *testing.T) {
			file := new(intake.Reader).Recognise("tides.pem", []byte(text))
			j := judge.File(file, judge.Context{Policy: m.policy, At: now, Material: true})
			claims := false
			for _, f := range j.Findings {
				if f.Code == code {
					claims = len(f.Evidence.RefusedBy) > 0
					assert.NotEmpty(t, f.Evidence.Grammar)
				}
			}
			assert.Contains(t, strings.Join(codes(j), " "), code)
			chain, err := tls.X509KeyPair([]byte(text), key)
			refused := err != nil || len(chain.Certificate) != strings.Count(strings.ReplaceAll(text, "\n", ""),
				"END CERT") && strings.Contains(text, "END CERT")
			assert.Equal(t, refused, claims, "%v", err)
		})
	}
}

func utf16(text string) string {
	out := "\xff\xfe"
	for _, c := range []byte(text) {
		out += string([]byte{c, 0})
	}
	return out
}

func rewrapped(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[0] + "\n" + strings.Join(lines[1:len(lines)-1], "") + "\n" + lines[len(lines)-1] + "\n"
}

func TestKeysOfMaterial(t *testing.T) {
	m := newMaterials(t)
	public := func(n *big.Int, e int64) facts.Item {
		der, err := forge.RSAInfoOf(n, big.NewInt(e))
		require.NoError(t, err)
		return facts.Item{Kind: facts.PublicKey, DER: der}
	}
	sound, err := forge.RSAInfo(2048)
	require.NoError(t, err)
	short, err := forge.RSAInfo(1024)
	require.NoError(t, err)
	tiny, err := forge.RSAInfo(512)
	require.NoError(t, err)
	inconsistent := m.key("a")
	inconsistent.Key = &facts.Key{SPKI: inconsistent.Key.SPKI, Structure: "SEC1",
		Problems: []facts.Reason{facts.Because(facts.KeyPartsDisagree, "the public part belongs to another key")}}
	// 3·2^2046 + 1, which has no factor below 2000
	odd := new(big.Int).SetBit(new(big.Int).Lsh(big.NewInt(3), 2046), 0, 1)
	tests := []struct {
		name string
		item facts.Item
		want []string
	}{
		{"sound", facts.Item{Kind: facts.PublicKey, DER: sound}, []string{}},
		{"short", facts.Item{Kind: facts.PublicKey, DER: short}, []string{"key.too-short risk"}},
		{"very short", facts.Item{Kind: facts.PublicKey, DER: tiny}, []string{"key.too-short fault"}},
		{"a small factor", public(new(big.Int).Mul(odd, big.NewInt(1009)), 65537), []string{"key.weak fault"}},
		{"exponent one", public(odd, 1), []string{"key.weak fault"}},
		{"the halves do not agree", inconsistent, []string{"key.inconsistent fault"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			j := judge.File(at("/a/x", tt.item), judge.Context{Policy: m.policy, At: now, Material: true})
			got := []string{}
			for _, c := range codes(j) {
				got = append(got, strings.Join(strings.Fields(c)[:2], " "))
			}
			assert.Equal(t, tt.want, got)
		})
	}
	t.Run("shared prime factors", func(t *testing.T) {
		shared, one, two := prime(t), prime(t), prime(t)
		files := []facts.File{at("/a/1", public(new(big.Int).Mul(shared, one), 65537)),
			at("/a/2", public(new(big.Int).Mul(shared, two), 65537)),
			at("/a/3", facts.Item{Kind: facts.PublicKey, DER: sound})}
		steps := 0
		factors, err := judge.SharedPrimes(t.Context(), nil, files, nil,
			func(done, total int) { steps++; assert.LessOrEqual(t, done, total) })
		require.NoError(t, err)
		assert.Positive(t, steps)
		assert.Equal(t, 3, judge.CountRSA(nil, files))
		judgements, _ := judge.Files(files, judge.Context{Policy: m.policy, At: now, Material: true, Shared: factors})
		for i, want := range []judge.Verdict{judge.Faulty, judge.Faulty, judge.Sound} {
			assert.Equal(t, want, judgements[i].Verdict)
		}
		assert.Contains(t, judgements[0].Findings[0].Message, "1024 bits")
	})
}

// TestHugeModuli: keys that are larger than any in use are no part of the search, whose cost they would decide.
func TestHugeModuli(t *testing.T) {
	der, err := forge.RSAInfoOf(new(big.Int).SetBit(big.NewInt(1), 20_000_000, 1), big.NewInt(65537))
	require.NoError(t, err)
	var files []facts.File
	for range 20 {
		files = append(files, at("/a/huge", facts.Item{Kind: facts.PublicKey, DER: der}))
	}
	shared, err := judge.SharedPrimes(t.Context(), nil, files, nil,
		func(int, int) { t.Error("nothing is to be compared") })
	require.NoError(t, err)
	assert.Empty(t, shared)
}

func prime(t *testing.T) *big.Int {
	t.Helper()
	p, err := rand.Prime(rand.Reader, 1024)
	require.NoError(t, err)
	return p
}

func TestLocked(t *testing.T) {
	for reason, want := range map[string]string{
		facts.NoPassword: "none was given", facts.WrongPassword: "the password is wrong",
		facts.Unsupported: "not supported",
		facts.TooCostly:   "more rounds than the limit", facts.DamagedInside: "damaged",
	} {
		got, sentence := judge.Locked(at("/a/x.p12", facts.Item{Kind: facts.Keystore, Container: "PKCS#12",
			Locked: reason}))
		assert.Equal(t, reason, got)
		assert.Contains(t, sentence, want)
	}
	reason, _ := judge.Locked(at("/a/x.p12", facts.Item{Kind: facts.Keystore}))
	assert.Empty(t, reason)
}
