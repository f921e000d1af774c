package pki

import (
	"crypto"
	_ "crypto/md5" // registered for crypto.Hash, as are the others
	_ "crypto/sha1"
	_ "crypto/sha256"
	_ "crypto/sha512"

	"golang.org/x/crypto/cryptobyte"
)

// scheme is how a signature is computed.
type scheme int

const (
	schemeUnknown scheme = iota
	schemeRSA            // RSASSA-PKCS1-v1_5 (RFC 8017, 8.2)
	schemePSS            // RSASSA-PSS (RFC 8017, 8.1)
	schemeECDSA
	schemeEd25519
	schemeDSA
)

// SignatureAlgorithm is the AlgorithmIdentifier of a signature.
type SignatureAlgorithm struct {
	Raw  []byte // its DER
	ID   OID
	Name string      // such as "SHA-256 with RSA"; the identifier when it is not known
	Hash crypto.Hash // 0 when the scheme has none of its own or is not known

	scheme     scheme
	saltLength int // of RSASSA-PSS, in bytes
}

// signatureAlgorithms: RFC 3279, RFC 4055, RFC 5758, RFC 8410.
var signatureAlgorithms = map[OID]SignatureAlgorithm{
	"1.2.840.113549.1.1.2":   {Name: "MD2 with RSA"},
	"1.2.840.113549.1.1.4":   {Name: "MD5 with RSA", Hash: crypto.MD5, scheme: schemeRSA},
	"1.2.840.113549.1.1.5":   {Name: "SHA-1 with RSA", Hash: crypto.SHA1, scheme: schemeRSA},
	"1.3.14.3.2.29":          {Name: "SHA-1 with RSA", Hash: crypto.SHA1, scheme: schemeRSA},
	"1.2.840.113549.1.1.14":  {Name: "SHA-224 with RSA", Hash: crypto.SHA224, scheme: schemeRSA},
	"1.2.840.113549.1.1.11":  {Name: "SHA-256 with RSA", Hash: crypto.SHA256, scheme: schemeRSA},
	"1.2.840.113549.1.1.12":  {Name: "SHA-384 with RSA", Hash: crypto.SHA384, scheme: schemeRSA},
	"1.2.840.113549.1.1.13":  {Name: "SHA-512 with RSA", Hash: crypto.SHA512, scheme: schemeRSA},
	oidPSS:                   {Name: "RSA-PSS"},
	"1.2.840.10045.4.1":      {Name: "SHA-1 with ECDSA", Hash: crypto.SHA1, scheme: schemeECDSA},
	"1.2.840.10045.4.3.1":    {Name: "SHA-224 with ECDSA", Hash: crypto.SHA224, scheme: schemeECDSA},
	"1.2.840.10045.4.3.2":    {Name: "SHA-256 with ECDSA", Hash: crypto.SHA256, scheme: schemeECDSA},
	"1.2.840.10045.4.3.3":    {Name: "SHA-384 with ECDSA", Hash: crypto.SHA384, scheme: schemeECDSA},
	"1.2.840.10045.4.3.4":    {Name: "SHA-512 with ECDSA", Hash: crypto.SHA512, scheme: schemeECDSA},
	"1.2.840.10040.4.3":      {Name: "SHA-1 with DSA", Hash: crypto.SHA1, scheme: schemeDSA},
	"2.16.840.1.101.3.4.3.2": {Name: "SHA-256 with DSA", Hash: crypto.SHA256, scheme: schemeDSA},
	"1.3.101.112":            {Name: "Ed25519", scheme: schemeEd25519},
	"1.3.101.113":            {Name: "Ed448"},
}

const oidPSS OID = "1.2.840.113549.1.1.10"

// Weak reports whether collisions can be made for the hash: MD2, MD5 and SHA-1.
func (a SignatureAlgorithm) Weak() bool {
	return a.Hash == crypto.MD5 || a.Hash == crypto.SHA1 || a.HashName() == "MD2"
}

// HashName is the hash's usual name, "MD2" included, "" when there is none.
func (a SignatureAlgorithm) HashName() string {
	switch {
	case a.ID == "1.2.840.113549.1.1.2":
		return "MD2"
	case a.Hash != 0:
		return a.Hash.String()
	}
	return ""
}

func (d *decoder) signatureAlgorithm(el element, field string) SignatureAlgorithm {
	id, parameters := d.algorithm(el, field)
	a, ok := signatureAlgorithms[id]
	if !ok {
		a.Name = string(id)
	}
	if id == oidPSS {
		d.pss(&a, parameters, el, field)
	}
	a.Raw, a.ID = el.full, id
	return a
}

var hashesByOID = map[OID]crypto.Hash{
	"1.3.14.3.2.26": crypto.SHA1, "2.16.840.1.101.3.4.2.4": crypto.SHA224, "2.16.840.1.101.3.4.2.1": crypto.SHA256,
	"2.16.840.1.101.3.4.2.2": crypto.SHA384, "2.16.840.1.101.3.4.2.3": crypto.SHA512,
}

// pss reads RSASSA-PSS parameters (RFC 4055, 3.1). A mask hash that differs
// from the message hash is left uncomputable: nobody uses it.
func (d *decoder) pss(a *SignatureAlgorithm, parameters []byte, el element, field string) {
	hash, maskHash, salt := crypto.SHA1, crypto.SHA1, 20 // the defaults
	s := cryptobyte.String(parameters)
	seq, ok := d.take(&s, tagSequence, field)
	if !ok {
		d.note(el.full, field, "RFC 4055 section 3.1", "the parameters of RSA-PSS are missing")
		return
	}
	inner := cryptobyte.String(seq.content)
	if part, ok := d.optional(&inner, contextTag(0, true), field); ok {
		hash = d.hashParameter(part.content, field)
	}
	if part, ok := d.optional(&inner, contextTag(1, true), field); ok {
		mgf := cryptobyte.String(part.content)
		if alg, ok := d.take(&mgf, tagSequence, field); ok {
			_, rest := d.algorithm(alg, field)
			maskHash = d.hashParameter(rest, field)
		}
	}
	if part, ok := d.optional(&inner, contextTag(2, true), field); ok {
		number := cryptobyte.String(part.content)
		if n, ok := d.take(&number, tagInteger, field); ok {
			salt, _ = d.smallInt(n, field)
		}
	}
	if hash == 0 || hash != maskHash {
		return
	}
	a.Name, a.Hash, a.scheme, a.saltLength = hash.String()+" with RSA-PSS", hash, schemePSS, salt
}

func (d *decoder) hashParameter(content []byte, field string) crypto.Hash {
	s := cryptobyte.String(content)
	alg, ok := d.take(&s, tagSequence, field)
	if !ok {
		return 0
	}
	id, _ := d.algorithm(alg, field)
	return hashesByOID[id]
}
