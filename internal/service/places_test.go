package service_test

import (
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
)

// texts are the lines of a query with one column of text.
func texts(t *testing.T, c *pgx.Conn, query string, args ...any) []string {
	t.Helper()
	rows, err := c.Query(t.Context(), query, args...)
	require.NoError(t, err)
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	return out
}

// TestPlacesAndSightings looks at what the record keeps of where something was seen.
func TestPlacesAndSightings(t *testing.T) {
	importHarbour(t)
	auditOf(t, api.AuditStart{})
	c := connection(t, shared.data)
	defer c.Close(t.Context())
	const served = `SELECT concat_ws(' ', p.server_name, s.position, x.names[1])
		FROM sightings s JOIN places p ON p.id = s.place_id JOIN endpoints e ON e.id = p.endpoint_id
		JOIN certificates x ON x.sha256 = s.certificate WHERE e.target = $1 ORDER BY s.position`

	t.Run("an address and the name that was sent", func(t *testing.T) {
		assert.Equal(t, []string{"tides.tarnholm.example 0 tides.tarnholm.example",
			"tides.tarnholm.example 1", "tides.tarnholm.example 2"},
			texts(t, c, served, "tides.tarnholm.example:443"))
	})
	t.Run("seen again it is the same sighting, later", func(t *testing.T) {
		const span = `SELECT concat_ws(' ', s.first_seen, s.last_seen) FROM sightings s JOIN places p ON p.id = s.place_id
			JOIN endpoints e ON e.id = p.endpoint_id WHERE e.target = 'tides.tarnholm.example:443' ORDER BY s.position`
		before := texts(t, c, span)
		auditOf(t, api.AuditStart{})
		after := texts(t, c, span)
		require.Len(t, after, len(before))
		for i := range after {
			assert.Equal(t, strings.Fields(before[i])[:2], strings.Fields(after[i])[:2], "first seen when it was")
			assert.Greater(t, after[i], before[i], "last seen now")
		}
	})
	t.Run("a certificate is kept once, whoever serves it", func(t *testing.T) {
		assert.Equal(t, []string{"Skerry Outer Services at many places"}, texts(t, c, `
			SELECT substring(x.subject from 'CN=([^,]*)') || 
				CASE WHEN count(DISTINCT s.place_id) > 40 THEN ' at many places' END
			FROM certificates x JOIN sightings s ON s.certificate = x.sha256 GROUP BY x.sha256
			ORDER BY count(DISTINCT s.place_id) DESC LIMIT 1`))
	})
	t.Run("every finding of an address has its places", func(t *testing.T) {
		assert.Empty(t, texts(t, c, `SELECT f.code FROM findings f WHERE f.endpoint_id IS NOT NULL AND f.state <> 'gone'
			AND jsonb_array_length(coalesce(f.finding -> 'addresses', '[]')) > 0
			AND NOT EXISTS (SELECT FROM finding_places p WHERE p.finding_id = f.id)`))
	})
	t.Run("a file with its line", func(t *testing.T) {
		sent, err := shared.client.SendHolding(t.Context(),
			api.HoldingFacts{HoldingHeader: api.HoldingHeader{Name: "quay"}, Files: machine(t, "quay")}, nil)
		require.NoError(t, err)
		_, err = shared.client.JudgedHolding(t.Context(), sent.ID)
		require.NoError(t, err)
		assert.Equal(t, []string{"/etc/ssl/bollard.crt:1 certificate", "/etc/ssl/bollard.key:1 private-key"},
			texts(t, c,
				`SELECT p.path || ':' || p.line || ' ' || s.kind FROM sightings s JOIN places p ON p.id = s.place_id
				WHERE p.holding_id = $1 AND p.path LIKE '/etc/ssl/bollard.%' ORDER BY 1`, sent.ID))
	})
	t.Run("the database refuses what cannot be", func(t *testing.T) {
		for _, impossible := range []string{
			`INSERT INTO places (kind, address) VALUES ('address', '192.0.2.1:443')`,
			`INSERT INTO places (kind) VALUES ('dream')`,
			`UPDATE sightings SET last_seen = first_seen - interval '1 second'`,
			`UPDATE findings SET state = 'gone', gone_at = NULL`,
			`UPDATE endpoints SET verdict = 'splendid'`,
			`UPDATE certificates SET spki_sha256 = 'none'`,
		} {
			_, err := c.Exec(t.Context(), impossible)
			assert.ErrorContains(t, err, "violates", impossible)
		}
	})
}
