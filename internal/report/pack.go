package report

import (
	"bytes"
	"io"
	"strings"

	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/internal/audit"
)

// PackSchema names the form of the JSON of "nurvik pack".
const PackSchema = "nurvik.pack/1"

// Packed is what was written for a server.
type Packed struct {
	Leaf       pki.Summary        `json:"leaf"`
	Trusted    bool               `json:"trusted"` // the chain ends at a root of a trust store
	Files      []PackedFile       `json:"files"`   // empty when it was refused
	Servers    []PackedServer     `json:"servers"`
	Note       string             `json:"note,omitempty"`
	Findings   []judge.Finding    `json:"findings"`
	Unexamined []audit.Unexamined `json:"unexamined"`
	Refused    bool               `json:"refused"`
}

// PackedFile is one file.
type PackedFile struct {
	Path string `json:"path"`
	What string `json:"what"`
	Mode string `json:"mode"`
}

// PackedServer is how a server is told of the files.
type PackedServer struct {
	Name   string   `json:"name"`
	Lines  []string `json:"lines"`
	Reload string   `json:"reload"`
}

// Pack is what "nurvik pack" tells.
func Pack(p *Packed) Document {
	if p.Files == nil {
		p.Files, p.Servers = []PackedFile{}, []PackedServer{}
	}
	if p.Unexamined == nil {
		p.Unexamined = []audit.Unexamined{}
	}
	return Document{Value: struct {
		Schema string `json:"schema"`
		*Packed
	}{PackSchema, p}, Text: func(w io.Writer, s Style) error {
		var out bytes.Buffer
		writeRows(&out, [][2]string{
			{"certificate", p.Leaf.Label + ", " + p.Leaf.Key},
			{"names", few(p.Leaf.Names, mostNames)},
			{"issued by", p.Leaf.Issuer},
			{"valid", date(p.Leaf.NotBefore) + " to " + date(p.Leaf.NotAfter)},
		}, s.columns())
		if len(p.Files) > 0 {
			out.WriteString("WRITTEN\n\n")
			var rows [][2]string
			for _, f := range p.Files {
				rows = append(rows, [2]string{f.Path, f.What + ", mode " + f.Mode})
			}
			writeRows(&out, rows, s.columns())
		}
		if len(p.Servers) > 0 {
			out.WriteString("IN THE CONFIGURATION\n\n")
			var rows [][2]string
			for _, server := range p.Servers {
				name := server.Name
				for _, line := range server.Lines {
					rows = append(rows, [2]string{name, line})
					name = ""
				}
				rows = append(rows, [2]string{"", "then: " + server.Reload})
			}
			writeRows(&out, rows, max(s.columns(), 200)) // to be copied: lines are not broken
		}
		for _, line := range []string{p.Note, untrustedNote(p)} {
			if line != "" {
				out.WriteString(wrap(line, s.columns()) + "\n\n")
			}
		}
		if len(p.Findings) > 0 {
			out.WriteString("FINDINGS\n\n" + findingsCell(p.Findings, s.columns(), s) + "\n\n")
		}
		for _, line := range unexaminedLines(p.Unexamined) {
			out.WriteString(wrap(line, s.columns()) + "\n")
		}
		_, err := w.Write(append(bytes.TrimRight(out.Bytes(), "\n"), '\n'))
		return err
	}}
}

func untrustedNote(p *Packed) string {
	if p.Trusted || p.Refused {
		return ""
	}
	return strings.TrimSpace(
		"The chain ends at a root that is in none of the trust stores: only clients that have it will " +
			"accept this certificate.")
}
