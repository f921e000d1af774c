package service_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
)

// TestNobodyIsLockedOut: a MySQL server locks out a host after 100 connections that ended before the login. The service
// counts its own, stops well before that, and says what helps.
func TestNobodyIsLockedOut(t *testing.T) {
	importHarbour(t)
	stores, err := shared.client.FindEndpoint(t.Context(), "stores.tarnholm.example:3306")
	require.NoError(t, err)
	audit := func() (verdict, message string, connections int) {
		done := auditOf(t, api.AuditStart{EndpointIDs: []int64{stores.ID}})
		require.Equal(t, 1, done.Done)
		x, err := shared.client.Examination(t.Context(), stores.ID)
		require.NoError(t, err)
		if len(x.Judgement.Findings) > 0 {
			message = x.Judgement.Findings[0].Code + " " + x.Judgement.Findings[0].Message
		}
		return string(x.Judgement.Verdict), message, len(x.Facts.Observations[0].Connections)
	}
	counted := func() int {
		return count(t, shared.data,
			"SELECT coalesce(sum(connections), 0) FROM unfinished_logins WHERE address LIKE '127.30.10.13:%'")
	}
	before := counted()
	verdict, message, connections := audit()
	assert.Equal(t, "sound", verdict, message)
	assert.LessOrEqual(t, connections, 10, "quick unless somebody says otherwise")
	assert.Equal(t, before+connections, counted())

	execute(t, shared.data, "UPDATE unfinished_logins SET connections = 80")
	verdict, message, connections = audit()
	assert.Equal(t, "unreachable", verdict)
	assert.Contains(t, message, "reach.busy 80 connections since ")
	assert.Contains(t, message, "resets its count")
	assert.Zero(t, connections)

	forgotten, err := shared.client.ForgetUnfinishedLogins(t.Context(), stores.ID)
	require.NoError(t, err)
	assert.Equal(t, 80, forgotten.Connections)
	verdict, _, connections = audit()
	assert.Equal(t, "sound", verdict)
	assert.Equal(t, connections, counted())
	_, err = shared.client.ForgetUnfinishedLogins(t.Context(), 999999)
	assert.Equal(t, 404, problemOf(t, err).Status, fmt.Sprint(err))
}
