package judge

import (
	"fmt"
	"strings"

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
	facts.MailText:     "file.mail-text",
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

// fileForm tells the defects of the form: one finding for each cause in a file, with the places.
func fileForm(m *material) []Finding {
	var t told
	for i := range m.file.Defects {
		d := &m.file.Defects[i]
		code, ok := formCodes[d.Kind]
		if !ok || t.again(code, d.Reason, d.Line, d.Offset) {
			continue
		}
		place := at(d.Line, d.Offset)
		subject := string(d.Reason.Code)
		if perFile[d.Kind] {
			subject = "file"
		}
		f := found(code, subject, place, "At %s: %s.", place, words.Of(d.Reason))
		if d.Kind == facts.TooLarge {
			f.Message = words.Capital(words.Of(d.Reason)) + "."
			if remedy, ok := limitRemedies[d.Reason.Code]; ok {
				f.Remedy = remedy
			}
		}
		if d.Grammar == facts.Standard && (d.Kind == facts.WhiteSpace || d.Kind == facts.LineLength) {
			f.Severity = Note
		}
		f.Evidence.Line, f.Evidence.Offset, f.Evidence.Grammar, f.Evidence.RefusedBy = d.Line, &d.Offset, d.Grammar,
			refusedBy[d.Kind]
		t.add(code, d.Reason, f)
	}
	return t.out
}

// limitRemedies fit the limit that was passed.
var limitRemedies = map[facts.Code]string{
	facts.EntryTooLarge: "Unpack the archive, and name the files in it that hold certificates and keys.",
	facts.EntryTooDense: "An entry that expands this far is meant to fill a disk, or is a file of zeroes. Unpack the " +
		"archive where that does no harm, and name the files in it that hold certificates and keys.",
	facts.ArchiveTooLarge: "Unpack the archive, and name the directory.",
	facts.TooManyEntries:  "Unpack the archive, and name the directory.",
	facts.NestedTooDeep:   "Unpack the inner archive, and name the directory.",
}

// told gathers the findings of a file: of one cause the first, and where else it was met.
type told struct {
	out  []Finding
	at   map[string]int // by code and reason the place in out
	more map[string]int // further places that are counted only
}

// mostPlaces of one cause are named.
const mostPlaces = 20

func causeOfForm(code string, r facts.Reason) string {
	if perCode[code] {
		return code
	}
	return code + " " + string(r.Code)
}

// perCode are codes of which the reason makes no difference.
var perCode = map[string]bool{"file.white-space": true, "file.line-length": true, "file.run-together": true}

// again adds a place to the finding of the cause, if there is one.
func (t *told) again(code string, r facts.Reason, line, offset int) bool {
	n, known := t.at[causeOfForm(code, r)]
	if !known {
		return false
	}
	places := &t.out[n].Evidence.Observations
	if len(*places) < mostPlaces {
		*places = append(*places, "also at "+at(line, offset))
		return true
	}
	t.more[causeOfForm(code, r)]++
	(*places)[mostPlaces-1] = fmt.Sprintf("and at %d more places", t.more[causeOfForm(code, r)]+1)
	return true
}

func (t *told) add(code string, r facts.Reason, f Finding) {
	if t.at == nil {
		t.at, t.more = map[string]int{}, map[string]int{}
	}
	t.at[causeOfForm(code, r)] = len(t.out)
	t.out = append(t.out, f)
}

// fileDamaged tells of what cannot be read: one finding for each cause.
func fileDamaged(m *material) []Finding {
	var t told
	add := func(line int, offset *int, grammar facts.Grammar, reason facts.Reason) {
		const code = "file.damaged"
		if t.again(code, reason, line, *offset) {
			return
		}
		place := at(line, *offset)
		f := found(code, fmt.Sprintf("damaged block %d", len(t.out)+1), place, "At %s: %s.", place, words.Of(reason))
		f.Evidence.Line, f.Evidence.Offset, f.Evidence.Grammar = line, offset, grammar
		t.add(code, reason, f)
	}
	for i := range m.file.Defects {
		if d := &m.file.Defects[i]; d.Kind == facts.Damaged {
			add(d.Line, &d.Offset, d.Grammar, d.Reason)
		}
	}
	for i := range m.pieces {
		if p := &m.pieces[i]; p.err != nil {
			add(p.item.Line, &p.item.Offset, "", facts.Because(facts.Unreadable, p.err))
		}
	}
	if reason, sentence := Locked(*m.file); reason == facts.DamagedInside {
		t.out = append(t.out, found("file.damaged", "protected part", m.file.Path, "%s", sentence))
	}
	return t.out
}

// fileNeverUsed tells what a server that is given the file would load of
// several private keys or leaves: the first of each. A keystore is not meant,
// which has a name for each entry, and of a document each value counts alone.
func fileNeverUsed(m *material) []Finding {
	if m.anchors {
		return nil
	}
	if len(m.pieces) < 2 {
		return nil
	}
	keys, leaves := &firsts{what: "private key"}, &firsts{what: "certificate"}
	issued := map[string]bool{}
	for i := range m.pieces {
		if p := &m.pieces[i]; p.brief != nil && p.item.Kind == facts.Certificate && !p.brief.SelfIssued {
			issued[p.brief.Issuer] = true
		}
	}
	for i := range m.pieces {
		p := &m.pieces[i]
		switch {
		case p.brief == nil, p.item.Container != "", p.item.Trusted, p.item.Field != "":
		case p.item.Kind == facts.PrivateKey:
			keys.add(p, p.brief.Match())
		case p.item.Kind == facts.Certificate && !issued[p.brief.Label] &&
			(!p.brief.CA || p.brief.SelfIssued && len(p.brief.Names) > 0):
			leaves.add(p, p.brief.SHA256)
		}
	}
	var parts []string
	for _, f := range []*firsts{keys, leaves} {
		if f.others > 0 {
			parts = append(parts, f.sentence())
		}
	}
	if len(parts) == 0 {
		return nil
	}
	f := found("file.never-used", "file", m.file.Path, "%s", strings.Join(parts, " "))
	first := keys.second
	if first == nil {
		first = leaves.second
	}
	f.Evidence.Line, f.Evidence.Offset = first.item.Line, &first.item.Offset
	return []Finding{f}
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

// malformedCode is replaced by a code that says more of the same certificate.
const malformedCode = "file.malformed-certificate"

func malformed(c *pki.Certificate) Finding {
	first := c.Anomalies[0]
	f := found(malformedCode, c.Fingerprint().String(), c.Label(),
		"%s departs from the standard: %s (byte %d, %s).",
		c.Label(), first.Text, first.Offset, first.Field)
	if more := len(c.Anomalies) - 1; more > 0 {
		f.Message += " And " + plural(more, "other defect") + "."
	}
	f.Evidence = Evidence{Certificate: fingerprint(c), Issuer: c.Issuer.String(), Serial: c.SerialHex(),
		Anomalies: c.Anomalies}
	return f
}
