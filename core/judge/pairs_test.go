package judge_test

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
)

// materials makes material for pairing: keys by name, and certificates for them.
type materials struct {
	*scene
	keys map[string]crypto.Signer
}

func newMaterials(t *testing.T) *materials {
	return &materials{newScene(t), map[string]crypto.Signer{}}
}

func (m *materials) signer(name string) crypto.Signer {
	if m.keys[name] == nil {
		m.keys[name] = m.scene.key()
	}
	return m.keys[name]
}

func (m *materials) spki(name string) []byte {
	spki, err := forge.PublicInfo(m.signer(name))
	require.NoError(m.t, err)
	return spki
}

// cert is a certificate for the name over the key, issued so many days ago.
func (m *materials) cert(name, key string, days int) facts.Item {
	der, err := forge.Issue(m.root, nil, forge.Template{Name: name, Names: []string{name}, SPKI: m.spki(key),
		From: now.AddDate(0, 0, -days), Until: now.AddDate(0, 0, 199-days)})
	require.NoError(m.t, err)
	return facts.Item{Kind: facts.Certificate, DER: der}
}

func (m *materials) key(name string) facts.Item {
	return facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{SPKI: m.spki(name), Type: "EC P-256",
		Structure: "PKCS#8"}}
}

func (m *materials) request(name, key string) facts.Item {
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{name}},
		m.signer(key))
	require.NoError(m.t, err)
	return facts.Item{Kind: facts.Request, DER: der}
}

func inStore(items ...facts.Item) []facts.Item {
	for i := range items {
		items[i].Container, items[i].Alias = "PKCS#12", "one"
	}
	return items
}

func at(path string, items ...facts.Item) facts.File {
	return facts.File{Schema: facts.Schema, Path: path, Items: items}
}

func accessible(f facts.File, a facts.Access) facts.File {
	f.Access = &a
	return f
}

