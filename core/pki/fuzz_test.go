package pki_test

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/pki"
)

// FuzzParseCertificate looks for crashes, for offsets that lie outside, and
// for disagreement with the standard library on what that one accepts.
func FuzzParseCertificate(f *testing.F) {
	f.Add(forged(f, nil))
	f.Add(forged(f, func(w *forge.Template) { w.Serial = big.NewInt(-1) }))
	f.Add(forged(f, func(w *forge.Template) { w.CA, w.Names = true, []string{"192.0.2.1", "*.tarnholm.example"} }))
	f.Add([]byte{0x30, 0x80, 0, 0})
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, der []byte) {
		c, err := pki.ParseCertificate(der)
		std, stdErr := x509.ParseCertificate(der)
		if err != nil {
			require.Error(t, stdErr, "the standard library reads what we do not: %v", err)
			return
		}
		for _, a := range c.Anomalies {
			require.True(t, a.Offset >= 0 && a.Offset <= len(der), "offset %d of %d", a.Offset, len(der))
		}
		require.True(t, bytes.HasPrefix(der, c.Raw))
		_, err = json.Marshal(c.Describe())
		require.NoError(t, err)
		_ = c.CheckSignedBy(c.PublicKey)
		if stdErr == nil {
			assert.Equal(t, std.RawSubject, c.Subject.Raw)
			assert.Zero(t, std.SerialNumber.Cmp(c.Serial))
			assert.True(t, std.NotAfter.Equal(c.NotAfter), "%v %v", std.NotAfter, c.NotAfter)
			assert.Equal(t, std.BasicConstraintsValid && std.IsCA, c.BasicConstraints != nil && c.IsCA())
		}
	})
}
