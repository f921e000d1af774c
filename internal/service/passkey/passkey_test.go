package passkey_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/service/passkey"
)

func TestOpen(t *testing.T) {
	tests := []struct{ name, address, want, refused string }{
		{"HTTPS", "https://nurvik.tarnholm.example", "https://nurvik.tarnholm.example", ""},
		{"a port, and both cases", "https://Nurvik.Tarnholm.example:8443/", "https://nurvik.tarnholm.example:8443",
			""},
		{"this machine", "http://localhost:8410", "http://localhost:8410", ""},
		{"HTTP", "http://nurvik.tarnholm.example", "", "over HTTPS alone"},
		{"an address", "https://192.0.2.7:8443", "", "has no host name"},
		{"an address of IPv6", "https://[2001:db8::7]", "", "has no host name"},
		{"nothing", "", "", "has no host name"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			keys, err := passkey.Open(tt.address)
			if tt.refused != "" {
				require.ErrorContains(t, err, tt.refused)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, tt.want, keys.Address())
		})
	}
}

func TestDamaged(t *testing.T) {
	keys, err := passkey.Open("https://nurvik.tarnholm.example")
	require.NoError(t, err)
	damaged := passkey.Owner{Name: "pilot", Keys: []json.RawMessage{[]byte("{")}}
	_, _, err = keys.Ask(damaged)
	assert.ErrorContains(t, err, "passkey 0 of pilot")
	_, _, err = keys.Check(passkey.Owner{Name: "pilot"}, []byte("{"), []byte("{}"))
	assert.Error(t, err)
	assert.NotErrorIs(t, err, passkey.ErrRefused, "what is wrong here is not the caller's fault")
	options, challenge, err := keys.AskNew(passkey.Owner{ID: 7, Name: "pilot"})
	require.NoError(t, err)
	assert.Contains(t, string(options), `"id":"nurvik.tarnholm.example"`)
	for _, answer := range []string{"", "{}", "[]", `{"id":"eA","rawId":"eA","type":"public-key","response":{}}`} {
		_, _, err := keys.Add(passkey.Owner{ID: 7, Name: "pilot"}, challenge, []byte(answer))
		assert.ErrorIs(t, err, passkey.ErrRefused, answer)
	}
}
