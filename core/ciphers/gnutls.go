package ciphers

import (
	_ "embed"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"nurvik/core/tlswire"
)

//go:embed gnutls.txt
var gnutlsTable string

// ErrSyntax is a priority string that GnuTLS refuses whole.
var ErrSyntax = errors.New("GnuTLS refuses this priority string")

// GnuTLS is the library with what the machine's configuration sets for it.
type GnuTLS struct {
	System map[string]string // the priority strings of /etc/gnutls/config, by their names, such as SYSTEM
}

// kind is what a word of a priority string is about.
type kind int

const (
	versions kind = iota
	exchanges
	encryptions
	macs
	groups
	signatures
	kinds
)

// level is what an initial keyword stands for: lists in the order of preference.
type level [kinds][]string

func words(list string) []string { return strings.Fields(list) }

var (
	gnutlsVersions = words("TLS1.3 TLS1.2 TLS1.1 TLS1.0")
	gnutlsExchange = words("ECDHE-ECDSA ECDHE-RSA RSA DHE-RSA")
	gnutlsGroups   = words(
		"SECP256R1 SECP384R1 SECP521R1 X25519 X448 FFDHE2048 FFDHE3072 FFDHE4096 FFDHE6144 FFDHE8192")
	gnutlsUsual = words("AES-256-GCM CHACHA20-POLY1305 AES-256-CCM AES-256-CBC AES-128-GCM AES-128-CCM AES-128-CBC")
	gnutlsMACs  = words("SHA1 AEAD")

	gnutlsSign256 = words("RSA-SHA256 RSA-PSS-SHA256 RSA-PSS-RSAE-SHA256 ECDSA-SHA256 ECDSA-SECP256R1-SHA256 " +
		"EDDSA-ED25519")
	gnutlsSign384 = words("RSA-SHA384 RSA-PSS-SHA384 RSA-PSS-RSAE-SHA384 ECDSA-SHA384 ECDSA-SECP384R1-SHA384 " +
		"EDDSA-ED448 RSA-SHA512 RSA-PSS-SHA512 RSA-PSS-RSAE-SHA512 ECDSA-SHA512 ECDSA-SECP521R1-SHA512")
	gnutlsSigns = slices.Concat(gnutlsSign256, gnutlsSign384)
	gnutlsSHA1  = append(slices.Clone(gnutlsSigns), "RSA-SHA1", "ECDSA-SHA1")

	normal = level{gnutlsVersions, gnutlsExchange, gnutlsUsual, gnutlsMACs, gnutlsGroups, gnutlsSHA1}
)

// gnutlsLevels are the initial keywords (GnuTLS manual, "Priority strings").
var gnutlsLevels = map[string]level{
	"NONE": {}, "NORMAL": normal, "LEGACY": normal,
	"PERFORMANCE": {gnutlsVersions, words("RSA ECDHE-ECDSA ECDHE-RSA DHE-RSA"),
		words("AES-128-GCM AES-256-GCM CHACHA20-POLY1305 AES-128-CCM AES-256-CCM AES-128-CBC AES-256-CBC"),
		gnutlsMACs, gnutlsGroups, gnutlsSHA1},
	"PFS": {gnutlsVersions, words("ECDHE-ECDSA ECDHE-RSA DHE-RSA"), gnutlsUsual, gnutlsMACs, gnutlsGroups, gnutlsSHA1},
	"SECURE128": {gnutlsVersions, gnutlsExchange,
		words("AES-256-GCM CHACHA20-POLY1305 AES-256-CBC AES-256-CCM AES-128-GCM AES-128-CBC AES-128-CCM"),
		gnutlsMACs, gnutlsGroups, gnutlsSigns},
	"SECURE192": secure192, "SECURE256": secure192,
	"SUITEB128": {words("TLS1.2"), words("ECDHE-ECDSA"), words("AES-256-GCM AES-128-GCM"), words("AEAD"),
		words("SECP256R1 SECP384R1"), words("ECDSA-SHA256 ECDSA-SECP256R1-SHA256 ECDSA-SHA384 ECDSA-SECP384R1-SHA384")},
	"SUITEB192": {words("TLS1.2"), words("ECDHE-ECDSA"), words("AES-256-GCM"), words("AEAD"), words("SECP384R1"),
		words("ECDSA-SHA384 ECDSA-SECP384R1-SHA384")},
}

