package ciphers

import (
	_ "embed"
	"path"
	"slices"
	"strings"
	"sync"

	"nurvik/core/tlswire"
)

//go:embed java.txt
var javaTable string

// javaSuite is a suite as Java's TLS (JSSE) calls it.
type javaSuite struct {
	name       string
	suite      tlswire.Suite
	algorithms []string // the names by which disabled algorithms meet it, in upper case
}

// javaSuites are all that a runtime implements, in its own order of preference.
var javaSuites = sync.OnceValue(func() []javaSuite {
	var out []javaSuite
	for name := range strings.Lines(javaTable) {
		name = strings.TrimSpace(name)
		suite, known := tlswire.SuiteNamed(registered(name))
		if !known {
			panic("ciphers: java.txt: " + name) // the file is compiled in
		}
		out = append(out, javaSuite{name, suite, javaAlgorithms(name, suite)})
	}
	return out
})

// registered is the name of the registry: Java writes SSL_ before the oldest ones.
func registered(name string) string {
	if rest, old := strings.CutPrefix(name, "SSL_"); old {
		return "TLS_" + rest
	}
	return name
}

// javaDefaults is how many of them a runtime enables where nothing is set; those behind are only supported.
const javaDefaults = 55

// javaAlgorithms are the names into which a runtime takes a suite apart.
func javaAlgorithms(name string, suite tlswire.Suite) []string {
	p := suite.Properties()
	out := append([]string{name}, cipherParts(p)...)
	if p.KeyExchange == "any" {
		return upper(append(out, p.Hash))
	}
	exchange, rest, _ := strings.Cut(strings.TrimPrefix(registered(name), "TLS_"), "_WITH_")
	cipher := rest[:strings.LastIndexByte(rest, '_')]
	if p.Cipher != "ChaCha20-Poly1305" {
		out = append(out, cipher)
	}
	out = append(out, javaMAC(p)...)
	if p.Cipher != "DES-40-CBC" || p.KeyExchange == "RSA" { // of the others a runtime knows nothing but the name
		out = append(append(out, exchange), javaExchange(p)...)
	}
	return upper(out)
}

// javaExchange are the parts of the key exchange.
func javaExchange(p tlswire.SuiteProperties) []string {
	var out []string
	switch p.KeyExchange {
	case "DHE":
		out = append(out, "DHE", "DH", "DiffieHellman")
	case "DH":
		out = append(out, "DH", "DiffieHellman")
	default:
		out = append(out, p.KeyExchange)
	}
	switch p.Authentication {
	case "anonymous":
		out = append(out, "anon", p.KeyExchange+"_anon")
	case "DSS":
		out = append(out, "DSS", "DSA")
	default:
		out = append(out, p.Authentication)
	}
	return out
}

// javaMAC are the names of the hash: of the MAC, and of the pseudorandom function of TLS 1.2 where the suite may be
// used there.
func javaMAC(p tlswire.SuiteProperties) []string {
	out := []string{"SHA256"}
	switch {
	case p.Hash == "SHA384":
		out[0] = "SHA384"
	case p.Export, p.Cipher == "DES-CBC":
		out = nil
	}
	switch {
	case p.Authenticated:
	case p.Hash == "SHA":
		out = append(out, "SHA1", "SHA-1", "HmacSHA1")
	default:
		out = append(out, p.Hash, "Hmac"+p.Hash)
	}
	return out
}

func cipherParts(p tlswire.SuiteProperties) []string {
	var out []string
	switch {
	case p.Cipher == "none":
		return []string{"NULL"}
	case strings.HasPrefix(p.Cipher, "AES"):
		out = append(out, "AES")
	case strings.HasPrefix(p.Cipher, "RC4"):
		out = append(out, "RC4")
	case strings.HasPrefix(p.Cipher, "3DES"):
		out = append(out, "DESede")
	case strings.HasPrefix(p.Cipher, "DES"):
		out = append(out, "DES")
	default:
		out = append(out, p.Cipher)
	}
	for _, mode := range []string{"GCM", "CBC"} {
		if strings.HasSuffix(p.Cipher, mode) {
			out = append(out, mode)
		}
	}
	if p.Cipher == "DES-40-CBC" {
		out = append(out, "DES40_CBC", "DES_CBC_40", "CBC")
	}
	return out
}

