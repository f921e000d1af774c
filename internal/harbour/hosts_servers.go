package harbour

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"strings"
	"time"

	"github.com/pavlo-v-chernykh/keystore-go/v4"
	"github.com/youmark/pkcs8"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/forge"
)

// quay is a web server: what belongs together and what does not.
func (m *machines) quay() {
	const ssl = "quay/etc/ssl"
	m.pair(ssl, m.set("quay"))
	bollard := m.set("bollard")
	m.public(ssl+"/bollard.crt", bollard.certificatePEM())
	m.private(ssl+"/bollard.key", m.issued("bollard", "bollard of last year", 0, nil).keyPEM())

	// Last year's and this year's set, in directories and under nearly the same name.
	m.pair(ssl+"/2025", m.issued("fender", "fender of last year", -300*dayLong, nil))
	m.pair(ssl+"/2026", m.set("fender"))
	m.pair(ssl, m.issued("mast", "mast", -90*dayLong, nil))
	renewed := m.issued("mast", "mast, renewed", -10*dayLong, nil)
	m.public(ssl+"/mast-new.crt", renewed.certificatePEM())
	m.private(ssl+"/mast-new.key", renewed.keyPEM())
	lantern := m.issued("lantern", "lantern", -100*dayLong, nil)
	m.public(ssl+"/lantern-2025.crt", lantern.certificatePEM())
	m.public(ssl+"/lantern-2026.crt", m.issued("lantern", "lantern", -5*dayLong, nil).certificatePEM())
	m.private(ssl+"/lantern.key", lantern.keyPEM())

	// Left over, and waiting.
	jetty := m.set("jetty")
	m.public(ssl+"/renewal/jetty.csr", block("CERTIFICATE REQUEST", m.request(jetty)))
	m.private(ssl+"/renewal/jetty.key", jetty.keyPEM())
	m.private(ssl+"/spare.key", m.set("spare").keyPEM())
	m.public(ssl+"/davit.crt", m.set("davit").certificatePEM())

	// Copies: one where everyone sees it, one behind a closed door.
	windlass := m.set("windlass")
	m.pair(ssl, windlass)
	m.private("quay/srv/backup/windlass.key", windlass.keyPEM())
	hawser := m.set("hawser")
	m.private("quay/root/hawser.key", hawser.keyPEM())
	m.private("quay/root/hawser-combined.pem", hawser.keyPEM(), hawser.certificatePEM())
	m.closed = append(m.closed, "quay/root", "quay/etc/ssl/hidden")

	// Keys that others can read.
	ferry, cable, chain, spar := m.set("ferry"), m.set("cable"), m.set("anchor-chain"), m.set("spar")
	m.public(ssl+"/exposed/ferry.crt", ferry.certificatePEM())
	m.public(ssl+"/exposed/ferry.key", ferry.keyPEM())
	m.public(ssl+"/exposed/cable.crt", cable.certificatePEM())
	m.public(ssl+"/exposed/cable.key", block("ENCRYPTED PRIVATE KEY", m.encrypted(cable)))
	m.public(ssl+"/exposed/spar.crt", spar.certificatePEM())
	m.put(ssl+"/exposed/spar.key", 0o640, spar.keyPEM())
	m.public(ssl+"/hidden/anchor-chain.crt", chain.certificatePEM())
	m.public(ssl+"/hidden/anchor-chain.key", chain.keyPEM())
	m.pair("quay/var/www/html", m.set("pennant"))
}

func (m *machines) encrypted(s set) []byte {
	if m.err != nil {
		return nil
	}
	return m.bytes(pkcs8.MarshalPrivateKey(s.key, []byte(Password),
		&pkcs8.Opts{Cipher: pkcs8.AES256CBC, KDFOpts: pkcs8.PBKDF2Opts{SaltSize: 16, IterationCount: 2000,
			HMACHash: crypto.SHA256}}))
}

// gatehouse runs application servers: keystores and keys of every kind.
func (m *machines) gatehouse() {
	if m.err != nil {
		return
	}
	root := try[*x509.Certificate](m)(x509.ParseCertificate(m.issuers.outerRoot.DER))
	store := func(path string, encoder *pkcs12.Encoder, password string, s set) {
		if m.err == nil {
			leaf := try[*x509.Certificate](m)(x509.ParseCertificate(s.certificate))
			m.private("gatehouse/"+path, m.bytes(encoder.Encode(s.key, leaf, []*x509.Certificate{root}, password)))
		}
	}
	store("stores/barrier.p12", pkcs12.Modern, Password, m.set("barrier"))
	store("stores/wicket.pfx", pkcs12.LegacyRC2, Password, m.set("wicket"))
	store("stores/portal.p12", pkcs12.LegacyDES, Password, m.set("portal"))
	store("stores/hatch.p12", pkcs12.Passwordless, "", m.set("hatch"))
	store("stores/forgotten.p12", pkcs12.Modern, "nobody remembers this", m.set("forgotten"))
	m.public("gatehouse/stores/anchors.p12", m.bytes(pkcs12.Modern.EncodeTrustStore([]*x509.Certificate{root},
		Password)))
	m.private("gatehouse/stores/turnkey.jks", m.jks(m.set("turnkey"), m.set("turnkey-two")))
	portcullis := m.set("portcullis")
	m.private("gatehouse/stores/portcullis.jceks", m.bytes(forge.JCEKS(Password,
		forge.JCEKSEntry{Alias: "portcullis", PKCS8: portcullis.pkcs8, Chain: [][]byte{portcullis.certificate}},
		forge.JCEKSEntry{Alias: "outer", Chain: [][]byte{m.issuers.outerRoot.DER}},
		forge.JCEKSEntry{Alias: "session", Secret: forge.JavaSecret()})))

	// The keystore was not renewed with key and certificate.
	m.pair("gatehouse/turnstile", m.set("turnstile"))
	store("turnstile/turnstile.p12", pkcs12.Modern, Password,
		m.issued("turnstile", "turnstile of last year", -120*dayLong, nil))

	m.keys("gatehouse/keys")
}

