package report

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"nurvik/core/judge"
	"nurvik/core/lifetime"
)

// Row is one target with what is wrong with it: what all reports have in common.
type Row struct {
	Target   string
	Verdict  judge.Verdict
	Findings []judge.Finding
}

// Document is the result of a command, ready to be written in any form.
type Document struct {
	Value any                              // for programs; of a result with lists what stands beside them
	Lists []List                           // for programs; of results of any length
	Rows  []Row                            // targets with findings, where the result has any
	Dues  []lifetime.Due                   // what a calendar is made of, where the result has any
	Text  func(w io.Writer, s Style) error // for people; nil draws the rows
}

// List is one list of a result. Its entries are made when they are written.
type List struct {
	Name  string
	Count int
	Entry func(i int) any
}

// Format is a form of results. A new one is added to the registry below, and
// every command knows it.
type Format interface {
	Write(w io.Writer, d Document, s Style) error
}

// formats is the registry.
var formats = map[string]Format{"table": tableFormat{}, "json": jsonFormat{}, "jsonl": linesFormat{},
	"icalendar": calendarFormat{}}

// Formats are the names of all forms.
func Formats() []string { return slices.Sorted(maps.Keys(formats)) }

// FormatNamed returns the form of the name; the error lists those there are.
func FormatNamed(name string) (Format, error) {
	if f, ok := formats[name]; ok {
		return f, nil
	}
	return nil, fmt.Errorf("the output %q is not known; there are %s", name, strings.Join(Formats(), ", "))
}

// encode appends a value as JSON on one line, or indented.
func encode(out *bytes.Buffer, value any, prefix, indent string) error {
	encoder := json.NewEncoder(out)
	encoder.SetEscapeHTML(false)
	if indent != "" {
		encoder.SetIndent(prefix, indent)
	}
	if err := encoder.Encode(value); err != nil {
		return err
	}
	out.Truncate(out.Len() - 1) // the line end
	return nil
}

// jsonFormat writes one value with a line end. On a terminal it is indented;
// otherwise each entry of a list is a line.
type jsonFormat struct{}

// Write implements Format.
func (jsonFormat) Write(w io.Writer, d Document, s Style) error {
	prefix, indent := "", ""
	if s.Terminal || len(d.Lists) == 0 {
		indent = "  "
	}
	var head bytes.Buffer
	if err := encode(&head, d.Value, "", indent); err != nil {
		return err
	}
	if len(d.Lists) == 0 {
		head.WriteByte('\n')
		_, err := w.Write(head.Bytes())
		return err
	}
	if indent != "" {
		prefix = indent + indent
	}
	out := bufio.NewWriterSize(w, 1<<16)
	open := bytes.TrimSpace(bytes.TrimSuffix(head.Bytes(), []byte("}")))
	_, _ = out.Write(open) // bufio keeps the first error for the end
	comma := ","
	if len(open) == 1 {
		comma = ""
	}
	for _, list := range d.Lists {
		fmt.Fprintf(out, "%s\n%s%q: [", comma, indent, list.Name)
		comma = ","
		err := inBlocks(out, list.Count, func(b *bytes.Buffer, i int) error {
			if i > 0 {
				b.WriteByte(',')
			}
			b.WriteString("\n" + prefix)
			return encode(b, list.Entry(i), prefix, indent)
		})
		if err != nil {
			return err
		}
		if list.Count > 0 {
			_, _ = out.WriteString("\n" + indent)
		}
		_ = out.WriteByte(']')
	}
	_, _ = out.WriteString("\n}\n")
	return out.Flush()
}

// linesFormat writes what stands beside the lists on the first line, and then
// a line for each entry: an object with the name of its list.
type linesFormat struct{}

// Write implements Format.
func (linesFormat) Write(w io.Writer, d Document, _ Style) error {
	out := bufio.NewWriterSize(w, 1<<16)
	var head bytes.Buffer
	if err := encode(&head, d.Value, "", ""); err != nil {
		return err
	}
	head.WriteByte('\n')
	_, _ = out.Write(head.Bytes())
	for _, list := range d.Lists {
		err := inBlocks(out, list.Count, func(b *bytes.Buffer, i int) error {
			fmt.Fprintf(b, "{%q:", list.Name)
			err := encode(b, list.Entry(i), "", "")
			b.WriteString("}\n")
			return err
		})
		if err != nil {
			return err
		}
	}
	return out.Flush()
}

// tableFormat writes what people read.
type tableFormat struct{}

// Write implements Format.
func (tableFormat) Write(w io.Writer, d Document, s Style) error {
	out := bufio.NewWriterSize(w, 1<<16)
	text := d.Text
	if text == nil {
		text = func(w io.Writer, s Style) error { return targets(w, d.Rows, s) }
	}
	if err := text(out, s); err != nil {
		return err
	}
	return out.Flush()
}
