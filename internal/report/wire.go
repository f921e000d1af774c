package report

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// Wire writes what was learnt of each address of an endpoint: suites by
// version, order of preference and groups; with long every setting and connection.
func Wire(w io.Writer, e facts.Endpoint, long bool, s Style) error {
	width := s.Width
	if width <= 0 {
		width = 120
	}
	var out strings.Builder
	for _, o := range e.Observations {
		if o.Outcome != facts.Answered {
			continue
		}
		fmt.Fprintf(&out, "\n%s on %s: %s effort, %s\n\n", e.Endpoint, o.Address, o.Effort, plural(len(o.Connections), "connection"))
		out.WriteString(suiteMatrix(o, s) + "\n\n")
		writeRows(&out, wireRows(o), width)
		if long {
			out.WriteString(settingsTable(o) + "\n\n")
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
		rows = append(rows, [2]string{"TLSA", fmt.Sprintf("%d %d %d %x, at %s, %s", r.Usage, r.Selector, r.Matching, r.Data, d.TLSAAt, word)})
	}
	for _, failure := range d.Failures {
		rows = append(rows, [2]string{"not learnt", failure})
	}
	return rows
}

// suiteMatrix shows each suite with its place in the order of each version.
func suiteMatrix(o facts.Observation, s Style) string {
	var versions []facts.Version
	for _, v := range o.Versions {
		if v.Answer == facts.Accepted {
			versions = append(versions, v)
		}
	}
	header, order := []string{"suite"}, table.Row{"order of preference"}
	var names []string
	for _, v := range versions {
		header = append(header, v.Name)
		word := map[facts.Order]string{facts.ServerOrder: "server", facts.ClientOrder: "client", facts.PartialOrder: "server*"}[v.Order]
		if word == "" {
			word = "–"
		}
		order = append(order, word)
		for _, name := range v.Suites {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	out := NewTable(append(header, "")...)
	for _, name := range names {
		row := table.Row{name}
		for _, v := range versions {
			place := "·"
			if i := slices.Index(v.Suites, name); i >= 0 {
				place = fmt.Sprint(i + 1)
			}
			row = append(row, place)
		}
		out.AppendRow(append(row, suiteRemark(name, s)))
	}
	out.AppendRow(append(order, ""))
	return out.Render()
}

// suiteRemark says what is to be said of the suite.
func suiteRemark(name string, s Style) string {
	suite, ok := tlswire.SuiteNamed(name)
	if !ok {
		return ""
	}
	p := suite.Properties()
	switch {
	case p.Status == tlswire.Broken || p.Status == tlswire.Weak:
		word := "■ " + string(p.Status)
		if s.Colour {
			word = text.Colors{text.FgRed}.Sprint(word)
		}
		return word
	case !p.ForwardSecrecy:
		return "no forward secrecy"
	}
	return ""
}

func wireRows(o facts.Observation) [][2]string {
	var rows [][2]string
	row := func(word, line string) {
		if line != "" {
			rows = append(rows, [2]string{word, line})
		}
	}
	row("ended early", o.Cut)
	var declined []string
	for _, v := range o.Versions {
		if v.Answer != facts.Accepted {
			declined = append(declined, v.Name)
		}
		if v.Order == facts.PartialOrder {
			row("* "+v.Name, "the client's order counts for "+strings.Join(v.PartialSuites, ", "))
		}
	}
	row("not accepted", strings.Join(declined, ", "))
	if g := o.Groups; g != nil {
		line := strings.Join(g.Accepted, ", ")
		if g.Order != "" {
			line += ", in the " + string(g.Order) + "'s order"
		}
		row("groups", line)
		if g.FiniteField != nil {
			row("finite field", strings.TrimSpace(fmt.Sprintf("%d bits %s", g.FiniteField.Bits, g.FiniteField.Name)))
		}
	}
	for _, x := range o.Others {
		what := map[string]string{"other-key": "another kind of key", "no-name": "no server name", "foreign-name": "a foreign name"}[x.To]
		if x.Refused != "" {
			row("for "+what, "refused: "+x.Refused)
		} else if len(x.Certificates) > 0 {
			row("for "+what, "another chain, of "+plural(len(x.Certificates), "certificate"))
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
		row("signs with", strings.Join(s.SignatureSchemes, ", "))
	}
	row("proof of key", strings.ReplaceAll(string(o.Possession), "-", " "))
	return rows
}

// settings are shown in this order, each with what it should be.
func settingsTable(o facts.Observation) string {
	out := NewTable("setting", "is", "should be")
	if s := o.Settings; s != nil {
		for _, x := range []struct {
			name   string
			is     facts.Answer
			should string
		}{
			{"renegotiation information (RFC 5746)", s.RenegotiationInfo, "yes"}, {"extended master secret (RFC 7627)", s.ExtendedMasterSecret, "yes"},
			{"encrypt-then-MAC (RFC 7366)", s.EncryptThenMAC, "yes, where suites with CBC are needed"}, {"compression", s.Compression, "no"},
			{"fallback signal (RFC 7507)", s.FallbackSignal, "yes, where several versions are accepted"}, {"session tickets", s.SessionTickets, "either"},
			{"resumption", s.Resumption, "either"}, {"heartbeat (RFC 6520)", s.Heartbeat, "no"}, {"downgrade marker (RFC 8446, 4.1.3)", s.DowngradeMarker, "yes, with TLS 1.3"},
			{"tolerates unknown values (RFC 8701)", s.ToleratesUnknown, "yes"}, {"tolerates large hellos", s.ToleratesLarge, "yes"},
		} {
			out.AppendRow(table.Row{x.name, strings.ReplaceAll(string(x.is), "-", " "), x.should})
		}
		if s.ALPN != "" {
			out.AppendRow(table.Row{"application protocol (ALPN)", s.ALPN, "either"})
		}
		if s.SignatureScheme != "" {
			out.AppendRow(table.Row{"signed with", s.SignatureScheme, "no SHA-1"})
		}
	}
	if h := o.HTTP; h != nil && h.Status != 0 {
		strict := h.StrictTransportSecurity
		if strict == "" {
			strict = "no"
		}
		out.AppendRow(table.Row{"strict transport security (RFC 6797)", strict, "max-age of a year"})
		if p := h.Plain; p != nil {
			is := p.Failure
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
		rows[i] = [2]string{fmt.Sprint(i + 1), fmt.Sprintf("%s: %d bytes sent, %d received, %s, %s", c.Purpose, c.Sent, c.Received, c.Duration.Round(100*time.Microsecond), c.Outcome)}
	}
	return rows
}
