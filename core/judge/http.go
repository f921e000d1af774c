package judge

import (
	"strings"

	"nurvik/core/naming"
)

// httpAnswers judges what the web server said, for host names.
func httpAnswers(a *address) []Finding {
	if a.seen.HTTP == nil {
		return nil
	}
	if name, err := naming.Parse(a.host); err != nil || name.IsAddress() {
		return nil
	}
	var out []Finding
	if a.seen.HTTP.Status != 0 && a.seen.HTTP.StrictTransportSecurity == "" {
		out = append(out, found("http.no-strict-transport", a.host, a.host,
			"The web server does not send the HSTS header, which tells browsers to use HTTPS only."))
	}
	p := a.seen.HTTP.Plain
	if p == nil || p.Status == 0 {
		return out
	}
	if redirects := p.Status >= 300 && p.Status < 400 &&
		strings.HasPrefix(strings.ToLower(p.Location), "https://"); !redirects {
		out = append(out, found("http.no-redirect", a.host, a.host,
			"Plain HTTP on %s answers with status %d and does not redirect to HTTPS.", p.Address, p.Status))
	}
	return out
}
