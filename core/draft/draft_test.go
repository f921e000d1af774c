package draft

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/youmark/pkcs8"

	"nurvik/core/pki"
)

func TestRequests(t *testing.T) {
	for name, tt := range map[string]struct {
		wish    Wish
		names   []string // as in the request
		subject string
		key     string
		words   string // of the signature
	}{
		"usual": {Wish{Names: []string{"Tides.Example.", "www.tides.example"}},
			[]string{"tides.example", "www.tides.example"}, "CN=tides.example", "EC P-256", "SHA-256 with ECDSA"},
		"twice the same": {Wish{Names: []string{"a.example", "A.example"}}, []string{"a.example"}, "CN=a.example",
			"EC P-256", ""},
		"wildcard": {Wish{Names: []string{"*.tides.example"}}, []string{"*.tides.example"}, "CN=*.tides.example",
			"EC P-256", ""},
		"addresses": {Wish{Names: []string{"192.0.2.7", "[2001:db8::7]"}}, []string{"192.0.2.7", "2001:db8::7"},
			"CN=192.0.2.7", "EC P-256", ""},
		"U-labels": {Wish{Names: []string{"fjærn.example"}}, []string{"xn--fjrn-woa.example"},
			"CN=xn--fjrn-woa.example", "EC P-256", ""},
		"too long for CN": {Wish{Names: []string{strings.Repeat("a.", 40) + "example"}},
			[]string{strings.Repeat("a.", 40) + "example"}, "", "EC P-256", ""},
		"RSA": {Wish{Names: []string{"a.example"}, Key: "RSA-2048"}, []string{"a.example"}, "CN=a.example",
			"RSA 2048", "SHA-256 with RSA"},
		"P-384": {Wish{Names: []string{"a.example"}, Key: P384}, []string{"a.example"}, "CN=a.example",
			"EC P-384", "SHA-384 with ECDSA"},
		"Ed25519": {Wish{Names: []string{"a.example"}, Key: Ed25519}, []string{"a.example"}, "CN=a.example",
			"Ed25519", "Ed25519"},
		"subject in order": {Wish{Names: []string{"a.example"}, Subject: []Field{{Organisation,
			"Tarnholm Harbour Authority"}}},
			[]string{"a.example"}, "O=Tarnholm Harbour Authority, CN=a.example", "EC P-256", ""},
	} {
		t.Run(name, func(t *testing.T) {
			w := tt.wish
			require.NoError(t, w.Settle())
			key, err := NewKey(w.Key, rand.Reader)
			require.NoError(t, err)
			der, err := w.Request(key, rand.Reader)
			require.NoError(t, err)
			r, err := pki.ParseRequest(der)
			require.NoError(t, err)
			assert.Empty(t, r.Anomalies)
			require.NoError(t, r.CheckSignature())
			assert.Equal(t, tt.names, r.Wanted.HostNames())
			assert.Equal(t, tt.subject, r.Subject.String())
			assert.Equal(t, tt.key, r.PublicKey.String())
			if tt.words != "" {
				assert.Equal(t, tt.words, r.SignatureAlgorithm.Name)
			}
			second, err := x509.ParseCertificateRequest(der)
			require.NoError(t, err)
			require.NoError(t, second.CheckSignature())
		})
	}
}

func TestWrongWishes(t *testing.T) {
	for name, w := range map[string]Wish{
		"no names":              {},
		"no name":               {Names: []string{"a b"}},
		"half a wildcard":       {Names: []string{"t*.example"}},
		"wildcard of addresses": {Names: []string{"*.192.0.2.7"}},
		"RSA too short":         {Names: []string{"a.example"}, Key: "rsa-1024"},
		"RSA too long":          {Names: []string{"a.example"}, Key: "rsa-8192"},
		"odd curve":             {Names: []string{"a.example"}, Key: "ec-p521"},
	} {
		t.Run(name, func(t *testing.T) { require.Error(t, w.Settle()) })
	}
}

