package harbour

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"strings"
	"unicode/utf16"

	"nurvik/core/forge"
)

// mailroom keeps what came by mail, through editors and from web pages: each
// file has one defect of its form, and some have none that counts.
func (m *machines) mailroom() {
	spoil := func(name string, change func(pem string) string) {
		m.public("mailroom/"+name+".crt", []byte(change(string(m.set(name).certificatePEM()))))
	}
	replace := func(old, replacement string) func(string) string {
		return func(text string) string { return strings.ReplaceAll(text, old, replacement) }
	}
	spoil("windows-editor", replace("\n", "\r\n"))
	spoil("very-old-editor", replace("\n", "\r"))
	spoil("with-greeting", func(text string) string {
		return "Dear harbour office, here it is:\n\n" + text +
			"\nKind regards\n"
	})
	spoil("older-label", replace("CERTIFICATE", "X509 CERTIFICATE"))
	spoil("byte-order-mark", func(text string) string { return "\ufeff" + text })
	spoil("sixteen-bits", utf16Text)
	spoil("indented", func(text string) string {
		return "  " + strings.TrimSpace(strings.ReplaceAll(text, "\n", "\n  ")) + "\n"
	})
	spoil("long-lines", func(text string) string {
		lines := strings.Split(strings.TrimSpace(text), "\n")
		return lines[0] + "\n" + strings.Join(lines[1:len(lines)-1], "") + "\n" + lines[len(lines)-1] + "\n"
	})
	spoil("trailing-spaces", replace("\n", " \n"))
	spoil("answered", func(text string) string {
		return "The harbour office wrote:\n\n> " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n> ") + "\n"
	})
	spoil("small-letters", func(text string) string {
		return strings.NewReplacer("BEGIN CERT", "begin CERT", "END CERT", "end CERT").Replace(text)
	})
	spoil("beheaded", func(text string) string { return text[strings.IndexByte(text, '\n')+1:] })
	spoil("misspelt-label", replace("CERTIFICATE", "CERTIFCATE"))
	spoil("word-processor", replace("-----", "\u2014\u2013-"))
	spoil("web-page", func(text string) string {
		return strings.ReplaceAll(strings.ReplaceAll(text, "-----", "&#45;&#45;&#45;&#45;&#45;"), "+", "&#43;")
	})
	spoil("encoded-twice", func(text string) string { return base64.StdEncoding.EncodeToString([]byte(text)) + "\n" })
	spoil("sent-twice", func(text string) string { return text + text })
	spoil("cut-off", func(text string) string { return text[:len(text)/2] + "\n" })
	spoil("begun-twice", func(text string) string { return "-----BEGIN CERTIFICATE-----\n" + text })

	m.public("mailroom/appended.crt", m.set("appended-first").certificatePEM(),
		m.set("appended-second").certificatePEM())
	joined := m.leaf("joined", m.set("joined").spki, -20*dayLong, nil)
	run := strings.TrimSuffix(string(pemOf(joined)), "\n") + string(pemOf(m.issuers.outerRoot.DER))
	m.public("mailroom/joined.crt", []byte(run))
	m.public("mailroom/requests/called-certificate.crt", block("CERTIFICATE", m.request(m.set("called-certificate"))))
	both := m.set("both-in-one")
	m.private("mailroom/keys/both-in-one.crt", both.certificatePEM(), both.keyPEM())
	trusted := m.set("trust-settings")
	m.public("mailroom/trust-settings.pem", block("TRUSTED CERTIFICATE",
		append(append([]byte{}, trusted.certificate...), 0x30, 3, 2, 1, 5)))
}

func utf16Text(text string) string {
	out := []byte{0xff, 0xfe}
	for _, unit := range utf16.Encode([]rune(text)) {
		out = append(out, byte(unit), byte(unit>>8))
	}
	return string(out)
}

