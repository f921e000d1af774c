// Package spreadsheet reads endpoints from a table as spreadsheets write it
// (CSV, RFC 4180): a line of headings, then a line for each endpoint. What a
// table has no column for stays as it is in the estate.
package spreadsheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"nurvik/core/endpoint"
	"nurvik/core/spelling"
	"nurvik/core/strictyaml"
)

// Sheet is a table of endpoints.
type Sheet struct {
	Unused []string // headings of columns that nothing is taken from
	path   string
	keys   []string // what each column is; "" for those that are not used
	rows   []row
}

type row struct {
	line  int
	cells []string
}

// labelKey begins the keys of columns that hold labels.
const labelKey = "labels."

// setters put a cell into settings, by the key in the estate file. Port is the endpoint's, where its column has none.
var setters = map[string]func(s *endpoint.Settings, cell string) error{
	"endpoint":    func(s *endpoint.Settings, cell string) error { s.Endpoint = cell; return nil },
	"port":        setPort,
	"names":       func(s *endpoint.Settings, cell string) error { s.Names = list(cell); return nil },
	"visit-at":    func(s *endpoint.Settings, cell string) error { s.VisitAt = list(cell); return nil },
	"trust":       func(s *endpoint.Settings, cell string) error { s.Trust = list(cell); return nil },
	"audiences":   func(s *endpoint.Settings, cell string) error { s.Audiences = list(cell); return nil },
	"notes":       func(s *endpoint.Settings, cell string) error { s.Notes = cell; return nil },
	"owner":       func(s *endpoint.Settings, cell string) error { s.Owner = cell; return nil },
	"vantages":    func(s *endpoint.Settings, cell string) error { s.Vantages = list(cell); return nil },
	"schedule":    func(s *endpoint.Settings, cell string) error { s.Schedule = cell; return nil },
	"policy":      func(s *endpoint.Settings, cell string) error { s.Policy = cell; return nil },
	"server-name": func(s *endpoint.Settings, cell string) error { s.ServerName = cell; return nil },
	"http-port": func(s *endpoint.Settings, cell string) (err error) {
		s.HTTPPort, err = port(cell)
		return err
	},
	"authenticated": func(s *endpoint.Settings, cell string) error {
		switch strings.ToLower(cell) {
		case "true", "yes", "1":
			s.Authenticated = true
		case "false", "no", "0", "":
			s.Authenticated = false
		default:
			return fmt.Errorf("%q is neither true nor false", cell)
		}
		return nil
	},
}

func setPort(s *endpoint.Settings, cell string) error {
	number, err := port(cell)
	if err != nil || number == 0 {
		return err
	}
	parsed, err := endpoint.Parse(s.Endpoint)
	if err != nil {
		return nil // told of the endpoint itself
	}
	host := s.Endpoint
	if strings.Count(host, ":") > 1 && !strings.Contains(host, "[") && !strings.Contains(host,
		"://") { // an IPv6 address
		host = "[" + host + "]"
	}
	if bare, err := endpoint.Parse(host + ":" + cell); err == nil && bare.Port == number {
		s.Endpoint = bare.String()
		return nil
	}
	if parsed.Port != number {
		return fmt.Errorf("%s has the port %d, and the column for it says %d", s.Endpoint, parsed.Port, number)
	}
	return nil
}

func port(cell string) (uint16, error) {
	if cell == "" {
		return 0, nil
	}
	number, err := strconv.ParseUint(cell, 10, 16)
	if err != nil || number == 0 {
		return 0, fmt.Errorf("%q is no port", cell)
	}
	return uint16(number), nil
}

// list is what a cell holds, parted by spaces, commas, semicolons or lines.
func list(cell string) []string {
	if cell == "" {
		return nil
	}
	return strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(" ,;\t\r\n", r) })
}

