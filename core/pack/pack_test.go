package pack

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"io/fs"
	"testing"
	"time"

	java "github.com/pavlo-v-chernykh/keystore-go/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/assess"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/intake"
	"nurvik/core/keystore"
	"nurvik/core/naming"
	"nurvik/core/pbe"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/serverconf"
	"nurvik/core/trust"
)

var now = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

const password = "Lodestar 7"

// yard makes the heaps that are packed.
type yard struct {
	t             *testing.T
	root, issuing *forge.Authority
	ring          *Keyring
}

func newYard(t *testing.T) *yard {
	y := &yard{t: t, ring: &Keyring{}}
	y.root = y.authority(nil, "Root")
	y.issuing = y.authority(y.root, "Issuing")
	return y
}

func (y *yard) authority(issuer *forge.Authority, name string) *forge.Authority {
	a, err := forge.NewAuthority(issuer, y.ec(), forge.ECDSASHA256, forge.Template{Name: name,
		From:  now.AddDate(-1, 0, 0),
		Until: now.AddDate(9, 0, 0)})
	require.NoError(y.t, err)
	return a
}

func (y *yard) ec() crypto.Signer {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(y.t, err)
	return key
}

func (y *yard) leaf(key crypto.Signer, from, until time.Time, names ...string) []byte {
	spki, err := forge.PublicInfo(key)
	require.NoError(y.t, err)
	der, err := forge.Issue(y.issuing, nil, forge.Template{Name: names[0], Names: names, SPKI: spki, From: from,
		Until: until})
	require.NoError(y.t, err)
	return block("CERTIFICATE", der)
}

func block(label string, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der})
}

func (y *yard) keyFile(key crypto.Signer) []byte {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(y.t, err)
	return block("PRIVATE KEY", der)
}

// heap reads the files as any command does.
func (y *yard) heap(files ...[]byte) *Heap {
	reader := &intake.Reader{Opener: keystore.Opener{Budget: &pbe.Budget{}}, Private: y.ring.Add}
	var all []facts.File
	for i, data := range files {
		read, err := reader.Read(string(rune('a'+i))+".pem", bytes.NewReader(data))
		require.NoError(y.t, err)
		all = append(all, read...)
	}
	return NewHeap(all, y.ring)
}

func (y *yard) assemble(h *Heap, names ...string) (*Set, error) {
	var needed []naming.Reference
	for _, n := range names {
		r, err := naming.Parse(n)
		require.NoError(y.t, err)
		needed = append(needed, r)
	}
	leaf, err := h.Choose(needed, now)
	if err != nil {
		return nil, err
	}
	return h.Assemble(leaf, Wanted{Names: needed, Stores: []*trust.Store{trust.New("none", nil)},
		Policy: policy.Open()},
		assess.Options{At: now})
}

func TestChoose(t *testing.T) {
	y := newYard(t)
	key, other := y.ec(), y.ec()
	day := func(n int) time.Time { return now.AddDate(0, 0, n) }
	old := y.leaf(key, day(-90), day(9), "tides.example")
	recent := y.leaf(other, day(-9), day(90), "tides.example")
	expired := y.leaf(key, day(-90), day(-9), "ebb.example")
	wide := y.leaf(key, day(-90), day(90), "tides.example", "flood.example")
	root, issuing := block("CERTIFICATE", y.root.DER), block("CERTIFICATE", y.issuing.DER)
	for name, tt := range map[string]struct {
		heap   [][]byte
		names  []string
		refuse string
		label  string // with what is the newest
		from   time.Time
	}{
		"the newest": {[][]byte{old, recent, issuing, root}, []string{"tides.example"}, "",
			"tides.example", day(-9)},
		"the one that covers the names": {[][]byte{recent, wide, issuing, root}, []string{"flood.example"}, "",
			"tides.example", day(-90)},
		"expired": {[][]byte{expired, issuing, root}, []string{"ebb.example"},
			"is valid at that time", "", now},
		"not covered": {[][]byte{old, issuing, root}, []string{"none.example"},
			"does not cover none.example", "", now},
		"different names, none asked": {[][]byte{old, wide, issuing, root}, nil, "say with --name which is meant", "",
			now},
		"the same names, none asked": {[][]byte{old, recent, issuing, root}, nil, "", "tides.example", day(-9)},
		"no issuer":                  {[][]byte{old, root}, nil, "no complete and valid chain", "", now},
		"no root":                    {[][]byte{old, issuing}, nil, "no complete and valid chain", "", now},
		"authorities alone":          {[][]byte{issuing, root}, nil, ErrNone.Error(), "", now},
	} {
		t.Run(name, func(t *testing.T) {
			set, err := y.assemble(y.heap(tt.heap...), tt.names...)
			if tt.refuse != "" {
				require.ErrorContains(t, err, tt.refuse)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, tt.label, set.Leaf.Label())
			assert.Equal(t, tt.from, set.Leaf.NotBefore)
			assert.False(t, set.Trusted, "nobody says that the root is trusted")
			require.Len(t, set.Chain, 1)
			assert.Equal(t, "Root", set.Root.Label())
		})
	}
}

