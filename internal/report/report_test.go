package report_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/judge"
	"nurvik/internal/audit"
	"nurvik/internal/report"
)

var update = flag.Bool("update", false, "rewrite golden files and documents")

// golden compares with a file, or rewrites it under -update.
func golden(t *testing.T, path, got string) {
	t.Helper()
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(want), got, "run with -update if this is wanted")
}

func sample() *audit.Report {
	at := time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	r := &audit.Report{Schema: audit.Schema, At: at, Policy: "open-web",
		Unexamined: []audit.Unexamined{{Target: "drydock.tarnholm.example:443", Reason: "The connection was refused."}},
		NoRoute:    []string{"2001:db8::9"}}
	for _, j := range []judge.Judgement{
		{Target: "tides.tarnholm.example:443", Kind: "endpoint", Verdict: judge.Sound},
		{Target: "dredger.tarnholm.example:443", Kind: "endpoint", Verdict: judge.AtRisk, Findings: []judge.Finding{{
			Code: "key.too-short", Severity: judge.Risk,
			Message:   "The key of dredger.tarnholm.example is RSA 1024, which is too short.",
			Remedy:    "Make a new key, RSA of at least 2048 bits or EC P-256, and have a certificate issued for it.",
			Addresses: []string{"127.30.8.4:443", "127.30.8.5:443"}}}},
		{Target: "cranes.tarnholm.example:443", Kind: "endpoint", Verdict: judge.Faulty, Findings: []judge.Finding{{
			Code: "time.expired", Severity: judge.Fault,
			Message: "cranes.tarnholm.example expired on 2026-11-24 10:00 UTC, 24 hours ago.",
			Remedy:  "Install a renewed certificate and reload the server."}}},
		{Target: "drydock.tarnholm.example:443", Kind: "endpoint", Verdict: judge.Unreachable,
			Findings: []judge.Finding{{
				Code: "reach.refused", Severity: judge.None, Message: "The connection was refused.",
				Remedy: "Check that the service runs."}}},
	} {
		r.Targets = append(r.Targets, audit.Target{Judgement: j})
		r.Summary.Count(j.Verdict)
	}
	return r
}

func TestAuditTable(t *testing.T) {
	for name, width := range map[string]int{"wide": 120, "narrow": 80} {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			require.NoError(t, report.Audit(sample(), false).Text(&out, report.Style{Width: width}))
			golden(t, filepath.Join("testdata", "audit-"+name+".txt"), out.String())
			for line := range strings.Lines(out.String()) {
				assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), width, line)
			}
			assert.NotContains(t, out.String(), "\x1b", "no colour unless asked for")
		})
	}
	var colour bytes.Buffer
	require.NoError(t, report.Audit(sample(), false).Text(&colour, report.Style{Colour: true}))
	for _, word := range []string{"■ faulty", "◆ at-risk", "○ unreachable", "· sound"} {
		assert.Contains(t, colour.String(), word, "words and marks stand beside every colour")
	}
}

func TestAuditJSON(t *testing.T) {
	var out bytes.Buffer
	format, err := report.FormatNamed("json")
	require.NoError(t, err)
	require.NoError(t, format.Write(&out, report.Audit(sample(), false), report.Style{}))
	var document struct {
		Schema  string
		At      string
		Targets []struct{ Target, Kind, Verdict string }
		Summary map[string]int
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &document))
	assert.Equal(t, "nurvik.audit/1", document.Schema)
	assert.Equal(t, "2026-11-25T10:00:00Z", document.At)
	assert.Equal(t, "tides.tarnholm.example:443", document.Targets[0].Target, "the order is that of the call")
	assert.Equal(t, map[string]int{"sound": 1, "at-risk": 1, "faulty": 1, "unreachable": 1}, document.Summary)
}

// TestCatalogueDocument holds docs/findings.md to the catalogue in the code.
func TestCatalogueDocument(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, report.CatalogueMarkdown(&out, judge.Catalogue()))
	golden(t, filepath.Join("..", "..", "docs", "findings.md"), out.String())
}

func TestExplanation(t *testing.T) {
	e, err := judge.Explain("chain.incomplete")
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, report.Explanation(e).Text(&out, report.Style{Width: 80}))
	for _, part := range []string{e.Title, "Why it matters", "What to do", "RFC 8446 section 4.4.2"} {
		assert.Contains(t, out.String(), part)
	}
	for line := range strings.Lines(out.String()) {
		assert.LessOrEqual(t, len(line), 81)
	}
}

// TestEveryFormOfJSON: a result is the same in one piece, indented for a terminal, and line by line.
func TestEveryFormOfJSON(t *testing.T) {
	many := sample()
	for range 1000 { // more than one block
		many.Targets = append(many.Targets, many.Targets[0])
	}
	for name, document := range map[string]report.Document{"audit": report.Audit(many, false),
		"pair": report.Pair(pairsSample(t)), "identify": report.Identify(inventorySample(), false, time.Time{})} {
		write := func(form string, s report.Style) []byte {
			var out bytes.Buffer
			format, err := report.FormatNamed(form)
			require.NoError(t, err)
			require.NoError(t, format.Write(&out, document, s))
			return out.Bytes()
		}
		plain := write("json", report.Style{})
		assert.JSONEq(t, string(plain), string(write("json", report.Style{Terminal: true})), name)
		var whole map[string]any
		require.NoError(t, json.Unmarshal(plain, &whole), name)
		lines := bytes.Split(bytes.TrimSpace(write("jsonl", report.Style{})), []byte("\n"))
		got := map[string]any{}
		require.NoError(t, json.Unmarshal(lines[0], &got), "the first line is what stands beside the lists")
		for _, line := range lines[1:] {
			var entry map[string]any
			require.NoError(t, json.Unmarshal(line, &entry))
			require.Len(t, entry, 1, "the name of the list")
			for list, value := range entry {
				all, _ := got[list].([]any)
				got[list] = append(all, value)
			}
		}
		for list, value := range whole {
			if entries, ok := value.([]any); !ok || len(entries) > 0 {
				assert.Equal(t, value, got[list], "%s: %s", name, list)
			}
		}
	}
}

// TestWideThingsBesideMany: one certificate of very many names does not make a line of each file as wide.
func TestWideThingsBesideMany(t *testing.T) {
	v := inventorySample()
	for i := range 20000 {
		v.Files[0].Entries[0].Names = append(v.Files[0].Entries[0].Names, fmt.Sprintf("b%d.tarnholm.example", i))
	}
	for range 500 {
		v.Files = append(v.Files, v.Files[1])
	}
	for form, most := range map[string]int{"table": 300_000, "json": 1_000_000, "jsonl": 1_000_000} {
		var out bytes.Buffer
		format, err := report.FormatNamed(form)
		require.NoError(t, err)
		require.NoError(t, format.Write(&out, report.Identify(v, false, time.Time{}), report.Style{}))
		assert.Less(t, out.Len(), most, form)
		assert.Equal(t, form != "table", strings.Count(out.String(), "b19999.tarnholm.example") == 1, form)
	}
}

func TestFormats(t *testing.T) {
	assert.Equal(t, []string{"icalendar", "json", "jsonl", "table"}, report.Formats())
	_, err := report.FormatNamed("picture")
	assert.EqualError(t, err, `the output "picture" is not known; there are icalendar, json, jsonl, table`)
	table, err := report.FormatNamed("table")
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, table.Write(&out, report.Document{Rows: []report.Row{{Target: "tides.pem",
		Verdict: judge.Sound}}}, report.Style{}))
	assert.Contains(t, out.String(), "· sound  tides.pem", "a result without words of its own is drawn from its rows")
}
