package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"nurvik/core/judge"
)

// deployments writes disk, configuration and wire of each place side by side.
func deployments(w io.Writer, list []judge.Deployment, s Style) error {
	if len(list) == 0 {
		return nil
	}
	width := max((s.columns()-10)/4, 24)
	out := NewTable("place", "on disk", "configured", "served")
	for _, d := range list {
		served := make([]string, 0, len(d.Served))
		for i := range d.Served {
			served = append(served, leafCell(&d.Served[i], width))
		}
		if len(served) == 0 {
			served = []string{"no certificate"}
		}
		mark := "≠ "
		if d.Agree {
			mark = "= "
		}
		out.AppendRow([]any{wrap(mark+d.Endpoint, width) + "\n  " + d.Server, leafCell(d.Disk, width),
			leafCell(d.Configured, width), strings.Join(served, "\n")})
	}
	_, err := fmt.Fprintln(w, "\n"+out.Render())
	return err
}

// leafCell is a certificate with its place. The beginning of the fingerprint tells those of one name apart.
func leafCell(l *judge.DeployedLeaf, width int) string {
	if l == nil {
		return "–"
	}
	dates := l.NotBefore.Format(time.DateOnly) + " to " + l.NotAfter.Format(time.DateOnly)
	lines := []string{l.Label, l.Certificate.String()[:8] + ", from", dates, l.Place}
	for i := range lines {
		lines[i] = wrap(lines[i], width)
	}
	return strings.Join(lines, "\n")
}
