package chain_test

import (
	"archive/zip"
	"encoding/json"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/chain"
	"nurvik/core/pki"
	"nurvik/core/trust"
)

// vector is one case of the NIST PKI path validation suite.
type vector struct {
	Name                        string
	CertPath                    []string // the anchor first
	ShouldValidate              bool
	InitialPolicySet            []string
	InitialPolicyMappingInhibit bool
	InitialExplicitPolicy       bool
	InitialAnyPolicyInhibit     bool
}

// byLists are the cases that fail only by what revocation lists say, which are
// not processed yet: sections 4.4, 4.14 and 4.15, authorities that may not sign
// lists, and self-issued certificates of which one is revoked.
func byLists(name string) bool {
	for _, section := range []string{"4.4.", "4.14.", "4.15.", "4.7.4 ", "4.7.5 ", "4.5.2 ", "4.5.5 ", "4.5.7 "} {
		if strings.HasPrefix(name, section) {
			return true
		}
	}
	return false
}

var policyNames = map[string]pki.OID{
	"anyPolicy": pki.AnyPolicy, "NIST-test-policy-1": "2.16.840.1.101.3.2.1.48.1", "NIST-test-policy-2": "2.16.840.1.101.3.2.1.48.2",
	"NIST-test-policy-3": "2.16.840.1.101.3.2.1.48.3", "NIST-test-policy-4": "2.16.840.1.101.3.2.1.48.4", "NIST-test-policy-5": "2.16.840.1.101.3.2.1.48.5",
	"NIST-test-policy-6": "2.16.840.1.101.3.2.1.48.6",
}

func readSuite(t *testing.T) (vectors []vector, certificates map[string]*pki.Certificate) {
	t.Helper()
	text, err := os.ReadFile("testdata/vectors.json")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &vectors))
	archive, err := zip.OpenReader("testdata/pkits-certs.zip")
	require.NoError(t, err)
	defer archive.Close()
	certificates = map[string]*pki.Certificate{}
	for _, f := range archive.File {
		stream, err := f.Open()
		require.NoError(t, err)
		der, err := io.ReadAll(stream)
		require.NoError(t, err)
		certificates[f.Name] = parse(t, der)
	}
	return vectors, certificates
}

// TestPathSuite runs the suite through the search, as of its own time.
func TestPathSuite(t *testing.T) {
	vectors, certificates := readSuite(t)
	require.Len(t, vectors, 249)
	require.Len(t, certificates, 405)
	judged := 0
	for _, v := range vectors {
		if byLists(v.Name) && !v.ShouldValidate {
			continue
		}
		judged++
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
			best, gaveUp := new(chain.Verifier).Search(chain.Query{
				Leaf: path[len(path)-1], Given: chain.NewPool(path[1:]), Store: trust.New("suite", []trust.Anchor{{Certificate: path[0]}}), At: time.Date(2005, 6, 1, 0, 0, 0, 0, time.UTC),
				Policies: chain.PolicyInputs{Accepted: accepted, Explicit: v.InitialExplicitPolicy, InhibitMapping: v.InitialPolicyMappingInhibit, InhibitAny: v.InitialAnyPolicyInhibit},
			})
			assert.False(t, gaveUp)
			assert.Equal(t, v.ShouldValidate, best.Valid() && best.OutOfDate == 0, "%v", best.Failures)
		})
	}
	assert.Equal(t, 203, judged)
}
