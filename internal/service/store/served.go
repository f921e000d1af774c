package store

import (
	"context"
	"net/netip"

	"nurvik/core/facts"
)

// ServedElsewhere are the leaves with one of the names that other endpoints than those given serve, by the latest that
// is known of each.
func (s *Store) ServedElsewhere(ctx context.Context, than []Examined, names []string) ([]facts.Endpoint, error) {
	if len(names) == 0 {
		return nil, nil
	}
	ids := make([]int64, len(than))
	for i, x := range than {
		ids[i] = x.Endpoint.ID
	}
	var rows []struct {
		Target, Address string
		DER             []byte `gorm:"column:der"`
	}
	err := s.read(ctx).Raw(`
		SELECT e.target, p.address, c.der FROM certificates c
			JOIN sightings x ON x.certificate = c.sha256 JOIN places p ON p.id = x.place_id
			JOIN endpoints e ON e.id = p.endpoint_id
		WHERE x.position = 0 AND NOT c.authority AND c.names && ? AND e.id NOT IN ?
			AND NOT EXISTS (SELECT FROM sightings y JOIN places q ON q.id = y.place_id
				WHERE q.endpoint_id = e.id AND y.last_seen > x.last_seen)
		ORDER BY e.target, p.address, c.sha256`, textArray(names), ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	var out []facts.Endpoint
	for _, r := range rows {
		address, err := netip.ParseAddrPort(facts.AddressOf(r.Address))
		if err != nil {
			continue
		}
		if n := len(out); n == 0 || out[n-1].Endpoint != r.Target {
			out = append(out, facts.Endpoint{Schema: facts.Schema, Endpoint: r.Target})
		}
		last := &out[len(out)-1]
		last.Observations = append(last.Observations, facts.Observation{Address: address, Outcome: facts.Answered,
			Certificates: [][]byte{r.DER}})
	}
	return out, nil
}
