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

// TestChangeMany: endpoints that are alike are changed together, as the preview said, or not at all.
func TestChangeMany(t *testing.T) {
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
	north := api.Likeness{Label: "crew=north"}
	const asItWas = " [] map[about:many crew:north]\n [] map[about:many crew:south]"
	tests := []struct {
		name           string
		of             api.Likeness
		set            api.Setting
		preview        bool
		tag            string
		status         int
		alike, changed int
		want           string // the first two endpoints
	}{
		{"a preview changes nothing", north, api.Setting{Policy: &strict}, true, "", 0, 2, 2, asItWas},
		{"a tag of something else", north, api.Setting{Policy: &strict}, false, "x", 412, 0, 0, asItWas},
		{"nobody is meant", api.Likeness{}, api.Setting{Policy: &strict}, false, "", 422, 0, 0, asItWas},
		{"all and some", api.Likeness{All: true, Search: "flotilla"}, api.Setting{Policy: &strict}, false, "", 422,
			0, 0, asItWas},
		{"nothing is set", north, api.Setting{}, false, "", 422, 0, 0, asItWas},
		{"a store that is not there", north, api.Setting{Trust: &[]string{"moon"}}, false, "", 422, 0, 0, asItWas},
		{"no label", api.Likeness{Label: "crew"}, api.Setting{Policy: &strict}, false, "", 422, 0, 0, asItWas},
		{"those with a label", north, api.Setting{Policy: &strict, Labels: map[string]string{"crew": "", "watch": "1"}},
			false, "", 0, 2, 2, "strict [] map[about:many watch:1]\n [] map[about:many crew:south]"},
		{"those who are so already stay", api.Likeness{Search: "flotilla"}, api.Setting{Policy: &strict,
			Labels: map[string]string{"crew": "", "watch": "1"}}, false, "", 0, 4, 2,
			"strict [] map[about:many watch:1]\nstrict [] map[about:many watch:1]"},
		{"by policy and text", api.Likeness{Policy: "strict", Search: "flotilla1"}, api.Setting{Policy: &none,
			Trust: &[]string{"system"}}, false, "", 0, 1, 1,
			"strict [] map[about:many watch:1]\n [system] map[about:many watch:1]"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			change := api.ManyChanges{Of: tt.of, Set: tt.set, Preview: tt.preview, Tag: tt.tag}
			if tt.status == 0 && !tt.preview { // as the preview said
				preview := change
				preview.Preview = true
				said, err := c.ChangeMany(ctx, preview)
				require.NoError(t, err)
				change.Tag = said.Tag
				defer func() {
					_, err := c.ChangeMany(ctx, change)
					assert.Equal(t, 412, status(err), "it is not so any more")
				}()
			}
			done, err := c.ChangeMany(ctx, change)
			assert.Equal(t, tt.status, status(err), err)
			assert.Equal(t, []int{tt.alike, tt.changed, tt.changed}, []int{done.Alike, done.Changed, len(done.Items)})
			assert.Equal(t, tt.want, shown())
		})
	}
}
