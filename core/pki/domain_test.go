package pki

import (
	"crypto"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOneKeyInEveryWriting reads keys that another program wrote with the curve named and written out, the point
// whole and compressed, as public and as private key.
func TestOneKeyInEveryWriting(t *testing.T) {
	paths, err := filepath.Glob("testdata/curves/*.pem")
	require.NoError(t, err)
	require.Len(t, paths, 5)
	for _, path := range paths {
		t.Run(filepath.Base(path), func(t *testing.T) {
			rest, err := os.ReadFile(path)
			require.NoError(t, err)
			var first PublicKey
			for n := 0; ; n++ {
				var block *pem.Block
				if block, rest = pem.Decode(rest); block == nil {
					assert.Equal(t, 7, n)
					break
				}
				var public PublicKey
				switch block.Type {
				case "PUBLIC KEY":
					public, err = ParsePublicKey(block.Bytes)
				case "EC PRIVATE KEY":
					var key *PrivateKey
					key, err = ParseSEC1(block.Bytes)
					require.NoError(t, err)
					public = key.Public
				default:
					var key *PrivateKey
					key, err = ParsePKCS8(block.Bytes)
					require.NoError(t, err)
					public = key.Public
				}
				require.NoError(t, err)
				if n == 0 {
					first = public
				}
				assert.Equal(t, first.Curve, public.Curve, "writing %d", n)
				assert.NotEmpty(t, public.Curve)
				assert.Equal(t, first.Match(), public.Match(), "writing %d", n)
			}
		})
	}
}

// TestForeignBasePoint: whoever may choose the base point can make a private key for any public key.
func TestForeignBasePoint(t *testing.T) {
	c := domains["1.2.840.10045.3.1.7"]
	params := elliptic.P256().Params()
	write := func(change func(*domain)) []byte {
		other := c
		change(&other)
		point := append([]byte{4}, append(other.x.FillBytes(make([]byte, 32)),
			other.y.FillBytes(make([]byte, 32))...)...)
		field := append(OID("1.2.840.10045.1.1").der(), appendIntegers(nil, []*big.Int{other.p})...)
		curve := append(encode(tagOctetString, other.a.Bytes()), encode(tagOctetString, other.b.Bytes())...)
		body := append([]byte{tagInteger, 1, 1}, encode(tagSequence, field)...)
		body = append(append(body, encode(tagSequence, curve)...), encode(tagOctetString, point)...)
		return encode(tagSequence, append(body, appendIntegers(nil, []*big.Int{other.n})...))
	}
	id, ok := specified(write(func(*domain) {}))
	assert.True(t, ok)
	assert.Equal(t, OID("1.2.840.10045.3.1.7"), id)
	//lint:ignore SA1019 it is another point of the curve
	x, y := params.Double(params.Gx, params.Gy)
	for name, change := range map[string]func(*domain){
		"another base point": func(d *domain) { d.x, d.y = x, y },
		"another b":          func(d *domain) { d.b = d.a },
		"another order":      func(d *domain) { d.n = d.p },
		"another field":      func(d *domain) { d.p = d.n },
	} {
		_, ok := specified(write(change))
		assert.False(t, ok, name)
	}
}

func TestPSSKeysRestrictTheirSignatures(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	public, err := ParsePublicKey(rsaInfo(key.N, big.NewInt(int64(key.E))))
	require.NoError(t, err)
	message := []byte("the tides of Tarnholm")
	d256, d512 := sha256.Sum256(message), sha512.Sum512(message)
	sign := func(hash crypto.Hash, digest []byte, salt int) (SignatureAlgorithm, []byte) {
		s, err := rsa.SignPSS(rand.Reader, key, hash, digest, &rsa.PSSOptions{SaltLength: salt})
		require.NoError(t, err)
		return SignatureAlgorithm{Hash: hash, scheme: schemePSS, saltLength: salt}, s
	}
	limits := &SignatureAlgorithm{Hash: crypto.SHA256, scheme: schemePSS, saltLength: 32}
	for name, tt := range map[string]struct {
		only   *SignatureAlgorithm
		hash   crypto.Hash
		digest []byte
		salt   int
		want   error
	}{
		"as the key says":            {limits, crypto.SHA256, d256[:], 32, nil},
		"a longer salt":              {limits, crypto.SHA256, d256[:], 48, nil},
		"a shorter salt":             {limits, crypto.SHA256, d256[:], 20, ErrBadSignature},
		"another hash":               {limits, crypto.SHA512, d512[:], 64, ErrBadSignature},
		"a key without limits":       {nil, crypto.SHA512, d512[:], 20, nil},
		"a key whose limits are odd": {&SignatureAlgorithm{}, crypto.SHA256, d256[:], 32, ErrUnverifiable},
		"a key with the default limit": {&SignatureAlgorithm{Hash: crypto.SHA1, scheme: schemePSS, saltLength: 20},
			crypto.SHA256, d256[:], 32, ErrBadSignature},
	} {
		k := public
		k.Algorithm, k.only = KeyRSAPSS, tt.only
		a, signature := sign(tt.hash, tt.digest, tt.salt)
		assert.ErrorIs(t, verifySignature(a, k, message, signature), tt.want, name)
	}
}

// TestPSSParametersAreRead takes them from a key that another program wrote.
func TestPSSParametersAreRead(t *testing.T) {
	data, err := os.ReadFile("testdata/pss.pem")
	require.NoError(t, err)
	block, _ := pem.Decode(data)
	k, err := ParsePublicKey(block.Bytes)
	require.NoError(t, err)
	require.NotNil(t, k.only)
	assert.Equal(t, crypto.SHA384, k.only.Hash)
	assert.Equal(t, 48, k.only.saltLength)
}