func TestLike(t *testing.T) {
	w := Wish{Names: []string{"tides.example", "192.0.2.7"}, Key: P384, Staple: true, Template: "WebServer"}
	w.Set(Country, "NO")
	w.Set(Email, "harbour@tides.example")
	require.NoError(t, w.Settle())
	key, err := NewKey(w.Key, rand.Reader)
	require.NoError(t, err)
	der, err := w.Request(key, rand.Reader)
	require.NoError(t, err)
	first, err := pki.ParseRequest(der)
	require.NoError(t, err)

	again, note := LikeRequest(first)
	assert.Empty(t, note)
	require.NoError(t, again.Settle())
	other, err := NewKey(again.Key, rand.Reader)
	require.NoError(t, err)
	der, err = again.Request(other, rand.Reader)
	require.NoError(t, err)
	second, err := pki.ParseRequest(der)
	require.NoError(t, err)
	assert.Equal(t, first.Subject.String(), second.Subject.String())
	assert.Equal(t, first.Wanted.HostNames(), second.Wanted.HostNames())
	assert.Equal(t, first.PublicKey.String(), second.PublicKey.String())
	assert.NotEqual(t, first.PublicKey.Fingerprint(), second.PublicKey.Fingerprint(), "the key is always new")
	require.Len(t, second.Wanted.Extensions, 3)
	assert.Equal(t, first.Wanted.Extensions[1].Value, second.Wanted.Extensions[1].Value)

	again.Set(Organisation, "Tarnholm Harbour Authority")
	again.Set(CommonName, "")
	assert.Equal(t, []Field{{Country, "NO"}, {Organisation, "Tarnholm Harbour Authority"},
		{Email, "harbour@tides.example"}},
		again.Subject)
}

func TestEncodeKey(t *testing.T) {
	key, err := NewKey(P256, rand.Reader)
	require.NoError(t, err)
	plain, err := EncodeKey(key, nil)
	require.NoError(t, err)
	block, _ := pem.Decode(plain)
	read, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	require.NoError(t, err)
	assert.Equal(t, key, read)
	locked, err := EncodeKey(key, []byte("Lodestar 7"))
	require.NoError(t, err)
	block, _ = pem.Decode(locked)
	assert.Equal(t, "ENCRYPTED PRIVATE KEY", block.Type)
	_, err = pkcs8.ParsePKCS8PrivateKey(block.Bytes, []byte("wrong"))
	require.Error(t, err)
	read, err = pkcs8.ParsePKCS8PrivateKey(block.Bytes, []byte("Lodestar 7"))
	require.NoError(t, err)
	assert.Equal(t, key, read)
}

const plan = `defaults:
  key: ec-p384
  subject: {country: NO, organisation: Tarnholm Harbour Authority}
requests:
  - names: [quay.example, www.quay.example]
  - names: [crane.example]
    key: rsa-3072
    file: crane
    subject: {organisation: Cranes}
`

func TestPlan(t *testing.T) {
	list, err := ParsePlan("plan.yaml", []byte(plan))
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []Field{{Country, "NO"}, {Organisation, "Tarnholm Harbour Authority"},
		{CommonName, "quay.example"}},
		list[0].Subject)
	assert.Equal(t, P384, list[0].Key)
	assert.Equal(t, []Field{{Country, "NO"}, {Organisation, "Cranes"}, {CommonName, "crane.example"}}, list[1].Subject)
	assert.Equal(t, RSA3072, list[1].Key)
	assert.Equal(t, "crane", list[1].File)
	for text, complaint := range map[string]string{
		"requests: []":                                             "no requests",
		"requests:\n  - name: [a.example]":                         `plan.yaml:2: the key "name" is not known`,
		"requests:\n  - names: [a b]\n  - names: [c d]":            "request 2",
		"defaults: {names: [a]}\nrequests: [{names: [a.example]}]": "belong to each request",
		"requests: [{names: [a.example], key: dsa}]":               "a key is",
		"secret": "",
	} {
		_, err := ParsePlan("plan.yaml", []byte(text))
		require.ErrorContains(t, err, complaint, text)
	}
}

func FuzzPlan(f *testing.F) {
	f.Add([]byte(plan))
	f.Add([]byte("requests: [{names: [a.example, '*.b.example', '::1'], key: ed25519}]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		list, err := ParsePlan("plan", data)
		if err != nil {
			return
		}
		for i := range list {
			again := list[i].Wish
			require.NoError(t, again.Settle(), "what was settled is settled")
			assert.Equal(t, list[i].Wish, again)
		}
	})
}
