package pairing_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/pairing"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

type kit struct {
	t    *testing.T
	keys map[string]*ecdsa.PrivateKey
}

func (k *kit) key(name string) *ecdsa.PrivateKey {
	if k.keys[name] == nil {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(k.t, err)
		k.keys[name] = key
	}
	return k.keys[name]
}

func (k *kit) private(name string) facts.Item {
	spki, err := forge.PublicInfo(k.key(name))
	require.NoError(k.t, err)
	return facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{SPKI: spki, Structure: "PKCS#8"},
		Place: facts.Place{Line: 1}}
}

func (k *kit) certificate(name, key string, from time.Time, ca bool) facts.Item {
	spki, err := forge.PublicInfo(k.key(key))
	require.NoError(k.t, err)
	der, err := forge.Issue(nil, k.key(key), forge.Template{Name: name, Names: []string{name}, SPKI: spki, From: from,
		Until: from.AddDate(0, 6, 0), CA: ca})
	require.NoError(k.t, err)
	return facts.Item{Kind: facts.Certificate, DER: der, Place: facts.Place{Line: 1}}
}

func (k *kit) request(name, key string) facts.Item {
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{name}},
		k.key(key))
	require.NoError(k.t, err)
	return facts.Item{Kind: facts.Request, DER: der}
}

func file(path string, items ...facts.Item) facts.File { return facts.File{Path: path, Items: items} }

func TestStem(t *testing.T) {
	for path, want := range map[string]string{
		"/a/tides.key": "tides", "/a/tides.crt": "tides", "/a/tides.key.pem": "tides",
		"/a/tides-fullchain.pem": "tides", "/a/tides_private_key.der": "tides",
		"/a/tides.tarnholm.example.crt": "tides-tarnholm-example", "/a/TIDES.CER": "tides",
		"/a/tides-2026.crt": "tides-2026",
		"/a/privkey.pem":    "", "/a/server.key": "", "/a/cert.pem": "", "/a/server-2.key": "server-2", "/a/key": "",
	} {
		assert.Equal(t, want, pairing.Stem(path), path)
	}
}

func TestGroupsAndSuccessions(t *testing.T) {
	k := &kit{t, map[string]*ecdsa.PrivateKey{}}
	r := pairing.Pair([]facts.File{
		file("/a/old.crt", k.certificate("tides", "one", now.AddDate(0, -7, 0), false)),
		file("/a/new.crt", k.certificate("tides", "one", now.AddDate(0, -1, 0), false)),
		file("/a/tides.key", k.private("one")),
		file("/a/tides.csr", k.request("tides", "one")),
		file("/a/spare.key", k.private("two")),
		file("/a/root.crt", k.certificate("root", "three", now.AddDate(-1, 0, 0), true)),
		file("/a/lost.key", facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{Locked: facts.WrongPassword}}),
	}, nil, now)
	require.Len(t, r.Groups, 1)
	g := r.Groups[0]
	assert.Equal(t, "EC P-256", g.Key)
	require.Len(t, g.Certificates, 2)
	assert.Equal(t, "/a/new.crt", g.Certificates[0].Path, "the newest first")
	assert.True(t, g.Certificates[0].Valid)
	assert.False(t, g.Certificates[1].Valid)
	assert.Len(t, g.Keys, 1)
	assert.Len(t, g.Requests, 1)
	var left []string
	for _, m := range r.Unpaired {
		left = append(left, m.Path+": "+m.Why)
	}
	assert.ElementsMatch(t, []string{"/a/spare.key: no certificate or request has this key",
		"/a/lost.key: it is locked (wrong password), so it cannot be compared"}, left)
	require.Len(t, r.Successions, 1)
	steps := r.Successions[0].Steps
	require.Len(t, steps, 2)
	assert.Equal(t, []string{"/a/old.crt"}, steps[0].Paths)
	assert.Equal(t, []string{"/a/tides.key"}, steps[1].Keys)

	text, err := json.Marshal(r)
	require.NoError(t, err)
	var form struct {
		Groups []struct {
			SPKI         string
			Certificates []map[string]any
			Keys         []map[string]any
		}
	}
	require.NoError(t, json.Unmarshal(text, &form))
	assert.Equal(t, g.SPKI.String(), form.Groups[0].SPKI)
	assert.Equal(t, map[string]any{"kind": "private-key", "path": "/a/tides.key", "line": 1.0, "key": "EC P-256",
		"spki": form.Groups[0].Certificates[0]["spki"]},
		form.Groups[0].Keys[0])
	for _, field := range []string{"path", "sha256", "label", "names", "not_before", "not_after", "valid", "serial"} {
		assert.Contains(t, form.Groups[0].Certificates[0], field)
	}
}

func TestAsk(t *testing.T) {
	k := &kit{t, map[string]*ecdsa.PrivateKey{}}
	leaf, root := k.certificate("tides", "one", now, false), k.certificate("root", "three", now, true)
	locked := func(reason string) facts.Item {
		return facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{Locked: reason}}
	}
	tests := []struct {
		name          string
		keys, certs   facts.File
		belong, known bool
		says          string
	}{
		{"they do", file("k", k.private("one")), file("c", leaf), true, true,
			"They belong together: the certificate of tides"},
		{"one of several keys does", file("k", k.private("two"), k.private("one")), file("c", leaf), true, true,
			"They belong together"},
		{"they do not", file("k", k.private("two")), file("c", leaf), false, true,
			"both are EC P-256, but the public key in the certificate of tides is another one"},
		{"of a bundle the leaf counts", file("k", k.private("three")), file("c", leaf, root), false, true,
			"They do not belong together"},
		{"an authority alone", file("k", k.private("three")), file("c", root), true, true, "They belong together"},
		{"a request", file("k", k.private("one")), file("c", k.request("tides", "one")), true, true,
			"the request of tides"},
		{"a keystore whose integrity costs too much", file("k", k.private("one"),
			facts.Item{Kind: facts.Keystore, Locked: facts.TooCostly}), file("c", leaf), false, false,
			"more rounds than the limit allows"},
		{"the same of the certificate", file("k", k.private("one")), file("c", leaf,
			facts.Item{Kind: facts.Keystore,
				Locked: facts.TooCostly}), false, false, "more rounds than the limit allows"},
		{"no password", file("k", locked(facts.NoPassword)), file("c", leaf), false, false, "--password-file"},
		{"wrong password", file("k", locked(facts.WrongPassword)), file("c", leaf), false, false,
			"the password is wrong"},
		{"damaged", file("k", locked(facts.DamagedInside)), file("c", leaf), false, false, "it is damaged"},
		{"a key that cannot be computed", file("k", facts.Item{Kind: facts.PrivateKey,
			Key: &facts.Key{Type: "EC brainpoolP256r1"}}), file("c", leaf), false, false, "cannot be computed here"},
		{"no key", file("k", leaf), file("c", leaf), false, false, "There is no private key in k."},
		{"no certificate", file("k", k.private("one")), file("c", k.private("one")), false, false,
			"There is no certificate in c."},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			a := pairing.Ask([]facts.File{tt.keys}, []facts.File{tt.certs})
			assert.Equal(t, [2]bool{tt.belong, tt.known}, [2]bool{a.Belong, a.Known}, a.Sentence)
			assert.Contains(t, a.Sentence, tt.says)
		})
	}
}
