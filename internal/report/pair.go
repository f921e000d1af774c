package report

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/internal/audit"
)

// PairSchema names the form of the JSON of "nurvik pair".
const PairSchema = "nurvik.pair/1"

// Pairs is what belongs together, what is left over and what is wrong.
type Pairs struct {
	Schema string    `json:"schema"`
	At     time.Time `json:"at"`
	Policy string    `json:"policy"`
	*pairing.Result
	Files      []PairFile         `json:"files"`
	Unexamined []audit.Unexamined `json:"unexamined"`
}

// PairFile is the judgement of one file.
type PairFile struct {
	Path     string          `json:"path"`
	Verdict  judge.Verdict   `json:"verdict"`
	Findings []judge.Finding `json:"findings"`
}

// NewPairs joins the parts of the answer.
func NewPairs(result *pairing.Result, judgements []judge.Judgement, unexamined []audit.Unexamined, at time.Time,
	policy string) *Pairs {
	p := &Pairs{Schema: PairSchema, At: at.UTC().Truncate(time.Second), Policy: policy, Result: result,
		Files: []PairFile{}, Unexamined: unexamined}
	if p.Unexamined == nil {
		p.Unexamined = []audit.Unexamined{}
	}
	for _, j := range judgements {
		p.Files = append(p.Files, PairFile{j.Target, j.Verdict, j.Findings})
	}
	return p
}

// pairHead is what stands beside the lists of the answer.
type pairHead struct {
	Schema string    `json:"schema"`
	At     time.Time `json:"at"`
	Policy string    `json:"policy"`
}

// groupView is the form of a group for programs.
type groupView struct {
	SPKI         pki.Fingerprint      `json:"spki"`
	Key          string               `json:"key"`
	Keys         []pairing.MemberView `json:"keys"`
	Certificates []pairing.MemberView `json:"certificates"`
	Requests     []pairing.MemberView `json:"requests"`
}

func viewOfGroup(g *pairing.Group) groupView {
	views := func(members []*pairing.Member) []pairing.MemberView {
		out := make([]pairing.MemberView, len(members))
		for i, m := range members {
			out[i] = m.View()
		}
		return out
	}
	return groupView{g.SPKI, g.Key, views(g.Keys), views(g.Certificates), views(g.Requests)}
}

// successionView is the form of a succession for programs.
type successionView struct {
	Names []string   `json:"names"`
	Steps []stepView `json:"steps"`
}

type stepView struct {
	Certificate pairing.MemberView `json:"certificate"`
	Paths       []string           `json:"paths"`
	Keys        []string           `json:"keys"`
	SPKI        pki.Fingerprint    `json:"spki"`
}

// mostRepeated is how many names of a certificate are written more than once: with its succession, and with each step.
const mostRepeated = 100

func viewOfSuccession(s *pairing.Succession) successionView {
	out := successionView{Names: s.Names, Steps: make([]stepView, len(s.Steps))}
	for i, step := range s.Steps {
		out.Steps[i] = stepView{step.Certificate.View(), step.Paths, step.Keys, step.SPKI}
		if len(step.Certificate.Names) > mostRepeated { // they are those of the succession
			out.Steps[i].Certificate.Names = nil
		}
	}
	return out
}

// Reaches reports whether a finding that counts is at least as severe as the limit.
func (p *Pairs) Reaches(limit judge.Severity) bool {
	return slices.ContainsFunc(p.Files, func(f PairFile) bool { return judge.Reach(f.Findings, limit) })
}

