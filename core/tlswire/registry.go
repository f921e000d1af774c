package tlswire

import (
	"embed"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Version is a protocol version as it stands on the wire.
type Version uint16

// Protocol versions (RFC 8446, 4.2.1, and before). SSL 2.0 has its own form of hello.
const (
	SSL20 Version = 0x0002
	SSL30 Version = 0x0300
	TLS10 Version = 0x0301
	TLS11 Version = 0x0302
	TLS12 Version = 0x0303
	TLS13 Version = 0x0304
)

// Versions in rising order.
var Versions = []Version{SSL20, SSL30, TLS10, TLS11, TLS12, TLS13}

// String returns the version's usual name.
func (v Version) String() string {
	switch v {
	case SSL20:
		return "SSL 2.0"
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

// The registries of IANA (TLS Parameters, TLS ExtensionType Values) as data:
// a number and a name a line.
//
//go:embed registry/*.txt
var registries embed.FS

func registry[T ~uint16](file string) func() map[T]string {
	return sync.OnceValue(func() map[T]string {
		data, err := registries.ReadFile("registry/" + file)
		if err != nil {
			panic("tlswire: " + err.Error()) // the file is compiled in
		}
		out := map[T]string{}
		for line := range strings.Lines(string(data)) {
			number, name, _ := strings.Cut(strings.TrimSpace(line), " ")
			n, err := strconv.ParseUint(number, 16, 16)
			if err != nil {
				panic("tlswire: " + file + ": " + err.Error())
			}
			out[T(n)] = name
		}
		return out
	})
}

var (
	suiteNames     = registry[Suite]("suites.txt")
	groupNames     = registry[Group]("groups.txt")
	signatureNames = registry[SignatureScheme]("signatures.txt")
	extensionNames = registry[Extension]("extensions.txt")
)

// Suite is a cipher suite as it stands on the wire.
type Suite uint16

// Group is a group for key agreement: a curve, a finite field or a hybrid.
type Group uint16

// SignatureScheme is a way to sign in the handshake.
type SignatureScheme uint16

// Extension is the type of an extension.
type Extension uint16

func named[T ~uint16](names map[T]string, n T, what string) string {
	if name, ok := names[n]; ok {
		return name
	}
	return fmt.Sprintf("%s %#04x", what, uint16(n))
}

// String returns the suite's registered name.
func (s Suite) String() string { return named(suiteNames(), s, "suite") }

// String returns the group's registered name.
func (g Group) String() string { return named(groupNames(), g, "group") }

// String returns the scheme's registered name.
func (s SignatureScheme) String() string { return named(signatureNames(), s, "signature scheme") }

// String returns the extension's registered name.
func (e Extension) String() string { return named(extensionNames(), e, "extension") }

// Suites are all registered suites, signals left out, in the order of their numbers.
func Suites() []Suite {
	out := slices.Sorted(maps.Keys(suiteNames()))
	return slices.DeleteFunc(out, func(s Suite) bool { return s.Properties().Signalling })
}

// SuiteNamed finds a suite by its registered name.
func SuiteNamed(name string) (Suite, bool) {
	for s, n := range suiteNames() {
		if n == name {
			return s, true
		}
	}
	return 0, false
}

// Groups are all registered groups in the order of their numbers.
func Groups() []Group { return slices.Sorted(maps.Keys(groupNames())) }

// SignatureSchemes are all registered schemes in the order of their numbers.
func SignatureSchemes() []SignatureScheme { return slices.Sorted(maps.Keys(signatureNames())) }

// Extensions are all registered extensions in the order of their numbers.
func Extensions() []Extension { return slices.Sorted(maps.Keys(extensionNames())) }

// Signals in the list of suites.
const (
	RenegotiationSignal Suite = 0x00ff // RFC 5746, 3.3
	FallbackSignal      Suite = 0x5600 // RFC 7507
)

// Extensions that the code knows.
const (
	extServerName          Extension = 0
	extStatusRequest       Extension = 5
	extSupportedGroups     Extension = 10
	extPointFormats        Extension = 11
	extSignatureAlgorithms Extension = 13
	extHeartbeat           Extension = 15
	extALPN                Extension = 16
	extTimestamps          Extension = 18
	extPadding             Extension = 21
	extEncryptThenMAC      Extension = 22
	extExtendedMaster      Extension = 23
	extSessionTicket       Extension = 35
	extPreSharedKey        Extension = 41
	extSupportedVersions   Extension = 43
	extCookie              Extension = 44
	extPSKModes            Extension = 45
	extKeyShare            Extension = 51
	extRenegotiation       Extension = 0xff01
)

// Groups that keys can be agreed in here.
const (
	P256               Group = 23
	P384               Group = 24
	P521               Group = 25
	X25519             Group = 29
	X448               Group = 30
	MLKEM768           Group = 0x0201
	MLKEM1024          Group = 0x0202
	SecP256r1MLKEM768  Group = 0x11eb
	X25519MLKEM768     Group = 0x11ec
	SecP384r1MLKEM1024 Group = 0x11ed
)

// RSA reports whether the scheme signs with an RSA key.
func (s SignatureScheme) RSA() bool { return strings.HasPrefix(s.String(), "rsa_") }

// Hybrid reports whether the group joins a classical and a post-quantum exchange.
func (g Group) Hybrid() bool {
	name := g.String()
	return strings.Contains(name, "MLKEM") && !strings.HasPrefix(name, "MLKEM")
}

// FiniteField reports whether the group is one of RFC 7919.
func (g Group) FiniteField() bool { return g >= 0x100 && g <= 0x1ff }

// Record content types (RFC 8446, 5.1).
const (
	contentChangeCipherSpec = 20
	contentAlert            = 21
	contentHandshake        = 22
	contentApplication      = 23
)

// Handshake message types (RFC 8446, 4, and RFC 5246, 7.4).
const (
	messageHelloRequest        = 0
	messageClientHello         = 1
	messageServerHello         = 2
	messageNewSessionTicket    = 4
	messageEncryptedExtensions = 8
	messageCertificate         = 11
	messageServerKeyExchange   = 12
	messageCertificateRequest  = 13
	messageServerHelloDone     = 14
	messageCertificateVerify   = 15
	messageClientKeyExchange   = 16
	messageFinished            = 20
	messageCertificateStatus   = 22
	messageKeyUpdate           = 24
)
