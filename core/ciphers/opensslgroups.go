package ciphers

import (
	"slices"
	"strings"

	"nurvik/core/tlswire"
)

// opensslGroups are the names of groups, with those of curves that people write too (RFC 8422, 8446, 7919).
var opensslGroups = map[string]tlswire.Group{
	"p-256": 23, "prime256v1": 23, "secp256r1": 23, "p-384": 24, "secp384r1": 24, "p-521": 25, "secp521r1": 25,
	"x25519": 29, "x448": 30, "p-224": 21, "secp224r1": 21, "p-192": 19, "prime192v1": 19, "secp192r1": 19,
	"secp256k1": 22, "brainpoolp256r1": 26, "brainpoolp384r1": 27, "brainpoolp512r1": 28,
	"brainpoolp256r1tls13": 31, "brainpoolp384r1tls13": 32, "brainpoolp512r1tls13": 33,
	"ffdhe2048": 0x100, "ffdhe3072": 0x101, "ffdhe4096": 0x102, "ffdhe6144": 0x103, "ffdhe8192": 0x104,
	"x25519mlkem768": tlswire.X25519MLKEM768, "secp256r1mlkem768": tlswire.SecP256r1MLKEM768,
	"secp384r1mlkem1024": tlswire.SecP384r1MLKEM1024, "mlkem512": 0x0200, "mlkem768": 0x0201, "mlkem1024": 0x0202,
}

// DefaultGroups are those of the library where nothing is set, in its order.
func (l OpenSSL) DefaultGroups() []tlswire.Group {
	usual := []tlswire.Group{29, 23, 30, 25, 24, 0x100, 0x101, 0x102, 0x103, 0x104}
	switch {
	case l.Major > 3 || l.Major == 3 && l.Minor >= 5:
		return append([]tlswire.Group{tlswire.X25519MLKEM768}, usual...)
	case l.Major < 3:
		return usual[:5]
	}
	return usual
}

// Groups reads a list of groups. A name that the library does not know makes it refuse the list, unless a question mark
// stands in front of it (OpenSSL 3.3).
func (l OpenSSL) Groups(text string) (groups []tlswire.Group, unknown []string) {
	fields := strings.FieldsFunc(text, func(r rune) bool { return r == ':' || r == '/' }) // tuples are of OpenSSL 3.5
	for _, name := range fields {
		name = strings.TrimSpace(name)
		bare := strings.TrimLeft(name, "*?")
		if off, removed := strings.CutPrefix(bare, "-"); removed {
			gone := opensslGroups[strings.ToLower(off)]
			groups = slices.DeleteFunc(groups, func(g tlswire.Group) bool { return g == gone })
			continue
		}
		g, known := opensslGroups[strings.ToLower(bare)]
		switch {
		case strings.EqualFold(bare, "DEFAULT"):
			groups = append(groups, l.DefaultGroups()...)
		case known && (g < 0x0200 || l.Major > 3 || l.Major == 3 && l.Minor >= 5):
			groups = append(groups, g)
		case strings.Contains(name, "?"):
		case len(unknown) < most:
			unknown = append(unknown, name)
		}
	}
	return groups, unknown
}
