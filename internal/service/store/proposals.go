package store

import (
	"context"
	"encoding/json"
	"strconv"
	"time"

	"gorm.io/gorm/clause"

	"nurvik/core/facts"
	"nurvik/core/proposal"
)

// How many names are looked at for proposals: altogether, and of one certificate, so that a hostile one does not fill
// the list.
const (
	mostNames = 20_000
	mostOfOne = 100
)

// seenLately is how long a certificate that was not seen again says anything of what there is.
const seenLately = 90 * 24 * time.Hour

// NamesElsewhere are names in certificates of servers that have not expired and are still where they were seen, of
// which no endpoint is known by the host or the expected names; more says that there are others.
func (s *Store) NamesElsewhere(ctx context.Context, now time.Time) (out []proposal.Seen, more bool, err error) {
	rows, err := s.Pool.Query(ctx, `
		SELECT n.name, c.sha256, coalesce(e.target, ''), coalesce(h.id, 0), coalesce(h.name, ''), p.path, p.line
		FROM certificates c
		CROSS JOIN unnest(c.names[1:$4]) n (name)
		JOIN sightings x ON x.certificate = c.sha256 AND x.kind = 'certificate'
		JOIN places p ON p.id = x.place_id
		LEFT JOIN endpoints e ON e.id = p.endpoint_id
		LEFT JOIN holdings h ON h.id = p.holding_id
		WHERE NOT c.authority AND c.not_after > $1 AND c.last_seen > $2 AND n.name LIKE '%.%' AND n.name NOT LIKE '%*%'
			AND NOT EXISTS (SELECT FROM sightings y WHERE y.place_id = p.id AND y.last_seen > x.last_seen)
			AND NOT EXISTS (SELECT FROM endpoints k WHERE k.host = lower(n.name))
			AND NOT EXISTS (SELECT FROM endpoints k WHERE k.settings -> 'names' @> to_jsonb(lower(n.name)))
			AND NOT EXISTS (SELECT FROM dismissed_proposals d WHERE d.endpoint = coalesce(
				replace(e.target, e.host || ':', lower(n.name) || ':'), lower(n.name) || ':443'))
		ORDER BY n.name, c.sha256, p.id LIMIT $3`, now, now.Add(-seenLately), mostNames+1, mostOfOne)
	if err != nil {
		return nil, false, err
	}
	defer rows.Close()
	for n := 0; rows.Next(); n++ {
		var name string
		var at proposal.Source
		if err := rows.Scan(&name, &at.Certificate, &at.Endpoint, &at.HoldingID, &at.Holding, &at.Path,
			&at.Line); err != nil {
			return nil, false, err
		}
		if more = n == mostNames; more {
			break
		}
		if seen, ok := proposal.OfName(name, at); ok {
			out = append(out, seen)
		}
	}
	return out, more, rows.Err()
}

// ConfiguredElsewhere are the endpoints that servers are told to serve and the estate lacks.
func (s *Store) ConfiguredElsewhere(ctx context.Context) ([]proposal.Seen, error) {
	rows, err := s.Pool.Query(ctx, `SELECT h.id, h.name, f.facts -> 'configuration' FROM holding_files f
		JOIN holdings h ON h.id = f.holding_id WHERE f.configured ORDER BY h.name, f.path`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []proposal.Seen
	for rows.Next() {
		var at proposal.Source
		var text json.RawMessage
		if err := rows.Scan(&at.HoldingID, &at.Holding, &text); err != nil {
			return nil, err
		}
		var c facts.Configuration
		if err := json.Unmarshal(text, &c); err != nil {
			return nil, err
		}
		all = append(all, proposal.OfConfiguration(&c, at)...)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	return s.unknown(ctx, all)
}

// unknown are those that are no endpoint's target, and no expected name of an endpoint on the same port.
func (s *Store) unknown(ctx context.Context, all []proposal.Seen) ([]proposal.Seen, error) {
	targets, names, ports := make([]string, len(all)), make([]string, len(all)), make([]string, len(all))
	for i, x := range all {
		targets[i], names[i], ports[i] = x.Endpoint.String(), x.Endpoint.Host, strconv.Itoa(int(x.Endpoint.Port))
	}
	known := map[string]bool{}
	rows, err := s.Pool.Query(ctx, `SELECT DISTINCT c.target FROM unnest($1::text[], $2::text[], $3::text[])
		c (target, name, port) WHERE EXISTS (SELECT FROM endpoints e WHERE e.target = c.target) OR EXISTS (SELECT
		FROM endpoints e WHERE e.settings -> 'names' @> to_jsonb(c.name) AND e.target LIKE '%:' || c.port)`,
		targets, names, ports)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var target string
		if err := rows.Scan(&target); err != nil {
			return nil, err
		}
		known[target] = true
	}
	var out []proposal.Seen
	for i, x := range all {
		if !known[targets[i]] {
			out = append(out, x)
		}
	}
	return out, rows.Err()
}

// dismissedProposal is an endpoint that somebody does not want in the estate.
type dismissedProposal struct {
	Endpoint string `gorm:"primaryKey"`
	ByName   string
	At       time.Time
}

// Dismissed are the endpoints that are not wanted.
func (s *Store) Dismissed(ctx context.Context) (map[string]bool, error) {
	var list []string
	err := s.read(ctx).Model(&dismissedProposal{}).Pluck("endpoint", &list).Error
	out := map[string]bool{}
	for _, e := range list {
		out[e] = true
	}
	return out, err
}

// AnswerProposals adds endpoints, but for those that are there by now, and remembers those that are not wanted.
func (s *Store) AnswerProposals(ctx context.Context, accepted []Endpoint, dismissed []string, by string,
	at time.Time) (added int, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		added = 0
		if len(accepted) > 0 {
			result := tx.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&accepted, bulkPortion)
			if result.Error != nil {
				return result.Error
			}
			added = int(result.RowsAffected)
		}
		rows := make([]dismissedProposal, len(dismissed))
		for i, e := range dismissed {
			rows[i] = dismissedProposal{e, by, at}
		}
		if len(rows) == 0 {
			return nil
		}
		return tx.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&rows, bulkPortion).Error
	})
	return added, err
}