func TestShapes(t *testing.T) {
	y := newYard(t)
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	_, edKey, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	names := func(files []File) (out []string) {
		for _, f := range files {
			out = append(out, f.Name)
		}
		return out
	}
	for kind, key := range map[string]crypto.Signer{"EC": y.ec(), "RSA": rsaKey, "Ed25519": edKey} {
		h := y.heap(block("CERTIFICATE", y.root.DER), y.keyFile(key), y.leaf(key, now, now.AddDate(0, 3, 0),
			"tides.example"),
			block("CERTIFICATE", y.issuing.DER))
		set, err := y.assemble(h)
		require.NoError(t, err)
		for name, tt := range map[string]struct {
			form  Form
			files []string
		}{
			"bundle":           {Form{Shape: serverconf.Bundle}, []string{"x-bundle.pem"}},
			"bundle and key":   {Form{Shape: serverconf.Bundle, WithKey: true}, []string{"x-bundle.pem", "x.key"}},
			"bundle with root": {Form{Shape: serverconf.Bundle, WithRoot: true}, []string{"x-bundle.pem"}},
			"split":            {Form{Shape: serverconf.Split}, []string{"x.crt", "x-chain.pem"}},
			"combined":         {Form{Shape: serverconf.Combined}, []string{"x.pem"}},
			"pieces": {Form{Shape: serverconf.Pieces}, []string{"x-1-root.crt", "x-2-intermediate.crt",
				"x-3-server.crt"}},
			"DER":               {Form{Shape: serverconf.DER}, []string{"x.der", "x-chain-1.der"}},
			"PKCS#12":           {Form{Shape: serverconf.Keystore}, []string{"x.p12"}},
			"PKCS#12, old":      {Form{Shape: serverconf.Keystore, Old: true}, []string{"x.p12"}},
			"JKS":               {Form{Shape: serverconf.Keystore, Java: true}, []string{"x.jks"}},
			"JKS with the root": {Form{Shape: serverconf.Keystore, Java: true, WithRoot: true}, []string{"x.jks"}},
		} {
			t.Run(kind+", "+name, func(t *testing.T) {
				tt.form.Base, tt.form.Alias, tt.form.Password, tt.form.At = "x", "harbour", []byte(password), now
				files, err := set.Write(tt.form)
				require.NoError(t, err)
				assert.Equal(t, tt.files, names(files))
				require.NoError(t, set.Check(tt.form, files))
				for _, f := range files {
					secret := bytes.Contains(f.Data, []byte("PRIVATE")) || tt.form.Shape == serverconf.Keystore
					assert.Equal(t, map[bool]fs.FileMode{true: 0o600, false: 0o644}[secret], f.Mode, f.Name)
				}
				if tt.form.Shape == serverconf.Keystore {
					checkKeystore(t, tt.form, files[0].Data, key)
				}
				spoilt := append([]File(nil), files...)
				spoilt[0].Data = spoilt[0].Data[:len(spoilt[0].Data)/2]
				require.Error(t, set.Check(tt.form, spoilt), "half a file is noticed")
			})
		}
	}
}

// checkKeystore reads a keystore back with the packages of others.
func checkKeystore(t *testing.T, f Form, data []byte, key crypto.Signer) {
	t.Helper()
	if f.Java {
		store := java.New()
		require.NoError(t, store.Load(bytes.NewReader(data), []byte(password)))
		entry, err := store.GetPrivateKeyEntry("harbour", []byte(password))
		require.NoError(t, err)
		read, err := x509.ParsePKCS8PrivateKey(entry.PrivateKey)
		require.NoError(t, err)
		assert.Equal(t, key, read)
		return
	}
	read, leaf, above, err := pkcs12.DecodeChain(data, password)
	require.NoError(t, err)
	assert.Equal(t, key, read)
	assert.Equal(t, "tides.example", leaf.Subject.CommonName)
	assert.Len(t, above, 1)
	own, err := keystore.ReadPKCS12(data, keystore.Opener{Passwords: []string{password}, Budget: &pbe.Budget{}})
	require.NoError(t, err)
	assert.Equal(t, "harbour", own.Entries[len(own.Entries)-1].Alias)
}

func TestRefused(t *testing.T) {
	y := newYard(t)
	lone := y.heap(y.leaf(y.ec(), now, now.AddDate(0, 3, 0), "tides.example"), block("CERTIFICATE", y.issuing.DER),
		block("CERTIFICATE", y.root.DER))
	set, err := y.assemble(lone)
	require.NoError(t, err)
	for _, f := range []Form{{Shape: serverconf.Combined}, {Shape: serverconf.Keystore},
		{Shape: serverconf.Bundle, WithKey: true}} {
		_, err := set.Write(f)
		require.ErrorContains(t, err, "the private key of tides.example (EC P-256) is not among what was read")
	}
	key := y.ec()
	set, err = y.assemble(y.heap(y.keyFile(key), y.leaf(key, now, now.AddDate(0, 3, 0), "tides.example"),
		block("CERTIFICATE", y.issuing.DER), block("CERTIFICATE", y.root.DER)))
	require.NoError(t, err)
	_, err = set.Write(Form{Shape: serverconf.Keystore})
	require.ErrorContains(t, err, "needs a password")
	_, err = set.Write(Form{Shape: serverconf.Keystore, Java: true, Password: []byte("short")})
	require.ErrorContains(t, err, "at least 6")
	_, err = set.Write(Form{Shape: "sphere"})
	require.Error(t, err)
}

func TestSelfSigned(t *testing.T) {
	key := newYard(t).ec()
	y := newYard(t)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(nil, key, forge.Template{Name: "alone.example", Names: []string{"alone.example"},
		SPKI: spki,
		From: now, Until: now.AddDate(0, 3, 0)})
	require.NoError(t, err)
	set, err := y.assemble(y.heap(block("CERTIFICATE", der), y.keyFile(key)))
	require.NoError(t, err)
	assert.Nil(t, set.Root)
	assert.Empty(t, set.Chain)
	assert.Equal(t, pki.FingerprintOf(der), set.Leaf.Fingerprint())
	form := Form{Shape: serverconf.Combined, Base: "x"}
	files, err := set.Write(form)
	require.NoError(t, err)
	require.NoError(t, set.Check(form, files))
}
