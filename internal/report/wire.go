package report

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/words"
)

// wire writes what was learnt of each address of an endpoint: suites by
// version, order of preference and groups; with long every setting and connection.
func wire(w io.Writer, e facts.Endpoint, shown []judge.Shown, long bool, s Style) error {
	width := s.columns()
	var out bytes.Buffer
	for _, o := range e.Observations {
		if o.Outcome != facts.Answered {
			continue
		}
		fmt.Fprintf(&out, "\n%s on %s: %s effort, %s\n\n", e.Endpoint, o.Place(), o.Effort,
			Plural(len(o.Connections), "connection"))
		i := slices.IndexFunc(shown, func(x judge.Shown) bool { return x.Address == o.Place() })
		if i < 0 {
			continue
		}
		out.WriteString(suiteMatrix(shown[i], s) + "\n\n")
		writeRows(&out, wireRows(o), width)
		if long {
			out.WriteString(settingsTable(o, shown[i]) + "\n\n")
			writeRows(&out, connectionRows(o), width)
		}
	}
	if rows := recordRows(e.DNS); out.Len() > 0 && len(rows) > 0 {
		writeRows(&out, rows, width)
	}
	_, err := io.WriteString(w, out.String())
	return err
}

// recordRows tell what the name server said.
func recordRows(d *facts.DNS) [][2]string {
	if d == nil {
		return nil
	}
	var rows [][2]string
	for _, r := range d.CAA {
		rows = append(rows, [2]string{"CAA", fmt.Sprintf("%s %q, at %s", r.Tag, r.Value, d.CAAAt)})
	}
	word := "not validated, and not judged"
	if d.Validated {
		word = "validated"
	}
	for _, r := range d.TLSA {
		rows = append(rows, [2]string{"TLSA", fmt.Sprintf("%d %d %d %x, at %s, %s", r.Usage, r.Selector, r.Matching,
			r.Data, d.TLSAAt, word)})
	}
	for _, failure := range d.Failures {
		rows = append(rows, [2]string{"not learnt", words.Of(failure)})
	}
	return rows
}

// remarks are the words for what is to be said of a suite.
var remarks = map[string]string{"weak": "■ weak", "not-allowed": "■ not allowed",
	"no-forward-secrecy": "no forward secrecy"}

// suiteMatrix shows each suite with its place in the order of each version.
func suiteMatrix(x judge.Shown, s Style) string {
	versions := x.Accepted()
	header, order, rest := []string{"cipher suite"}, table.Row{"order of preference"}, table.Row{unfinished}
	cut := false
	for _, v := range versions {
		header = append(header, v.Name)
		word := map[facts.Order]string{facts.ServerOrder: "server", facts.ClientOrder: "client",
			facts.PartialOrder: "server*"}[v.Order]
		if word == "" {
			word = "–"
		}
		order = append(order, word)
		if word = "·"; v.Cut {
			word, cut = "■", true
		}
		rest = append(rest, word)
	}
	out := NewTable(append(header, "")...)
	for _, suite := range x.Suites {
		row := table.Row{suite.Name}
		for _, place := range suite.Places {
			word := "·"
			if place > 0 {
				word = fmt.Sprint(place)
			}
			row = append(row, word)
		}
		remark := remarks[suite.Remark]
		if s.Colour && suite.Wrong {
			remark = text.Colors{text.FgRed}.Sprint(remark)
		}
		out.AppendRow(append(row, remark))
	}
	out.AppendRow(append(order, ""))
	if cut {
		out.AppendRow(append(rest, "there may be more"))
	}
	return out.Render()
}

// unfinished marks lists of which not everything was asked.
const unfinished = "not asked to the end"

// whole is the list, with a mark where it may go on.
func whole(list []string, cut facts.Reason) string {
	line := strings.Join(list, ", ")
	if cut.Given() {
		line = strings.TrimPrefix(line+" ("+unfinished+")", " ")
	}
	return line
}

