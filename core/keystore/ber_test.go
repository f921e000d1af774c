package keystore_test

import (
	"crypto/x509"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/keystore"
)

// ber writes elements with indefinite lengths, and octet strings in two pieces. Into so many of these, one inside
// the other, it goes on.
func ber(t *testing.T, der []byte, into int) []byte {
	t.Helper()
	var out []byte
	for s := cryptobyte.String(der); len(s) > 0; {
		var element, content cryptobyte.String
		var tag asn1.Tag
		require.True(t, s.ReadAnyASN1Element(&element, &tag))
		inner := element
		require.True(t, inner.ReadAnyASN1(&content, &tag))
		switch {
		case tag == asn1.OCTET_STRING && into >= 0:
			text := []byte(content)
			if into > 0 {
				text = ber(t, content, into-1)
			}
			out = append(out, 0x24, 0x80)
			for _, piece := range [][]byte{text[:len(text)/2], text[len(text)/2:]} {
				var b cryptobyte.Builder
				b.AddASN1OctetString(piece)
				out = append(out, b.BytesOrPanic()...)
			}
			out = append(out, 0, 0)
		case tag&0x20 != 0:
			out = append(append(append(out, byte(tag), 0x80), ber(t, content, into)...), 0, 0)
		default:
			out = append(out, element...)
		}
	}
	return out
}

// TestBER reads stores as programs in Java write them: everything in BER (RFC 7292, 5.1), with the integrity value
// over the octets as they are.
func TestBER(t *testing.T) {
	p, ca := newPair(t, "tides"), newPair(t, "issuer")
	encode := func(e *pkcs12.Encoder, word string) []byte {
		data, err := e.Encode(p.key, p.leaf, []*x509.Certificate{ca.leaf}, word)
		require.NoError(t, err)
		return data
	}
	for name, tt := range map[string]struct {
		data    []byte
		open    keystore.Opener
		checked bool
	}{
		"the outside, with an integrity value": {ber(t, encode(pkcs12.Modern, password), 0), with(password), true},
		"the contents too":                     {ber(t, encode(pkcs12.Passwordless, ""), 2), with(), false},
		"the contents alone":                   {inside(t, encode(pkcs12.Passwordless, "")), with(), false},
	} {
		t.Run(name, func(t *testing.T) {
			store, err := keystore.ReadPKCS12(tt.data, tt.open)
			require.NoError(t, err)
			require.NoError(t, store.Locked)
			assert.Empty(t, store.Problems)
			assert.Equal(t, tt.checked, store.Checked)
			certificates, keys := [][]byte{}, 0
			for _, e := range store.Entries {
				certificates = append(certificates, e.Certificates...)
				keys += len(e.Key)
			}
			assert.ElementsMatch(t, [][]byte{p.leaf.Raw, ca.leaf.Raw}, certificates)
			assert.Positive(t, keys)
		})
	}
}

// inside rewrites the contents of a store and leaves its frame in DER.
func inside(t *testing.T, der []byte) []byte {
	outer, pfx, info, content, octets := cryptobyte.String(der), cryptobyte.String(nil), cryptobyte.String(nil),
		cryptobyte.String(nil), cryptobyte.String(nil)
	var version int
	var kind cryptobyte.String
	require.True(t, outer.ReadASN1(&pfx, asn1.SEQUENCE) && pfx.ReadASN1Integer(&version) &&
		pfx.ReadASN1(&info, asn1.SEQUENCE) && info.ReadASN1Element(&kind, asn1.OBJECT_IDENTIFIER) &&
		info.ReadASN1(&content, asn1.Tag(0).ContextSpecific().Constructed()) &&
		content.ReadASN1(&octets, asn1.OCTET_STRING))
	var b cryptobyte.Builder
	b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1Int64(3)
		b.AddASN1(asn1.SEQUENCE, func(b *cryptobyte.Builder) {
			b.AddBytes(kind)
			b.AddASN1(asn1.Tag(0).ContextSpecific().Constructed(), func(b *cryptobyte.Builder) {
				b.AddASN1OctetString(ber(t, octets, 1))
			})
		})
	})
	return b.BytesOrPanic()
}
