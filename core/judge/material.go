package judge

import (
	"fmt"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// material is what one file holds, decoded, and what is wrong with its form, its keys and its requests.
type material struct {
	file         *facts.File
	context      *Context
	certificates []*pki.Certificate
	findings     []Finding
	damaged      bool
	blocks       int // damaged places so far
}

func examine(file *facts.File, context *Context) *material {
	m := &material{file: file, context: context}
	for _, d := range file.Defects {
		m.defect(d)
	}
	for i := range file.Items {
		m.item(&file.Items[i])
	}
	m.findings = append(m.findings, checkExposure(*file)...)
	m.locked()
	return m
}

// formCodes are the findings for defects of the form. Those that are not here
// are told by "nurvik identify --long" only.
var formCodes = map[facts.DefectKind]string{
	facts.ByteOrderMark: "file.byte-order-mark", facts.UTF16: "file.utf-16", facts.RunTogether: "file.run-together",
	facts.WhiteSpace: "file.white-space", facts.LineLength: "file.line-length", facts.WrongLabel: "file.wrong-label",
	facts.TypographicDashes: "file.typographic-dashes", facts.Entities: "file.entities", facts.DoubleBase64: "file.double-base64",
	facts.Repeated: "file.repeated", facts.KeyAmong: "file.key-among-certificates", facts.TooLarge: "file.too-large",
}

// refusedBy are libraries that refuse a form; a test shows it of each.
var refusedBy = map[facts.DefectKind][]string{
	facts.UTF16: {"Go crypto/tls"}, facts.WrongLabel: {"Go crypto/tls"}, facts.TypographicDashes: {"Go crypto/tls"},
	facts.Entities: {"Go crypto/tls"}, facts.DoubleBase64: {"Go crypto/tls"}, facts.ByteOrderMark: {"Go crypto/tls"}, facts.RunTogether: {"Go crypto/tls"},
}

// perFile are defects of which one finding for the file tells enough.
var perFile = map[facts.DefectKind]bool{
	facts.ByteOrderMark: true, facts.UTF16: true, facts.RunTogether: true, facts.WhiteSpace: true, facts.LineLength: true,
	facts.TypographicDashes: true, facts.Entities: true, facts.KeyAmong: true,
}

func placeOf(line, offset int) string {
	if line > 0 {
		return fmt.Sprintf("line %d", line)
	}
	return fmt.Sprintf("byte %d", offset)
}

func (m *material) defect(d facts.Defect) {
	place := placeOf(d.Line, d.Offset)
	if d.Kind == facts.Damaged {
		m.damaged = true
		m.blocks++
		f := found("file.damaged", fmt.Sprintf("damaged block %d", m.blocks), place, "At %s: %s.", place, d.Text)
		f.Evidence.Line, f.Evidence.Offset, f.Evidence.Grammar = d.Line, &d.Offset, d.Grammar
		m.findings = append(m.findings, f)
		return
	}
	code, ok := formCodes[d.Kind]
	if !ok {
		return
	}
	subject := place
	if perFile[d.Kind] {
		subject = "file"
		for i := range m.findings {
			if m.findings[i].Code == code {
				m.findings[i].Evidence.Observations = append(m.findings[i].Evidence.Observations, "also at "+place)
				return
			}
		}
	}
	f := found(code, subject, place, "%s.", capital(d.Text))
	if d.Kind != facts.TooLarge {
		f.Message = fmt.Sprintf("At %s: %s.", place, d.Text)
	}
	f.Evidence.Line, f.Evidence.Offset, f.Evidence.Grammar, f.Evidence.RefusedBy = d.Line, &d.Offset, d.Grammar, refusedBy[d.Kind]
	m.findings = append(m.findings, f)
}

func (m *material) item(item *facts.Item) {
	// located finishes findings that are about this item.
	located := func(findings ...Finding) {
		for _, f := range findings {
			f.Evidence.Line, f.Evidence.Offset = item.Line, &item.Offset
			m.findings = append(m.findings, f)
		}
	}
	unreadable := func(err error) { // facts of another version may hold what this one cannot read
		m.defect(facts.Defect{Kind: facts.Damaged, Line: item.Line, Offset: item.Offset, Text: err.Error()})
	}
	switch item.Kind {
	case facts.Certificate:
		if m.context.Material {
			m.materialOnly(item, located, unreadable)
			return
		}
		c, err := pki.ParseCertificate(item.DER)
		if err != nil {
			unreadable(err)
			return
		}
		if !item.Trusted { // an anchor in a keystore is no part of a chain
			m.certificates = append(m.certificates, c)
		}
		if len(c.Anomalies) > 0 {
			located(malformed(c))
		}
	case facts.Request:
		b := item.Brief()
		if b == nil {
			_, err := pki.ParseRequest(item.DER)
			unreadable(err)
			return
		}
		located(keyFindings(b.Key, func() string { return "the request of " + b.Label }, m.context)...)
	case facts.PublicKey:
		if b := item.Brief(); b != nil {
			located(keyFindings(b.Key, func() string { return "the public key at " + placeOf(item.Line, item.Offset) }, m.context)...)
		}
	case facts.PrivateKey:
		m.privateKey(item, located)
	}
}

// materialOnly judges a certificate without any chain.
func (m *material) materialOnly(item *facts.Item, located func(...Finding), unreadable func(error)) {
	b := item.Brief()
	if b == nil || len(b.Anomalies) > 0 {
		c, err := pki.ParseCertificate(item.DER)
		if err != nil {
			unreadable(err)
			return
		}
		located(malformed(c))
		b = c.Brief()
	}
	located(keyFindings(b.Key, func() string { return b.Label }, m.context)...)
}

func (m *material) privateKey(item *facts.Item, located func(...Finding)) {
	b := item.Brief()
	if b != nil {
		located(keyFindings(b.Key, func() string { return "the private key at " + placeOf(item.Line, item.Offset) }, m.context)...)
	}
	if len(item.Key.Problems) > 0 {
		place := placeOf(item.Line, item.Offset)
		subject := "private key at " + place
		if b != nil {
			subject = b.Key.Fingerprint().String()
		}
		f := found("key.inconsistent", subject, place, "The parts of the private key at %s do not agree: %s.", place, item.Key.Problems[0])
		f.Evidence.Observations, f.Evidence.Key = item.Key.Problems, item.Key.Type
		located(f)
	}
}

// lockedWords say why something stayed closed, and what to do: a wrong
// password, damage and a protection that is not supported are different things.
var lockedWords = map[string]string{
	facts.NoPassword:    "needs a password, and none was given",
	facts.WrongPassword: "was not opened: the password is wrong",
	facts.Unsupported:   "was not opened: its protection is not supported",
	facts.TooCostly:     "was not opened: deriving the key from the password costs more than the limit allows",
	facts.DamagedInside: "was not opened: it is damaged",
}

// Locked says why something in the file stayed closed: the reason, and a
// sentence; both empty when nothing did.
func Locked(file facts.File) (reason, sentence string) {
	for _, item := range file.Items {
		what := "The keystore"
		if item.Container == "zip" {
			what = "The entry of the archive"
		}
		reason = item.Locked
		if item.Key != nil && item.Key.Locked != "" {
			reason, what = item.Key.Locked, "The private key at "+placeOf(item.Line, item.Offset)
			if item.Container != "" {
				what = fmt.Sprintf("The private key %q in the %s keystore", item.Alias, item.Container)
			}
		}
		if reason == "" {
			continue
		}
		if reason == facts.Unsupported && item.Detail != "" {
			return reason, what + " was not opened: " + item.Detail + "."
		}
		text := what + " " + lockedWords[reason]
		if item.Key != nil && item.Key.Protection != "" {
			text += " (" + item.Key.Protection + ")"
		}
		return reason, text + "."
	}
	return "", ""
}

// locked tells once for the file that something stayed closed.
func (m *material) locked() {
	reason, sentence := Locked(*m.file)
	switch reason {
	case "":
		return
	case facts.DamagedInside:
		m.damaged = true
		m.findings = append(m.findings, found("file.damaged", "protected part", m.file.Path, "%s", sentence))
	case facts.TooCostly:
		m.findings = append(m.findings, found("file.too-large", "key derivation", m.file.Path, "%s", sentence))
	default:
		f := found("file.locked", "file", m.file.Path, "%s", sentence)
		if reason == facts.Unsupported {
			f.Remedy = "Write it again with a protection that is in use today, such as PBES2 with AES."
		}
		m.findings = append(m.findings, f)
	}
}
