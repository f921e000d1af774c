package keystore_test

import (
	"archive/zip"
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	java "github.com/pavlo-v-chernykh/keystore-go/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/youmark/pkcs8"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/forge"
	"nurvik/core/keystore"
	"nurvik/core/pbe"
	"nurvik/core/pki"
)

const password = "Lodestar 7ø"

// pair is a key with its certificate.
type pair struct {
	key   crypto.Signer
	pkcs8 []byte
	leaf  *x509.Certificate
}

func newPair(t testing.TB, name string) pair {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(nil, key, forge.Template{Name: name, SPKI: spki, From: time.Unix(1.7e9, 0),
		Until: time.Unix(1.8e9, 0)})
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	p8, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return pair{key, p8, leaf}
}

func with(passwords ...string) keystore.Opener {
	return keystore.Opener{Passwords: passwords, Budget: &pbe.Budget{}}
}

// TestEveryKeystoreOfThePathSuiteOpens reads real keystores: old protection, DSA keys, certificates
// that strict parsers refuse.
func TestEveryKeystoreOfThePathSuiteOpens(t *testing.T) {
	archive, err := zip.OpenReader("testdata/pkits-pkcs12.zip")
	require.NoError(t, err)
	defer archive.Close()
	assert.Len(t, archive.File, 405)
	for _, entry := range archive.File {
		t.Run(strings.TrimSuffix(entry.Name, ".p12"), func(t *testing.T) {
			stream, err := entry.Open()
			require.NoError(t, err)
			defer stream.Close()
			data, err := io.ReadAll(stream)
			require.NoError(t, err)
			store, err := keystore.ReadPKCS12(data, with("wrong", "password"))
			require.NoError(t, err)
			require.NoError(t, store.Locked)
			assert.True(t, store.Checked)
			assert.Empty(t, store.Problems)
			keys, certificates := map[pki.Fingerprint]bool{}, 0
			for _, e := range store.Entries {
				switch e.Kind {
				case keystore.PrivateKey:
					key, err := pki.ParsePKCS8(e.Key)
					require.NoError(t, err)
					assert.Empty(t, key.Problems)
					require.True(t, key.Comparable())
					keys[key.Public.Match()] = true
				case keystore.Certificate:
					c, err := pki.ParseCertificate(e.Certificates[0])
					require.NoError(t, err)
					certificates++
					if c.PublicKey.Algorithm != pki.KeyDSA { // whose parameters may be inherited
						assert.True(t, keys[c.PublicKey.Match()] || len(keys) == 0,
							"key and certificate belong together")
					}
				}
			}
			assert.Len(t, keys, 1)
			assert.Equal(t, 1, certificates)
		})
	}
}

func TestPKCS12(t *testing.T) {
	p, ca := newPair(t, "tides"), newPair(t, "issuer")
	encode := func(e *pkcs12.Encoder, word string) []byte {
		data, err := e.Encode(p.key, p.leaf, []*x509.Certificate{ca.leaf}, word)
		require.NoError(t, err)
		return data
	}
	trust, err := pkcs12.Modern.EncodeTrustStore([]*x509.Certificate{ca.leaf}, password)
	require.NoError(t, err)
	modern := encode(pkcs12.Modern, password)
	flipped := bytes.Clone(modern)
	flipped[len(flipped)-25] ^= 1 // in the integrity value
	tests := []struct {
		name    string
		data    []byte
		open    keystore.Opener
		keys    int
		others  int
		checked bool
		locked  error
	}{
		{"old, RC2 and 3DES", encode(pkcs12.LegacyRC2, password), with(password), 1, 2, true, nil},
		{"old, 3DES", encode(pkcs12.LegacyDES, password), with(password), 1, 2, true, nil},
		{"new, AES and PBKDF2", modern, with(password), 1, 2, true, nil},
		{"new, PBMAC1", encode(pkcs12.Modern2026, password), with(password), 1, 2, true, nil},
		{"several passwords are tried", modern, with("one", "two", password), 1, 2, true, nil},
		{"without protection", encode(pkcs12.Passwordless, ""), with(), 1, 2, false, nil},
		{"empty password, none given", encode(pkcs12.LegacyDES, ""), with(), 1, 2, true, nil},
		{"no password", modern, with(), 0, 0, false, keystore.ErrNoPassword},
		{"wrong password", modern, with("wrong"), 0, 0, false, pbe.ErrPassword},
		{"trust store", trust, with(password), 0, 1, true, nil},
		{"a damaged integrity value", flipped, with(password), 1, 2, false, nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			store, err := keystore.ReadPKCS12(tt.data, tt.open)
			require.NoError(t, err)
			keys, others := 0, 0
			for _, e := range store.Entries {
				if e.Kind == keystore.PrivateKey && e.Locked == nil {
					keys++
					key, err := pki.ParsePKCS8(e.Key)
					require.NoError(t, err)
					public, err := pki.ParseCertificate(p.leaf.Raw)
					require.NoError(t, err)
					assert.Equal(t, public.PublicKey.Fingerprint(), key.Public.Fingerprint())
				} else if e.Kind != keystore.PrivateKey {
					others++
				}
			}
			assert.Equal(t, tt.keys, keys)
			assert.Equal(t, tt.others, others)
			assert.Equal(t, tt.checked, store.Checked)
			assert.ErrorIs(t, store.Locked, tt.locked)
			assert.Equal(t, tt.name == "a damaged integrity value", len(store.Problems) == 1)
		})
	}
	_, err = keystore.ReadPKCS12(p.pkcs8, with(password))
	assert.ErrorIs(t, err, keystore.ErrNoStore)
}

