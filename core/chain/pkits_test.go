package chain_test

import (
	"archive/zip"
	"crypto/x509"
	"encoding/asn1"
	"encoding/json"
	"io"
	"math/big"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"nurvik/core/chain"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// vector is one case of the NIST PKI path validation suite.
type vector struct {
	Name                        string
	CertPath                    []string // the anchor first
	CRLPath                     []string
	ShouldValidate              bool
	InitialPolicySet            []string
	InitialPolicyMappingInhibit bool
	InitialExplicitPolicy       bool
	InitialAnyPolicyInhibit     bool
}

var policyNames = map[string]pki.OID{
	"anyPolicy": pki.AnyPolicy, "NIST-test-policy-1": "2.16.840.1.101.3.2.1.48.1",
	"NIST-test-policy-2": "2.16.840.1.101.3.2.1.48.2",
	"NIST-test-policy-3": "2.16.840.1.101.3.2.1.48.3", "NIST-test-policy-4": "2.16.840.1.101.3.2.1.48.4",
	"NIST-test-policy-5": "2.16.840.1.101.3.2.1.48.5",
	"NIST-test-policy-6": "2.16.840.1.101.3.2.1.48.6",
}

func readSuite(t *testing.T) (vectors []vector, certificates map[string]*pki.Certificate,
	lists map[string]*pki.RevocationList) {
	t.Helper()
	text, err := os.ReadFile("testdata/vectors.json")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &vectors))
	certificates, lists = map[string]*pki.Certificate{}, map[string]*pki.RevocationList{}
	unpack(t, "testdata/pkits-certs.zip", func(name string, der []byte) { certificates[name] = parse(t, der) })
	unpack(t, "testdata/pkits-crls.zip", func(name string, der []byte) {
		lists[name], err = pki.ParseRevocationList(der)
		require.NoError(t, err, name)
		agree(t, name, der, lists[name])
	})
	return vectors, certificates, lists
}

func unpack(t *testing.T, path string, each func(name string, der []byte)) {
	t.Helper()
	archive, err := zip.OpenReader(path)
	require.NoError(t, err)
	defer archive.Close()
	for _, f := range archive.File {
		stream, err := f.Open()
		require.NoError(t, err)
		der, err := io.ReadAll(stream)
		require.NoError(t, err)
		each(f.Name, der)
	}
}

// agree compares our reading of a list with the standard library's, where that reads it.
func agree(t *testing.T, name string, der []byte, l *pki.RevocationList) {
	t.Helper()
	std, err := x509.ParseRevocationList(der)
	if err != nil {
		return
	}
	assert.Equal(t, std.RawIssuer, l.Issuer.Raw, name)
	assert.True(t, std.NextUpdate.Equal(l.NextUpdate), name)
	require.Len(t, l.Revoked, len(std.RevokedCertificateEntries), name)
	for i, entry := range std.RevokedCertificateEntries {
		var serial *big.Int
		_, err := asn1.Unmarshal(append([]byte{2, byte(len(l.Revoked[i].Serial))}, l.Revoked[i].Serial...), &serial)
		require.NoError(t, err, name)
		assert.Zero(t, entry.SerialNumber.Cmp(serial), name)
		assert.Equal(t, entry.ReasonCode, int(l.Revoked[i].Reason), name)
		assert.True(t, entry.RevocationTime.Equal(l.Revoked[i].At), name)
	}
}

// policyWords writes policies as the table does.
func policyWords(policies []pki.OID) string {
	var out []string
	for _, p := range policies {
		if p == pki.AnyPolicy {
			out = append(out, "any")
		} else {
			out = append(out, strings.TrimPrefix(string(p), "2.16.840.1.101.3.2.1.48."))
		}
	}
	return strings.Join(out, " ")
}

// TestPathSuite runs the suite through the search, as of its own time.
func TestPathSuite(t *testing.T) {
	vectors, certificates, lists := readSuite(t)
	require.Len(t, vectors, 249)
	require.Len(t, certificates, 405)
	require.Len(t, lists, 173)
	text, err := os.ReadFile("testdata/pkits-policies.yaml")
	require.NoError(t, err)
	var sets map[string]string
	require.NoError(t, yaml.Unmarshal(text, &sets))
	met := 0
	wanted := func(v vector) string {
		if set, listed := sets[v.Name]; listed {
			met++
			return set
		}
		return "1"
	}
	defer func() { assert.Equal(t, len(sets), met, "every set of the table was compared") }()
	at := time.Date(2005, 6, 1, 0, 0, 0, 0, time.UTC)
	for _, v := range vectors {
		t.Run(v.Name, func(t *testing.T) {
			var path []*pki.Certificate
			for _, name := range v.CertPath {
				require.NotNil(t, certificates[name], name)
				path = append(path, certificates[name])
			}
			var accepted []pki.OID
			for _, name := range v.InitialPolicySet {
				require.NotEmpty(t, policyNames[name], name)
				accepted = append(accepted, policyNames[name])
			}
			verifier, given, store := new(chain.Verifier), chain.NewPool(path[1:]),
				trust.New("suite", []trust.Anchor{{Certificate: path[0]}})
			best, ended := verifier.Search(chain.Query{
				Leaf: path[len(path)-1], Given: given, Store: store, At: at,
				Policies: chain.PolicyInputs{Accepted: accepted, Explicit: v.InitialExplicitPolicy,
					InhibitMapping: v.InitialPolicyMappingInhibit, InhibitAny: v.InitialAnyPolicyInhibit},
			})
			assert.Empty(t, ended)
			revocation := chain.Lists{Verifier: verifier, Given: given, Store: store, At: at}
			for _, name := range v.CRLPath {
				require.NotNil(t, lists[name], name)
				revocation.Lists = append(revocation.Lists, lists[name])
			}
			valid, words := best.Valid() && best.OutOfDate == 0, []string{}
			for i, c := range best.Certificates[:len(best.Certificates)-1] {
				listing := revocation.Of(c, best.Certificates[i+1])
				valid = valid && listing.Good()
				words = append(words, listing.Problems...)
			}
			assert.Equal(t, v.ShouldValidate, valid, "%v %v", best.Failures, words)
			if valid {
				assert.Equal(t, wanted(v), policyWords(best.Policies), "the user-constrained policy set")
			}
		})
	}
}
