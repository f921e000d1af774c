package intake

import (
	"bytes"
	"encoding/base64"

	"nurvik/core/facts"
)

// leastBase64 is the shortest text that is tried as base64, in characters: no
// certificate, request or key is shorter, most words are.
const leastBase64 = 40

// text reads a file that is text: labelled blocks, a document with such in its
// values, or base64 without labels.
func (s *scan) text(data []byte) {
	t := newText(data)
	if s.origin == nil && t.looksDocument() && s.document(t) {
		return
	}
	t.normalise()
	read := s.blocks(t)
	if order, _ := utf16Order(data); order != 0 && mentionsBlocks(data) { // a file in ASCII was appended
		plain := &text{original: data, data: data}
		plain.normalise()
		read = s.blocks(plain) || read
	}
	if !read && !s.bare(t) && s.foreign == "" {
		s.foreign = foreignText(t.data)
	}
}

// bare reads base64 without labels. What it holds may be DER or a keystore; a
// PEM text inside was encoded once too often.
func (s *scan) bare(t *text) bool {
	inner, ok := plainBase64(t.data)
	if !ok || s.depth >= 3 {
		return false
	}
	before := len(s.file.Items) + len(s.file.Defects)
	around, outer := s.place, s.origin
	s.place.Line, s.place.Offset = s.at(t, 0)
	s.origin = &origin{line: s.place.Line, offset: s.place.Offset} // what is inside has no lines of its own
	s.place.Form = joined(around.Form, "base64")
	s.depth++
	nested := bytes.Contains(inner, []byte("-----BEGIN ")) || looksBase64(inner)
	s.bytes(inner)
	s.depth--
	if nested && len(s.file.Items)+len(s.file.Defects) > before && (around.Field == "" || around.Form != "") {
		s.defect(facts.DoubleBase64, facts.Outside, s.place.Line, s.place.Offset, facts.TextTwiceEncoded)
	}
	s.place, s.origin = around, outer
	return len(s.file.Items)+len(s.file.Defects) > before
}

func looksBase64(data []byte) bool {
	_, ok := plainBase64(data)
	return ok
}

// plainBase64 decodes a text that is base64 from end to end.
func plainBase64(data []byte) ([]byte, bool) {
	if len(data) < leastBase64 {
		return nil, false
	}
	for _, c := range data[:leastBase64] { // most other texts end here
		if !(c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c == '+' || c == '/' ||
			c == '\n' || c == '\r' || c == ' ' || c == '\t') {
			return nil, false
		}
	}
	compact := bytes.Join(bytes.Fields(data), nil)
	out := make([]byte, base64.StdEncoding.DecodedLen(len(compact)))
	n, err := base64.StdEncoding.Strict().Decode(out, compact)
	if err != nil || n < 16 {
		return nil, false
	}
	return out[:n], true
}