var secure192 = level{gnutlsVersions, gnutlsExchange,
	words("AES-256-GCM CHACHA20-POLY1305 AES-256-CBC AES-256-CCM"), words("AEAD"),
	words("SECP384R1 SECP521R1 FFDHE8192"), gnutlsSign384}

// gnutlsNames are all names of each kind, and prefixes what stands in front of them.
var (
	gnutlsNames = level{
		words("TLS1.3 TLS1.2 TLS1.1 TLS1.0 SSL3.0 DTLS1.2 DTLS1.0 DTLS0.9"),
		words("ECDHE-RSA ECDHE-ECDSA RSA DHE-RSA DHE-DSS PSK RSA-PSK DHE-PSK ECDHE-PSK SRP-DSS SRP-RSA SRP ANON-DH " +
			"ANON-ECDH VKO-GOST-12 RSA-EXPORT"),
		words("AES-256-CBC AES-192-CBC AES-128-CBC AES-128-GCM AES-192-GCM AES-256-GCM AES-128-CCM AES-256-CCM " +
			"AES-128-CCM-8 AES-256-CCM-8 ARCFOUR-128 ESTREAM-SALSA20-256 SALSA20-256 CAMELLIA-256-CBC " +
			"CAMELLIA-192-CBC CAMELLIA-128-CBC CHACHA20-POLY1305 CAMELLIA-128-GCM CAMELLIA-256-GCM 3DES-CBC DES-CBC " +
			"NULL"),
		words("SHA1 SHA256 SHA384 SHA512 SHA224 UMAC-96 UMAC-128 AEAD MD5"),
		words("SECP192R1 SECP224R1 SECP256R1 SECP384R1 SECP521R1 X25519 GC256B GC512A X448 FFDHE2048 FFDHE3072 " +
			"FFDHE4096 FFDHE6144 FFDHE8192 X25519-MLKEM768 SECP256R1-MLKEM768 SECP384R1-MLKEM1024"),
		gnutlsSHA1,
	}
	gnutlsPrefixes = [kinds][]string{versions: {"VERS-"}, groups: {"GROUP-", "CURVE-"}, signatures: {"SIGN-"}}
	gnutlsAll      = map[string]kind{"VERS-ALL": versions, "VERS-TLS-ALL": versions, "CIPHER-ALL": encryptions,
		"MAC-ALL": macs, "KX-ALL": exchanges, "GROUP-ALL": groups, "CURVE-ALL": groups, "SIGN-ALL": signatures}
	gnutlsIgnored = []string{"SIGN-", "COMP-", "CTYPE-", "VERS-DTLS", "SHA3-"}
)

// Priorities expands a priority string. The error wraps ErrSyntax where the library
// refuses the string.
func (g GnuTLS) Priorities(text string) (Allowed, error) { return g.priorities(text, 0) }

// deepest is how often a name of the system's configuration may stand for another.
const deepest = 8

func (g GnuTLS) priorities(text string, depth int) (Allowed, error) {
	out := Allowed{Level: NoLevel}
	fields := strings.Split(strings.TrimSpace(text[:min(len(text), 1<<16)]), ":")
	var now level
	for i, field := range fields {
		field = strings.TrimSpace(field)
		if name, isSystem := strings.CutPrefix(field, "@"); isSystem && i == 0 {
			text, found := g.system(name)
			if !found || depth == deepest {
				return out, fmt.Errorf("%w: %s is not in the system's configuration", ErrSyntax, field)
			}
			return g.priorities(strings.Join(append([]string{text}, fields[1:]...), ":"), depth+1)
		}
		if err := now.word(field, &out); err != nil {
			return out, err
		}
	}
	now.expand(&out)
	if len(out.Versions) == 0 || len(out.Suites)+len(out.Suites13) == 0 {
		return out, fmt.Errorf("%w: %w", ErrSyntax, ErrNoCipher)
	}
	return out, nil
}

