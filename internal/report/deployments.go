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
			served = append(served, leafCell(&d.Served[i], d, width))
		}
		if len(served) == 0 {
			served = []string{"no certificate"}
		}
		mark := "≠ "
		if d.Agree {
			mark = "= "
		}
		out.AppendRow([]any{wrap(mark+d.Endpoint+"\n  "+d.Server, width), leafCell(d.Disk, d, width),
			leafCell(d.Configured, d, width), strings.Join(served, "\n")})
	}
	_, err := fmt.Fprintln(w, "\n"+out.Render())
	return err
}

// leafCell is a certificate with its place. The short fingerprint tells those of one name apart.
func leafCell(l *judge.DeployedLeaf, _ judge.Deployment, width int) string {
	if l == nil {
		return "–"
	}
	return wrap(fmt.Sprintf("%s\n%s, %s to %s\n%s", l.Label, l.Certificate.String()[:8], l.NotBefore.Format(time.DateOnly),
		l.NotAfter.Format(time.DateOnly), l.Place), width)
}
