package judge

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"nurvik/core/policy"
	"nurvik/core/strictyaml"
)

// Entry explains one code.
type Entry struct {
	Code       string     `yaml:"code" json:"code"`
	Severities []Severity `yaml:"severities" json:"severities" doc:"The default first"`
	Title      string     `yaml:"title" json:"title"`
	When       string     `yaml:"when" json:"when" doc:"When it is found, and when not"`
	Why        string     `yaml:"why" json:"why" doc:"Why it matters"`
	Remedy     string     `yaml:"remedy" json:"remedy" doc:"What to do in general"`
	Reference  string     `yaml:"reference" json:"reference" doc:"The standard's section"`
	Versions   bool       `yaml:"versions" json:"-"` // repaired by the list of versions, which a policy decides
	Edits      []Edit     `yaml:"edits" json:"edits,omitempty" doc:"What to change in the configuration of each server"`
}

//go:embed catalogue/*.yaml
var catalogueSource embed.FS

// catalogue is read once: the entries by code, sorted, and the version of their text.
var catalogue = sync.OnceValue(func() (c struct {
	entries []Entry
	byCode  map[string]Entry
	version string
}) {
	sum := sha256.New()
	areas, err := catalogueSource.ReadDir("catalogue")
	for _, area := range areas {
		var source []byte
		var some []Entry
		if source, err = catalogueSource.ReadFile("catalogue/" + area.Name()); err == nil {
			_, _ = sum.Write(source) // a hash never fails
			err = strictyaml.Decode(area.Name(), source, &some)
		}
		if err != nil {
			break
		}
		c.entries = append(c.entries, some...)
	}
	if err != nil {
		panic("judge: the embedded catalogue cannot be read: " + err.Error()) // a test reads it first
	}
	slices.SortFunc(c.entries, func(a, b Entry) int { return strings.Compare(a.Code, b.Code) })
	c.byCode = map[string]Entry{}
	for i, e := range c.entries {
		for n := range e.Edits {
			e.Edits[n].finish()
		}
		if e.Versions {
			e.Edits = versionEdits([]string{"TLS 1.2", "TLS 1.3"})
		}
		c.entries[i], c.byCode[e.Code] = e, e
	}
	c.version = hex.EncodeToString(sum.Sum(nil)[:6])
	return c
})

// Catalogue returns every entry, sorted by code.
func Catalogue() []Entry { return catalogue().entries }

// CatalogueVersion changes with every change of the catalogue's text.
func CatalogueVersion() string { return catalogue().version }

// Explain returns the entry of the code. The error names codes that come near.
func Explain(code string) (Entry, error) {
	if e, ok := catalogue().byCode[strings.ToLower(code)]; ok {
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
	return Entry{}, fmt.Errorf("there is no code %q; similar ones are: %s", code, strings.Join(near, ", "))
}

// CheckPolicy looks for codes in the policy that are not in the catalogue; the error says what may be meant.
func CheckPolicy(p policy.Policy) error {
	var failures []error
	check := func(code string) {
		if area, all := strings.CutSuffix(code, ".*"); all {
			if !slices.ContainsFunc(Catalogue(), func(e Entry) bool { return strings.HasPrefix(e.Code, area+".") }) {
				failures = append(failures, fmt.Errorf("there is no area %q of findings", area))
			}
			return
		}
		if _, err := Explain(code); err != nil {
			failures = append(failures, err)
		}
	}
	for _, code := range slices.Sorted(maps.Keys(p.Severities)) {
		check(code)
	}
	for _, w := range p.Waivers {
		check(w.Code)
	}
	return errors.Join(failures...)
}
