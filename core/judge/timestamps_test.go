package judge_test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/trust"
)

// promised is a signed certificate timestamp of version 1, signed by nobody (RFC 6962, 3.2).
func promised(at time.Time) []byte {
	out := append([]byte{0}, make([]byte, 32)...)
	out = binary.BigEndian.AppendUint64(out, uint64(at.UnixMilli()))
	return append(out, 0, 0, 4, 3, 0, 2, 0x30, 0)
}

// listed is the value of an extension with one timestamp (RFC 6962, 3.3).
func listed(t *testing.T, one []byte) []byte {
	inner := binary.BigEndian.AppendUint16(nil, uint16(len(one)))
	inner = append(inner, one...)
	value, err := asn1.Marshal(append(binary.BigEndian.AppendUint16(nil, uint16(len(inner))), inner...))
	require.NoError(t, err)
	return value
}

// TestTimestamps: below a root that the distribution ships, a leaf needs one, however it comes.
func TestTimestamps(t *testing.T) {
	s := newScene(t)
	at := now.AddDate(0, 0, -20)
	plain := s.leaf(s.lower, nil)
	inside := s.leaf(s.lower, func(w *forge.Template) {
		w.Extra = []forge.Extension{{ID: []int{1, 3, 6, 1, 4, 1, 11129, 2, 4, 2}, Value: listed(t, promised(at))}}
	})
	std := func(der []byte) *x509.Certificate {
		c, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return c
	}
	staple, err := ocsp.CreateResponse(std(s.lower.DER), std(s.lower.DER), ocsp.Response{Status: ocsp.Good,
		SerialNumber: std(plain).SerialNumber, ThisUpdate: now.Add(-time.Hour), NextUpdate: now.AddDate(0, 0, 3),
		ExtraExtensions: []pkix.Extension{{Id: asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11129, 2, 4, 5},
			Value: listed(t, promised(at))}}}, s.lower.Key)
	require.NoError(t, err)
	tests := map[string]struct {
		leaf   []byte
		change func(*facts.Observation)
		from   string
	}{
		"none":               {plain, func(*facts.Observation) {}, ""},
		"in the certificate": {inside, func(*facts.Observation) {}, "certificate"},
		"in the handshake": {plain, func(o *facts.Observation) { o.Timestamps = [][]byte{promised(at)} },
			"handshake"},
		"in the stapled response": {plain, func(o *facts.Observation) { o.Staple = staple }, "ocsp-response"},
		"what is none":            {plain, func(o *facts.Observation) { o.Timestamps = [][]byte{[]byte("seen")} }, ""},
	}
	for name, tt := range tests {
		o := served("1.2,1.3", tt.leaf, s.lower.DER, s.upper.DER)
		tt.change(&o)
		c := s.context()
		for _, shipped := range []bool{true, false} {
			c.Trust = []*trust.Store{trust.New("system", []trust.Anchor{{Certificate: s.parse(s.root.DER),
				Kind: trust.Public, Shipped: shipped}})}
			j := judge.Endpoint(observed(o), c)
			if tt.from == "" && shipped {
				assert.Equal(t, []string{"trust.timestamps-missing risk"}, codesOnly(j), name)
			} else {
				assert.Empty(t, codesOnly(j), name)
			}
			if tt.from == "" {
				assert.Empty(t, j.Shown[0].Timestamps, name)
			} else if assert.Len(t, j.Shown[0].Timestamps, 1, name) {
				assert.Equal(t, tt.from, j.Shown[0].Timestamps[0].From, name)
				assert.True(t, at.Equal(j.Shown[0].Timestamps[0].At), name)
			}
		}
	}
}

func codesOnly(j judge.Judgement) []string {
	var out []string
	for _, f := range j.Findings {
		out = append(out, f.Code+" "+string(f.Severity))
	}
	return out
}
