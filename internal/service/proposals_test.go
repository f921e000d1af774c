package service_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service"
	"nurvik/internal/service/auth"
)

// TestProposals: what lies in a holding and is in no estate is proposed, added or dismissed.
func TestProposals(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	address, _ := begun(t, service.Config{Data: data, SignIn: service.SignIn{Accounts: []service.Account{
		{Name: "harbour-master", Password: password, Role: auth.Administrator}}}})
	ctx := t.Context()
	c := stranger(t, address)
	_, err := c.SignIn(ctx, "harbour-master", password)
	require.NoError(t, err)
	const hash = "0000000000000000000000000000000000000000000000000000000000000000"
	execute(t, data, "INSERT INTO keys VALUES ('"+hash+
		"', 'EC', now(), now())")
	execute(t, data, "INSERT INTO holdings (name, policy, sent_at) VALUES ('quay', 'open-web', now())")
	certificate := func(n, names, ends, seen, path string) {
		t.Helper()
		id := strings.Repeat(n, 64)
		execute(t, data, "INSERT INTO certificates SELECT '"+id+"', '"+hash+"', '', '', '', '', '{"+names+
			"}', false, now(), now() + '"+ends+"', now() - interval '200 days', now() - interval '"+seen+"'")
		execute(t, data, "INSERT INTO places (kind, holding_id, path, line) SELECT 'file', 1, '"+path+
			"', 1 ON CONFLICT DO NOTHING")
		execute(t, data, "INSERT INTO sightings SELECT id, 'certificate', 0, '"+id+"', '"+hash+
			"', now() - interval '200 days', now() - interval '"+seen+"' FROM places WHERE path = '"+path+"'")
	}
	certificate("a", "winch.tarnholm.example,WINCH2.tarnholm.example,*.winch.tarnholm.example,192.0.2.7", "90 days",
		"1 hour", "/etc/ssl/winch.pem")
	certificate("b", "winch.tarnholm.example", "90 days", "2 hours", "/etc/ssl/copy.pem")
	certificate("c", "ended.tarnholm.example", "-1 day", "1 hour", "/etc/ssl/ended.pem")
	certificate("d", "long-gone.tarnholm.example", "90 days", "100 days", "/etc/ssl/gone.pem")
	certificate("e", "replaced.tarnholm.example", "90 days", "3 hours", "/etc/ssl/winch.pem")
	execute(t, data, `INSERT INTO holding_files (holding_id, path, facts)
		VALUES (1, '/etc/nginx/nginx.conf', '{"configuration": {"server": "nginx", "path": "/etc/nginx/nginx.conf",
		"sites": [{"file": "/etc/nginx/nginx.conf", "line": 3,
		"identities": [{"certificate": {"value": "x"}}],
		"listens": [{"value": "8443", "port": 8443, "scheme": "https"}],
		"names": [{"value": "jib.tarnholm.example", "line": 5}, {"value": "hook.tarnholm.example", "line": 5},
		{"value": "reef.tarnholm.example", "line": 6}]}]}}')`)
	for _, e := range []api.EndpointSettings{
		{Endpoint: "hook.tarnholm.example:8443"},
		{Endpoint: "jib.tarnholm.example"}, // another port
		{Endpoint: "gangway.tarnholm.example:8443", Names: []string{"reef.tarnholm.example"}},
	} {
		_, err := c.AddEndpoint(ctx, e)
		require.NoError(t, err)
	}
	proposed := func() string {
		t.Helper()
		list, err := c.Proposals(ctx)
		require.NoError(t, err)
		require.False(t, list.More)
		var out []string
		for _, p := range list.Items {
			out = append(out, strings.Replace(p.Endpoint, ".tarnholm.example", "", 1))
			for _, s := range p.Sources {
				out = append(out, strings.TrimSpace(s.Path+" "+s.Server))
			}
		}
		return strings.Join(out, " ")
	}
	const jib = "jib:8443 /etc/nginx/nginx.conf nginx"
	assert.Equal(t, jib+" winch:443 /etc/ssl/winch.pem /etc/ssl/copy.pem winch2:443 /etc/ssl/winch.pem", proposed())

	_, err = c.AnswerProposals(ctx, api.ProposalAnswer{Accept: []string{"winch.tarnholm.example:443", "no host"}})
	assert.ErrorContains(t, err, "nothing was changed")
	policyName := "nowhere"
	_, err = c.AnswerProposals(ctx, api.ProposalAnswer{Accept: []string{"winch.tarnholm.example:443"},
		Set: api.BulkSettings{Policy: &policyName}})
	assert.ErrorContains(t, err, "nothing was changed")
	owner := "crane crew"
	done, err := c.AnswerProposals(ctx, api.ProposalAnswer{
		Accept: []string{"winch.tarnholm.example:443", "hook.tarnholm.example:8443"},
		Set:    api.BulkSettings{Owner: &owner}, Dismiss: []string{"winch2.tarnholm.example"}})
	require.NoError(t, err)
	assert.Equal(t, api.ProposalsAnswered{Added: 1, Dismissed: 1}, done, "one was there, and stays as it is")
	assert.Equal(t, jib, proposed())
	list, err := c.Endpoints(ctx, client.EndpointFilter{Owner: owner})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "winch.tarnholm.example:443", list[0].Endpoint)
}
