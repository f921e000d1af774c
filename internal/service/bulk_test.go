package service_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
)

// TestBulkChange: endpoints that are alike are changed together, as the preview said, or not at all.
func TestBulkChange(t *testing.T) {
	ctx, c := t.Context(), shared.client
	for i := range 4 {
		e, err := c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: fmt.Sprintf("flotilla%d.tarnholm.example", i),
			Labels: map[string]string{"crew": []string{"north", "south"}[i%2], "about": "many"}})
		require.NoError(t, err)
		defer func() { require.NoError(t, c.RemoveEndpoint(t.Context(), e.ID)) }()
	}
	strict, none := "strict", ""
	shown := func() string {
		list, err := c.Endpoints(ctx, client.EndpointFilter{Search: "flotilla"})
		require.NoError(t, err)
		var out []string
		for _, e := range list[:2] {
			out = append(out, fmt.Sprint(e.Policy, " ", e.Trust, " ", e.Labels))
		}
		return strings.Join(out, "\n")
	}
	north := api.EndpointFilter{Label: "crew=north"}
	const asItWas = " [] map[about:many crew:north]\n [] map[about:many crew:south]"
	tests := []struct {
		name           string
		of             api.EndpointFilter
		set            api.BulkSettings
		preview        bool
		tag            string
		status         int
		alike, changed int
		want           string // the first two endpoints
	}{
		{"a preview changes nothing", north, api.BulkSettings{Policy: &strict}, true, "", 0, 2, 2, asItWas},
		{"a tag of something else", north, api.BulkSettings{Policy: &strict}, false, "x", 412, 0, 0, asItWas},
		{"nobody is meant", api.EndpointFilter{}, api.BulkSettings{Policy: &strict}, false, "", 422, 0, 0, asItWas},
		{"all and some", api.EndpointFilter{All: true, Search: "flotilla"}, api.BulkSettings{Policy: &strict}, false,
			"", 422, 0, 0, asItWas},
		{"nothing is set", north, api.BulkSettings{}, false, "", 422, 0, 0, asItWas},
		{"a store that is not there", north, api.BulkSettings{Trust: &[]string{"moon"}}, false, "", 422, 0, 0,
			asItWas},
		{"no label", api.EndpointFilter{Label: "crew"}, api.BulkSettings{Policy: &strict}, false, "", 422, 0, 0,
			asItWas},
		{"those with a label", north, api.BulkSettings{Policy: &strict,
			Labels: map[string]string{"crew": "", "watch": "1"}}, false, "", 0, 2, 2,
			"strict [] map[about:many watch:1]\n [] map[about:many crew:south]"},
		{"those who are so already stay", api.EndpointFilter{Search: "flotilla"}, api.BulkSettings{Policy: &strict,
			Labels: map[string]string{"crew": "", "watch": "1"}}, false, "", 0, 4, 2,
			"strict [] map[about:many watch:1]\nstrict [] map[about:many watch:1]"},
		{"by policy and text", api.EndpointFilter{Policy: "strict", Search: "flotilla1"}, api.BulkSettings{
			Policy: &none, Trust: &[]string{"system"}}, false, "", 0, 1, 1,
			"strict [] map[about:many watch:1]\n [system] map[about:many watch:1]"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			change := api.BulkChange{Filter: tt.of, Set: tt.set, Preview: tt.preview, Tag: tt.tag}
			if tt.status == 0 && !tt.preview { // as the preview said
				preview := change
				preview.Preview = true
				said, err := c.BulkChange(ctx, preview)
				require.NoError(t, err)
				change.Tag = said.Tag
				defer func() {
					_, err := c.BulkChange(ctx, change)
					assert.Equal(t, 412, status(err), "it is not so any more")
				}()
			}
			done, err := c.BulkChange(ctx, change)
			assert.Equal(t, tt.status, status(err), err)
			assert.Equal(t, []int{tt.alike, tt.changed, tt.changed}, []int{done.Matched, done.Changed, len(done.Items)})
			assert.Equal(t, tt.want, shown())
		})
	}
}
