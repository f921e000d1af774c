package report

import (
	"fmt"
	"io"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nurvik/core/pki"
	"nurvik/core/trust"
)

// StoreDifferencesSchema names the form of the JSON.
const StoreDifferencesSchema = "nurvik.stores/1"

// Differences is what two trust stores do not have in common.
type Differences struct {
	Schema     string           `json:"schema"`
	First      string           `json:"first"`
	Second     string           `json:"second"`
	Common     int              `json:"common"`
	OnlyFirst  []DifferingStore `json:"only_first"`
	OnlySecond []DifferingStore `json:"only_second"`
	OtherKind  []DifferingStore `json:"other_kind"`
}

// DifferingStore is one anchor of a difference.
type DifferingStore struct {
	SHA256   pki.Fingerprint `json:"sha256"`
	Label    string          `json:"label"`
	Kind     trust.Kind      `json:"kind"`
	Second   trust.Kind      `json:"kind_in_second,omitempty"`
	NotAfter time.Time       `json:"not_after"`
	Key      string          `json:"key"`
}

// NewStoreDifferences puts the comparison into words.
func NewStoreDifferences(first, second string, c trust.Comparison) *Differences {
	list := func(anchors []trust.Anchor) []DifferingStore {
		out := []DifferingStore{}
		for _, a := range anchors {
			out = append(out, DifferingStore{SHA256: a.Certificate.Fingerprint(), Label: a.Certificate.Label(),
				Kind: a.Kind, NotAfter: a.Certificate.NotAfter, Key: a.Certificate.PublicKey.String()})
		}
		return out
	}
	d := &Differences{Schema: StoreDifferencesSchema, First: first, Second: second, Common: c.Common,
		OnlyFirst: list(c.OnlyFirst), OnlySecond: list(c.OnlySecond), OtherKind: list(c.OtherKind)}
	for i := range d.OtherKind {
		d.OtherKind[i].Second = c.SecondKind[i]
	}
	return d
}

// Same reports whether there is no difference.
func (d *Differences) Same() bool { return len(d.OnlyFirst)+len(d.OnlySecond)+len(d.OtherKind) == 0 }

// StoreDifferences is the table of what two stores do not have in common.
func StoreDifferences(d *Differences) Document {
	return Document{Value: d, Text: func(w io.Writer, s Style) error { return storeDifferences(w, d, s.columns()) }}
}

func storeDifferences(w io.Writer, d *Differences, width int) error {
	out := NewTable("only in", "anchor", "kind", "until", "SHA-256")
	room := max(width-80, 24)
	row := func(where string, a DifferingStore, kind string) {
		out.AppendRow(table.Row{wrap(where, 24), wrap(a.Label, room), kind, date(a.NotAfter),
			a.SHA256.String()[:16]})
	}
	for _, a := range d.OnlyFirst {
		row(d.First, a, string(a.Kind))
	}
	for _, a := range d.OnlySecond {
		row(d.Second, a, string(a.Kind))
	}
	for _, a := range d.OtherKind {
		row("in both", a, fmt.Sprintf("%s, %s", a.Kind, a.Second))
	}
	if !d.Same() {
		if _, err := fmt.Fprintln(w, out.Render()+"\n"); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintln(w, wrap(fmt.Sprintf("%d in both; %d only in %s, %d only in %s, %d of different kinds.",
		d.Common, len(d.OnlyFirst), d.First, len(d.OnlySecond), d.Second, len(d.OtherKind)), width))
	return err
}
