package api

import (
	"maps"
	"slices"
)

// ManyChanges changes endpoints that are alike in something.
type ManyChanges struct {
	Of      Likeness `json:"of" doc:"Which endpoints; all of what is said must hold"`
	Set     Setting  `json:"set" doc:"What is left out stays"`
	Preview bool     `json:"preview,omitempty" doc:"Say what would change, and change nothing"`
	Tag     string   `json:"tag,omitempty" maxLength:"100" doc:"Of the preview: refused where anything else would change by now"`
}

// Likeness selects endpoints.
type Likeness struct {
	Search  string `json:"q,omitempty" maxLength:"200" doc:"Part of the target, the issuer or a label's value"`
	Verdict string `json:"verdict,omitempty" enum:",sound,at-risk,faulty,unreachable"`
	Label   string `json:"label,omitempty" maxLength:"300" doc:"KEY=VALUE"`
	Policy  string `json:"policy,omitempty" maxLength:"100" doc:"That is assigned"`
	All     bool   `json:"all,omitempty" doc:"The whole estate: nothing else is said"`
}

// Setting is what many endpoints are set to.
type Setting struct {
	Policy        *string           `json:"policy,omitempty" maxLength:"100" doc:"Empty for that which is usual"`
	Trust         *[]string         `json:"trust,omitempty" maxItems:"50"`
	Audiences     *[]string         `json:"audiences,omitempty" maxItems:"50"`
	Authenticated *bool             `json:"authenticated,omitempty"`
	Labels        map[string]string `json:"labels,omitempty" doc:"An empty value takes the label away; others stay"`
}

// Empty reports whether nothing is set.
func (s Setting) Empty() bool {
	return s.Policy == nil && s.Trust == nil && s.Audiences == nil && s.Authenticated == nil && len(s.Labels) == 0
}

// Over is what the settings are with it.
func (s Setting) Over(settings EndpointSettings) EndpointSettings {
	if s.Policy != nil {
		settings.Policy = *s.Policy
	}
	if s.Trust != nil {
		settings.Trust = slices.Clone(*s.Trust)
	}
	if s.Audiences != nil {
		settings.Audiences = slices.Clone(*s.Audiences)
	}
	if s.Authenticated != nil {
		settings.Authenticated = *s.Authenticated
	}
	if len(s.Labels) > 0 {
		labels := maps.Clone(settings.Labels)
		if labels == nil {
			labels = map[string]string{}
		}
		for key, value := range s.Labels {
			if labels[key] = value; value == "" {
				delete(labels, key)
			}
		}
		settings.Labels = labels
	}
	return settings
}

// ManyChanged says what was changed, or would be.
type ManyChanged struct {
	Alike   int          `json:"alike" doc:"Endpoints that are meant"`
	Changed int          `json:"changed" doc:"Those of them that are not so already"`
	Tag     string       `json:"tag" doc:"Goes with the change that this is the preview of"`
	Items   []ManyChange `json:"items" doc:"Those that change, by target; the first 500"`
}

// ManyChange is one of them.
type ManyChange struct {
	ID     int64            `json:"id"`
	Before EndpointSettings `json:"before"`
	After  EndpointSettings `json:"after"`
}
