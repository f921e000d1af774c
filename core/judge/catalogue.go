package judge

import (
	"embed"
	"fmt"
	"slices"
	"strings"
	"sync"

	"nurvik/core/strictyaml"
)

// Entry explains one code.
type Entry struct {
	Code       string            `yaml:"code" json:"code"`
	Severities []Severity        `yaml:"severities" json:"severities" doc:"The default first"`
	Title      string            `yaml:"title" json:"title"`
	When       string            `yaml:"when" json:"when" doc:"When it is found, and when not"`
	Why        string            `yaml:"why" json:"why" doc:"Why it matters"`
	Remedy     string            `yaml:"remedy" json:"remedy" doc:"What to do in general"`
	Reference  string            `yaml:"reference" json:"reference" doc:"The standard's section"`
	Settings   map[string]string `yaml:"settings" json:"settings,omitempty" doc:"The line that repairs it, by the server that it is for"`
}

//go:embed catalogue/*.yaml
var catalogueSource embed.FS

// Catalogue returns every entry, sorted by code.
var Catalogue = sync.OnceValue(func() []Entry {
	areas, err := catalogueSource.ReadDir("catalogue")
	var entries []Entry
	for _, area := range areas {
		var source []byte
		var some []Entry
		if source, err = catalogueSource.ReadFile("catalogue/" + area.Name()); err == nil {
			err = strictyaml.Decode(area.Name(), source, &some)
		}
		if err != nil {
			break
		}
		entries = append(entries, some...)
	}
	if err != nil {
		panic("judge: the embedded catalogue cannot be read: " + err.Error()) // a test reads it first
	}
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Code, b.Code) })
	return entries
})

var byCode = sync.OnceValue(func() map[string]Entry {
	m := map[string]Entry{}
	for _, e := range Catalogue() {
		m[e.Code] = e
	}
	return m
})

// Explain returns the entry of the code. The error names codes that come near.
func Explain(code string) (Entry, error) {
	if e, ok := byCode()[strings.ToLower(code)]; ok {
		return e, nil
	}
	area, _, _ := strings.Cut(strings.ToLower(code), ".")
	var near []string
	for _, e := range Catalogue() {
		if strings.HasPrefix(e.Code, area+".") || strings.HasSuffix(e.Code, "."+area) {
			near = append(near, e.Code)
		}
	}
	if len(near) == 0 {
		return Entry{}, fmt.Errorf("there is no code %q; \"nurvik explain\" alone lists them all", code)
	}
	return Entry{}, fmt.Errorf("there is no code %q; near it are: %s", code, strings.Join(near, ", "))
}

// found starts a finding of the code with its default severity and general
// remedy. It panics on a code that the catalogue lacks, which a test of every
// check would show.
func found(code, subject, about, message string, args ...any) Finding {
	e, ok := byCode()[code]
	if !ok {
		panic("judge: the catalogue lacks " + code)
	}
	return Finding{
		Code: code, Severity: e.Severities[0], Subject: subject, About: about,
		Message: fmt.Sprintf(message, args...), Remedy: strings.TrimSpace(e.Remedy),
	}
}