func TestJava(t *testing.T) {
	const ascii = "lodestar 7" // the library that writes JKS here knows no other letters

	p, q, ca := newPair(t, "tides"), newPair(t, "pilots"), newPair(t, "issuer")
	jks := java.New()
	entry := func(p pair) java.PrivateKeyEntry {
		return java.PrivateKeyEntry{PrivateKey: p.pkcs8,
			CertificateChain: []java.Certificate{{Type: "X.509", Content: p.leaf.Raw},
				{Type: "X.509", Content: ca.leaf.Raw}}}
	}
	require.NoError(t, jks.SetPrivateKeyEntry("tides", entry(p), []byte(ascii)))
	require.NoError(t, jks.SetPrivateKeyEntry("pilots", entry(q), []byte("other")))
	require.NoError(t, jks.SetTrustedCertificateEntry("skerry",
		java.TrustedCertificateEntry{Certificate: java.Certificate{Type: "X.509", Content: ca.leaf.Raw}}))
	var out bytes.Buffer
	require.NoError(t, jks.Store(&out, []byte(ascii)))
	jceks, err := forge.JCEKS(ascii, forge.JCEKSEntry{Alias: "tides", PKCS8: p.pkcs8,
		Chain: [][]byte{p.leaf.Raw, ca.leaf.Raw}},
		forge.JCEKSEntry{Alias: "token", Secret: forge.JavaSecret()},
		forge.JCEKSEntry{Alias: "skerry", Chain: [][]byte{ca.leaf.Raw}})
	require.NoError(t, err)
	tests := []struct {
		name    string
		data    []byte
		open    keystore.Opener
		entries []string
		checked bool
		locked  error
	}{
		{"JKS", out.Bytes(), with(ascii, "other"), []string{"private key open", "private key open",
			"trusted certificate"}, true, nil},
		{"JKS with one of two passwords", out.Bytes(), with(ascii),
			[]string{"private key", "private key open", "trusted certificate"}, true, pbe.ErrPassword},
		{"JKS without", out.Bytes(), with(), []string{"private key", "private key", "trusted certificate"}, false,
			keystore.ErrNoPassword},
		{"JCEKS", jceks, with(ascii), []string{"private key open", "secret key", "trusted certificate"}, true, nil},
		{"JCEKS with a wrong one", jceks, with("wrong"), []string{"private key", "secret key", "trusted certificate"},
			false, pbe.ErrPassword},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			store, err := keystore.ReadJava(tt.data, tt.open)
			require.NoError(t, err)
			assert.Empty(t, store.Problems)
			var entries []string
			for _, e := range store.Entries {
				text := string(e.Kind)
				if e.Kind == keystore.PrivateKey {
					assert.Len(t, e.Certificates, 2)
					if e.Locked == nil {
						text += " open"
						_, err := x509.ParsePKCS8PrivateKey(e.Key)
						require.NoError(t, err)
					}
				}
				entries = append(entries, text)
			}
			assert.ElementsMatch(t, tt.entries, entries) // the library writes them in the order of a map
			assert.Equal(t, tt.checked, store.Checked)
			assert.ErrorIs(t, store.Locked, tt.locked)
		})
	}
	t.Run("cut off", func(t *testing.T) {
		for n := range len(jceks) - 1 {
			store, err := keystore.ReadJava(jceks[:n], with())
			if err == nil {
				assert.NotEmpty(t, store.Problems, "%d bytes", n)
			}
		}
	})
}

