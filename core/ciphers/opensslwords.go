package ciphers

import (
	"slices"
	"strings"
)

// pastWords are keywords of older releases, whose suites are gone. Who excludes them does no harm.
var pastWords = strings.Fields("EXP EXPORT EXPORT40 EXPORT56 DES RC2 SSLv2 KRB5 kKRB5 aKRB5 kDHd kDHr kDH aDH kECDHr " +
	"kECDHe kECDH aECDH FZA kFZA aFZA eFZA GOST GOST2001 aGOST01 TLSv1.1 CBC FIPS")

// past reports whether a word that is not known excludes something that is gone.
func past(word string, operator byte) bool {
	for part := range strings.SplitSeq(word, "+") {
		if slices.Contains(pastWords, part) {
			return true
		}
	}
	return (operator == '!' || operator == '-') && strings.Contains(word, "-") // a suite by its name
}

// opensslWords are the keywords of cipher lists, as the library's manual describes them.
var opensslWords = func() map[string]matcher {
	exchange := func(words ...string) matcher {
		return func(s *opensslSuite) bool { return slices.Contains(words, s.exchange) }
	}
	authentication := func(word string) matcher {
		return func(s *opensslSuite) bool { return s.authentication == word }
	}
	cipher := func(words ...string) matcher {
		return func(s *opensslSuite) bool { return slices.Contains(words, s.cipher) }
	}
	mac := func(word string) matcher { return func(s *opensslSuite) bool { return s.mac == word } }
	oldest := func(word string) matcher { return func(s *opensslSuite) bool { return s.oldest == word } }
	strength := func(c class) matcher {
		return func(s *opensslSuite) bool { return s.class == c && s.cipher != "eNULL" }
	}
	both := func(a, b matcher) matcher { return func(s *opensslSuite) bool { return a(s) && b(s) } }
	not := func(m matcher) matcher { return func(s *opensslSuite) bool { return !m(s) } }
	prefixed := func(prefix string) matcher {
		return func(s *opensslSuite) bool { return strings.HasPrefix(s.cipher, prefix) }
	}
	none, anonymous := cipher("eNULL"), authentication("aNULL")
	words := map[string]matcher{
		"ALL": not(none), "COMPLEMENTOFALL": none,
		"COMPLEMENTOFDEFAULT": func(s *opensslSuite) bool { return s.apart && s.cipher != "eNULL" },

		"kRSA": exchange("kRSA"), "kDHE": exchange("kDHE"), "kECDHE": exchange("kECDHE"),
		"kPSK": exchange("kPSK"), "kRSAPSK": exchange("kRSAPSK"), "kDHEPSK": exchange("kDHEPSK"),
		"kECDHEPSK": exchange("kECDHEPSK"), "kSRP": exchange("kSRP"), "kGOST": exchange("kGOST"),
		"aRSA": authentication("aRSA"), "aDSS": authentication("aDSS"), "aECDSA": authentication("aECDSA"),
		"aPSK": authentication("aPSK"), "aSRP": authentication("aSRP"), "aGOST": authentication("aGOST"),
		"aNULL": anonymous,

		"DHE": both(exchange("kDHE"), not(anonymous)), "ECDHE": both(exchange("kECDHE"), not(anonymous)),
		"NULL": none, "RSA": both(exchange("kRSA"), authentication("aRSA")),
		"ADH": both(exchange("kDHE"), anonymous), "AECDH": both(exchange("kECDHE"), anonymous),
		"PSK": exchange("kPSK", "kRSAPSK", "kDHEPSK", "kECDHEPSK"), "SRP": exchange("kSRP"),

		"eNULL": none, "3DES": cipher("3DES"), "RC4": cipher("RC4"), "SEED": cipher("SEED"), "IDEA": cipher("IDEA"),
		"AES128": cipher("AES128", "AESGCM128", "AESCCM128", "AESCCM8128"),
		"AES256": cipher("AES256", "AESGCM256", "AESCCM256", "AESCCM8256"),
		"AES":    prefixed("AES"), "AESGCM": prefixed("AESGCM"),
		"AESCCM": prefixed("AESCCM"), "AESCCM8": prefixed("AESCCM8"),
		"CAMELLIA": prefixed("CAMELLIA"), "CAMELLIA128": cipher("CAMELLIA128"), "CAMELLIA256": cipher("CAMELLIA256"),
		"ARIA": prefixed("ARIAGCM"), "ARIAGCM": prefixed("ARIAGCM"),
		"ARIA128": cipher("ARIAGCM128"), "ARIA256": cipher("ARIAGCM256"), "CHACHA20": cipher("CHACHA20"),

		"MD5": mac("MD5"), "SHA1": mac("SHA1"), "SHA": mac("SHA1"), "SHA256": mac("SHA256"), "SHA384": mac("SHA384"),

		"SSLv3": oldest("SSLv3"), "TLSv1": oldest("TLSv1"), "TLSv1.0": oldest("TLSv1"), "TLSv1.2": oldest("TLSv1.2"),
		"LOW": strength(low), "MEDIUM": strength(medium), "HIGH": strength(high),
		"GOST94": mac("GOST94"), "GOST89MAC": mac("GOST89MAC"), "GOST89": cipher("GOST89"),
	}
	for other, word := range map[string]string{"kEDH": "kDHE", "DH": "kDHE", "kEECDH": "kECDHE", "ECDH": "kECDHE",
		"DSS": "aDSS", "ECDSA": "aECDSA", "EDH": "DHE", "EECDH": "ECDHE"} {
		words[other] = words[word]
	}
	return words
}()
