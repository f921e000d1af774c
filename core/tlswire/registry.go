package tlswire

import "fmt"

// Version is a protocol version as it stands on the wire.
type Version uint16

// Protocol versions (RFC 8446, 4.2.1, and before).
const (
	SSL30 Version = 0x0300
	TLS10 Version = 0x0301
	TLS11 Version = 0x0302
	TLS12 Version = 0x0303
	TLS13 Version = 0x0304
)

// String returns the version's usual name.
func (v Version) String() string {
	switch v {
	case SSL30:
		return "SSL 3.0"
	case TLS10:
		return "TLS 1.0"
	case TLS11:
		return "TLS 1.1"
	case TLS12:
		return "TLS 1.2"
	case TLS13:
		return "TLS 1.3"
	}
	return fmt.Sprintf("version %#04x", uint16(v))
}

// Suite is a cipher suite as it stands on the wire.
type Suite uint16

// suiteNames are the suites that are offered, with the names of the IANA
// registry "TLS Cipher Suites".
var suiteNames = map[Suite]string{
	0x1301: "TLS_AES_128_GCM_SHA256", 0x1302: "TLS_AES_256_GCM_SHA384", 0x1303: "TLS_CHACHA20_POLY1305_SHA256",
	0x1304: "TLS_AES_128_CCM_SHA256", 0x1305: "TLS_AES_128_CCM_8_SHA256",
	0xc02b: "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256", 0xc02c: "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384",
	0xc02f: "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256", 0xc030: "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384",
	0xcca8: "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256", 0xcca9: "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256",
	0xccaa: "TLS_DHE_RSA_WITH_CHACHA20_POLY1305_SHA256",
	0x009e: "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256", 0x009f: "TLS_DHE_RSA_WITH_AES_256_GCM_SHA384",
	0xc0ac: "TLS_ECDHE_ECDSA_WITH_AES_128_CCM", 0xc0ad: "TLS_ECDHE_ECDSA_WITH_AES_256_CCM",
	0xc023: "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256", 0xc024: "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA384",
	0xc027: "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256", 0xc028: "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA384",
	0xc009: "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA", 0xc00a: "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA",
	0xc013: "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA", 0xc014: "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA",
	0x0067: "TLS_DHE_RSA_WITH_AES_128_CBC_SHA256", 0x006b: "TLS_DHE_RSA_WITH_AES_256_CBC_SHA256",
	0x0033: "TLS_DHE_RSA_WITH_AES_128_CBC_SHA", 0x0039: "TLS_DHE_RSA_WITH_AES_256_CBC_SHA",
	0x009c: "TLS_RSA_WITH_AES_128_GCM_SHA256", 0x009d: "TLS_RSA_WITH_AES_256_GCM_SHA384",
	0x003c: "TLS_RSA_WITH_AES_128_CBC_SHA256", 0x003d: "TLS_RSA_WITH_AES_256_CBC_SHA256",
	0x002f: "TLS_RSA_WITH_AES_128_CBC_SHA", 0x0035: "TLS_RSA_WITH_AES_256_CBC_SHA",
	0x0041: "TLS_RSA_WITH_CAMELLIA_128_CBC_SHA", 0x0084: "TLS_RSA_WITH_CAMELLIA_256_CBC_SHA",
	0xc012: "TLS_ECDHE_RSA_WITH_3DES_EDE_CBC_SHA", 0xc008: "TLS_ECDHE_ECDSA_WITH_3DES_EDE_CBC_SHA",
	0x0016: "TLS_DHE_RSA_WITH_3DES_EDE_CBC_SHA", 0x000a: "TLS_RSA_WITH_3DES_EDE_CBC_SHA",
	0xc007: "TLS_ECDHE_ECDSA_WITH_RC4_128_SHA", 0xc011: "TLS_ECDHE_RSA_WITH_RC4_128_SHA",
	0x0005: "TLS_RSA_WITH_RC4_128_SHA", 0x0004: "TLS_RSA_WITH_RC4_128_MD5",
}

// String returns the suite's registered name.
func (s Suite) String() string {
	if name, ok := suiteNames[s]; ok {
		return name
	}
	return fmt.Sprintf("suite %#04x", uint16(s))
}

// offered13 and offered12 are what an ordinary client with a long memory offers, best first.
var (
	offered13 = []Suite{0x1301, 0x1303, 0x1302, 0x1304, 0x1305}
	offered12 = []Suite{
		0xc02b, 0xc02f, 0xcca9, 0xcca8, 0xc02c, 0xc030, 0x009e, 0xccaa, 0x009f, 0xc0ac, 0xc0ad,
		0xc023, 0xc027, 0xc024, 0xc028, 0xc009, 0xc013, 0xc00a, 0xc014, 0x0067, 0x006b, 0x0033, 0x0039,
		0x009c, 0x009d, 0x003c, 0x003d, 0x002f, 0x0035, 0x0041, 0x0084,
		0xc012, 0xc008, 0x0016, 0x000a, 0xc007, 0xc011, 0x0005, 0x0004,
	}
)

// Extension types (IANA "TLS ExtensionType Values").
const (
	extServerName           uint16 = 0
	extStatusRequest        uint16 = 5
	extSupportedGroups      uint16 = 10
	extPointFormats         uint16 = 11
	extSignatureAlgorithms  uint16 = 13
	extExtendedMasterSecret uint16 = 23
	extSupportedVersions    uint16 = 43
	extKeyShare             uint16 = 51
	extRenegotiationInfo    uint16 = 0xff01
)

// Groups (IANA "TLS Supported Groups").
const groupX25519 uint16 = 29

var offeredGroups = []uint16{groupX25519, 23, 24, 25, 256, 257}

// offeredSignatures are signature schemes (IANA "TLS SignatureScheme"), with
// SHA-1 at the end because servers of old certificates need it.
var offeredSignatures = []uint16{0x0403, 0x0804, 0x0401, 0x0503, 0x0805, 0x0501, 0x0603, 0x0806, 0x0601, 0x0807, 0x0809, 0x080a, 0x080b, 0x0203, 0x0201}

// Record content types (RFC 8446, 5.1).
const (
	contentChangeCipherSpec = 20
	contentAlert            = 21
	contentHandshake        = 22
	contentApplication      = 23
)

// Handshake message types (RFC 8446, 4, and RFC 5246, 7.4).
const (
	messageClientHello       = 1
	messageServerHello       = 2
	messageCertificate       = 11
	messageServerHelloDone   = 14
	messageCertificateStatus = 22
)
