package judge

import (
	"fmt"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// formCodes are the findings for defects of the form. Those that are not here
// are told by "nurvik identify --long" only.
var formCodes = map[facts.DefectKind]string{
	facts.ByteOrderMark: "file.byte-order-mark", facts.UTF16: "file.utf-16", facts.RunTogether: "file.run-together",
	facts.WhiteSpace: "file.white-space", facts.LineLength: "file.line-length", facts.WrongLabel: "file.wrong-label",
	facts.TypographicDashes: "file.typographic-dashes", facts.Entities: "file.entities",
	facts.DoubleBase64: "file.double-base64",
	facts.Repeated:     "file.repeated", facts.KeyAmong: "file.key-among-certificates",
	facts.TooLarge: "file.too-large",
}

// refusedBy are libraries that refuse a form; a test shows it of each.
var refusedBy = map[facts.DefectKind][]string{
	facts.UTF16: {"Go crypto/tls"}, facts.WrongLabel: {"Go crypto/tls"}, facts.TypographicDashes: {"Go crypto/tls"},
	facts.Entities: {"Go crypto/tls"}, facts.DoubleBase64: {"Go crypto/tls"}, facts.ByteOrderMark: {"Go crypto/tls"},
	facts.RunTogether: {"Go crypto/tls"},
}

// perFile are defects of which one finding for the file tells enough.
var perFile = map[facts.DefectKind]bool{
	facts.ByteOrderMark: true, facts.UTF16: true, facts.RunTogether: true, facts.WhiteSpace: true,
	facts.LineLength:        true,
	facts.TypographicDashes: true, facts.Entities: true, facts.KeyAmong: true,
}

// fileForm tells the defects of the form.
func fileForm(m *material) []Finding {
	var out []Finding
	told := map[string]int{} // codes that are told once a file, by their place in out
	for i := range m.file.Defects {
		d := &m.file.Defects[i]
		code, ok := formCodes[d.Kind]
		if !ok {
			continue
		}
		place := at(d.Line, d.Offset)
		if n, known := told[code]; known {
			out[n].Evidence.Observations = append(out[n].Evidence.Observations, "also at "+place)
			continue
		}
		subject := place
		if perFile[d.Kind] {
			subject, told[code] = "file", len(out)
		}
		f := found(code, subject, place, "At %s: %s.", place, words.Of(d.Reason))
		if d.Kind == facts.TooLarge {
			f.Message = words.Capital(words.Of(d.Reason)) + "."
		}
		f.Evidence.Line, f.Evidence.Offset, f.Evidence.Grammar, f.Evidence.RefusedBy = d.Line, &d.Offset, d.Grammar,
			refusedBy[d.Kind]
		out = append(out, f)
	}
	return out
}

// fileDamaged tells of what cannot be read, block by block.
func fileDamaged(m *material) []Finding {
	var out []Finding
	add := func(line int, offset *int, grammar facts.Grammar, reason string) {
		place := at(line, *offset)
		f := found("file.damaged", fmt.Sprintf("damaged block %d", len(out)+1), place, "At %s: %s.", place, reason)
		f.Evidence.Line, f.Evidence.Offset, f.Evidence.Grammar = line, offset, grammar
		out = append(out, f)
	}
	for i := range m.file.Defects {
		if d := &m.file.Defects[i]; d.Kind == facts.Damaged {
			add(d.Line, &d.Offset, d.Grammar, words.Of(d.Reason))
		}
	}
	for i := range m.pieces {
		if p := &m.pieces[i]; p.err != nil {
			add(p.item.Line, &p.item.Offset, "", words.Of(facts.Because(facts.Unreadable, p.err)))
		}
	}
	if reason, sentence := Locked(*m.file); reason == facts.DamagedInside {
		out = append(out, found("file.damaged", "protected part", m.file.Path, "%s", sentence))
	}
	return out
}

// fileLocked tells once for the file that something stayed closed.
func fileLocked(m *material) []Finding {
	switch reason, sentence := Locked(*m.file); reason {
	case "", facts.DamagedInside:
		return nil
	case facts.TooCostly:
		f := found("file.too-large", "key derivation", m.file.Path, "%s", sentence)
		f.Remedy = "Write the key or keystore again with fewer rounds of key derivation: a few hundred thousand " +
			"are usual."
		return []Finding{f}
	default:
		f := found("file.locked", "file", m.file.Path, "%s", sentence)
		if reason == facts.Unsupported {
			f.Remedy = "Write it again with a protection that is in use today, such as PBES2 with AES."
		}
		return []Finding{f}
	}
}

// fileMalformed tells of certificates in a file that were read past a defect.
func fileMalformed(m *material) []Finding {
	var out []Finding
	for i := range m.pieces {
		p := &m.pieces[i]
		if p.item.Kind != facts.Certificate || p.brief == nil || len(p.brief.Anomalies) == 0 {
			continue
		}
		c, err := pki.ParseCertificate(p.item.DER)
		if err != nil {
			continue // told as damaged
		}
		f := malformed(c)
		if m.isAnchor(p) {
			f.Severity, f.Remedy = Note, rootRemedy
		}
		out = append(out, p.located([]Finding{f})...)
	}
	return out
}

// fileMalformedServed tells the same of certificates that an endpoint serves.
func fileMalformedServed(b *bundle) []Finding {
	var out []Finding
	for _, c := range b.given {
		if !b.file && len(c.Anomalies) > 0 {
			out = append(out, malformed(c))
		}
	}
	return out
}

func malformed(c *pki.Certificate) Finding {
	first := c.Anomalies[0]
	f := found("file.malformed-certificate", c.Fingerprint().String(), c.Label(),
		"%s departs from the standard: %s (byte %d, %s).",
		c.Label(), first.Text, first.Offset, first.Field)
	if more := len(c.Anomalies) - 1; more > 0 {
		f.Message += " And " + plural(more, "other defect") + "."
	}
	f.Evidence = Evidence{Certificate: fingerprint(c), Issuer: c.Issuer.String(), Serial: c.SerialHex(),
		Anomalies: c.Anomalies}
	return f
}
