package audit

import (
	"path/filepath"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/serverconf"
)

// Patch is every change of configuration that the findings propose, as one unified diff with the names of the files
// relative to /, links resolved. Of two changes of one line the one for the worse finding is in it.
func (r *Report) Patch() string {
	var findings []judge.Finding
	lines := map[string][]string{}
	for _, t := range r.Targets {
		c, ok := t.Facts.(facts.Configuration)
		if !ok {
			continue
		}
		for _, file := range c.Files {
			lines[file] = c.Lines(file)
		}
		findings = append(findings, t.Findings...)
	}
	slices.SortStableFunc(findings, func(a, b judge.Finding) int {
		return slices.Index(judge.Severities, a.Severity) - slices.Index(judge.Severities, b.Severity)
	})
	var changes []serverconf.Change
	for _, f := range findings {
		for _, e := range f.Edits {
			if change := e.Change(); change != nil && f.Counts() {
				c := *change
				if path, err := resolved(c.File); err == nil {
					lines[path] = lines[c.File]
					c.File = path
				}
				changes = append(changes, c)
			}
		}
	}
	return serverconf.Patch(changes, func(file string) []string { return lines[file] },
		func(file string) string { return strings.TrimPrefix(file, "/") })
}

// resolved is the path of a file from / on, without links.
func resolved(path string) (string, error) {
	absolute, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(absolute)
}