// Pair is groups, left-overs, successions and findings.
func Pair(p *Pairs) Document {
	d := Document{Value: pairHead{p.Schema, p.At, p.Policy}, Lists: []List{
		{"groups", len(p.Groups), func(i int) any { return viewOfGroup(&p.Groups[i]) }},
		{"unpaired", len(p.Unpaired), func(i int) any { return p.Unpaired[i].View() }},
		{"successions", len(p.Successions), func(i int) any { return viewOfSuccession(&p.Successions[i]) }},
		{"files", len(p.Files), func(i int) any { return &p.Files[i] }},
		{"unexamined", len(p.Unexamined), func(i int) any { return &p.Unexamined[i] }},
	}}
	for _, f := range p.Files {
		if len(f.Findings) > 0 {
			d.Rows = append(d.Rows, Row{f.Path, f.Verdict, f.Findings})
		}
	}
	d.Text = func(w io.Writer, s Style) error {
		if err := pairGroups(w, p, s.columns()); err != nil {
			return err
		}
		return pairFindings(w, p, d.Rows, s)
	}
	return d
}

// pairGroups shows what belongs together, what is left over and what followed what.
func pairGroups(w io.Writer, p *Pairs, width int) error {
	heading := func(count int, text string) error {
		if count == 0 {
			return nil
		}
		_, err := io.WriteString(w, text+"\n\n")
		return err
	}
	if err := heading(len(p.Groups), "BELONG TOGETHER"); err != nil {
		return err
	}
	err := inBlocks(w, len(p.Groups), func(out *bytes.Buffer, i int) error {
		g := p.Groups[i]
		out.WriteString(groupTitle(g) + "\n")
		var rows [][2]string
		for _, k := range g.Keys {
			rows = append(rows, [2]string{"key", memberPath(*k)})
		}
		for _, q := range g.Requests {
			rows = append(rows, [2]string{"request", memberPath(*q)})
		}
		for _, c := range g.Certificates {
			rows = append(rows, [2]string{"certificate", memberPath(*c) + "  " + validity(*c, p.At)})
		}
		writeRows(out, rows, width)
		return nil
	})
	if err != nil {
		return err
	}
	if err := leftOver(w, p, width); err != nil {
		return err
	}
	if err := heading(len(p.Successions), "FOLLOWED ONE ANOTHER"); err != nil {
		return err
	}
	return inBlocks(w, len(p.Successions), func(out *bytes.Buffer, i int) error {
		x := p.Successions[i]
		out.WriteString(wrap(few(x.Names, mostValues), width) + "\n")
		var rows [][2]string
		for _, step := range x.Steps {
			line := fmt.Sprintf("%s, key %s  %s", step.Certificate.Summary.Key, step.SPKI.String()[:12],
				few(step.Paths, mostValues))
			if len(step.Keys) > 0 {
				line += "; key in " + few(step.Keys, mostValues)
			}
			rows = append(rows, [2]string{span(facts.Certificate, step.Certificate.NotBefore, step.Certificate.NotAfter,
				p.At), line})
		}
		writeRows(out, rows, width)
		return nil
	})
}

// pairFindings shows the files at which something is wrong like "nurvik audit" does.
func pairFindings(w io.Writer, p *Pairs, rows []Row, s Style) error {
	if len(rows) > 0 {
		if _, err := io.WriteString(w, "FINDINGS\n\n"); err != nil {
			return err
		}
	}
	if err := targets(w, rows, s); err != nil {
		return err
	}
	var n audit.Summary
	for _, f := range p.Files {
		n.Count(f.Verdict)
	}
	lines := unexaminedLines(p.Unexamined)
	lines = append(lines, fmt.Sprintf("%s, %d left over, %s in %s: %d faulty, %d at risk, %d sound; as of %s.",
		Plural(len(p.Groups), "group"), len(p.Unpaired), Plural(len(p.Successions), "succession"),
		Plural(len(p.Files), "file"), n.Faulty, n.AtRisk, n.Sound, p.At.Format("2006-01-02 15:04:05 MST")))
	for i := range lines {
		lines[i] = wrap(lines[i], s.columns())
	}
	_, err := fmt.Fprintln(w, "\n"+strings.Join(lines, "\n"))
	return err
}

