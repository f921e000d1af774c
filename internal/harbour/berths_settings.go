package harbour

import (
	"bytes"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"math/big"
	"net"
	"time"

	"nurvik/core/tlswire"
)

// suites limits a server to the suites.
func suites(list ...uint16) func(*tls.Config, *issuers, berth) error {
	return func(c *tls.Config, _ *issuers, _ berth) error { c.CipherSuites = list; return nil }
}

// byDefault serves another host's certificate to clients that do not name this one.
func byDefault(host string) func(*tls.Config, *issuers, berth) error {
	return func(c *tls.Config, i *issuers, b berth) error {
		other, err := berth{host: host}.certificate(i)
		if err != nil {
			return err
		}
		mine := c.Certificates[0]
		c.Certificates = nil // the library takes the first of them for clients without a name
		c.GetCertificate = func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
			if h.ServerName == b.fullName() {
				return &mine, nil
			}
			return other, nil
		}
		return nil
	}
}

// twoKinds serves a leaf with an EC key, and one with an RSA key to clients that cannot use it.
func twoKinds(c *tls.Config, i *issuers, b berth) error {
	b.key = rsaKey(2048)
	other, err := b.certificate(i)
	if err != nil {
		return err
	}
	c.Certificates[0].SignedCertificateTimestamps = [][]byte{promised(i.now)}
	c.Certificates = append(c.Certificates, *other)
	c.NextProtos = []string{"h2", "http/1.1"}
	return nil
}

// onlyGroup agrees keys in one group alone.
func onlyGroup(group tls.CurveID) func(*tls.Config, *issuers, berth) error {
	return func(c *tls.Config, _ *issuers, _ berth) error {
		c.CurvePreferences = []tls.CurveID{group}
		return nil
	}
}

// promised is a signed certificate timestamp of a log of the harbour's (RFC 6962, 3.2), whose signature nobody checks.
func promised(at time.Time) []byte {
	log := sha256.Sum256([]byte("the harbour's log"))
	out := binary.BigEndian.AppendUint64(append([]byte{0}, log[:]...), uint64(at.UnixMilli()))
	return append(out, 0, 0, 4, 3, 0, 2, 0x30, 0)
}

// oakley1024 is the second group of RFC 2409 (6.2).
func oakley1024() *big.Int {
	return prime("FFFFFFFFFFFFFFFFC90FDAA22168C234C4C6628B80DC1CD129024E088A67CC74" +
		"020BBEA63B139B22514A08798E3404DDEF9519B3CD3A431B302B0A6DF25F1437" +
		"4FE1356D6D51C245E485B576625E7EC6F44C42E9A637ED6B0BFF5CB6F406B7ED" +
		"EE386BFB5A899FA5AE9F24117C4B1FE649286651ECE65381FFFFFFFFFFFFFFFF")
}

// ffdhe2048 is the first group of RFC 7919 (appendix A.1).
func ffdhe2048() *big.Int {
	return prime("FFFFFFFFFFFFFFFFADF85458A2BB4A9AAFDC5620273D3CF1D8B9C583CE2D3695" +
		"A9E13641146433FBCC939DCE249B3EF97D2FE363630C75D8F681B202AEC4617A" +
		"D3DF1ED5D5FD65612433F51F5F066ED0856365553DED1AF3B557135E7F57C935" +
		"984F0C70E0E68B77E2A689DAF3EFE8721DF158A136ADE73530ACCA4F483A797A" +
		"BC0AB182B324FB61D108A94BB2C8E3FBB96ADAB760D7F4681D4F42A3DE394DF4" +
		"AE56EDE76372BB190B07A7C8EE0A6D709E02FCE1CDF7E2ECC03404CD28342F61" +
		"9172FE9CE98583FF8E4F1232EEF28183C3FE3B1B4C6FAD733BB5FCBC2EC22005" +
		"C58EF1837D1683B2C6F34A26C1B2EFFA886B423861285C97FFFFFFFFFFFFFFFF")
}

func prime(hexadecimal string) *big.Int {
	p, _ := new(big.Int).SetString(hexadecimal, 16) // a constant
	return p
}

