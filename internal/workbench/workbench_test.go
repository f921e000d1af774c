package workbench_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/forge"
	"nurvik/internal/workbench"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// chained is a leaf below an intermediate below a root, with the leaf's key.
type chained struct {
	key               *ecdsa.PrivateKey
	root, middle      *forge.Authority
	leaf, private     []byte
	leafPEM, chainPEM string
}

func newChain(t *testing.T) chained {
	t.Helper()
	var c chained
	span := forge.Template{Name: "Root", From: now.AddDate(-1, 0, 0), Until: now.AddDate(1, 0, 0)}
	newKey := func() *ecdsa.PrivateKey {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return key
	}
	var err error
	c.root, err = forge.NewAuthority(nil, newKey(), forge.ECDSASHA256, span)
	require.NoError(t, err)
	span.Name = "Middle"
	c.middle, err = forge.NewAuthority(c.root, newKey(), forge.ECDSASHA256, span)
	require.NoError(t, err)
	c.key = newKey()
	span.Name, span.Names = "*.tarnholm.example", []string{"*.tarnholm.example"}
	span.SPKI, err = forge.PublicInfo(c.key)
	require.NoError(t, err)
	c.leaf, err = forge.Issue(c.middle, nil, span)
	require.NoError(t, err)
	c.private, err = x509.MarshalECPrivateKey(c.key)
	require.NoError(t, err)
	c.leafPEM = block("CERTIFICATE", c.leaf)
	c.chainPEM = block("CERTIFICATE", c.root.DER) + block("CERTIFICATE", c.middle.DER)
	return c
}

func block(label string, der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der}))
}

func input(name, text string) workbench.Input {
	return workbench.Input{Name: name, Data: []byte(text)}
}

func sort(t *testing.T, passwords []string, inputs ...workbench.Input) *workbench.Result {
	t.Helper()
	r, err := workbench.Sort(inputs, passwords, now)
	require.NoError(t, err)
	return r
}

func partsOf(r *workbench.Result) map[string]workbench.Part {
	out := map[string]workbench.Part{}
	for _, p := range r.Parts {
		out[p.What] = p
	}
	return out
}

// TestPartsAreWhatServersLoad drops a mail with everything in it, in the wrong
// order and spoilt, and loads the parts as a server would.
func TestPartsAreWhatServersLoad(t *testing.T) {
	c := newChain(t)
	mail := "Dear office,\r\n" + strings.ReplaceAll(c.chainPEM+strings.ReplaceAll(c.leafPEM, "-----",
		"—–-")+block("EC PRIVATE KEY", c.private), "\n", "\r\n")
	r := sort(t, nil, input("mail.txt", mail), input("poem.txt", "no material"))
	require.Len(t, r.Files, 1)
	assert.Len(t, r.Files[0].Entries, 4)
	assert.Equal(t, "*.tarnholm.example", r.Files[0].Entries[3].Label, "the key is told by whose it is")
	require.Len(t, r.Files[0].Findings, 1)
	assert.Equal(t, "file.typographic-dashes", r.Files[0].Findings[0].Code)
	assert.NotEmpty(t, r.Files[0].Findings[0].Why)
	require.Len(t, r.Unread, 1)
	assert.Equal(t, "poem.txt", r.Unread[0].Name)

	parts := partsOf(r)
	assert.Equal(t, "_.tarnholm.example.crt", parts["leaf"].Name)
	assert.Equal(t, c.leafPEM, parts["leaf"].PEM)
	assert.Equal(t, c.leafPEM+block("CERTIFICATE", c.middle.DER), parts["bundle"].PEM, "in order, without the root")
	assert.Empty(t, parts["bundle"].Note)
	pair, err := tls.X509KeyPair([]byte(parts["bundle"].PEM), []byte(parts["key"].PEM))
	require.NoError(t, err)
	assert.Len(t, pair.Certificate, 2)
	for _, p := range r.Parts {
		assert.Equal(t, r.Groups[0].SPKI, p.SPKI, "parts belong to the group of the key")
	}
	text, err := json.Marshal(r)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(text), "PRIVATE KEY-----\\n"+parts["key"].PEM[31:60]),
		"the key is in its part and nowhere else")
}

func TestKeystoreIsTakenApart(t *testing.T) {
	c := newChain(t)
	leaf, err := x509.ParseCertificate(c.leaf)
	require.NoError(t, err)
	store, err := pkcs12.Modern.WithIterations(1000).Encode(c.key, leaf, nil, "Lodestar 7")
	require.NoError(t, err)
	locked := sort(t, nil, workbench.Input{Name: "store.p12", Data: store})
	require.Len(t, locked.Files, 1)
	assert.True(t, locked.Files[0].Locked)
	assert.Empty(t, locked.Parts)
	wrong := sort(t, []string{"nope"}, workbench.Input{Name: "store.p12", Data: store})
	assert.True(t, wrong.Files[0].Locked, "another password may be tried")

	r := sort(t, []string{"Lodestar 7"}, workbench.Input{Name: "store.p12", Data: store})
	assert.False(t, r.Files[0].Locked)
	parts := partsOf(r)
	_, err = tls.X509KeyPair([]byte(parts["leaf"].PEM), []byte(parts["key"].PEM))
	require.NoError(t, err)
	assert.Contains(t, parts["key"].Note, "It was encrypted where it came from")
	assert.Contains(t, parts["bundle"].Note, `"Middle" is not among what was read`)
}

func TestRequestsAndNamesOfParts(t *testing.T) {
	c, d := newChain(t), newChain(t)
	request, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{DNSNames: []string{"pilots/../x"}}, c.key)
	require.NoError(t, err)
	r := sort(t, nil, input("a", c.leafPEM), input("b", d.leafPEM),
		input("c", block("NEW CERTIFICATE REQUEST", request)))
	var names []string
	for _, p := range r.Parts {
		names = append(names, p.Name)
		assert.NotContains(t, p.Name, "/")
	}
	assert.Equal(t, []string{"_.tarnholm.example.crt", "_.tarnholm.example-bundle.pem", "_.tarnholm.example-2.crt",
		"_.tarnholm.example-2-bundle.pem", "pilots-..-x.csr"}, names)
	assert.True(t, strings.HasPrefix(partsOf(r)["request"].PEM, "-----BEGIN CERTIFICATE REQUEST-----"),
		"cleaned to the usual label")
}
