package service_test

import (
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/web"
)

// TestOwnersAndLabels: lists of one owner or label, and a token for the endpoints with one label.
func TestOwnersAndLabels(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	address, _ := begun(t, service.Config{Data: data, SignIn: service.SignIn{Accounts: []service.Account{
		{Name: "harbour-master", Password: password, Role: auth.Administrator}}}})
	ctx := t.Context()
	master := stranger(t, address)
	_, err := master.SignIn(ctx, "harbour-master", password)
	require.NoError(t, err)
	ids := map[string]int64{}
	for _, e := range []api.EndpointSettings{
		{Endpoint: "winch.tarnholm.example", Owner: "crane crew",
			Labels: map[string]string{"team": "cranes", "a": `b=c"d`}},
		{Endpoint: "jib.tarnholm.example", Owner: "crane crew", Policy: "internal",
			Labels: map[string]string{"team": "cranes"}},
		{Endpoint: "gangway.tarnholm.example", Owner: "ferry crew", Labels: map[string]string{"team": "ferries"}},
		{Endpoint: "bollard.tarnholm.example", Policy: "internal"},
	} {
		e.VisitAt = []string{"192.0.2.1"}
		added, err := master.AddEndpoint(ctx, e)
		require.NoError(t, err)
		ids[strings.Split(e.Endpoint, ".")[0]] = added.ID
		execute(t, data, "INSERT INTO findings (id, endpoint_id, code, severity, finding, state, first_seen, "+
			"last_seen) VALUES ('"+e.Endpoint+"', "+decimal(added.ID)+", 'time.expired', 'fault', '{}', 'new', now(), "+
			"now())")
	}
	names := func(c *client.Client, f client.EndpointFilter) string {
		t.Helper()
		list, err := c.Endpoints(ctx, f)
		require.NoError(t, err)
		var out []string
		for _, e := range list {
			out = append(out, strings.Split(e.Endpoint, ".")[0])
		}
		return strings.Join(out, " ")
	}
	for _, tt := range []struct {
		name string
		of   client.EndpointFilter
		want string
	}{
		{"an owner", client.EndpointFilter{Owner: "crane crew"}, "jib winch"},
		{"the owner's name in part is nobody", client.EndpointFilter{Owner: "crane"}, ""},
		{"but it is found", client.EndpointFilter{Search: "rry cre"}, "gangway"},
		{"a label", client.EndpointFilter{Label: "team=ferries"}, "gangway"},
		{"a label with signs", client.EndpointFilter{Label: `a=b=c"d`}, "winch"},
		{"a policy", client.EndpointFilter{Policy: "internal"}, "bollard jib"},
		{"all together", client.EndpointFilter{Owner: "crane crew", Label: "team=cranes", Policy: "internal"}, "jib"},
	} {
		assert.Equal(t, tt.want, names(master, tt.of), tt.name)
	}
	_, err = master.Endpoints(ctx, client.EndpointFilter{Label: "team"})
	assert.ErrorContains(t, err, "a label is KEY=VALUE")
	found := func(c *client.Client, f client.FindingFilter) (out []string) {
		t.Helper()
		list, err := c.Findings(ctx, f)
		require.NoError(t, err)
		for _, x := range list {
			out = append(out, strings.Split(x.Endpoint, ".")[0]+": "+x.Owner)
		}
		slices.Sort(out)
		return out
	}
	ofCranes := []string{"jib: crane crew", "winch: crane crew"}
	assert.Equal(t, ofCranes, found(master, client.FindingFilter{Owner: "crane crew"}))
	assert.Equal(t, []string{"gangway: ferry crew"}, found(master, client.FindingFilter{Label: "team=ferries"}))
	owner := "night crew"
	done, err := master.BulkChange(ctx, api.BulkChange{Filter: api.EndpointFilter{Owner: "ferry crew"},
		Set: api.BulkSettings{Owner: &owner}})
	require.NoError(t, err)
	assert.Equal(t, []any{1, "night crew"}, []any{done.Changed, done.Items[0].After.Owner})

	_, err = master.AddToken(ctx, api.TokenStart{Name: "cranes", Role: "auditor", Label: "cranes"})
	assert.ErrorContains(t, err, "some of it cannot be taken")
	made, err := master.AddToken(ctx, api.TokenStart{Name: "cranes", Role: "administrator", Label: "team=cranes"})
	require.NoError(t, err)
	cranes, err := client.New(address, made.Secret)
	require.NoError(t, err)
	session, err := cranes.Session(ctx)
	require.NoError(t, err)
	assert.Equal(t, "team=cranes", session.Label)
	assert.Equal(t, "jib winch", names(cranes, client.EndpointFilter{}))
	assert.Equal(t, "jib", names(cranes, client.EndpointFilter{Policy: "internal"}))
	_, err = cranes.Endpoints(ctx, client.EndpointFilter{Label: "team=ferries"})
	assert.Equal(t, 403, status(err))
	assert.Equal(t, ofCranes, found(cranes, client.FindingFilter{}))
	assert.Empty(t, found(cranes, client.FindingFilter{EndpointID: ids["gangway"]}))

	jib, err := cranes.Examination(ctx, ids["jib"])
	require.NoError(t, err)
	settings := jib.Endpoint.EndpointSettings
	settings.Notes = "greased"
	_, err = cranes.ChangeEndpoint(ctx, ids["jib"], settings)
	require.NoError(t, err)
	settings.Labels = map[string]string{"team": "ferries"}
	_, err = cranes.ChangeEndpoint(ctx, ids["jib"], settings)
	assert.Equal(t, 403, status(err), "it would give the endpoint away")
	_, err = cranes.AddEndpoint(ctx, api.EndpointSettings{Endpoint: "hook.tarnholm.example"})
	assert.ErrorContains(t, err, "give it that label")
	for _, call := range map[string]func() error{
		"read": func() error { _, err := cranes.Examination(ctx, ids["gangway"]); return err },
		"change": func() error {
			_, err := cranes.ChangeEndpoint(ctx, ids["gangway"], jib.Endpoint.EndpointSettings)
			return err
		},
		"remove": func() error { return cranes.RemoveEndpoint(ctx, ids["bollard"]) },
	} {
		assert.Equal(t, 404, status(call()))
	}
	_, err = cranes.StartAudit(ctx, api.AuditStart{EndpointIDs: []int64{ids["jib"], ids["gangway"]}})
	assert.Equal(t, 403, status(err))
	all, err := master.StartAudit(ctx, api.AuditStart{})
	require.NoError(t, err)
	_, err = cranes.Audit(ctx, all.ID)
	assert.Equal(t, 404, status(err))
	_, err = cranes.CancelAudit(ctx, all.ID)
	assert.Equal(t, 404, status(err))
	_, err = master.CancelAudit(ctx, all.ID)
	require.NoError(t, err)
	own, err := cranes.StartAudit(ctx, api.AuditStart{})
	require.NoError(t, err)
	assert.Equal(t, 2, own.Endpoints, "those with the label, where none is named")
	_, err = cranes.Audit(ctx, own.ID)
	require.NoError(t, err)

	metrics, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/metrics", nil)
	require.NoError(t, err)
	metrics.Header.Set("Authorization", "Bearer "+made.Secret)
	response, err := http.DefaultTransport.RoundTrip(metrics)
	require.NoError(t, err)
	response.Body.Close()
	assert.Equal(t, 401, response.StatusCode, "they count the whole estate")

	// Whatever else there is, this token may not.
	text, err := web.Document()
	require.NoError(t, err)
	var document struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	require.NoError(t, json.Unmarshal(text, &document))
	var may []string
	for path, methods := range document.Paths {
		if strings.HasPrefix(path, "/api/v1/audits/") || strings.HasPrefix(path, "/audits/") {
			path = strings.ReplaceAll(path, "{id}", decimal(all.ID))
		}
		for method, operation := range methods {
			if web.Roles[operation.OperationID] == "anyone" {
				continue
			}
			path := strings.NewReplacer("{id}", decimal(ids["gangway"]), "{part}", "0", "{name}", "x").Replace(path)
			r, err := http.NewRequestWithContext(ctx, strings.ToUpper(method), address+path, strings.NewReader("{}"))
			require.NoError(t, err)
			r.Header.Set("Content-Type", "application/json")
			r.Header.Set("Authorization", "Bearer "+made.Secret)
			response, err := http.DefaultTransport.RoundTrip(r)
			require.NoError(t, err)
			response.Body.Close()
			if response.StatusCode != 403 && response.StatusCode != 404 {
				may = append(may, operation.OperationID)
			}
		}
	}
	slices.Sort(may)
	assert.Equal(t, []string{"add-endpoint", "get-session", "list-causes", "list-codes", "list-endpoints",
		"list-findings", "start-audit"}, may)
}

func decimal(id int64) string { return strconv.FormatInt(id, 10) }