// settingBerths are endpoints whose TLS settings are the matter: each fact that
// a visit learns has one for each of its values.
func settingBerths() []berth {
	return []berth{
		{host: "galley", about: "3DES and RC4 beside better suites", addresses: []string{"127.30.7.3"},
			key:    rsaKey(2048),
			config: suites(0xc02f, 0xc030, 0xc012, 0xc011)},
		{host: "yawl", about: "TLS 1.2 without forward secrecy", addresses: []string{"127.30.7.4"}, key: rsaKey(2048),
			max:    tls.VersionTLS12,
			config: suites(0x009c, 0x009d)},
		{host: "ketch", about: "no hybrid key exchange", addresses: []string{"127.30.7.5"},
			config: func(c *tls.Config, _ *issuers, _ berth) error {
				c.CurvePreferences = []tls.CurveID{tls.X25519, tls.CurveP256}
				return nil
			}},
		{host: "brig", about: "everything that was ever allowed", addresses: []string{"127.30.7.6"}, key: rsaKey(2048),
			wire: &wire{
				versions: []tlswire.Version{tlswire.SSL20, tlswire.SSL30, tlswire.TLS10}, clientOrder: true,
				plainHello: true, compression: true,
				suites: []string{"TLS_RSA_WITH_AES_128_CBC_SHA", "TLS_RSA_WITH_DES_CBC_SHA",
					"TLS_RSA_EXPORT_WITH_RC4_40_MD5", "TLS_RSA_WITH_NULL_SHA", "TLS_DH_anon_WITH_AES_128_CBC_SHA"}}},
		{host: "quill", about: "TLS 1.3 with the group SecP256r1MLKEM768 alone", addresses: []string{"127.30.7.28"},
			min: tls.VersionTLS13, config: onlyGroup(tls.SecP256r1MLKEM768)},
		{host: "trestle", about: "TLS 1.3 with the group SecP384r1MLKEM1024 alone", addresses: []string{"127.30.7.29"},
			min: tls.VersionTLS13, config: onlyGroup(tls.SecP384r1MLKEM1024)},
		{host: "hush", about: "TLS 1.3, silent at hellos with new things", addresses: []string{"127.30.7.30"},
			wire: &wire{modern: &tls.Config{MinVersion: tls.VersionTLS13}, mute: true}},
		{host: "veto", about: "TLS 1.3, hangs up on application protocols after its ServerHello",
			addresses: []string{"127.30.7.31"},
			wire:      &wire{modern: &tls.Config{MinVersion: tls.VersionTLS13}, picky: true}},
		{host: "barge", about: "DHE with a small prime, and 3DES first", addresses: []string{"127.30.7.7"},
			key: rsaKey(2048), wire: &wire{
				versions:  []tlswire.Version{tlswire.TLS12},
				prime:     new(big.Int).SetBytes(bytes.Repeat([]byte{0xfb}, 96)),
				heartbeat: true,
				suites:    []string{"TLS_DHE_RSA_WITH_3DES_EDE_CBC_SHA", "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"}}},
		{host: "cutter", about: "does not answer hellos with new things", addresses: []string{"127.30.7.8"},
			key: rsaKey(2048), wire: &wire{
				versions: []tlswire.Version{tlswire.TLS12}, stubborn: true,
				suites: []string{"TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"}}},
		{host: "dory", about: "chooses what was not offered", addresses: []string{"127.30.7.9"}, key: rsaKey(2048),
			wire: &wire{
				versions: []tlswire.Version{tlswire.TLS12}, willful: "TLS_AES_128_CCM_SHA256"}},
		{host: "decoy", about: "another's certificate", addresses: []string{"127.30.7.10"},
			config: func(c *tls.Config, i *issuers, _ berth) (err error) {
				c.Certificates[0].PrivateKey, err = i.keys.ec("decoy")
				return err
			}},
		{host: "arcade", about: "another certificate for clients without a name", addresses: []string{"127.30.7.11"},
			config: byDefault("mall")},
		{host: "twins", about: "two addresses with two certificates", addresses: []string{"127.30.7.12", "127.30.7.13"},
			config: twinned},
		{host: "isthmus", about: "another server, with another certificate, for those who come from outside",
			addresses: []string{"127.30.7.40"}, outside: "127.30.7.41", config: twinned},
		{host: "landing", about: "plain HTTP without a redirection, and no strict transport",
			addresses: []string{"127.30.7.14"}, loose: true, plain: true},
		{host: "winch", about: "TLS 1.0 and 1.1 only", addresses: []string{"127.30.7.1"}, min: tls.VersionTLS10,
			max: tls.VersionTLS11},
		{host: "chandler", about: "TLS 1.0 to 1.3", addresses: []string{"127.30.7.2"}, min: tls.VersionTLS10},
		{host: "lodestar", about: "a TLSA record that fits", addresses: []string{"127.30.7.24"}, pinned: "leaf"},
		{host: "drogue", about: "a TLSA record that does not fit, and that nobody signed",
			addresses: []string{"127.30.7.25"}, pinned: "another", unsigned: true},
		{host: "moorage", about: "no issuer may issue", addresses: []string{"127.30.7.26"}, issuers: []string{";"}},
		{host: "hatch", about: "no session goes on", addresses: []string{"127.30.7.15"},
			config: func(c *tls.Config, _ *issuers, _ berth) error { c.SessionTicketsDisabled = true; return nil }},
		{host: "shipping", about: "asks for a client certificate of the inner issuer",
			addresses: []string{"127.30.7.16"},
			config: func(c *tls.Config, i *issuers, _ berth) error {
				ca, err := x509.ParseCertificate(i.inner.DER)
				if err != nil {
					return err
				}
				c.ClientAuth, c.ClientCAs = tls.RequestClientCert, x509.NewCertPool()
				c.ClientCAs.AddCert(ca)
				return nil
			}},
		{host: "catamaran", about: "an EC and an RSA key, timestamps, HTTP/2", addresses: []string{"127.30.7.17"},
			config: twoKinds},
		{host: "strongroom", about: "refuses clients that name another", addresses: []string{"127.30.7.18"},
			config: func(c *tls.Config, _ *issuers, b berth) error {
				mine := c.Certificates[0]
				c.Certificates = nil
				c.GetCertificate = func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
					if h.ServerName != b.fullName() {
						return nil, errors.New("nobody of that name is here")
					}
					return &mine, nil
				}
				return nil
			}},
		{host: "promenade", about: "plain HTTP leads to HTTPS", addresses: []string{"127.30.7.19"}, plain: true,
			redirects: true},
		{host: "bilander", about: "DHE in the group of 1024 bits that everyone once used",
			addresses: []string{"127.30.7.20"}, key: rsaKey(2048), wire: &wire{
				versions: []tlswire.Version{tlswire.TLS12}, prime: oakley1024(),
				suites: []string{"TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"}}},
		{host: "felucca", about: "DHE in a group of RFC 7919", addresses: []string{"127.30.7.21"}, key: rsaKey(2048),
			wire: &wire{
				versions: []tlswire.Version{tlswire.TLS12}, prime: ffdhe2048(),
				suites: []string{"TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"}}},
		{host: "siren", about: "an application protocol that steers terminals", addresses: []string{"127.30.7.27"},
			key: rsaKey(2048), wire: &wire{versions: []tlswire.Version{tlswire.TLS12}, prime: ffdhe2048(),
				protocol: "h2\x00\x1b]0;owned\x07\u202e", suites: []string{"TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"}}},
		{host: "clipper", about: "no downgrade marker, and no large hellos", addresses: []string{"127.30.7.22"},
			key: rsaKey(2048), wire: &wire{
				versions: []tlswire.Version{tlswire.TLS12}, modern: &tls.Config{MinVersion: tls.VersionTLS13},
				most:   4096,
				suites: []string{"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256"},
				groups: []tlswire.Group{tlswire.X25519, tlswire.P256}}},
		{host: "schooner", about: "the client's order of groups, and encrypts first",
			addresses: []string{"127.30.7.23"}, key: rsaKey(2048), wire: &wire{
				versions: []tlswire.Version{tlswire.TLS12}, clientOrder: true, macLast: true,
				suites: []string{"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256", "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA384"},
				groups: []tlswire.Group{tlswire.X25519, tlswire.P256}}},
	}
}

// twinned serves a certificate of its own on every address but the first.
func twinned(c *tls.Config, i *issuers, b berth) error {
	b.leaf = lasting(-19*dayLong, -19*dayLong+leafLifetime)
	other, err := b.certificate(i)
	if err != nil {
		return err
	}
	first := c.Certificates[0]
	c.GetCertificate = func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
		if host, _, _ := net.SplitHostPort(h.Conn.LocalAddr().String()); host == b.addresses[0] {
			return &first, nil
		}
		return other, nil
	}
	return nil
}
