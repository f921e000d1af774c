package ciphers

import (
	_ "embed"
	"slices"
	"strconv"
	"strings"
	"sync"

	"nurvik/core/tlswire"
)

//go:embed openssl.txt
var opensslTable string

// class is how OpenSSL calls the strength of a suite.
type class string

const (
	low    class = "LOW"
	medium class = "MEDIUM"
	high   class = "HIGH"
)

// opensslSuite is a suite as OpenSSL's cipher lists see it.
type opensslSuite struct {
	suite  tlswire.Suite
	name   string
	oldest string // SSLv3, TLSv1 or TLSv1.2
	weak   bool   // only in builds with weak ciphers

	exchange, authentication, cipher, mac string // OpenSSL's words, such as kECDHE, aRSA, AESGCM and AEAD
	bits                                  int    // strength of the cipher
	class                                 class
	apart                                 bool // not in DEFAULT
	aead                                  bool
}

// opensslSuites are all of them in falling order of their numbers, in which OpenSSL begins to sort.
var opensslSuites = sync.OnceValue(func() []opensslSuite {
	var out []opensslSuite
	for line := range strings.Lines(opensslTable) {
		fields := strings.Fields(line)
		if strings.HasPrefix(line, "#") || len(fields) < 3 {
			continue
		}
		number, err := strconv.ParseUint(fields[0], 16, 16)
		if err != nil {
			panic("ciphers: openssl.txt: " + err.Error()) // the file is compiled in
		}
		out = append(out, opensslSuiteOf(tlswire.Suite(number), fields[1], fields[2], len(fields) > 3))
	}
	slices.Reverse(out)
	return out
})

// opensslSuiteOf derives OpenSSL's words from the registered name.
func opensslSuiteOf(suite tlswire.Suite, name, oldest string, weak bool) opensslSuite {
	p := suite.Properties()
	s := opensslSuite{suite: suite, name: name, oldest: oldest, weak: weak, aead: p.Authenticated, bits: p.Strength,
		class: high, cipher: opensslCipher(p)}
	psk := p.Authentication == "PSK"
	s.authentication = map[string]string{"anonymous": "aNULL", "DSS": "aDSS", "PSK": "aPSK",
		"SRP": "aSRP"}[p.Authentication]
	if s.authentication == "" {
		s.authentication = "a" + p.Authentication
	}
	switch p.KeyExchange {
	case "DH", "DHE":
		s.exchange = "kDHE"
	case "ECDH", "ECDHE":
		s.exchange = "kECDHE"
	case "PSK-DHE": // RFC 6655 calls two suites so
		s.exchange = "kDHE"
	case "RSA-PSK":
		s.exchange, s.authentication = "kRSAPSK", "aRSA"
	default:
		s.exchange = "k" + p.KeyExchange
	}
	if psk && (s.exchange == "kDHE" || s.exchange == "kECDHE") {
		s.exchange += "PSK"
	}
	switch {
	case p.Authenticated:
		s.mac = "AEAD"
	case p.Hash == "SHA":
		s.mac = "SHA1"
	default:
		s.mac = p.Hash
	}
	switch {
	case s.cipher == "eNULL":
		s.class = low
	case weak:
		s.class = medium
	}
	s.apart = s.authentication == "aNULL" || s.authentication == "aDSS" || s.cipher == "eNULL" || weak ||
		s.aead && !strings.Contains(s.cipher, "AESGCM") && s.cipher != "CHACHA20" ||
		strings.HasPrefix(s.cipher, "CAMELLIA")
	return s
}

// opensslCipher is the cipher in the words of cipher lists, with its key length where there are several.
func opensslCipher(p tlswire.SuiteProperties) string {
	length := strconv.Itoa(p.Strength)
	switch {
	case p.Cipher == "none":
		return "eNULL"
	case strings.HasSuffix(p.Cipher, "-CCM-8"):
		return "AESCCM8" + length
	case strings.HasSuffix(p.Cipher, "-CCM"):
		return "AESCCM" + length
	case strings.HasPrefix(p.Cipher, "AES") && strings.HasSuffix(p.Cipher, "-GCM"):
		return "AESGCM" + length
	case strings.HasPrefix(p.Cipher, "AES"):
		return "AES" + length
	case strings.HasPrefix(p.Cipher, "Camellia"):
		return "CAMELLIA" + length
	case strings.HasPrefix(p.Cipher, "ARIA"):
		return "ARIAGCM" + length
	case strings.HasPrefix(p.Cipher, "ChaCha20"):
		return "CHACHA20"
	}
	name, _, _ := strings.Cut(p.Cipher, "-")
	return name
}

// OpenSSLNames are the names that OpenSSL has for suites; those that it does not know keep their registered names.
func OpenSSLNames(suites []tlswire.Suite) []string {
	names := map[tlswire.Suite]string{}
	for i := range opensslSuites() {
		names[opensslSuites()[i].suite] = opensslSuites()[i].name
	}
	var out []string
	for _, s := range suites {
		name := names[s]
		if name == "" {
			name = s.String()
		}
		out = append(out, name)
	}
	return out
}
