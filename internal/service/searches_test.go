package service_test

import (
	"context"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service"
)

// TestSearches: what answers in a network that may be searched is proposed, but for what is in the estate; nothing is
// searched that is not allowed.
func TestSearches(t *testing.T) {
	t.Parallel()
	slow, err := net.Listen("tcp", "127.88.7.1:0") // it takes connections and never says a word
	require.NoError(t, err)
	t.Cleanup(func() { _ = slow.Close() })
	_, slowPort, err := net.SplitHostPort(slow.Addr().String())
	require.NoError(t, err)
	port := shared.harbour.Port
	config := service.Config{Data: shortDirectory(t), SignIn: letIn, Visitable: []string{"127.0.0.0/8"},
		Searchable: []string{fmt.Sprintf("127.30.0.0/16=%d", port), "127.88.7.0/24=" + slowPort}}
	address, _ := begun(t, config)
	ctx, c := t.Context(), stranger(t, address)
	_, err = c.SignIn(ctx, "harbour-master", password)
	require.NoError(t, err)
	ended := func(in api.SearchStart) api.Search {
		t.Helper()
		search, err := c.StartSearch(ctx, in)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			search, err = c.Search(ctx, search.ID)
			return assert.NoError(t, err) && search.State != "searching"
		}, time.Minute, 50*time.Millisecond)
		return search
	}
	proposed := func() string {
		t.Helper()
		list, err := c.Proposals(ctx)
		require.NoError(t, err)
		var out []string
		for _, p := range list.Items {
			require.Len(t, p.Sources, 1)
			short := strings.NewReplacer(".tarnholm.example", "", fmt.Sprintf(":%d", port), "")
			out = append(out, short.Replace(p.Endpoint+" "+p.Sources[0].Address))
		}
		return strings.Join(out, ", ")
	}

	list, err := c.Searches(ctx)
	require.NoError(t, err)
	assert.Len(t, list.Allowed, 2)
	assert.Empty(t, list.Items)
	for networks, want := range map[string]string{"10.0.0.0/8": "may not be searched", "127.30.1.1": "is no network",
		"127.0.0.0/8": "may not be searched"} {
		_, err := c.StartSearch(ctx, api.SearchStart{Networks: []string{networks}})
		assert.Equal(t, 422, status(err), networks)
		assert.ErrorContains(t, err, want)
	}

	// tides, pilots and ledger; a server that refuses every hello has no name but its address.
	search := ended(api.SearchStart{Networks: []string{"127.30.1.0/30", "127.30.8.16/32"}})
	assert.Equal(t, "finished", search.State)
	assert.Equal(t, []int{5, 5, 4, 0}, []int{search.Size, search.Done, search.Found, search.Others})
	assert.Equal(t, "harbour-master", search.By)
	const met = "127.30.8.16 127.30.8.16, ledger 127.30.1.3, pilots 127.30.1.2, tides 127.30.1.1"
	assert.Equal(t, met, proposed())
	execute(t, config.Data, fmt.Sprintf(`INSERT INTO found_places VALUES ('127.30.1.0:%d', 1, 'https',
		'{ghost.tarnholm.example}', now())`, port))
	assert.Contains(t, proposed(), "ghost")
	ended(api.SearchStart{Networks: []string{"127.30.1.0/30"}})
	assert.Equal(t, met, proposed(), "what answers no more is forgotten")

	// What the estate visits is proposed no more, nor what is gone.
	_, err = c.AddEndpoint(ctx, api.EndpointSettings{Endpoint: fmt.Sprintf("tides.tarnholm.example:%d", port),
		VisitAt: []string{"127.30.1.1"}})
	require.NoError(t, err)
	audit, err := c.StartAudit(ctx, api.AuditStart{})
	require.NoError(t, err)
	_, err = c.Follow(ctx, audit.ID, func(api.Audit) {})
	require.NoError(t, err)
	assert.NotContains(t, proposed(), "tides")
	_, err = c.AnswerProposals(ctx, api.ProposalAnswer{Dismiss: []string{fmt.Sprintf("127.30.8.16:%d", port)}})
	require.NoError(t, err)
	assert.NotContains(t, proposed(), "127.30.8.16")

	testOneSearch(ctx, t, c)
	list, err = c.Searches(ctx)
	require.NoError(t, err)
	require.Len(t, list.Items, 3)
	assert.Equal(t, "cancelled", list.Items[0].State)

	none, _ := begun(t, service.Config{Data: shortDirectory(t), SignIn: letIn})
	other := stranger(t, none)
	_, err = other.SignIn(ctx, "harbour-master", password)
	require.NoError(t, err)
	_, err = other.StartSearch(ctx, api.SearchStart{})
	assert.ErrorContains(t, err, "no network may be searched", "it is off by default")
}

// testOneSearch: there is one search at once, and it can be cancelled.
func testOneSearch(ctx context.Context, t *testing.T, c *client.Client) {
	search, err := c.StartSearch(ctx, api.SearchStart{Networks: []string{"127.88.7.0/30"}})
	require.NoError(t, err)
	_, err = c.StartSearch(ctx, api.SearchStart{Networks: []string{"127.30.1.0/30"}})
	assert.Equal(t, 409, status(err))
	search, err = c.CancelSearch(ctx, search.ID)
	require.NoError(t, err)
	assert.Equal(t, "cancelled", search.State)
	_, err = c.CancelSearch(ctx, search.ID)
	assert.ErrorContains(t, err, "has ended already")
	_, err = c.CancelSearch(ctx, 4711)
	assert.Equal(t, 404, status(err))
}

// TestSearchable: a network that cannot be searched is refused at the start.
func TestSearchable(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{"10.20.0.0": "is no network", "127.30.0.0/16": "--allow-visit"} {
		err := service.Run(t.Context(), service.Config{Data: shortDirectory(t), Listen: free(), SignIn: letIn,
			Searchable: []string{text}, Silent: true, UnsafeDisk: true, Log: silent}, func(string, string) {
			t.Error("it serves")
		})
		assert.ErrorContains(t, err, "--search-network", text)
		assert.ErrorContains(t, err, want, text)
	}
	err := service.Run(t.Context(), service.Config{Data: shortDirectory(t), Listen: free(), SignIn: letIn, Log: silent,
		Searchable: []string{"10.0.0.0/8", "10.20.0.0/24=443"}}, func(string, string) { t.Error("it serves") })
	assert.ErrorContains(t, err, "overlap")
}
