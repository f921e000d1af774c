package chain_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// answering is an issuer, a leaf below it, and whoever may answer about it.
type answering struct {
	authority    *forge.Authority
	issuer, leaf *pki.Certificate
	std          *x509.Certificate // the issuer
	serial       *big.Int
}

func newAnswering(t *testing.T) answering {
	t.Helper()
	a := answering{authority: authority(t, nil, forge.Template{Name: "Skerry"})}
	a.leaf, a.issuer = leaf(t, a.authority, nil), parse(t, a.authority.DER)
	var err error
	a.std, err = x509.ParseCertificate(a.authority.DER)
	require.NoError(t, err)
	a.serial = a.leaf.Serial
	return a
}

// delegate makes a responder's certificate.
func (a answering) delegate(t *testing.T, change func(*x509.Certificate)) (*x509.Certificate, crypto.Signer) {
	t.Helper()
	key := newKey(t)
	template := &x509.Certificate{SerialNumber: big.NewInt(9), Subject: pkix.Name{CommonName: "Skerry Responder"},
		NotBefore: now.AddDate(0, -1, 0), NotAfter: now.AddDate(0, 1, 0),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageOCSPSigning}}
	change(template)
	der, err := x509.CreateCertificate(rand.Reader, template, a.std, key.Public(), a.authority.Key)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c, key
}

func (a answering) response(t *testing.T, signer *x509.Certificate, key crypto.Signer,
	change func(*ocsp.Response)) []byte {
	t.Helper()
	template := ocsp.Response{Status: ocsp.Good, SerialNumber: a.serial, ThisUpdate: now.Add(-time.Hour),
		NextUpdate: now.Add(time.Hour)}
	if signer != a.std {
		template.Certificate = signer
	}
	if change != nil {
		change(&template)
	}
	der, err := ocsp.CreateResponse(a.std, signer, template, key)
	require.NoError(t, err)
	return der
}

// withNonce adds a nonce to a response and signs it again, which the library for making responses does not.
func (a answering) withNonce(t *testing.T, der, nonce []byte) []byte {
	t.Helper()
	type extension struct {
		ID    asn1.ObjectIdentifier
		Value []byte
	}
	var outer struct {
		Status asn1.Enumerated
		Bytes  struct {
			Type     asn1.ObjectIdentifier
			Response []byte
		} `asn1:"explicit,tag:0"`
	}
	var basic struct {
		Data struct {
			Raw       asn1.RawContent
			Responder asn1.RawValue
			Produced  time.Time `asn1:"generalized"`
			Responses []asn1.RawValue
			Extra     []extension `asn1:"explicit,tag:1,optional"`
		}
		Algorithm pkix.AlgorithmIdentifier
		Signature asn1.BitString
	}
	marshal := func(value any) []byte {
		out, err := asn1.Marshal(value)
		require.NoError(t, err)
		return out
	}
	_, err := asn1.Unmarshal(der, &outer)
	require.NoError(t, err)
	_, err = asn1.Unmarshal(outer.Bytes.Response, &basic)
	require.NoError(t, err)
	basic.Data.Raw = nil
	basic.Data.Extra = []extension{{asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 48, 1, 2}, marshal(nonce)}}
	digest := sha256.Sum256(marshal(basic.Data))
	signature, err := ecdsa.SignASN1(rand.Reader, a.authority.Key.(*ecdsa.PrivateKey), digest[:])
	require.NoError(t, err)
	basic.Signature = asn1.BitString{Bytes: signature, BitLength: 8 * len(signature)}
	outer.Bytes.Response = marshal(basic)
	return marshal(outer)
}

