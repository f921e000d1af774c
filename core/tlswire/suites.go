package tlswire

import "strings"

// SuiteProperties is what a cipher suite's registered name says of it.
type SuiteProperties struct {
	KeyExchange    string // RSA, DH, DHE, ECDH, ECDHE, PSK …; "any" in TLS 1.3
	Authentication string // RSA, ECDSA, DSS, PSK, anonymous …; "any" in TLS 1.3
	Cipher         string // such as AES-128-GCM
	Strength       int    // of the cipher, in bits; 0 for none
	Hash           string // of the PRF or the MAC, as named
	ForwardSecrecy bool
	Authenticated  bool // authenticated encryption (AEAD)
	Export         bool // weakened on purpose
	Signalling     bool // no suite, but a signal in the list
	Status         Status
}

// Status is what the standards say of a suite.
type Status string

// The statuses, from RFC 9325, section 4.2, RFC 7465, RFC 8996 and RFC 9155.
const (
	Recommended Status = "recommended"
	Legacy      Status = "legacy" // allowed, and better is to be had
	Weak        Status = "weak"   // not to be used
	Broken      Status = "broken" // no protection
)

// ciphers are the names of ciphers in suite names, the longer before those that they contain.
var ciphers = []struct {
	name, cipher string
	strength     int
	aead         bool
}{
	{"NULL", "none", 0, false},
	{"RC4_40", "RC4-40", 40, false}, {"RC4_56", "RC4-56", 56, false}, {"RC4_128", "RC4-128", 128, false},
	{"RC2_CBC_40", "RC2-40-CBC", 40, false}, {"RC2_CBC_56", "RC2-56-CBC", 56, false},
	{"DES40_CBC", "DES-40-CBC", 40, false}, {"DES_CBC_40", "DES-40-CBC", 40, false},
	{"3DES_EDE_CBC", "3DES-CBC", 112, false}, {"DES_CBC", "DES-CBC", 56, false}, {"IDEA_CBC", "IDEA-CBC", 128, false},
	{"SEED_CBC", "SEED-CBC", 128, false},
	{"AES_128_GCM", "AES-128-GCM", 128, true}, {"AES_256_GCM", "AES-256-GCM", 256, true},
	{"AES_128_CCM_8", "AES-128-CCM-8", 128, true}, {"AES_256_CCM_8", "AES-256-CCM-8", 256, true},
	{"AES_128_CCM", "AES-128-CCM", 128, true}, {"AES_256_CCM", "AES-256-CCM", 256, true},
	{"AES_128_OCB", "AES-128-OCB", 128, true}, {"AES_256_OCB", "AES-256-OCB", 256, true},
	{"AES_128_CBC", "AES-128-CBC", 128, false}, {"AES_256_CBC", "AES-256-CBC", 256, false},
	{"CAMELLIA_128_GCM", "Camellia-128-GCM", 128, true}, {"CAMELLIA_256_GCM", "Camellia-256-GCM", 256, true},
	{"CAMELLIA_128_CBC", "Camellia-128-CBC", 128, false}, {"CAMELLIA_256_CBC", "Camellia-256-CBC", 256, false},
	{"ARIA_128_GCM", "ARIA-128-GCM", 128, true}, {"ARIA_256_GCM", "ARIA-256-GCM", 256, true},
	{"ARIA_128_CBC", "ARIA-128-CBC", 128, false}, {"ARIA_256_CBC", "ARIA-256-CBC", 256, false},
	{"CHACHA20_POLY1305", "ChaCha20-Poly1305", 256, true}, {"AEGIS_256", "AEGIS-256", 256, true},
	{"AEGIS_128L", "AEGIS-128L", 128, true},
	{"SM4_GCM", "SM4-GCM", 128, true}, {"SM4_CCM", "SM4-CCM", 128, true},
	{"KUZNYECHIK_CTR_OMAC", "Kuznyechik-CTR", 256, false}, {"MAGMA_CTR_OMAC", "Magma-CTR", 256, false},
	{"KUZNYECHIK_MGM_L", "Kuznyechik-MGM-L", 256, true}, {"MAGMA_MGM_L", "Magma-MGM-L", 256, true},
	{"KUZNYECHIK_MGM_S", "Kuznyechik-MGM-S", 256, true}, {"MAGMA_MGM_S", "Magma-MGM-S", 256, true},
	{"28147_CNT_IMIT", "GOST 28147-89", 256, false},
}

// Properties reads the suite's name. A suite that is not registered has none but its status, which is weak.
func (s Suite) Properties() SuiteProperties {
	name, known := suiteNames()[s]
	p := SuiteProperties{Status: Weak}
	if !known {
		return p
	}
	if strings.HasSuffix(name, "_SCSV") {
		return SuiteProperties{Signalling: true}
	}
	rest := strings.TrimPrefix(name, "TLS_")
	exchange, rest, split := strings.Cut(rest, "_WITH_")
	if !split { // TLS 1.3 names, and those that authenticate only (RFC 9150)
		rest, exchange = strings.TrimPrefix(name, "TLS_"), ""
		p.KeyExchange, p.Authentication, p.ForwardSecrecy = "any", "any", true
	} else {
		p.exchange(exchange)
	}
	p.Cipher = "none"
	for _, c := range ciphers {
		if at := strings.Index(rest, c.name); at == 0 {
			p.Cipher, p.Strength, p.Authenticated = c.cipher, c.strength, c.aead
			rest = strings.TrimPrefix(rest[len(c.name):], "_")
			break
		}
	}
	p.Hash = rest
	if rest == "" && p.Authenticated { // CCM suites of RFC 6655 and 7251 leave the hash out
		p.Hash = "SHA256"
	}
	p.Status = p.status()
	return p
}

// exchange reads the part of the name before WITH.
func (p *SuiteProperties) exchange(text string) {
	if before, export := strings.CutSuffix(strings.TrimSuffix(text, "1024"), "_EXPORT"); export {
		text, p.Export = before, true
	}
	method, authentication, both := strings.Cut(text, "_")
	switch {
	case text == "NULL":
		method, authentication = "none", "none"
	case !both && text == "RSA":
		authentication = "RSA"
	case !both:
		authentication = text
	case authentication == "anon":
		authentication = "anonymous"
	}
	switch {
	case strings.HasPrefix(text, "GOSTR"):
		method, authentication = "GOST", "GOST"
	case strings.HasPrefix(text, "SRP"):
		method, authentication = "SRP", strings.TrimPrefix(strings.TrimPrefix(text, "SRP_SHA"), "_")
		if authentication == "" {
			authentication = "SRP"
		}
	case text == "RSA_PSK", text == "PSK_DHE":
		method, authentication = strings.ReplaceAll(text, "_", "-"), "PSK"
	}
	p.KeyExchange, p.Authentication = method, authentication
	p.ForwardSecrecy = method == "DHE" || method == "ECDHE" || authentication == "anonymous" || method == "PSK-DHE" ||
		method == "ECCPWD"
}

// status follows RFC 9325, section 4.2, and the RFCs that forbid single ciphers.
func (p SuiteProperties) status() Status {
	switch {
	case p.Cipher == "none", p.Authentication == "anonymous", p.Export, p.Strength < 64: // RFC 9325, 4.1
		return Broken
	// RFC 7465, 5469, 9155
	case strings.HasPrefix(p.Cipher, "RC4"), p.Strength < 128, p.Cipher == "IDEA-CBC", p.Hash == "MD5":
		return Weak
	case p.KeyExchange == "any", p.ForwardSecrecy && p.Authenticated:
		return Recommended
	}
	return Legacy
}