func wireRows(o facts.Observation) [][2]string {
	var rows [][2]string
	row := func(word, line string) {
		if line != "" {
			rows = append(rows, [2]string{word, line})
		}
	}
	row("ended early", words.Of(o.Cut))
	var declined, unasked []string
	for _, v := range o.Versions {
		switch {
		case v.Answer == facts.NotShown && o.Cut.Given():
			unasked = append(unasked, v.Name)
		case v.Answer != facts.Accepted:
			declined = append(declined, v.Name)
		}
		if v.Order == facts.PartialOrder {
			row("* "+v.Name, "the client's order counts for "+strings.Join(v.PartialSuites, ", "))
		}
	}
	row("not accepted", strings.Join(declined, ", "))
	row("not asked", strings.Join(unasked, ", "))
	if g := o.Groups; g != nil {
		line := whole(g.Accepted, g.Cut)
		if g.Order != "" {
			line += ", in the " + string(g.Order) + "'s order"
		}
		row("groups", line)
		if g.FiniteField != nil {
			row("finite field", strings.TrimSpace(fmt.Sprintf("%d bits %s", g.FiniteField.Bits, g.FiniteField.Name)))
		}
	}
	for _, x := range o.Others {
		what := map[string]string{"other-key": x.Key + " keys alone", "no-name": "no SNI",
			"foreign-name": "an unknown name in SNI"}[x.To]
		if x.Refused.Given() {
			row("for "+what, "refused: "+words.Of(x.Refused))
		} else if len(x.Certificates) > 0 {
			row("for "+what, "another chain, of "+Plural(len(x.Certificates), "certificate"))
		}
	}
	if o.ClientCertificate != nil {
		issuers := "of any issuer"
		if len(o.ClientCertificate.Issuers) > 0 {
			issuers = "of " + strings.Join(o.ClientCertificate.Issuers, "; ")
		}
		row("asks for", "a client certificate "+issuers)
	}
	if s := o.Settings; s != nil {
		row("signs with", whole(s.SignatureSchemes, s.SignatureSchemesCut))
	}
	row("proof of key", strings.ReplaceAll(string(o.Possession), "-", " "))
	return rows
}

// settingNames are the settings as people know them.
var settingNames = map[string]string{
	"renegotiation_info":     "secure renegotiation (RFC 5746)",
	"extended_master_secret": "extended master secret (RFC 7627)",
	"encrypt_then_mac":       "encrypt-then-MAC (RFC 7366)", "compression": "TLS compression",
	"fallback_signal": "fallback signal (RFC 7507)",
	"session_tickets": "session tickets", "resumption": "session resumption", "heartbeat": "heartbeat (RFC 6520)",
	"downgrade_marker": "downgrade marker (RFC 8446, 4.1.3)", "tolerates_unknown": "accepts unknown values (RFC 8701)",
	"tolerates_newer": "answers clients with newer versions",
	"tolerates_large": "accepts large ClientHellos",
}

var timestampSources = map[string]string{"certificate": "in the certificate", "handshake": "in the handshake",
	"ocsp-response": "in the OCSP response"}

// settingsTable shows each setting beside what the policy wants.
func settingsTable(o facts.Observation, x judge.Shown) string {
	out := NewTable("setting", "is", "should be")
	either := func(should facts.Answer) string {
		if should == "" {
			return "either"
		}
		return string(should)
	}
	for _, setting := range x.Settings {
		is := strings.ReplaceAll(string(setting.Is), "-", " ")
		if setting.Wrong {
			is += " ■"
		}
		out.AppendRow(table.Row{settingNames[setting.Name], is, either(setting.Should)})
	}
	if s := o.Settings; s != nil && s.ALPN != "" {
		out.AppendRow(table.Row{"application protocol (ALPN)", s.ALPN, "either"})
	}
	if s := o.Settings; s != nil && s.SignatureScheme != "" {
		out.AppendRow(table.Row{"signed with", s.SignatureScheme, "no SHA-1"})
	}
	for i, t := range x.Timestamps {
		title := ""
		if i == 0 {
			title = "certificate timestamps (SCT)"
		}
		out.AppendRow(table.Row{title, fmt.Sprintf("%s, log %.8s…, %s", t.At.UTC().Format(time.DateOnly), t.Log,
			timestampSources[t.From]), "either"})
	}
	if h := o.HTTP; h != nil && h.Status != 0 {
		strict := h.StrictTransportSecurity
		if strict == "" {
			strict = "no"
		}
		out.AppendRow(table.Row{"HSTS (RFC 6797)", strict, "max-age of a year"})
		if p := h.Plain; p != nil {
			is := words.Of(p.Failure)
			if p.Status != 0 {
				is = strings.TrimSpace(fmt.Sprintf("status %d %s", p.Status, p.Location))
			}
			out.AppendRow(table.Row{"plain HTTP on " + p.Address, is, "a redirection to https, or nothing"})
		}
	}
	return out.Render()
}

func connectionRows(o facts.Observation) [][2]string {
	rows := make([][2]string, len(o.Connections))
	for i, c := range o.Connections {
		rows[i] = [2]string{fmt.Sprint(i + 1), fmt.Sprintf("%s: %d bytes sent, %d received, %s, %s",
			words.Of(c.Purpose), c.Sent, c.Received, c.Duration.Round(100*time.Microsecond), words.Of(c.Outcome))}
	}
	return rows
}