// system finds the string for @NAME or @FIRST,SECOND.
func (g GnuTLS) system(names string) (string, bool) {
	for name := range strings.SplitSeq(names, ",") {
		if text, found := g.System[name]; found {
			return text, true
		}
	}
	return "", false
}

// word applies one word of a priority string.
func (l *level) word(word string, out *Allowed) error {
	upper := strings.ToUpper(word)
	if bulk, known := gnutlsLevels[upper]; known {
		l.add(bulk)
		return nil
	}
	refused := fmt.Errorf("%w at %s", ErrSyntax, strconv.Quote(word))
	if len(word) < 2 {
		return refused
	}
	sign, name := word[0], upper[1:]
	switch {
	case sign == '%':
		out.ServerOrder = out.ServerOrder || name == "SERVER_PRECEDENCE"
		return nil
	case sign != '+' && sign != '-' && sign != '!':
		return refused
	}
	if all, known := gnutlsAll[name]; known {
		(*l)[all] = nil
		if sign == '+' {
			(*l)[all] = normal[all]
		}
		if name == "VERS-TLS-ALL" && sign == '+' {
			(*l)[all] = words("TLS1.1 TLS1.0") // what the library makes of it
		}
		return nil
	}
	if bulk, known := gnutlsLevels[name]; known && sign == '+' {
		l.add(bulk)
		return nil
	}
	for k := range kinds {
		if short, known := gnutlsWord(k, name); known {
			(*l)[k] = slices.DeleteFunc(slices.Clone((*l)[k]), func(x string) bool { return x == short && sign != '+' })
			if sign == '+' {
				(*l)[k] = with((*l)[k], short)
			}
			return nil
		}
	}
	for _, prefix := range gnutlsIgnored {
		if strings.HasPrefix(name, prefix) {
			return nil
		}
	}
	return refused
}

// add appends what the other level has and this one has not.
func (l *level) add(bulk level) {
	for k := range kinds {
		for _, more := range bulk[k] {
			(*l)[k] = with((*l)[k], more)
		}
	}
}

// gnutlsWord is a name of the kind, without its prefix.
func gnutlsWord(k kind, name string) (short string, known bool) {
	if len(gnutlsPrefixes[k]) == 0 {
		return name, slices.Contains(gnutlsNames[k], name)
	}
	for _, prefix := range gnutlsPrefixes[k] {
		if short, has := strings.CutPrefix(name, prefix); has && slices.Contains(gnutlsNames[k], short) {
			return short, true
		}
	}
	return "", false
}

func with(list []string, more string) []string {
	if slices.Contains(list, more) {
		return list
	}
	return append(slices.Clone(list), more)
}

// gnutlsSuite is a suite by what priority strings call its parts.
type gnutlsSuite struct{ exchange, cipher, mac string }

type gnutlsImplemented struct {
	suite  tlswire.Suite
	oldest tlswire.Version
}

var gnutlsSuites = sync.OnceValue(func() map[gnutlsSuite]gnutlsImplemented {
	out := map[gnutlsSuite]gnutlsImplemented{}
	for line := range strings.Lines(gnutlsTable) {
		fields := strings.Fields(line)
		if strings.HasPrefix(line, "#") || len(fields) < 2 {
			continue
		}
		number, err := strconv.ParseUint(fields[0], 16, 16)
		if err != nil {
			panic("ciphers: gnutls.txt: " + err.Error()) // the file is compiled in
		}
		suite := tlswire.Suite(number)
		out[gnutlsParts(suite)] = gnutlsImplemented{suite, gnutlsVersion[fields[1]]}
	}
	return out
})

var gnutlsVersion = map[string]tlswire.Version{"SSL3.0": tlswire.SSL30, "TLS1.0": tlswire.TLS10,
	"TLS1.1": tlswire.TLS11,
	"TLS1.2": tlswire.TLS12, "TLS1.3": tlswire.TLS13}