func upper(names []string) []string {
	for i := range names {
		names[i] = strings.ToUpper(names[i])
	}
	return names
}

// Java is a runtime.
type Java struct {
	Major    int    // such as 17
	Disabled string // jdk.tls.disabledAlgorithms, as the runtime's java.security has it
}

// JavaDefault is what Debian's runtimes disable where nothing else is set.
const JavaDefault = "SSLv3, TLSv1, TLSv1.1, DTLSv1.0, RC4, DES, MD5withRSA, DH keySize < 1024, EC keySize < 224, " +
	"3DES_EDE_CBC, anon, NULL, ECDH"

// disabled are the texts of the list that stand for an algorithm as a whole, in upper case.
func (j Java) disabled() []string {
	var out []string
	for text := range strings.SplitSeq(j.Disabled, ",") {
		text = strings.TrimSpace(text)
		if text != "" && !strings.ContainsAny(text, " \t") { // one with a condition holds for keys
			out = append(out, strings.ToUpper(text))
		}
	}
	return out
}

func (s javaSuite) offBy(disabled []string, patterns bool) bool {
	return slices.ContainsFunc(disabled, func(d string) bool {
		if patterns && strings.Contains(d, "*") {
			matched, err := path.Match(d, strings.ToUpper(s.name))
			return err == nil && matched
		}
		return slices.Contains(s.algorithms, d)
	})
}

// supported are the suites that the runtime takes, in its order.
func (j Java) supported() []javaSuite {
	disabled := j.disabled()
	return slices.DeleteFunc(slices.Clone(javaSuites()),
		func(s javaSuite) bool { return s.offBy(disabled, j.Major >= 24) })
}

// Supported are the names of the suites that the runtime takes.
func (j Java) Supported() []string {
	var out []string
	for _, s := range j.supported() {
		out = append(out, s.name)
	}
	return out
}

// javaVersions are the names of versions, newest first.
var javaVersions = []struct {
	name    string
	version tlswire.Version
}{{"TLSv1.3", tlswire.TLS13}, {"TLSv1.2", tlswire.TLS12}, {"TLSv1.1", tlswire.TLS11}, {"TLSv1", tlswire.TLS10},
	{"SSLv3", tlswire.SSL30}}

// Versions are those of the wanted ones that the runtime does not disable, newest first. Names that mean nothing are
// unknown.
func (j Java) Versions(wanted []string) (versions []tlswire.Version, unknown []string) {
	disabled := j.disabled()
	for _, v := range javaVersions {
		if slices.Contains(wanted, v.name) && !slices.Contains(disabled, strings.ToUpper(v.name)) {
			versions = append(versions, v.version)
		}
	}
	for _, name := range wanted {
		known := name == "SSLv2Hello"
		for _, v := range javaVersions {
			known = known || v.name == name
		}
		if !known {
			unknown = append(unknown, name)
		}
	}
	return versions, unknown
}

// Default is what a runtime enables where nothing is set.
func (j Java) Default() Allowed {
	names := make([]string, 0, javaDefaults)
	for _, s := range javaSuites()[:javaDefaults] {
		names = append(names, s.name)
	}
	a := j.List(names)
	a.Unknown = nil
	return a
}

// List takes a list of names in the order of preference. Names that the runtime does not know, or disables, are not
// used.
func (j Java) List(names []string) Allowed {
	out := Allowed{Level: NoLevel, Suites13: []tlswire.Suite{}}
	supported := j.supported()
	for _, name := range names {
		at := slices.IndexFunc(supported, func(s javaSuite) bool { return registered(s.name) == registered(name) })
		switch {
		case at < 0 && slices.ContainsFunc(javaSuites(),
			func(s javaSuite) bool { return registered(s.name) == registered(name) }):
		case at < 0:
			if len(out.Unknown) < most {
				out.Unknown = append(out.Unknown, name)
			}
		case supported[at].suite>>8 == 0x13:
			out.Suites13 = append(out.Suites13, supported[at].suite)
		default:
			out.Suites = append(out.Suites, supported[at].suite)
		}
	}
	return out
}
