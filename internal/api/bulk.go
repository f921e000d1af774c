package api

import (
	"maps"
	"slices"
)

// BulkChange changes all endpoints that match a filter.
type BulkChange struct {
	Filter  EndpointFilter `json:"filter" doc:"Which endpoints; all that is given must match"`
	Set     BulkSettings   `json:"set" doc:"What is left out stays"`
	Preview bool           `json:"preview,omitempty" doc:"Say what would change, and change nothing"`
	Tag     string         `json:"tag,omitempty" maxLength:"100" doc:"Of the preview: refused where anything else would change by now"`
}

// EndpointFilter selects endpoints.
type EndpointFilter struct {
	Search  string `json:"q,omitempty" maxLength:"200" doc:"Part of the target, the issuer, the owner or a label's value"`
	Owner   string `json:"owner,omitempty" maxLength:"200"`
	Verdict string `json:"verdict,omitempty" enum:",sound,at-risk,faulty,unreachable"`
	Label   string `json:"label,omitempty" maxLength:"300" doc:"KEY=VALUE"`
	Policy  string `json:"policy,omitempty" maxLength:"100" doc:"That is assigned"`
	All     bool   `json:"all,omitempty" doc:"The whole estate: nothing else is said"`
}

// BulkSettings are what many endpoints are set to.
type BulkSettings struct {
	Policy        *string           `json:"policy,omitempty" maxLength:"100" doc:"Empty for that which is usual"`
	Schedule      *string           `json:"schedule,omitempty" maxLength:"100" doc:"Empty for those that select it by label, or the whole estate"`
	Owner         *string           `json:"owner,omitempty" maxLength:"200"`
	Trust         *[]string         `json:"trust,omitempty" maxItems:"50"`
	Audiences     *[]string         `json:"audiences,omitempty" maxItems:"50"`
	Vantages      *[]string         `json:"vantages,omitempty" maxItems:"20" doc:"None of them for where the service is"`
	Authenticated *bool             `json:"authenticated,omitempty"`
	Labels        map[string]string `json:"labels,omitempty" doc:"An empty value takes the label away; others stay"`
}

// Empty reports whether nothing is set.
func (s BulkSettings) Empty() bool {
	return s.Policy == nil && s.Owner == nil && s.Trust == nil && s.Audiences == nil && s.Vantages == nil &&
		s.Schedule == nil &&
		s.Authenticated == nil && len(s.Labels) == 0
}

// Over is what the settings are with it.
func (s BulkSettings) Over(settings EndpointSettings) EndpointSettings {
	if s.Policy != nil {
		settings.Policy = *s.Policy
	}
	if s.Schedule != nil {
		settings.Schedule = *s.Schedule
	}
	if s.Owner != nil {
		settings.Owner = *s.Owner
	}
	if s.Trust != nil {
		settings.Trust = slices.Clone(*s.Trust)
	}
	if s.Audiences != nil {
		settings.Audiences = slices.Clone(*s.Audiences)
	}
	if s.Vantages != nil {
		settings.Vantages = slices.Clone(*s.Vantages)
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

// BulkResult says what was changed, or would be.
type BulkResult struct {
	Matched int        `json:"matched" doc:"Endpoints that match the filter"`
	Changed int        `json:"changed" doc:"Those of them that are not so already"`
	Tag     string     `json:"tag" doc:"Goes with the change that this is the preview of"`
	Items   []BulkItem `json:"items" doc:"Those that change, by target; the first 500"`
}

// BulkItem is one of them.
type BulkItem struct {
	ID     int64            `json:"id"`
	Before EndpointSettings `json:"before"`
	After  EndpointSettings `json:"after"`
}
