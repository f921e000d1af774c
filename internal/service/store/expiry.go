package store

import (
	"context"
	"strconv"
	"strings"
	"time"

	"nurvik/internal/api"
)

// Served is a certificate that is somewhere now, by the latest that is known of each place.
type Served struct {
	SHA256    string `gorm:"column:sha256"`
	Subject   string
	Issuer    string
	Names     string // the first, a line each
	Authority bool
	NotBefore *time.Time
	NotAfter  *time.Time
	// the first places, and how many there are
	Count     int
	Endpoints string // number and target, a line each
	Holdings  string // number, name and path, a line each
}

// presentSightings are those of the last time that anything was seen of their endpoint, or holding.
const presentSightings = `
	SELECT certificate, endpoint_id, holding_id, path FROM (
		SELECT s.certificate, s.last_seen, p.endpoint_id, p.holding_id, p.path,
			max(s.last_seen) OVER (PARTITION BY p.endpoint_id, p.holding_id) AS latest
		FROM sightings s JOIN places p ON p.id = s.place_id WHERE s.kind = 'certificate') seen
	WHERE last_seen = latest GROUP BY certificate, endpoint_id, holding_id, path`

// namesShown is how many names of a certificate lists carry, and how many places.
const namesShown, placesShown = 5, 5

// ServedCertificates returns every certificate that is somewhere now.
func (s *Store) ServedCertificates(ctx context.Context) ([]Served, error) {
	var out []Served
	return out, s.read(ctx).Raw(`
		SELECT c.sha256, c.subject, c.issuer, array_to_string(c.names[1:?],
			chr(10)) AS names, c.authority, c.not_before, c.not_after, at.count,
			coalesce(at.endpoints, '') AS endpoints, coalesce(at.holdings, '') AS holdings
		FROM certificates c JOIN (
			SELECT x.certificate, count(*) AS count,
				array_to_string((array_agg(x.endpoint_id || ' ' || e.target ORDER BY e.target)
					FILTER (WHERE e.id IS NOT NULL))[1:?], chr(10)) AS endpoints,
				array_to_string((array_agg(x.holding_id || ' ' || h.name || ':' || x.path ORDER BY h.name, x.path)
					FILTER (WHERE h.id IS NOT NULL))[1:?], chr(10)) AS holdings
			FROM (`+presentSightings+`) x
			LEFT JOIN endpoints e ON e.id = x.endpoint_id LEFT JOIN holdings h ON h.id = x.holding_id
			GROUP BY x.certificate) at ON at.certificate = c.sha256
		ORDER BY c.not_after NULLS FIRST, c.sha256`, namesShown, placesShown, placesShown).Scan(&out).Error
}

// ServedState changes whenever ServedCertificates may.
func (s *Store) ServedState(ctx context.Context) (string, error) {
	var out string
	return out, s.read(ctx).Raw(`
		SELECT concat_ws(' ', (SELECT concat_ws(',', count(*), max(judged_at), max(updated_at)) FROM endpoints),
			(SELECT concat_ws(',', count(*), max(judged_at), max(id)) FROM holdings))`).Scan(&out).Error
}

// Leaves are the certificates of servers that are somewhere now and have one of the names, with where they are; at most
// the limit.
func (s *Store) Leaves(ctx context.Context, names []string, endpoint int64, limit int) ([]LeafAt, error) {
	var out []LeafAt
	db := s.read(ctx).Table("(?) AS x", s.read(ctx).Raw(presentSightings)).
		Select("DISTINCT ON (c.sha256) c.der, coalesce(e.target, h.name || ':' || x.path) AS place").
		Joins("JOIN certificates c ON c.sha256 = x.certificate LEFT JOIN endpoints e ON e.id = x.endpoint_id " +
			"LEFT JOIN holdings h ON h.id = x.holding_id").
		Where("NOT c.authority OR cardinality(c.names) > 0").Order("c.sha256, place").Limit(limit)
	if endpoint != 0 {
		db = db.Where("x.endpoint_id = ?", endpoint)
	} else {
		db = db.Where("c.names && ?", textArray(names))
	}
	return out, db.Scan(&out).Error
}

// LeafAt is a certificate and where it is.
type LeafAt struct {
	DER   []byte `gorm:"column:der"`
	Place string
}

// DuePlaces are the places of a certificate for lists.
func (c *Served) DuePlaces() []api.DuePlace {
	out := []api.DuePlace{}
	add := func(list string, set func(p *api.DuePlace, id *int64)) {
		for text := range strings.Lines(list) {
			number, name, _ := strings.Cut(strings.TrimSuffix(text, "\n"), " ")
			if id, err := strconv.ParseInt(number, 10, 64); err == nil && len(out) < placesShown {
				p := api.DuePlace{Name: name}
				set(&p, &id)
				out = append(out, p)
			}
		}
	}
	add(c.Endpoints, func(p *api.DuePlace, id *int64) { p.EndpointID = id })
	add(c.Holdings, func(p *api.DuePlace, id *int64) { p.HoldingID = id })
	return out
}