func TestPairs(t *testing.T) {
	m := newMaterials(t)
	locked := facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{Structure: "PKCS#8", Encrypted: true,
		Locked: facts.NoPassword}}
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	m.keys["rsa"] = rsaKey
	type found = map[string][]string
	tests := []struct {
		name  string
		files []facts.File
		want  found // by path; files without findings are left out
	}{
		{"a tidy set", []facts.File{at("/a/tides.key", m.key("a")), at("/a/tides.crt", m.cert("tides", "a", 20)),
			at("/a/tides.csr", m.request("tides", "a"))}, found{}},
		{"same name, other key", []facts.File{at("/a/tides.key", m.key("b")),
			at("/a/tides.crt", m.cert("tides", "a", 20))},
			found{"/a/tides.key": {"pair.key-mismatch fault tides.crt"}}},
		{"words for the role do not count", []facts.File{at("/a/tides-privkey.pem", m.key("b")),
			at("/a/tides-fullchain.pem", m.cert("tides", "a", 20))},
			found{"/a/tides-privkey.pem": {"pair.key-mismatch fault tides-fullchain.pem"}}},
		{"a nameless key beside the only certificate", []facts.File{at("/a/server.key", m.key("b")),
			at("/a/tides.crt", m.cert("tides", "a", 20))},
			found{"/a/server.key": {"pair.key-mismatch fault tides.crt"}}},
		{"other names are other sets", []facts.File{at("/a/pilots.key", m.key("b")),
			at("/a/tides.crt", m.cert("tides", "a", 20))},
			found{"/a/pilots.key": {"pair.no-certificate note"}, "/a/tides.crt": {"pair.no-key note"}}},
		{"the key lies elsewhere", []facts.File{at("/a/tides.crt", m.cert("tides", "a", 20)),
			at("/b/any.key", m.key("a"))}, found{}},
		{"no key is missed where no keys lie", []facts.File{at("/a/tides.crt", m.cert("tides", "a", 20))}, found{}},
		{"the locked key may be the one", []facts.File{at("/a/tides.crt", m.cert("tides", "a", 20)),
			at("/a/x.key", locked)}, found{"/a/x.key": {"file.locked note file"}}},
		{"authorities have their keys elsewhere", []facts.File{at("/a/root.crt",
			facts.Item{Kind: facts.Certificate, DER: m.root.DER}), at("/a/tides.key", m.key("a")),
			at("/a/tides.crt", m.cert("tides", "a", 20))}, found{}},
		{"a request with its key waits", []facts.File{at("/a/tides.key", m.key("a")),
			at("/a/tides.csr", m.request("tides", "a"))}, found{"/a/tides.csr": {"pair.request-waiting note"}}},
		{"a request alone waits too", []facts.File{at("/a/tides.csr", m.request("tides", "a"))},
			found{"/a/tides.csr": {"pair.request-waiting note"}}},
		{"last year's set, in both of its files", []facts.File{at("/a/old.key", m.key("a")),
			at("/a/old.crt", m.cert("tides", "a", 120)), at("/a/new.key", m.key("b")),
			at("/a/new.crt", m.cert("tides", "b", 5))},
			found{"/a/old.crt": {"pair.old-set note"}}},
		{"a new certificate on the old key", []facts.File{at("/a/tides.key", m.key("a")),
			at("/a/1.crt", m.cert("tides", "a", 120)), at("/a/2.crt", m.cert("tides", "a", 5))},
			found{"/a/1.crt": {"pair.old-set note"}, "/a/2.crt": {"pair.key-reused note"}}},
		{"two requests on one key", []facts.File{at("/a/1.csr", m.request("tides", "a")),
			at("/a/2.csr", m.request("ebb", "a"))},
			found{"/a/1.csr": {"pair.key-reused note", "pair.request-waiting note"},
				"/a/2.csr": {"pair.key-reused note", "pair.request-waiting note"}}},
		{"one that is not yet in force supersedes nothing",
			[]facts.File{at("/a/old.crt", m.cert("tides", "a", 120)), at("/a/new.crt", m.cert("tides", "b", -5))},
			found{}},
		{"two kinds of key stand side by side", []facts.File{at("/a/ec.crt", m.cert("tides", "a", 120)),
			at("/a/rsa.crt", m.cert("tides", "rsa", 5))}, found{}},
		{"copies behind closed doors", []facts.File{at("/a/tides.key", m.key("a")), at("/b/tides.key", m.key("a")),
			at("/a/tides.crt", m.cert("tides", "a", 20))}, found{"/a/tides.key": {"pair.duplicate note"}}},
		{"a copy where everyone sees it", []facts.File{at("/a/tides.key", m.key("a")),
			accessible(at("/b/tides.key", m.key("a")), facts.Access{Mode: 0o600, Listed: true, Inode: 2}),
			at("/a/tides.crt", m.cert("tides", "a", 20))},
			found{"/a/tides.key": {"pair.duplicate risk"}}},
		{"two paths to one file", []facts.File{accessible(at("/a/tides.key", m.key("a")),
			facts.Access{Mode: 0o600, Device: 1, Inode: 7}),
			accessible(at("/b/link.key", m.key("a")), facts.Access{Mode: 0o600, Device: 1, Inode: 7}),
			at("/a/tides.crt", m.cert("tides", "a", 20))}, found{}},
		{"the keystore is another one's", []facts.File{at("/a/tides.key", m.key("a")),
			at("/a/tides.crt", m.cert("tides", "a", 5)),
			at("/a/tides.p12", inStore(m.key("b"), m.cert("tides", "b", 120))...)},
			found{"/a/tides.p12": {"pair.stores-disagree fault tides.key"}}},
		{"the keystore agrees", []facts.File{at("/a/tides.key", m.key("a")), at("/a/tides.p12", inStore(m.key("a"))...),
			at("/a/tides.csr", m.request("tides", "a")), at("/a/tides.crt", m.cert("tides", "a", 5))},
			found{"/a/tides.key": {"pair.duplicate note"}}},
	}
	linked := func(link string, items ...facts.Item) []facts.Item {
		for i := range items {
			items[i].Container, items[i].Link, items[i].Alias = "JKS", link, link
		}
		return items
	}
	ca := func(key string) facts.Item {
		der, err := forge.Issue(m.root, nil, forge.Template{Name: "Inner", CA: true, SPKI: m.spki(key),
			From: now.AddDate(0, 0, -20), Until: now.AddDate(5, 0, 0)})
		require.NoError(t, err)
		return facts.Item{Kind: facts.Certificate, DER: der}
	}
	version1 := map[forge.Part][]byte{forge.Version: nil, forge.Extensions: nil}
	old := func(key string) facts.Item { // signed by itself
		der, err := forge.Issue(nil, m.signer(key), forge.Template{Name: "old", SPKI: m.spki(key), Instead: version1,
			From: now.AddDate(0, 0, -20), Until: now.AddDate(5, 0, 0)})
		require.NoError(t, err)
		return facts.Item{Kind: facts.Certificate, DER: der}
	}
	tests = append(tests, []struct {
		name  string
		files []facts.File
		want  found
	}{
		{"the same number", []facts.File{at("/a/harbour-key2.pem", m.key("b")),
			at("/a/harbour-cert2.pem", m.cert("tides", "a", 20))},
			found{"/a/harbour-key2.pem": {"pair.key-mismatch fault harbour-cert2.pem"}}},
		{"other numbers are other sets", []facts.File{at("/a/key1.pem", m.key("a")), at("/a/key2.pem", m.key("b")),
			at("/a/cert1.pem", m.cert("tides", "a", 20)), at("/a/cert2.pem", m.cert("pilots", "b", 20))}, found{}},
		{"in the place of the leaf is a CA", []facts.File{at("/a/server.key", m.key("b")),
			at("/a/server.crt", ca("a"))},
			found{"/a/server.key": {"pair.key-mismatch fault server.crt"}}},
		{"version 1", []facts.File{at("/a/server.key", m.key("b")), at("/a/server.crt", old("a"))},
			found{"/a/server.key": {"pair.key-mismatch fault server.crt"}}},
		{"the key of a CA", []facts.File{at("/a/harbour.key", m.key("a")), at("/a/harbour.crt", ca("a"))}, found{}},
		{"a chain file is meant for CAs", []facts.File{at("/a/tides.key", m.key("b")),
			at("/a/tides-chain.crt", ca("a"))},
			found{"/a/tides.key": {"pair.no-certificate note"}}},
		{"an entry of a keystore that does not fit", []facts.File{at("/a/s.jks", append(linked("one", m.key("b"),
			m.cert("tides", "a", 20)), linked("two", m.key("c"), m.cert("pilots", "c", 20))...)...)},
			found{"/a/s.jks": {"pair.key-mismatch fault /a/s.jks (one)"}}},
		{"the only key of a store that links nothing", []facts.File{at("/a/s.p12", linked("", m.key("b"),
			m.cert("tides", "a", 20))...)}, found{"/a/s.p12": {"pair.key-mismatch fault /a/s.p12"}}},
		{"a store whose name is shared by key and chain", []facts.File{at("/a/s.p12", linked("tides", m.key("a"),
			ca("c"), m.cert("tides", "a", 20))...)}, found{}},
		{"a store of several keys that links nothing", []facts.File{at("/a/s.p12", linked("", m.key("b"), m.key("a"),
			m.cert("tides", "a", 20))...)}, found{"/a/s.p12": {"pair.no-certificate note"}}},
	}...)
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			judgements, _ := judge.Files(tt.files, judge.Context{Policy: m.policy, At: now, Material: true})
			got := found{}
			for _, j := range judgements {
				if list := codes(j); len(list) > 0 {
					got[j.Target] = list
				}
			}
			assert.Equal(t, tt.want, got)
		})
	}
	t.Run("a mismatch says where the right ones are", func(t *testing.T) {
		files := []facts.File{at("/a/tides.key", m.key("b")), at("/a/tides.crt", m.cert("tides", "a", 20)),
			at("/b/lost.key", m.key("a")), at("/c/pilots.crt", m.cert("pilots", "b", 20))}
		judgements, _ := judge.Files(files, judge.Context{Policy: m.policy, At: now, Material: true})
		f := judgements[0].Findings[0]
		assert.Contains(t, f.Message, "The key of the certificate is in /b/lost.key.")
		assert.Contains(t, f.Message, "The key belongs to the certificate in /c/pilots.crt.")
		assert.Equal(t, []string{"/b/lost.key", "/c/pilots.crt"}, f.Evidence.Paths)
	})
	t.Run("an old set says which one is newer", func(t *testing.T) {
		files := []facts.File{at("/a/old.crt", m.cert("tides", "a", 120)), at("/a/new.crt", m.cert("tides", "b", 5))}
		judgements, _ := judge.Files(files, judge.Context{Policy: m.policy, At: now, Material: true})
		assert.Contains(t, judgements[0].Findings[0].Message,
			now.Add(-5*24*time.Hour).Format("2006-01-02")+" by the one in /a/new.crt")
	})
}

// TestManyOfTheSame: thousands of certificates for one name on one key, with as
// many copies of the key, are judged in bounded time and words.
func TestManyOfTheSame(t *testing.T) {
	m := newMaterials(t)
	const count = 3000
	var files []facts.File
	for i := range count {
		path := fmt.Sprintf("/a/%04d", i)
		files = append(files, at(path+".crt", m.cert("tides", "a", 1+i%190)), at(path+".key", m.key("a")))
	}
	judgements, result := judge.Files(files, judge.Context{Policy: m.policy, At: now, Material: true})
	require.Len(t, result.Successions, 1)
	assert.Len(t, result.Successions[0].Steps, count)
	paths, longest := 0, 0
	for _, j := range judgements {
		for _, f := range j.Findings {
			paths += len(f.Evidence.Paths)
			longest = max(longest, len(f.Message))
		}
	}
	assert.Less(t, paths, 50*count, "each finding names some paths, not all")
	assert.Less(t, longest, 1000)
}