// jks writes two keys and an anchor with the library that is in use for it.
func (m *machines) jks(sets ...set) []byte {
	if m.err != nil {
		return nil
	}
	store := keystore.New()
	certificate := func(der []byte) keystore.Certificate { return keystore.Certificate{Type: "X509", Content: der} }
	keep := func(err error) {
		if m.err == nil {
			m.err = err
		}
	}
	for _, s := range sets {
		keep(store.SetPrivateKeyEntry(s.name, keystore.PrivateKeyEntry{CreationTime: m.issuers.now, PrivateKey: s.pkcs8,
			CertificateChain: []keystore.Certificate{certificate(s.certificate)}}, []byte(Password)))
	}
	keep(store.SetTrustedCertificateEntry("outer", keystore.TrustedCertificateEntry{CreationTime: m.issuers.now,
		Certificate: certificate(m.issuers.outerRoot.DER)}))
	var out bytes.Buffer
	keep(store.Store(&out, []byte(Password)))
	return out.Bytes()
}

// keys are the structures that private keys come in, each with its certificate.
func (m *machines) keys(directory string) {
	write := func(s set, suffix string, key []byte) {
		m.public(directory+"/"+s.name+".crt", s.certificatePEM())
		m.private(directory+"/"+s.name+suffix, key)
	}
	rsaSet := func(name string) (set, []byte) {
		key := try[crypto.Signer](m)(m.issuers.keys.rsa("host "+name, 2048))
		s := m.certified(name, key, -20*dayLong, nil)
		if m.err != nil {
			return s, nil
		}
		return s, pkcs1(key)
	}
	bolt, boltDER := rsaSet("bolt")
	write(bolt, ".key", block("RSA PRIVATE KEY", boltDER))
	rivet, rivetDER := rsaSet("rivet")
	write(rivet, ".key.der", rivetDER)
	old, oldDER := rsaSet("clasp")
	if m.err != nil {
		return
	}
	//lint:ignore SA1019 old files are like this
	legacy := try[*pem.Block](m)(x509.EncryptPEMBlock(rand.Reader, "RSA PRIVATE KEY", oldDER, []byte(Password),
		x509.PEMCipherAES128))
	write(old, ".key", pem.EncodeToMemory(legacy))
	hinge := m.set("hinge")
	sec1 := m.bytes(marshalEC(hinge.key))
	write(hinge, ".key", append(block("EC PARAMETERS", []byte{6, 8, 0x2a, 0x86, 0x48, 0xce, 0x3d, 3, 1, 7}),
		block("EC PRIVATE KEY", sec1)...))
	latch := m.set("latch")
	write(latch, ".key.der", m.bytes(marshalEC(latch.key)))
	lock := m.set("lock")
	write(lock, ".key", block("ENCRYPTED PRIVATE KEY", m.encrypted(lock)))
	tumbler := m.set("tumbler")
	write(tumbler, ".p8", m.encrypted(tumbler))
	spindle := m.set("spindle")
	write(spindle, ".p8", spindle.pkcs8)
}

// crane is set up by automation: material in the values of documents.
func (m *machines) crane() {
	inBase64 := func(data []byte) string { return base64.StdEncoding.EncodeToString(data) }
	jib, hook, winchman, boom := m.set("jib"), m.set("hook"), m.set("winchman"), m.set("boom")
	m.private("crane/secret.yaml",
		[]byte("kind: Secret\nmetadata:\n  name: jib-tls\ndata:\n  tls.crt: "+
			inBase64(jib.certificatePEM())+"\n  tls.key: "+inBase64(jib.keyPEM())+"\n"))
	indented := func(text []byte) string {
		return "    " + strings.ReplaceAll(strings.TrimSpace(string(text)), "\n", "\n    ") + "\n"
	}
	m.private("crane/group-vars.yml",
		[]byte("harbour:\n  hook_certificate: |\n"+indented(hook.certificatePEM())+"  hook_key: "+
			"|\n"+indented(hook.keyPEM())))
	document := map[string]any{"service": "winchman",
		"tls": map[string]string{"certificate": string(winchman.certificatePEM()), "key": string(winchman.keyPEM())}}
	m.private("crane/winchman.json", m.bytes(json.MarshalIndent(document, "", "  ")))
	escaped := func(text []byte) string { return strings.ReplaceAll(string(text), "\n", `\n`) }
	m.private("crane/boom.env",
		[]byte("# read at start\nBOOM_PORT=8443\nBOOM_CERTIFICATE=\""+
			escaped(boom.certificatePEM())+"\"\nBOOM_KEY=\""+escaped(boom.keyPEM())+"\"\n"))
}

// revocations is a list of the outer root, of today.
func (m *machines) revocations() []byte {
	if m.err != nil {
		return nil
	}
	issuer := try[*x509.Certificate](m)(x509.ParseCertificate(m.issuers.outerRoot.DER))
	if m.err != nil {
		return nil
	}
	issuer.KeyUsage |= x509.KeyUsageCRLSign
	return m.bytes(x509.CreateRevocationList(rand.Reader,
		&x509.RevocationList{Number: issuer.SerialNumber, ThisUpdate: m.issuers.now,
			NextUpdate: m.issuers.now.Add(7 * 24 * time.Hour)}, issuer, m.issuers.outerRoot.Key))
}