// gnutlsParts derives the words of priority strings from the registered name.
func gnutlsParts(suite tlswire.Suite) gnutlsSuite {
	p := suite.Properties()
	s := gnutlsSuite{exchange: p.KeyExchange, cipher: strings.ToUpper(p.Cipher), mac: p.Hash}
	switch {
	case p.Authentication == "anonymous":
		s.exchange = "ANON-" + strings.TrimSuffix(p.KeyExchange, "E")
	case p.KeyExchange == "DHE" || p.KeyExchange == "ECDHE":
		s.exchange += "-" + p.Authentication
	case p.KeyExchange == "PSK-DHE":
		s.exchange = "DHE-PSK"
	case p.KeyExchange == "SRP" && p.Authentication != "SRP":
		s.exchange += "-" + p.Authentication
	}
	switch {
	case p.Cipher == "none":
		s.cipher = "NULL"
	case strings.HasPrefix(s.cipher, "RC4"):
		s.cipher = "ARCFOUR" + strings.TrimPrefix(s.cipher, "RC4")
	}
	switch {
	case p.Authenticated:
		s.mac = "AEAD"
	case p.Hash == "SHA":
		s.mac = "SHA1"
	}
	return s
}

// gnutlsSuites13 are the suites of TLS 1.3 by their cipher.
var gnutlsSuites13 = map[string]tlswire.Suite{"AES-128-GCM": 0x1301, "AES-256-GCM": 0x1302, "CHACHA20-POLY1305": 0x1303,
	"AES-128-CCM": 0x1304, "AES-128-CCM-8": 0x1305}

var gnutlsGroup = map[string]tlswire.Group{"SECP192R1": 19, "SECP224R1": 21, "SECP256R1": 23, "SECP384R1": 24,
	"SECP521R1": 25, "X25519": 29, "X448": 30, "FFDHE2048": 0x100, "FFDHE3072": 0x101, "FFDHE4096": 0x102,
	"FFDHE6144": 0x103, "FFDHE8192": 0x104, "X25519-MLKEM768": tlswire.X25519MLKEM768,
	"SECP256R1-MLKEM768": tlswire.SecP256r1MLKEM768, "SECP384R1-MLKEM1024": tlswire.SecP384r1MLKEM1024}

// without13 are words beside which the library switches TLS 1.3 off.
var without13 = words("RSA-PSK SRP SRP-RSA SRP-DSS NULL VKO-GOST-12")

// expand turns the lists into suites: by key exchange, then by cipher, then by MAC.
func (l *level) expand(out *Allowed) {
	if slices.ContainsFunc(append(slices.Clone(l[exchanges]), l[encryptions]...),
		func(word string) bool { return slices.Contains(without13, word) }) {
		(*l)[versions] = slices.DeleteFunc(slices.Clone(l[versions]), func(v string) bool { return v == "TLS1.3" })
	}
	for _, name := range l[versions] {
		if v, known := gnutlsVersion[name]; known && v > tlswire.SSL30 { // no build has SSL 3.0 any more
			out.Versions = append(out.Versions, v)
		}
	}
	slices.Sort(out.Versions)
	slices.Reverse(out.Versions)
	out.Groups = []tlswire.Group{}
	for _, name := range l[groups] {
		if g, known := gnutlsGroup[name]; known {
			out.Groups = append(out.Groups, g)
		}
	}
	out.Signatures = l[signatures]
	out.Suites13 = []tlswire.Suite{}
	newest := tlswire.Version(0)
	if len(out.Versions) > 0 {
		newest = out.Versions[0]
	}
	for _, cipher := range l[encryptions] {
		if s, known := gnutlsSuites13[cipher]; known && newest == tlswire.TLS13 && slices.Contains(l[macs], "AEAD") {
			out.Suites13 = append(out.Suites13, s)
		}
	}
	below13 := slices.DeleteFunc(slices.Clone(out.Versions), func(v tlswire.Version) bool { return v == tlswire.TLS13 })
	for _, exchange := range l[exchanges] {
		for _, cipher := range l[encryptions] {
			for _, mac := range l[macs] {
				s, known := gnutlsSuites()[gnutlsSuite{exchange, cipher, mac}]
				if known && len(below13) > 0 && below13[0] >= s.oldest {
					out.Suites = append(out.Suites, s.suite)
				}
			}
		}
	}
}
