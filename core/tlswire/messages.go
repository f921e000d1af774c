package tlswire

import (
	"bytes"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
)

// CertificateMessage is the chain as sent, with what came along.
type CertificateMessage struct {
	Certificates [][]byte // DER, in the order sent
	Staple       []byte   // OCSP response for the first (RFC 8446, 4.4.2.1)
	Timestamps   [][]byte // signed certificate timestamps (RFC 6962, 3.3)
}

// ParseCertificates decodes the body of a Certificate message of TLS 1.2 or
// older (RFC 5246, 7.4.2). The error is a *BadMessageError.
func ParseCertificates(body []byte) (CertificateMessage, error) {
	s := cryptobyte.String(body)
	var list cryptobyte.String
	var out CertificateMessage
	if !s.ReadUint24LengthPrefixed(&list) || !s.Empty() {
		return out, &BadMessageError{"the Certificate message has a wrong length"}
	}
	for !list.Empty() {
		var der cryptobyte.String
		if !list.ReadUint24LengthPrefixed(&der) {
			return out, &BadMessageError{"a certificate in the Certificate message is cut off"}
		}
		out.Certificates = append(out.Certificates, bytes.Clone(der))
	}
	if len(out.Certificates) == 0 {
		return out, errNoCertificate
	}
	return out, nil
}

// errNoCertificate says that a server sent an empty list (RFC 5246, 7.4.2; RFC 8446, 4.4.2.4).
var errNoCertificate = &BadMessageError{"the Certificate message holds no certificate"}

// ParseCertificates13 decodes the body of a Certificate message of TLS 1.3
// (RFC 8446, 4.4.2). The error is a *BadMessageError.
func ParseCertificates13(body []byte) (CertificateMessage, error) {
	s := cryptobyte.String(body)
	var context, list cryptobyte.String
	var out CertificateMessage
	if !s.ReadUint8LengthPrefixed(&context) || !s.ReadUint24LengthPrefixed(&list) || !s.Empty() {
		return out, &BadMessageError{"the Certificate message has a wrong length"}
	}
	for !list.Empty() {
		var der, extensions cryptobyte.String
		if !list.ReadUint24LengthPrefixed(&der) || !list.ReadUint16LengthPrefixed(&extensions) {
			return out, &BadMessageError{"a certificate in the Certificate message is cut off"}
		}
		first := len(out.Certificates) == 0
		out.Certificates = append(out.Certificates, bytes.Clone(der))
		err := eachExtension(extensions, "Certificate message", func(e Extension, value []byte) {
			switch {
			case !first:
			case e == extStatusRequest:
				out.Staple, _ = ParseCertificateStatus(value)
			case e == extTimestamps:
				out.Timestamps = parseTimestamps(value)
			}
		})
		if err != nil {
			return out, err
		}
	}
	if len(out.Certificates) == 0 {
		return out, errNoCertificate
	}
	return out, nil
}

func parseTimestamps(value []byte) (out [][]byte) {
	s := cryptobyte.String(value)
	var list cryptobyte.String
	if !s.ReadUint16LengthPrefixed(&list) {
		return nil
	}
	for !list.Empty() {
		var one cryptobyte.String
		if !list.ReadUint16LengthPrefixed(&one) {
			return out
		}
		out = append(out, bytes.Clone(one))
	}
	return out
}

// ParseCertificateStatus decodes the body of a CertificateStatus message (RFC
// 6066, 8): the OCSP response in it. The error is a *BadMessageError.
func ParseCertificateStatus(body []byte) ([]byte, error) {
	s := cryptobyte.String(body)
	var kind uint8
	var response cryptobyte.String
	if !s.ReadUint8(&kind) || kind != 1 || !s.ReadUint24LengthPrefixed(&response) || !s.Empty() {
		return nil, &BadMessageError{"the CertificateStatus message is malformed"}
	}
	return bytes.Clone(response), nil
}

// KeyExchange is a ServerKeyExchange up to TLS 1.2 (RFC 5246, 7.4.3; RFC 8422, 5.4).
type KeyExchange struct {
	Group              Group  // of ECDHE
	Public             []byte // the server's value
	Prime, Generator   []byte // of DHE
	Explicit           bool   // a curve that is written out (RFC 8422 forbids it)
	Params             []byte // what is signed, after both randoms
	Scheme             SignatureScheme
	Signature          []byte
	Signed, HintedOnly bool // anonymous suites sign nothing; PSK has a hint only
}

