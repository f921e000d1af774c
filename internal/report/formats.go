package report

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"nurvik/core/judge"
)

// Row is one target with what is wrong with it: what all reports have in common.
type Row struct {
	Target   string
	Verdict  judge.Verdict
	Findings []judge.Finding
}

// Document is the result of a command, ready to be written in any form.
type Document struct {
	Value any                              // for programs
	Rows  []Row                            // targets with findings, where the result has any
	Text  func(w io.Writer, s Style) error // for people; nil draws the rows
}

// Format is a form of results. A new one is added to the registry below, and
// every command knows it.
type Format interface {
	Write(w io.Writer, d Document, s Style) error
}

// formats is the registry.
var formats = map[string]Format{"table": tableFormat{}, "json": jsonFormat{}}

// Formats are the names of all forms.
func Formats() []string { return slices.Sorted(maps.Keys(formats)) }

// FormatNamed returns the form of the name; the error lists those there are.
func FormatNamed(name string) (Format, error) {
	if f, ok := formats[name]; ok {
		return f, nil
	}
	return nil, fmt.Errorf("the output %q is not known; there are %s", name, strings.Join(Formats(), " and "))
}

// jsonFormat writes the value as indented JSON with a line end.
type jsonFormat struct{}

// Write implements Format.
func (jsonFormat) Write(w io.Writer, d Document, _ Style) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(d.Value)
}

// tableFormat writes what people read.
type tableFormat struct{}

// Write implements Format.
func (tableFormat) Write(w io.Writer, d Document, s Style) error {
	if d.Text != nil {
		return d.Text(w, s)
	}
	return targets(w, d.Rows, s)
}