func groupTitle(g pairing.Group) string {
	label := ""
	for _, m := range slices.Concat(g.Certificates, g.Requests) {
		if m.Brief.Label != "" {
			label = m.Brief.Label
			break
		}
	}
	return fmt.Sprintf("%s  %s, key %s", label, g.Key, g.SPKI.String()[:12])
}

func memberKind(m pairing.Member) string {
	if m.Kind == facts.PrivateKey {
		return "key"
	}
	return string(m.Kind)
}

func memberPath(m pairing.Member) string {
	switch {
	case m.Alias != "":
		return m.Path + " “" + m.Alias + "”"
	case m.Line > 1:
		return fmt.Sprintf("%s:%d", m.Path, m.Line)
	}
	return m.Path
}

func validity(m pairing.Member, at time.Time) string {
	words := span(m.Kind, m.NotBefore, m.NotAfter, at)
	if m.Valid {
		words += ", valid now"
	}
	return words
}

// writeRows writes pairs of a word and a line that is broken where it must be.
func writeRows(out *bytes.Buffer, rows [][2]string, width int) {
	column := 0
	for _, r := range rows {
		column = max(column, len(r[0]))
	}
	for _, r := range rows {
		writeRow(out, r[0], r[1], column, width)
	}
	out.WriteByte('\n')
}

// writeRow writes what a row is in a column of the width, and the rest behind it.
func writeRow(out *bytes.Buffer, lead, rest string, column, width int) {
	for line := range strings.SplitSeq(wrap(rest, max(width-column-4, 30)), "\n") {
		out.WriteString("  " + lead)
		spaces(out, column-len(lead)+2)
		out.WriteString(line + "\n")
		lead = ""
	}
}

// leftOver shows what belongs to nothing.
func leftOver(w io.Writer, p *Pairs, width int) error {
	if len(p.Unpaired) == 0 {
		return nil
	}
	if _, err := io.WriteString(w, "LEFT OVER\n\n"); err != nil {
		return err
	}
	column := 0
	for _, m := range p.Unpaired {
		column = max(column, len(memberKind(m)))
	}
	err := inBlocks(w, len(p.Unpaired), func(out *bytes.Buffer, i int) error {
		m := &p.Unpaired[i]
		text := memberPath(*m)
		if m.Brief.Label != "" {
			text += "  " + m.Brief.Label
		}
		writeRow(out, memberKind(*m), text+": "+m.Why, column, width)
		return nil
	})
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, "\n")
	return err
}

// AnswerSchema names the form of the JSON of the single question.
const AnswerSchema = "nurvik.pair-answer/1"

// SingleAnswer is the answer to the single question, for programs.
type SingleAnswer struct {
	Schema string `json:"schema"`
	pairing.Answer
	Files []PairFile `json:"files"` // what was noticed beside
}

// NewAnswer joins the answer and what was noticed beside.
func NewAnswer(a pairing.Answer, beside []judge.Judgement) SingleAnswer {
	out := SingleAnswer{Schema: AnswerSchema, Answer: a, Files: []PairFile{}}
	for _, j := range beside {
		out.Files = append(out.Files, PairFile{j.Target, j.Verdict, j.Findings})
	}
	return out
}

// Answer is whether a key and a certificate belong together, and what was
// noticed beside.
func Answer(a pairing.Answer, beside []judge.Judgement) Document {
	d := Document{Value: NewAnswer(a, beside)}
	for _, j := range beside {
		if len(j.Findings) > 0 {
			d.Rows = append(d.Rows, Row{j.Target, j.Verdict, j.Findings})
		}
	}
	d.Text = func(w io.Writer, s Style) error {
		if _, err := fmt.Fprintln(w, wrap(a.Sentence, s.columns())); err != nil || len(d.Rows) == 0 {
			return err
		}
		if _, err := io.WriteString(w, "\nAlso noticed:\n\n"); err != nil {
			return err
		}
		return targets(w, d.Rows, s)
	}
	return d
}