// ParseKeyExchange decodes the body for the suite and version. The error is a *BadMessageError.
func ParseKeyExchange(body []byte, suite Suite, version Version) (KeyExchange, error) {
	p := suite.Properties()
	s := cryptobyte.String(body)
	k := KeyExchange{}
	bad := func(what string) (KeyExchange, error) {
		return k, &BadMessageError{"the ServerKeyExchange is malformed: " + what}
	}
	if p.Authentication == "PSK" {
		var hint cryptobyte.String
		if !s.ReadUint16LengthPrefixed(&hint) {
			return bad("the hint is cut off")
		}
		k.HintedOnly = true
	}
	before := s
	switch p.KeyExchange {
	case "ECDHE", "ECDH":
		var kind uint8
		var group uint16
		var point cryptobyte.String
		if !s.ReadUint8(&kind) {
			return bad("the curve is missing")
		}
		if kind != 3 {
			k.Explicit = true
			return k, nil
		}
		if !s.ReadUint16(&group) || !s.ReadUint8LengthPrefixed(&point) {
			return bad("the point is cut off")
		}
		k.Group, k.Public = Group(group), bytes.Clone(point)
	case "DHE", "DH":
		var prime, generator, public cryptobyte.String
		if !s.ReadUint16LengthPrefixed(&prime) || !s.ReadUint16LengthPrefixed(&generator) ||
			!s.ReadUint16LengthPrefixed(&public) {
			return bad("a number is cut off")
		}
		k.Prime, k.Generator, k.Public = bytes.TrimLeft(prime, "\x00"), bytes.Clone(generator), bytes.Clone(public)
	default:
		return k, nil // RSA of export suites, SRP and others: nothing that is looked at
	}
	k.Params = bytes.Clone(before[:len(before)-len(s)])
	if p.Authentication == "anonymous" || p.Authentication == "PSK" {
		return k, nil
	}
	if version >= TLS12 {
		var scheme uint16
		if !s.ReadUint16(&scheme) {
			return bad("the signature scheme is missing")
		}
		k.Scheme = SignatureScheme(scheme)
	}
	var signature cryptobyte.String
	if !s.ReadUint16LengthPrefixed(&signature) || !s.Empty() {
		return bad("the signature is cut off")
	}
	k.Signature, k.Signed = bytes.Clone(signature), true
	return k, nil
}

// CertificateRequest is a request for the client's certificate.
type CertificateRequest struct {
	Issuers    [][]byte // DER of each distinguished name that is accepted; none means any
	Signatures []SignatureScheme
}

// ParseCertificateRequest decodes the body, of TLS 1.3 (RFC 8446, 4.3.2) or
// older (RFC 5246, 7.4.4). The error is a *BadMessageError.
func ParseCertificateRequest(body []byte, version Version) (CertificateRequest, error) {
	s := cryptobyte.String(body)
	var r CertificateRequest
	bad := &BadMessageError{fmt.Sprintf("the CertificateRequest of %s is malformed", version)}
	var signatures, names cryptobyte.String
	if version == TLS13 {
		var context cryptobyte.String
		if !s.ReadUint8LengthPrefixed(&context) {
			return r, bad
		}
		extensions, err := parseExtensions(&s, "CertificateRequest")
		if err != nil {
			return r, err
		}
		if value, ok := extensions[extSignatureAlgorithms]; ok {
			v := cryptobyte.String(value)
			if !v.ReadUint16LengthPrefixed(&signatures) {
				return r, bad
			}
		}
		if value, ok := extensions[47]; ok { // certificate_authorities
			v := cryptobyte.String(value)
			if !v.ReadUint16LengthPrefixed(&names) {
				return r, bad
			}
		}
	} else {
		var types cryptobyte.String
		if !s.ReadUint8LengthPrefixed(&types) || version >= TLS12 && !s.ReadUint16LengthPrefixed(&signatures) ||
			!s.ReadUint16LengthPrefixed(&names) {
			return r, bad
		}
	}
	for !signatures.Empty() {
		var scheme uint16
		if !signatures.ReadUint16(&scheme) {
			return r, bad
		}
		r.Signatures = append(r.Signatures, SignatureScheme(scheme))
	}
	for !names.Empty() {
		var name cryptobyte.String
		if !names.ReadUint16LengthPrefixed(&name) {
			return r, bad
		}
		r.Issuers = append(r.Issuers, bytes.Clone(name))
	}
	return r, nil
}

// parseCertificateVerify decodes the body of a CertificateVerify (RFC 8446, 4.4.3).
func parseCertificateVerify(body []byte) (SignatureScheme, []byte, error) {
	s := cryptobyte.String(body)
	var scheme uint16
	var signature cryptobyte.String
	if !s.ReadUint16(&scheme) || !s.ReadUint16LengthPrefixed(&signature) || !s.Empty() {
		return 0, nil, &BadMessageError{"the CertificateVerify message is malformed"}
	}
	return SignatureScheme(scheme), bytes.Clone(signature), nil
}
