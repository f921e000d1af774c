package report

import (
	"bytes"
	"io"
	"strings"

	"nurvik/core/judge"
	"nurvik/core/pki"
)

// DraftSchema names the form of the JSON of "nurvik draft".
const DraftSchema = "nurvik.draft/1"

// Drafts are the requests that were made.
type Drafts struct {
	Drafts  []Draft
	Refused bool // nothing was written
}

// Draft is one request and where it and its key were written. Of the key there is only the public half.
type Draft struct {
	Key       string `json:"key_file"`
	Encrypted bool   `json:"key_encrypted"`
	Request   string `json:"request_file"`
	Subject   string `json:"subject"`
	pki.Summary
	PEM      string          `json:"pem"`
	Findings []judge.Finding `json:"findings"`
}

// DraftsDocument is what "nurvik draft" tells.
func DraftsDocument(d *Drafts) Document {
	return Document{Value: struct {
		Schema  string `json:"schema"`
		Written bool   `json:"written"`
	}{DraftSchema, !d.Refused}, Lists: []List{
		{"drafts", len(d.Drafts), func(i int) any { return &d.Drafts[i] }},
	}, Text: func(w io.Writer, s Style) error {
		var out bytes.Buffer
		for i := range d.Drafts {
			x := &d.Drafts[i]
			key := x.Key
			if x.Encrypted {
				key += " (encrypted)"
			}
			request := x.Request
			if d.Refused {
				key, request = "not written", "not written"
			}
			writeRows(&out, [][2]string{
				{"private key", key},
				{"request (CSR)", request},
				{"names", strings.Join(x.Names, ", ")},
				{"subject", orNoSubject(x.Subject)},
				{"key", x.Summary.Key + ", SHA-256 " + x.SPKI.String()[:16]},
			}, s.columns())
			if len(x.Findings) > 0 {
				out.WriteString(findingsCell(x.Findings, s.columns(), s) + "\n\n")
			}
		}
		_, err := w.Write(append(bytes.TrimRight(out.Bytes(), "\n"), '\n'))
		return err
	}}
}

func orNoSubject(text string) string {
	if text == "" {
		return "none"
	}
	return text
}
