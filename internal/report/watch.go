package report

import (
	"fmt"
	"io"
	"time"

	"nurvik/internal/audit"
)

// Watch writes how waiting for a certificate ended.
func Watch(r audit.Watched) Document {
	return Document{Value: r, Text: func(w io.Writer, s Style) error {
		out := NewTable("endpoint", "address", "serves", "")
		for _, x := range r.Addresses {
			serves, state := x.Failure, "not seen"
			if x.Failure == "" {
				serves, state = x.Label+" ("+x.Certificate.String()[:8]+")", "waiting"
			}
			if x.Done {
				state = "done"
			}
			out.AppendRow([]any{x.Endpoint, x.Address, wrap(serves, s.columns()/3), state})
		}
		after := time.Duration(r.Seconds) * time.Second
		end := fmt.Sprintf("Every address serves the new certificate, after %s.", after)
		if !r.Done {
			end = fmt.Sprintf("After %s the new certificate is not everywhere.", after)
		}
		_, err := fmt.Fprintln(w, out.Render()+"\n\n"+end)
		return err
	}}
}