// Parse reads a table; the path is for messages. Columns says by KEY which heading it has in this table, where that is
// not the key itself.
func Parse(path string, data []byte, columns map[string]string) (*Sheet, error) {
	wrong := func(line int, format string, arguments ...any) error {
		return &strictyaml.Error{Name: path, Line: line, Text: fmt.Sprintf(format, arguments...)}
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(data) {
		return nil, wrong(0, "it is no text in UTF-8; save it as CSV with UTF-8")
	}
	for _, key := range slices.Sorted(maps.Keys(columns)) {
		if !known(key) {
			return nil, fmt.Errorf("%q is no key of an endpoint%s; there are %s and labels.NAME", key, meant(key),
				strings.Join(slices.Sorted(maps.Keys(setters)), ", "))
		}
	}
	r := csv.NewReader(bytes.NewReader(data))
	r.Comma, r.FieldsPerRecord, r.TrimLeadingSpace = separator(data), -1, true
	headings, err := r.Read()
	if err != nil {
		return nil, wrong(1, "a line of headings is missing: %v", err)
	}
	s := &Sheet{path: path}
	if err := s.name(headings, columns); err != nil {
		return nil, wrong(1, "%v", err)
	}
	for {
		cells, err := r.Read()
		var parse *csv.ParseError
		switch {
		case errors.Is(err, io.EOF):
			return s, nil
		case errors.As(err, &parse):
			return nil, wrong(parse.Line, "%v", parse.Err)
		case err != nil:
			return nil, wrong(0, "%v", err)
		}
		line, _ := r.FieldPos(0)
		if len(cells) > len(headings) {
			return nil, wrong(line, "it has %d cells, and there are %d headings", len(cells), len(headings))
		}
		if strings.TrimSpace(strings.Join(cells, "")) != "" {
			s.rows = append(s.rows, row{line, cells})
		}
	}
}

func known(key string) bool {
	name, label := strings.CutPrefix(key, labelKey)
	return setters[key] != nil || label && name != ""
}

func meant(key string) string {
	if near := spelling.Nearest(key, slices.Sorted(maps.Keys(setters))); near != "" {
		return fmt.Sprintf("; %q may be meant", near)
	}
	return ""
}

// separator is what parts the headings: spreadsheets write commas, semicolons or tabs, depending on their language.
func separator(data []byte) rune {
	first, _, _ := bytes.Cut(data, []byte("\n"))
	best := ','
	for _, r := range ";\t" {
		if bytes.Count(first, []byte(string(r))) > bytes.Count(first, []byte(string(best))) {
			best = r
		}
	}
	return best
}

// name finds out what each column is.
func (s *Sheet) name(headings []string, columns map[string]string) error {
	s.keys = make([]string, len(headings))
	for key, heading := range columns {
		i := slices.IndexFunc(headings, func(h string) bool { return strings.TrimSpace(h) == heading })
		if i < 0 {
			return fmt.Errorf("no column has the heading %q; there are %q", heading, headings)
		}
		if s.keys[i] != "" {
			return fmt.Errorf("the column %q is taken for %s and for %s", heading, s.keys[i], key)
		}
		s.keys[i] = key
	}
	for i, heading := range headings {
		if key := strings.TrimSpace(heading); s.keys[i] == "" {
			if _, elsewhere := columns[key]; known(key) && !elsewhere {
				s.keys[i] = key
			} else if key != "" {
				s.Unused = append(s.Unused, key)
			}
		}
	}
	for i, key := range s.keys {
		if key != "" && slices.Contains(s.keys[:i], key) {
			return fmt.Errorf("two columns are taken for %s", key)
		}
	}
	if !slices.Contains(s.keys, "endpoint") {
		return fmt.Errorf("no column is the endpoint; name it with --column endpoint=HEADING, of %q", headings)
	}
	return nil
}

// Over are the settings of the table's endpoints: those of the estate, with what the table says. All defects are told
// together, each with its line.
func (s *Sheet) Over(estate []endpoint.Settings) ([]endpoint.Settings, error) {
	before := map[string]endpoint.Settings{}
	for _, e := range estate {
		before[e.Endpoint] = e
	}
	var out []endpoint.Settings
	var failures []error
	lines := map[string]int{}
	for _, r := range s.rows {
		fail := func(err error) {
			failures = append(failures, &strictyaml.Error{Name: s.path, Line: r.line, Text: err.Error()})
		}
		var named endpoint.Settings
		for _, key := range []string{"endpoint", "port"} { // in this order
			if cell, ok := s.cell(r, key); ok {
				if err := setters[key](&named, cell); err != nil {
					fail(err)
				}
			}
		}
		parsed, err := endpoint.Parse(named.Endpoint)
		if err != nil {
			fail(err)
			continue
		}
		if first, twice := lines[parsed.String()]; twice {
			fail(fmt.Errorf("%s is listed twice, first in line %d", parsed, first))
			continue
		}
		lines[parsed.String()] = r.line
		e := before[parsed.String()]
		e.Endpoint = parsed.String()
		if err := s.set(&e, r); err != nil {
			fail(err)
			continue
		}
		for _, d := range e.Settle(endpoint.Known{}) {
			fail(d.Err)
		}
		out = append(out, e)
	}
	return out, errors.Join(failures...)
}

func (s *Sheet) cell(r row, key string) (string, bool) {
	i := slices.Index(s.keys, key)
	if i < 0 || i >= len(r.cells) {
		return "", false
	}
	return strings.TrimSpace(r.cells[i]), true
}

// set puts every cell but the endpoint's own into the settings. An empty cell takes away what was there.
func (s *Sheet) set(e *endpoint.Settings, r row) error {
	e.Labels = maps.Clone(e.Labels)
	for _, key := range s.keys {
		cell, ok := s.cell(r, key)
		name, label := strings.CutPrefix(key, labelKey)
		switch {
		case !ok || key == "" || key == "endpoint" || key == "port":
		case label && cell == "":
			delete(e.Labels, name)
		case label:
			if e.Labels == nil {
				e.Labels = map[string]string{}
			}
			e.Labels[name] = cell
		default:
			if err := setters[key](e, cell); err != nil {
				return err
			}
		}
	}
	if len(e.Labels) == 0 {
		e.Labels = nil
	}
	return nil
}
