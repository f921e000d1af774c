package report

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pairing"
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

// Reaches reports whether a finding that counts is at least as severe as the limit.
func (p *Pairs) Reaches(limit judge.Severity) bool {
	return slices.ContainsFunc(p.Files, func(f PairFile) bool { return judge.Reach(f.Findings, limit) })
}

// Pair is groups, left-overs, successions and findings.
func Pair(p *Pairs) Document {
	d := Document{Value: p}
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
	var out strings.Builder
	if len(p.Groups) > 0 {
		out.WriteString("BELONG TOGETHER\n\n")
	}
	for _, g := range p.Groups {
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
		writeRows(&out, rows, width)
	}
	if len(p.Unpaired) > 0 {
		out.WriteString("LEFT OVER\n\n")
		var rows [][2]string
		for _, m := range p.Unpaired {
			rows = append(rows, [2]string{memberKind(m),
				strings.TrimSpace(fmt.Sprintf("%s  %s", memberPath(m), m.Brief.Label)) + ": " + m.Why})
		}
		writeRows(&out, rows, width)
	}
	if len(p.Successions) > 0 {
		out.WriteString("FOLLOWED ONE ANOTHER\n\n")
	}
	for _, x := range p.Successions {
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
		writeRows(&out, rows, width)
	}
	_, err := io.WriteString(w, out.String())
	return err
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
		plural(len(p.Groups), "group"), len(p.Unpaired), plural(len(p.Successions), "succession"),
		plural(len(p.Files), "file"), n.Faulty, n.AtRisk, n.Sound, p.At.Format("2006-01-02 15:04:05 MST")))
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
func writeRows(out *strings.Builder, rows [][2]string, width int) {
	column := 0
	for _, r := range rows {
		column = max(column, len(r[0]))
	}
	for _, r := range rows {
		lead := r[0]
		for line := range strings.SplitSeq(wrap(r[1], max(width-column-4, 30)), "\n") {
			fmt.Fprintf(out, "  %-*s  %s\n", column, lead, line)
			lead = ""
		}
	}
	out.WriteByte('\n')
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
