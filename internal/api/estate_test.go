package api_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
)

// TestEndpointKeepsSettings: no field of an endpoint hides a setting, which a change would then clear.
func TestEndpointKeepsSettings(t *testing.T) {
	settings := api.EndpointSettings{Endpoint: "tides.tarnholm.example:443", Names: []string{"a.tarnholm.example"},
		VisitAt: []string{"192.0.2.7"}, HTTPPort: 8080, ServerName: "b.tarnholm.example", Authenticated: true,
		Policy: "internal", Trust: []string{"inner"}, Audiences: []string{"outer"}, Vantages: []string{"outside"},
		Owner: "tide crew", Labels: map[string]string{"quay": "north"}, Notes: "Ask the clerk."}
	text, err := json.Marshal(settings)
	require.NoError(t, err)
	var alone, within map[string]any
	require.NoError(t, json.Unmarshal(text, &alone))
	text, err = json.Marshal(api.Endpoint{ID: 7, EndpointSettings: settings, NoteFindings: 3})
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &within))
	for field, value := range alone {
		assert.Equal(t, value, within[field], field)
	}
	var back api.Endpoint
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, settings, back.EndpointSettings)
}