func TestStatusAnswer(t *testing.T) {
	a := newAnswering(t)
	own := a.authority.Key
	appointed, appointedKey := a.delegate(t, func(*x509.Certificate) {})
	unfit, unfitKey := a.delegate(t,
		func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} })
	over, overKey := a.delegate(t, func(c *x509.Certificate) { c.NotAfter = now.AddDate(0, 0, -1) })
	other := newAnswering(t)
	stranger, strangerKey := other.delegate(t, func(*x509.Certificate) {})
	good := a.response(t, a.std, own, nil)
	spoilt := append([]byte(nil), good...)
	spoilt[len(spoilt)-1] ^= 1
	nonce := []byte("0123456789abcdef0123456789abcdef")
	tests := []struct {
		name   string
		der    []byte
		nonce  []byte
		status facts.RevocationStatus
		detail string // part of why it is no answer
		check  func(t *testing.T, f facts.Revocation)
	}{
		{"good", good, nil, facts.RevocationGood, "", func(t *testing.T, f facts.Revocation) {
			assert.Equal(t, now.Add(time.Hour), *f.NextUpdate)
			assert.Empty(t, f.Signer)
		}},
		{"revoked", a.response(t, a.std, own, func(r *ocsp.Response) {
			r.Status, r.RevokedAt, r.RevocationReason = ocsp.Revoked, now.Add(-30*time.Hour), ocsp.KeyCompromise
		}), nil, facts.RevocationRevoked, "", func(t *testing.T, f facts.Revocation) {
			assert.Equal(t, now.Add(-30*time.Hour), *f.RevokedAt)
			assert.Equal(t, "the key is compromised", f.Reason)
		}},
		{"by an appointed responder", a.response(t, appointed, appointedKey, nil), nil, facts.RevocationGood, "",
			func(t *testing.T, f facts.Revocation) { assert.Equal(t, "Skerry Responder", f.Signer) }},
		{"by one who is not meant for it", a.response(t, unfit, unfitKey, nil), nil, facts.RevocationBadAnswer,
			"not for OCSP signing", nil},
		{"by one whose appointment has expired", a.response(t, over, overKey, nil), nil, facts.RevocationBadAnswer,
			"was not or is not valid", nil},
		{"by one of another issuer", a.response(t, stranger, strangerKey, nil), nil, facts.RevocationBadAnswer,
			"not authorised by the issuer", nil},
		{"with a wrong signature", spoilt, nil, facts.RevocationBadAnswer,
			"the signature of the OCSP response is wrong", nil},
		{"unknown", a.response(t, a.std, own, func(r *ocsp.Response) { r.Status = ocsp.Unknown }), nil,
			facts.RevocationBadAnswer, "is unknown", nil},
		{"about another certificate", a.response(t, a.std, own,
			func(r *ocsp.Response) { r.SerialNumber = big.NewInt(4711) }), nil, facts.RevocationBadAnswer,
			"other certificates", nil},
		{"out of the future", a.response(t, a.std, own,
			func(r *ocsp.Response) { r.ThisUpdate, r.NextUpdate = now.Add(time.Hour), now.Add(2*time.Hour) }), nil,
			facts.RevocationBadAnswer, "in the future", nil},
		{"expired is for the reader to say", a.response(t, a.std, own,
			func(r *ocsp.Response) { r.NextUpdate = now.Add(-time.Minute) }), nil, facts.RevocationGood, "",
			func(t *testing.T, f facts.Revocation) { assert.True(t, f.NextUpdate.Before(f.At)) }},
		{"without an end", a.response(t, a.std, own, func(r *ocsp.Response) { r.NextUpdate = time.Time{} }), nil,
			facts.RevocationGood, "", func(t *testing.T, f facts.Revocation) {
				assert.Nil(t, f.NextUpdate)
				assert.False(t, (f.NextUpdate != nil && f.NextUpdate.Before(f.At)))
			}},
		{"the nonce that was sent", a.withNonce(t, good, nonce), nonce, facts.RevocationGood, "",
			func(t *testing.T, f facts.Revocation) { assert.Equal(t, "same", f.Nonce) }},
		{"no nonce is a fact", good, nonce, facts.RevocationGood, "",
			func(t *testing.T, f facts.Revocation) { assert.Equal(t, "absent", f.Nonce) }},
		{"another nonce", a.withNonce(t, good, []byte("another")), nonce, facts.RevocationBadAnswer, "another nonce",
			nil},
		{"with a critical extension that nobody knows", a.response(t, a.std, own,
			func(r *ocsp.Response) { r.ExtraExtensions = []pkix.Extension{critical()} }), nil,
			facts.RevocationBadAnswer, "critical", nil},
		{"refused", ocsp.UnauthorizedErrorResponse, nil, facts.RevocationBadAnswer, "refuses: unauthorized", nil},
		{"not now", ocsp.TryLaterErrorResponse, nil, facts.RevocationUnreachable, "try later", nil},
		{"nonsense", []byte("<html>"), nil, facts.RevocationBadAnswer, "cannot be decoded", nil},
		{"cut off", good[:len(good)/2], nil, facts.RevocationBadAnswer, "cannot be decoded", nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			f := new(chain.Verifier).StatusAnswer(tt.der, a.leaf, a.issuer, tt.nonce, now)
			assert.Equal(t, tt.status, f.Status, words.Of(f.Detail))
			assert.Contains(t, words.Of(f.Detail), tt.detail)
			assert.Equal(t, tt.detail == "", !f.Detail.Given(), words.Of(f.Detail))
			assert.Equal(t, a.leaf.Fingerprint(), f.Certificate)
			if tt.check != nil {
				tt.check(t, f)
			}
		})
	}
}
