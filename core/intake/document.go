package intake

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"go.yaml.in/yaml/v3"

	"nurvik/core/keystore"
	"nurvik/core/pki"
)

// maxDocument is the largest text that is read as a document, in bytes: the
// parser needs a multiple of it.
const maxDocument = 8 << 20

// looksDocument reports whether it may be YAML or JSON that carries
// material in its values, rather than blocks of its own.
func (t *text) looksDocument() bool {
	if len(t.data) > maxDocument {
		return false
	}
	trimmed := bytes.TrimLeft(t.data, " \t\r\n\ufeff")
	if len(trimmed) == 0 || bytes.HasPrefix(trimmed, []byte("-----BEGIN ")) {
		return false
	}
	if !promisesBase64(trimmed) && !t.mentionsBlocks() { // most documents: parsing is not free
		return false
	}
	if trimmed[0] == '{' || trimmed[0] == '[' || bytes.HasPrefix(trimmed, []byte("---\n")) {
		return true
	}
	for line := range bytes.Lines(trimmed) {
		line = bytes.TrimSpace(line)
		if len(line) == 0 || line[0] == '#' {
			continue
		}
		// The first line of a document is a key; that of a PEM file with text around is anything.
		key, _, found := bytes.Cut(line, []byte(":"))
		return found && len(key) < 100 && !bytes.ContainsAny(key, "=")
	}
	return false
}

// beginnings of base64: of DER, of PEM, of the Java keystores, and of base64 of the first two.
var beginnings = [][]byte{[]byte("M"), []byte("LS0t"), []byte("/u3+7"), []byte("zs7O"), []byte("TU"), []byte("TFMw")}

// within are how "-----BEGIN " looks inside of base64, wherever it begins.
var within = [][]byte{[]byte("LS0tLS1CRUdJTi"), []byte("0tLS0tQkVHSU4g"), []byte("tLS0tLUJFR0lOI")}

// promisesBase64 reports whether the text has base64 with a block in it, or a
// run as long as half a line of it that begins as material does.
func promisesBase64(data []byte) bool {
	for _, w := range within { // whatever the length of its lines
		if bytes.Contains(data, w) {
			return true
		}
	}
	const least = 32
	for end := least - 1; end < len(data); {
		start := end
		for start >= 0 && start > end-least && isBase64(data[start]) {
			start--
		}
		if start > end-least {
			end = start + least
			continue
		}
		for start >= 0 && isBase64(data[start]) {
			start--
		}
		for _, b := range beginnings {
			if bytes.HasPrefix(data[start+1:], b) {
				return true
			}
		}
		for end < len(data) && isBase64(data[end]) {
			end++
		}
		end += least
	}
	return false
}

// document reads the values of a YAML or JSON document. It reports whether it
// found anything: a text that only looks like a document is read otherwise.
func (s *scan) document(t *text) bool {
	found, items, defects := false, len(s.file.Items), len(s.file.Defects)
	decoder := yaml.NewDecoder(bytes.NewReader(t.data))
	for range MaxEntries {
		var root yaml.Node
		if err := decoder.Decode(&root); errors.Is(err, io.EOF) {
			break
		} else if err != nil { // no document after all: the whole is read as text
			s.file.Items, s.file.Defects = s.file.Items[:items], s.file.Defects[:defects]
			return false
		}
		w := &values{scan: s, text: t}
		w.node(&root, nil, 0)
		found = found || w.found
	}
	return found
}

// values walks the values of one document. Aliases are not followed: what they name is read where it stands.
type values struct {
	scan  *scan
	text  *text
	found bool
	steps int

	line, position int // how far lines were counted
}

func (w *values) node(n *yaml.Node, path []string, depth int) {
	if w.steps++; w.steps > 1_000_000 || depth > 100 {
		return
	}
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			w.node(n.Content[i+1], append(path[:len(path):len(path)], n.Content[i].Value), depth+1)
		}
	case yaml.DocumentNode, yaml.SequenceNode:
		for _, inner := range n.Content {
			w.node(inner, path, depth+1)
		}
	case yaml.ScalarNode:
		w.value(n, path)
	}
}

// value reads a value that holds labelled blocks, base64 of such, or base64 of DER or a keystore.
func (w *values) value(n *yaml.Node, path []string) {
	data := []byte(n.Value)
	isPEM := mentionsBlocks(data)
	if !isPEM {
		inner, ok := plainBase64(data)
		// Values of base64 are common; only what is surely material is looked at.
		if !ok || !(bytes.Contains(inner, []byte("-----BEGIN ")) || inner[0] == 0x30 && shapeOf(inner) != isNothing ||
			keystore.LooksJava(inner) || looksBase64(inner)) {
			return
		}
	}
	s := w.scan
	before, around := len(s.file.Items)+len(s.file.Defects), s.place
	o := &origin{line: n.Line, offset: w.lineOffset(n.Line)}
	if n.Style&(yaml.LiteralStyle) != 0 {
		o.line, o.lines = n.Line+1, true
		o.offset = w.lineOffset(n.Line + 1)
	}
	s.place.Field, s.origin = pki.Printable(strings.Join(path, ".")), o
	s.place.Line, s.place.Offset = o.line, o.offset
	s.depth++
	t := newText(data)
	t.normalise()
	if !isPEM || !s.blocks(t) {
		s.depth = 0
		s.bare(t)
		s.depth = 1
	}
	s.depth--
	s.place, s.origin = around, nil
	w.found = w.found || len(s.file.Items)+len(s.file.Defects) > before
}

// lineOffset is the place of a line in the file, in bytes. The lines are
// counted once for all values, from the last that was asked for.
func (w *values) lineOffset(line int) int {
	if line < w.line || w.line == 0 {
		w.line, w.position = 1, 0
	}
	for w.line < line {
		next := bytes.IndexByte(w.text.data[w.position:], '\n')
		if next < 0 {
			break
		}
		w.position += next + 1
		w.line++
	}
	return w.text.offset(w.position)
}
