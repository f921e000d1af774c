package store

import (
	"context"
	"strings"
	"time"

	"nurvik/core/wanted"
)

// WhereRow is a sighting of what was looked for, with its place.
type WhereRow struct {
	Kind       string // of facts.ItemKind
	Target     string // of an endpoint
	Address    string
	Holding    string
	PlaceKind  string // AddressPlace, FilePlace or ConfigPlace
	Path       string
	Line       int
	Alias      string
	SHA256     string `gorm:"column:sha256"`
	SPKISHA256 string `gorm:"column:spki_sha256"`
	Subject    string
	Serial     string
	Names      string // the first, a line each
	Authority  bool
	NotBefore  *time.Time
	NotAfter   *time.Time
	FirstSeen  time.Time
	LastSeen   time.Time
	Now        bool // at the last time that anything was seen of its endpoint or holding
}

// whereSightings are all sightings with their places.
const whereSightings = `
	SELECT s.kind, coalesce(e.target, '') AS target, p.address, coalesce(h.name, '') AS holding,
		p.kind AS place_kind, p.path, p.line,
	p.alias,
		coalesce(s.certificate, '') AS sha256, s.spki_sha256, coalesce(c.subject, '') AS subject,
		coalesce(c.serial, '') AS serial, coalesce(array_to_string(c.names[1:5], chr(10)), '') AS names,
		coalesce(c.authority, false) AS authority, c.not_before, c.not_after, s.first_seen, s.last_seen,
		s.last_seen = CASE WHEN p.endpoint_id IS NOT NULL
			THEN (SELECT max(s2.last_seen) FROM sightings s2 JOIN places p2 ON p2.id = s2.place_id
				WHERE p2.endpoint_id = p.endpoint_id)
			ELSE (SELECT max(s2.last_seen) FROM sightings s2 JOIN places p2 ON p2.id = s2.place_id
				WHERE p2.holding_id = p.holding_id) END AS now
	FROM sightings s JOIN places p ON p.id = s.place_id
		LEFT JOIN certificates c ON c.sha256 = s.certificate
		LEFT JOIN endpoints e ON e.id = p.endpoint_id LEFT JOIN holdings h ON h.id = p.holding_id`

// certified selects sightings of certificates of a kind; each of the two steps has its index.
func certified(condition string) string {
	return "s.certificate = ANY (ARRAY(SELECT sha256 FROM certificates WHERE " + condition + "))"
}

// Where returns the sightings of a thing, those of now in front, and how many there are.
func (s *Store) Where(ctx context.Context, t wanted.Thing, limit int) (rows []WhereRow, total int64, err error) {
	conditions, values := []string{}, []any{}
	add := func(condition string, args ...any) {
		conditions, values = append(conditions, condition), append(values, args...)
	}
	if len(t.Serials) > 0 {
		add(certified("serial IN ?"), t.Serials)
	}
	if t.Digest != nil {
		add("s.certificate = ?", t.Digest.String())
		add("s.spki_sha256 = ?", t.Digest.String())
	}
	if t.Digest == nil && len(t.Name) > 1 {
		names := []string{t.Name}
		if _, parent, below := strings.Cut(t.Name, "."); below {
			names = append(names, "*."+parent)
		}
		add(certified("names && ?"), textArray(names))
		add(certified(`subject ILIKE ? ESCAPE '\'`), "%"+likeEscape.Replace(t.Name)+"%")
	}
	if len(conditions) == 0 {
		return nil, 0, nil
	}
	where := " WHERE " + strings.Join(conditions, " OR ")
	var found []struct {
		WhereRow
		Total int64
	}
	err = s.read(ctx).Raw("SELECT *, count(*) OVER () AS total FROM ("+whereSightings+where+
		") x ORDER BY now DESC, last_seen DESC, target, holding, path, line LIMIT ?",
		append(values, limit)...).Scan(&found).Error
	for _, r := range found {
		rows, total = append(rows, r.WhereRow), r.Total
	}
	return rows, total, err
}

// likeEscape takes the meaning from characters that LIKE gives one.
var likeEscape = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

// Relatives returns certificates on one of the keys, or with one of the lists of names, each with some places.
func (s *Store) Relatives(ctx context.Context, keys, certificates []string, limit int) (rows []WhereRow, err error) {
	if len(certificates) == 0 {
		return nil, nil
	}
	return rows, s.read(ctx).Raw(whereSightings+` WHERE s.kind = 'certificate' AND s.certificate NOT IN ?
		AND (s.spki_sha256 IN ? OR s.certificate = ANY (ARRAY(SELECT other.sha256 FROM certificates one
			JOIN certificates other ON other.names @> one.names AND other.names = one.names
			WHERE one.sha256 IN ? AND NOT one.authority AND cardinality(one.names) > 0)))
		ORDER BY c.not_before, s.certificate, target, holding, path LIMIT ?`, certificates, keys, certificates,
		limit).Scan(&rows).Error
}