// desk is where downloads lie: archives, sets and lists.
func (m *machines) desk() {
	offer := m.set("offer")
	m.public("desk/from-the-issuer.zip", m.zip(entry{"offer/offer.crt", offer.certificatePEM()},
		entry{"offer/README.txt", []byte("Install the certificate.\n")}))
	m.private("desk/backup.tar.gz", m.gzip("", m.tar(entry{"etc/berth.crt", m.set("berth").certificatePEM()},
		entry{"etc/berth.key", m.set("berth").keyPEM()})))
	m.public("desk/berths.tar", m.tar(entry{"north/pier.crt", m.set("pier").certificatePEM()}))
	m.public("desk/forwarded.zip", m.zip(entry{"week-48/attachment.zip",
		m.zip(entry{"wharf.crt", m.set("wharf").certificatePEM()})}))
	m.public("desk/too-deep.zip", m.zip(entry{"two.zip",
		m.zip(entry{"three.zip", m.zip(entry{"keel.crt", m.set("keel").certificatePEM()})})}))
	m.public("desk/bilge-water.zip", m.zip(entry{"zeroes.pem", make([]byte, 30<<20)}))
	m.public("desk/mooring.crt.gz", m.gzip("mooring.crt", m.set("mooring").certificatePEM()))
	m.public("desk/sealed.zip", m.sealedZip())

	m.public("desk/certificates.p7b", m.certificateSet(m.set("plank"), "PKCS7"))
	m.public("desk/certificates.p7c", m.certificateSet(m.set("mallet"), ""))
	m.public("desk/outer-root.crl", block("X509 CRL", m.revocations()))
	m.public("desk/outer-root.crl.der", m.revocations())
	m.public("desk/pasted.txt", []byte(base64.StdEncoding.EncodeToString(m.set("pasted").certificate)+"\n"))
	m.public("desk/oar.der", m.set("oar").certificate)
	m.public("desk/oar-key.der", m.set("oar").spki)
	m.public("desk/oar-key.pub", block("PUBLIC KEY", m.set("oar").spki))
	rudder := m.set("rudder")
	m.public("desk/signed/rudder.csr", block("NEW CERTIFICATE REQUEST", m.request(rudder)))
	m.public("desk/signed/rudder.crt", rudder.certificatePEM())
	m.public("desk/signed/tiller.csr.der", m.request(m.set("tiller")))
	m.public("desk/signed/tiller.crt", m.set("tiller").certificatePEM())
	m.public("desk/shopping.txt", []byte("Rope, tar, and a new kettle.\n"))
	m.public("desk/empty.pem")
}

func (m *machines) certificateSet(s set, label string) []byte {
	if m.err != nil {
		return nil
	}
	der := m.bytes(forge.CertificateSet(s.certificate, m.issuers.outerRoot.DER))
	if label == "" {
		return der
	}
	return block(label, der)
}

// entry is a file in an archive.
type entry struct {
	name string
	data []byte
}

func (m *machines) zip(entries ...entry) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, e := range entries {
		f, err := w.Create(e.name)
		if err == nil {
			_, err = f.Write(e.data)
		}
		m.bytes(nil, err)
	}
	return m.bytes(flushed(&out, w))
}

// sealedZip is an archive whose entry is encrypted, and compressed in a way that is not read: noise, marked so.
func (m *machines) sealedZip() []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	noise := bytes.Repeat([]byte{0x5a, 0xc3}, 200)
	f, err := w.CreateRaw(&zip.FileHeader{Name: "sealed.key", Flags: 1, Method: 12,
		CompressedSize64:   uint64(len(noise)),
		UncompressedSize64: uint64(len(noise))})
	if err == nil {
		_, err = f.Write(noise)
	}
	m.bytes(nil, err)
	return m.bytes(flushed(&out, w))
}

func flushed(out *bytes.Buffer, w *zip.Writer) ([]byte, error) {
	err := w.Close()
	return out.Bytes(), err
}

func (m *machines) tar(entries ...entry) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, e := range entries {
		err := w.WriteHeader(&tar.Header{Name: e.name, Size: int64(len(e.data)), Mode: 0o600, Typeflag: tar.TypeReg})
		if err == nil {
			_, err = w.Write(e.data)
		}
		m.bytes(nil, err)
	}
	err := w.Close()
	return m.bytes(out.Bytes(), err)
}

func (m *machines) gzip(name string, data []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Name = name
	_, err := w.Write(data)
	m.bytes(nil, err)
	err = w.Close()
	return m.bytes(out.Bytes(), err)
}