// TestDebiansJavaStore reads the store that Debian makes for Java.
func TestDebiansJavaStore(t *testing.T) {
	data, err := os.ReadFile("/etc/ssl/certs/java/cacerts")
	require.NoError(t, err, "the package ca-certificates-java makes it; \"make test\" installs it")
	store, err := keystore.ReadJava(data, with("changeit"))
	require.NoError(t, err)
	assert.Empty(t, store.Problems)
	assert.True(t, store.Checked)
	assert.Greater(t, len(store.Entries), 100)
	for _, e := range store.Entries {
		assert.Equal(t, keystore.Trusted, e.Kind)
		assert.NotEmpty(t, e.Alias)
		_, err := pki.ParseCertificate(e.Certificates[0])
		assert.NoError(t, err)
	}
}

func TestEncryptedPKCS8(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	pbkdf2 := pkcs8.PBKDF2Opts{SaltSize: 16, IterationCount: 2000, HMACHash: crypto.SHA256}
	tests := map[string]*pkcs8.Opts{
		"PBES2, PBKDF2 and AES-256": {Cipher: pkcs8.AES256CBC, KDFOpts: pbkdf2},
		"PBES2, PBKDF2 and AES-128": {Cipher: pkcs8.AES128CBC,
			KDFOpts: pkcs8.PBKDF2Opts{SaltSize: 8, IterationCount: 1, HMACHash: crypto.SHA1}},
		"PBES2, PBKDF2 and 3DES": {Cipher: pkcs8.TripleDESCBC, KDFOpts: pbkdf2},
		"PBES2, scrypt and AES-256": {Cipher: pkcs8.AES256CBC,
			KDFOpts: pkcs8.ScryptOpts{SaltSize: 8, CostParameter: 1 << 10, BlockSize: 8, ParallelizationParameter: 1}},
	}
	for name, o := range tests {
		t.Run(name, func(t *testing.T) {
			der, err := pkcs8.MarshalPrivateKey(key, []byte(password), o)
			require.NoError(t, err)
			plain, protection, err := with("wrong", password).PKCS8(der)
			require.NoError(t, err)
			assert.Equal(t, name, protection)
			opened, err := x509.ParsePKCS8PrivateKey(plain)
			require.NoError(t, err)
			assert.True(t, key.Equal(opened))
			_, _, err = with("wrong").PKCS8(der)
			require.ErrorIs(t, err, pbe.ErrPassword)
			_, _, err = with().PKCS8(der)
			require.ErrorIs(t, err, keystore.ErrNoPassword)
			_, _, err = with(password).PKCS8(der[:len(der)-40])
			require.ErrorIs(t, err, pbe.ErrDamaged)
		})
	}
	t.Run("too costly", func(t *testing.T) {
		der, err := pkcs8.MarshalPrivateKey(key, []byte(password),
			&pkcs8.Opts{Cipher: pkcs8.AES256CBC, KDFOpts: pkcs8.PBKDF2Opts{SaltSize: 16,
				IterationCount: pbe.MaxRounds + 1, HMACHash: crypto.SHA256}})
		require.NoError(t, err)
		_, _, err = with(password).PKCS8(der)
		assert.ErrorIs(t, err, pbe.ErrTooCostly)
	})
}

func FuzzKeystores(f *testing.F) {
	p := newPair(f, "tides")
	jceks, err := forge.JCEKS(password, forge.JCEKSEntry{Alias: "tides", PKCS8: p.pkcs8, Chain: [][]byte{p.leaf.Raw}},
		forge.JCEKSEntry{Alias: "token", Secret: forge.JavaSecret()})
	require.NoError(f, err)
	for _, e := range []*pkcs12.Encoder{pkcs12.LegacyRC2, pkcs12.Modern.WithIterations(10), pkcs12.Passwordless} {
		word := password
		if e == pkcs12.Passwordless {
			word = ""
		}
		data, err := e.Encode(p.key, p.leaf, nil, word)
		require.NoError(f, err)
		f.Add(data)
	}
	f.Add(jceks)
	f.Fuzz(func(t *testing.T, data []byte) {
		// the real one allows seconds
		o := keystore.Opener{Passwords: []string{password}, Budget: &pbe.Budget{Most: 50_000}}
		for _, read := range []func([]byte, keystore.Opener) (*keystore.Store, error){keystore.ReadPKCS12,
			keystore.ReadJava} {
			store, err := read(data, o)
			if err != nil {
				require.ErrorIs(t, err, keystore.ErrNoStore)
				continue
			}
			for _, e := range store.Entries {
				require.True(t, e.Kind != keystore.PrivateKey || e.Key != nil || e.Locked != nil)
			}
		}
		_, _, _ = o.PKCS8(data)
	})
}
