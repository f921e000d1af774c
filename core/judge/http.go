package judge

import (
	"fmt"
	"net/url"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/words"
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

// httpChallenge looks at the path for HTTP validation (RFC 8555, 8.3) at the endpoint's own addresses. Names whose
// challenges are answered in DNS need none. What is wrong in the same way at one address is one finding.
func httpChallenge(v *visited) []Finding {
	b := v.renewed()
	if b == nil {
		return nil
	}
	type cause struct{ code, address, what string }
	names := map[cause][]string{}
	var causes []cause
	for _, n := range v.facts.Renewal.Names {
		if n.Challenge.Delegated() && !n.Challenge.Nowhere.Given() {
			continue
		}
		for _, p := range n.Pages {
			code, what := closedPath(n.Name, p)
			if code == "" {
				continue
			}
			c := cause{code, p.Address, what}
			if names[c] == nil {
				causes = append(causes, c)
			}
			names[c] = append(names[c], n.Name)
		}
	}
	var out []Finding
	for _, c := range causes {
		f := found(c.code, c.address, names[c][0],
			"The path for HTTP validation, http://%s/.well-known/acme-challenge/, "+
				"on %s: %s. HTTP validation of %s at %s %s.", names[c][0], c.address, c.what,
			firstFew(names[c]), b.nextRenewal(),
			map[string]string{"http.challenge-unreachable": "would fail",
				"http.challenge-redirected": "depends on that host"}[c.code])
		f.Evidence = certificateEvidence(b.leaf)
		out = append(out, f)
	}
	return out
}

// closedPath says why an answer to a challenge would not be read there, "" where it would. That a token which nobody
// gave is not found is right.
func closedPath(name string, p facts.Plain) (code, what string) {
	const unreachable = "http.challenge-unreachable"
	switch {
	case p.Failure.Code == facts.NotTried:
		return "", ""
	case p.Failure.Given():
		return unreachable, words.Of(p.Failure)
	case p.Status >= 300 && p.Status < 400:
		to, err := url.Parse(p.Location)
		switch {
		case err != nil || p.Location == "":
			return unreachable, fmt.Sprintf("status %d leads nowhere", p.Status)
		case to.Host != "" && !strings.EqualFold(strings.TrimSuffix(to.Hostname(), "."), name):
			return "http.challenge-redirected", "it redirects to " + to.Scheme + "://" + to.Host
		}
		return "", ""
	case p.Status >= 200 && p.Status < 300, p.Status == 404, p.Status == 410:
		return "", ""
	}
	return unreachable, fmt.Sprintf("the answer has status %d", p.Status)
}
