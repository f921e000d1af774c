package endpoint

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"nurvik/core/naming"
	"nurvik/core/plain"
)

// Settings is what people say of an endpoint: the same in the estate file, in
// the API and in the service's records.
type Settings struct {
	Endpoint      string            `yaml:"endpoint" json:"endpoint" minLength:"1" maxLength:"300" doc:"host, host:port or scheme://host:port" example:"tides.tarnholm.example:443"`
	Names         []string          `yaml:"names,omitempty,flow" json:"names,omitempty" maxItems:"1000" doc:"Names that must be covered; none means the endpoint's own. The first host name is sent as SNI"`
	VisitAt       []string          `yaml:"visit-at,omitempty,flow" json:"visit_at,omitempty" maxItems:"100" doc:"ADDRESS[:PORT] to visit instead of the name's addresses"`
	HTTPPort      uint16            `yaml:"http-port,omitempty" json:"http_port,omitempty" doc:"Port on which plain HTTP is looked for; without it 80 beside 443"`
	ServerName    string            `yaml:"server-name,omitempty" json:"server_name,omitempty" maxLength:"253" doc:"Name to send as SNI instead"`
	Authenticated bool              `yaml:"authenticated,omitempty" json:"authenticated,omitempty" doc:"Clients verify certificates, even on port 25"`
	Policy        string            `yaml:"policy,omitempty" json:"policy,omitempty" maxLength:"100" doc:"Policy to judge by; without it open-web, and opportunistic where clients verify nothing"`
	Trust         []string          `yaml:"trust,omitempty,flow" json:"trust,omitempty" maxItems:"50" doc:"Trust stores of which one must accept; none means the system's"`
	Audiences     []string          `yaml:"audiences,omitempty,flow" json:"audiences,omitempty" maxItems:"50" doc:"Trust stores that must all accept"`
	Vantages      []string          `yaml:"vantages,omitempty,flow" json:"vantages,omitempty" maxItems:"20" doc:"Vantages that the service visits it from; none means where the service is"`
	Schedule      string            `yaml:"schedule,omitempty" json:"schedule,omitempty" maxLength:"100" doc:"The schedule of the service that audits it, and no other one"`
	Owner         string            `yaml:"owner,omitempty" json:"owner,omitempty" maxLength:"200" doc:"Who sees to it, such as a team"`
	Labels        map[string]string `yaml:"labels,omitempty" json:"labels,omitempty"`
	Notes         string            `yaml:"notes,omitempty" json:"notes,omitempty" maxLength:"4000" doc:"What people should know of it; lines are kept"`
}

// Known says which trust stores, policies and schedules there are; nil allows any.
type Known struct {
	Stores   map[string]bool
	Policies map[string]bool
	// Schedules of the service.
	Schedules map[string]bool
}

// Defect is something wrong in settings, with the field that it is in, as the JSON names it.
type Defect struct {
	Field string
	Err   error
}

// maxLabel is the longest key or value of a label in bytes.
const maxLabel = 1000

// The longest that an owner and notes may be, in characters.
const (
	maxOwner = 200
	maxNotes = 4000
)

