package harbour

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"fmt"
	"math/big"
	"path"

	"nurvik/core/forge"
)

func pkcs1(key crypto.Signer) []byte { return x509.MarshalPKCS1PrivateKey(key.(*rsa.PrivateKey)) }

func marshalEC(key crypto.Signer) ([]byte, error) {
	own, ok := key.(*ecdsa.PrivateKey)
	if !ok {
		return nil, fmt.Errorf("no EC key")
	}
	return x509.MarshalECPrivateKey(own)
}

// workshop is where keys were tried out: of every kind, weak ones too.
func (m *machines) workshop() {
	const directory = "workshop"
	certificate := func(name string, spki []byte) {
		m.public(directory+"/"+name+".crt", block("CERTIFICATE", m.leaf(path.Base(name), spki, -20*dayLong, nil)))
	}
	pub := func(name string, spki []byte) { m.public(directory+"/"+name+".pub", block("PUBLIC KEY", spki)) }

	product := func(factors ...*big.Int) *big.Int {
		out := big.NewInt(1)
		for _, f := range factors {
			out.Mul(out, f)
		}
		return out
	}
	of := func(n *big.Int, e int64) []byte { return m.bytes(forge.RSAInfoOf(n, big.NewInt(e))) }
	if m.err != nil {
		return
	}
	certificate("faulty-generator", of(try[*big.Int](m)(forge.StructuredModulus(2112)), 65537))
	first := m.prime(1024)
	near := new(big.Int).Add(first, big.NewInt(2))
	for !near.ProbablyPrime(10) {
		near.Add(near, big.NewInt(2))
	}
	pub("near-primes", of(product(first, near), 65537))
	pub("small-factor", of(product(m.prime(1024), m.prime(1024), big.NewInt(1987)), 65537))
	pub("exponent-one", of(product(m.prime(1024), m.prime(1024)), 1))
	shared := m.prime(1024)
	certificate("half-shared", of(product(shared, m.prime(1024)), 65537))
	certificate("half-shared-too", of(product(shared, m.prime(1024)), 65537))
	pub("exponent-three", of(product(m.prime(1024), m.prime(1024)), 3))
	huge := make([]*big.Int, 17)
	for i := range huge {
		huge[i] = m.prime(512)
	}
	pub("very-long", of(product(huge...), 65537))
	certificate("short", m.bytes(forge.RSAInfo(1024)))

	// Both halves of one key belong together, and here they do not.
	key := try[crypto.Signer](m)(m.issuers.keys.rsa("host torn", 2048))
	if m.err != nil {
		return
	}
	torn := *key.(*rsa.PrivateKey)
	torn.D = new(big.Int).Add(torn.D, big.NewInt(2))
	m.private(directory+"/torn/torn.key", block("RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(&torn)))
	certificate("torn/torn", m.bytes(forge.PublicInfo(key)))

	for name, curve := range map[string]elliptic.Curve{"p224": elliptic.P224(), "p384": elliptic.P384(),
		"p521": elliptic.P521()} {
		key := try[crypto.Signer](m)(m.issuers.keys.key("host curve "+name,
			func() (crypto.Signer, error) { return ecdsa.GenerateKey(curve, rand.Reader) }))
		m.pair(directory+"/kinds", m.certified("curve-"+name, key, -20*dayLong, nil))
	}
	edwards := try[crypto.Signer](m)(m.issuers.keys.key("host edwards", func() (crypto.Signer, error) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		return key, err
	}))
	m.pair(directory+"/kinds", m.certified("edwards", edwards, -20*dayLong, nil))
	kinds := directory + "/kinds/"
	m.public(kinds+"goldilocks.pub", block("PUBLIC KEY", m.bytes(forge.Ed448Info())))
	for _, k := range []struct {
		name      string
		algorithm asn1.ObjectIdentifier
		parameter asn1.ObjectIdentifier
		size      int
	}{
		{"agreement", asn1.ObjectIdentifier{1, 3, 101, 110}, nil, 32},
		{"lattice", asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 3, 18}, nil, 1952},
		{"brainpool", asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1},
			asn1.ObjectIdentifier{1, 3, 36, 3, 3, 2, 8, 1, 1, 7}, 65},
		{"koblitz", asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}, asn1.ObjectIdentifier{1, 3, 132, 0, 10}, 65},
	} {
		m.public(kinds+k.name+".pub", block("PUBLIC KEY", m.bytes(publicNoise(k.algorithm, k.parameter, k.size))))
	}
	m.public(kinds+"exchange.pem", block("DH PARAMETERS",
		m.bytes(asn1.Marshal(struct{ P, G *big.Int }{m.prime(2048), big.NewInt(2)}))))
	m.public(kinds+"probabilistic.pub", block("PUBLIC KEY", m.bytes(pssInfo(key.Public().(*rsa.PublicKey)))))
}

func (m *machines) prime(bits int) *big.Int {
	if m.err != nil {
		return big.NewInt(3)
	}
	return try[*big.Int](m)(rand.Prime(rand.Reader, bits))
}

// publicNoise is a public key of any algorithm whose bits are noise: only that
// it is recognised matters.
func publicNoise(algorithm, parameter asn1.ObjectIdentifier, size int) ([]byte, error) {
	noise := make([]byte, size)
	if _, err := rand.Read(noise); err != nil {
		return nil, err
	}
	type identifier struct {
		ID        asn1.ObjectIdentifier
		Parameter asn1.ObjectIdentifier `asn1:"optional"`
	}
	if parameter != nil {
		noise[0] = 4 // an uncompressed point
	}
	return asn1.Marshal(struct {
		Algorithm identifier
		Key       asn1.BitString
	}{identifier{algorithm, parameter}, asn1.BitString{Bytes: noise, BitLength: 8 * size}})
}

// pssInfo is an RSA key that is meant for RSASSA-PSS only (RFC 4055, 1.2).
func pssInfo(key *rsa.PublicKey) ([]byte, error) {
	return asn1.Marshal(struct {
		Algorithm struct{ ID asn1.ObjectIdentifier }
		Key       asn1.BitString
	}{struct{ ID asn1.ObjectIdentifier }{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 10}}, func() asn1.BitString {
		der := x509.MarshalPKCS1PublicKey(key)
		return asn1.BitString{Bytes: der, BitLength: 8 * len(der)}
	}()})
}