// Settle checks the settings and writes them in their canonical form. What is
// wrong is reported together; such settings are of no use.
func (s *Settings) Settle(known Known) []Defect {
	var defects []Defect
	fail := func(field string, err error) { defects = append(defects, Defect{field, err}) }
	parsed, err := Parse(s.Endpoint)
	if err != nil {
		fail("endpoint", err)
	} else {
		s.Endpoint = parsed.String()
	}
	for i, text := range s.Names {
		name, err := naming.Parse(text)
		if err != nil {
			fail(fmt.Sprintf("names[%d]", i), err)
			continue
		}
		s.Names[i] = name.String()
	}
	if s.ServerName != "" {
		if name, err := naming.Parse(s.ServerName); err != nil {
			fail("server_name", err)
		} else if name.IsAddress() {
			fail("server_name", errors.New("SNI is a host name, never an address (RFC 6066, section 3)"))
		}
	}
	for i, text := range s.VisitAt {
		if _, err := ParseVisitAt(text); err != nil {
			fail(fmt.Sprintf("visit_at[%d]", i), err)
		}
	}
	for _, list := range []struct {
		field  string
		stores []string
	}{{"trust", s.Trust}, {"audiences", s.Audiences}} {
		for i, name := range list.stores {
			if known.Stores != nil && !known.Stores[name] {
				fail(fmt.Sprintf("%s[%d]", list.field, i),
					fmt.Errorf("there is no trust store %q; import it with the estate, or name one of %v",
						name, slices.Sorted(maps.Keys(known.Stores))))
			}
		}
	}
	for i, name := range s.Vantages {
		if err := CheckVantage(name); err != nil {
			fail(fmt.Sprintf("vantages[%d]", i), err)
		} else if slices.Contains(s.Vantages[:i], name) {
			fail(fmt.Sprintf("vantages[%d]", i), fmt.Errorf("%q is named twice", name))
		}
	}
	for key, value := range s.Labels {
		if err := cmp.Or(plain.Check(key, false), plain.Check(value, false)); err != nil {
			fail("labels", fmt.Errorf("the label %q: %w", key, err))
		}
		if len(key) > maxLabel || len(value) > maxLabel {
			fail("labels", fmt.Errorf("the label %.40q is longer than %d bytes", key, maxLabel))
		}
	}
	if err := plain.Check(s.Owner, false); err != nil {
		fail("owner", err)
	} else if s.Owner != strings.TrimSpace(s.Owner) {
		fail("owner", errors.New("it begins or ends with a space"))
	}
	if utf8.RuneCountInString(s.Owner) > maxOwner {
		fail("owner", fmt.Errorf("it is longer than %d characters", maxOwner))
	}
	if err := plain.Check(s.Schedule, false); err != nil {
		fail("schedule", err)
	}
	if s.Schedule != "" && known.Schedules != nil && !known.Schedules[s.Schedule] {
		fail("schedule", fmt.Errorf("there is no schedule %q; \"nurvik schedule add\" adds one", s.Schedule))
	}
	if err := plain.Check(s.Notes, true); err != nil {
		fail("notes", err)
	}
	if utf8.RuneCountInString(s.Notes) > maxNotes {
		fail("notes", fmt.Errorf("they are longer than %d characters", maxNotes))
	}
	if s.Policy != "" && known.Policies != nil && !known.Policies[s.Policy] {
		fail("policy", fmt.Errorf("there is no policy %q; there are %v, and \"nurvik policy save\" adds one", s.Policy,
			slices.Sorted(maps.Keys(known.Policies))))
	}
	return defects
}

var vantageName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// CheckVantage reports what is wrong with the name of a vantage.
func CheckVantage(name string) error {
	if vantageName.MatchString(name) {
		return nil
	}
	return fmt.Errorf("%q is no name of a vantage: 1 to 32 lower-case letters, digits and hyphens, with a letter or "+
		"digit at both ends", name)
}

// Equal reports whether two settings say the same.
func (s Settings) Equal(o Settings) bool {
	return s.Endpoint == o.Endpoint && s.ServerName == o.ServerName && s.HTTPPort == o.HTTPPort &&
		s.Authenticated == o.Authenticated &&
		s.Policy == o.Policy && slices.Equal(s.Names, o.Names) && slices.Equal(s.VisitAt, o.VisitAt) &&
		slices.Equal(s.Trust, o.Trust) &&
		slices.Equal(s.Audiences, o.Audiences) && slices.Equal(s.Vantages, o.Vantages) &&
		s.Schedule == o.Schedule && s.Owner == o.Owner && s.Notes == o.Notes && maps.Equal(s.Labels, o.Labels)
}

// References are the names that must be covered; those that are no names are passed over.
func (s Settings) References() []naming.Reference {
	var out []naming.Reference
	for _, text := range s.Names {
		if name, err := naming.Parse(text); err == nil {
			out = append(out, name)
		}
	}
	return out
}
