package store

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/core/pki"
	"nurvik/core/plain"
	"nurvik/core/proposal"
)

// Search is a search of networks for endpoints.
type Search struct {
	ID         int64
	State      string
	Ranges     proposal.Ranges `gorm:"serializer:json"`
	ByName     string
	CreatedAt  time.Time
	FinishedAt *time.Time
	Failure    string
	Size       int // places
	Done       int // of them; the first so many have been looked at
	Found      int // that answered TLS
	Others     int // that answered something else
}

// Searching is the state of a search that has not ended.
const Searching = "searching"

// ErrSearching says that a search is under way.
var ErrSearching = errors.New("a network is being searched already; wait until that search has ended, or cancel it")

// keptSearches is how many searches are kept, with what they found.
const keptSearches = 20

// How many places, and names of each, are looked at for proposals: whoever answers in a network chooses the names.
const (
	mostFound      = 10_000
	mostFoundNames = 20
)

// foundPlace is where TLS was answered.
type foundPlace struct {
	Address  string `gorm:"primaryKey"`
	SearchID int64
	Scheme   string
	Names    textArray `gorm:"type:text[]"`
	SeenAt   time.Time
}

// CreateSearch inserts a search and forgets the oldest.
func (t *Tx) CreateSearch(s *Search) error {
	if err := t.Sole("searches"); err != nil {
		return err
	}
	var running int64
	if err := t.db.Model(&Search{}).Where("state = ?", Searching).Count(&running).Error; err != nil {
		return err
	}
	if running > 0 {
		return ErrSearching
	}
	s.State, s.Size = Searching, s.Ranges.Size()
	if err := t.db.Create(s).Error; err != nil {
		return err
	}
	return t.db.Exec("DELETE FROM searches WHERE id <= (SELECT id FROM searches ORDER BY id DESC OFFSET ? LIMIT 1)",
		keptSearches).Error
}

// Search returns one.
func (s *Store) Search(ctx context.Context, id int64) (Search, error) {
	var out Search
	return out, notFound(s.read(ctx).First(&out, id).Error)
}

// Searches returns those that are kept, the newest first.
func (s *Store) Searches(ctx context.Context) ([]Search, error) {
	var out []Search
	return out, s.read(ctx).Order("id DESC").Limit(keptSearches).Find(&out).Error
}

// Advance notes what was met at the places up to a position: those that are found answered TLS, and others something
// else. What an earlier search found at the rest is forgotten. It reports whether the search goes on.
func (s *Store) Advance(ctx context.Context, x Search, to int, found []FoundCertificate, others int,
	now time.Time) (goes bool, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		places := x.Ranges.Slice(x.Done, to)
		result := tx.db.Model(&Search{}).Where("id = ? AND state = ? AND done = ?", x.ID, Searching, x.Done).
			Updates(map[string]any{"done": to, "found": gorm.Expr("found + ?", len(found)),
				"others": gorm.Expr("others + ?", others)})
		if goes = result.RowsAffected > 0; result.Error != nil || !goes {
			return result.Error
		}
		addresses := make([]string, len(places))
		for i, at := range places {
			addresses[i] = at.String()
		}
		if err := tx.db.Where("address IN ?", addresses).Delete(&foundPlace{}).Error; err != nil {
			return err
		}
		rows := make([]foundPlace, len(found))
		for i, f := range found {
			rows[i] = foundPlace{Address: f.Address.String(), SearchID: x.ID, Scheme: f.Scheme, Names: f.names(),
				SeenAt: now}
		}
		if len(rows) == 0 {
			return nil
		}
		return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&rows).Error
	})
	return goes, err
}

// FoundCertificate is a place at which TLS was answered, with the certificate that was served, if any.
type FoundCertificate struct {
	Address netip.AddrPort
	Scheme  string
	DER     []byte
}

func (f FoundCertificate) names() textArray {
	x, err := pki.ParseCertificate(f.DER)
	if err != nil {
		return textArray{}
	}
	names := x.Brief().Names
	return textArray(names[:min(len(names), mostOfOne)])
}

// EndSearch ends a search; it reports whether it was still going on.
func (s *Store) EndSearch(ctx context.Context, id int64, state, failure string, now time.Time) (ended bool, err error) {
	err = s.write(ctx, func(db *gorm.DB) error {
		result := db.Model(&Search{ID: id}).Where("state = ?", Searching).
			Updates(map[string]any{"state": state, "failure": plain.Text(failure), "finished_at": now})
		ended = result.RowsAffected > 0
		return result.Error
	})
	return ended, err
}

// FoundElsewhere are the endpoints that searches lead to and the estate lacks, of places that no endpoint leads to any
// more. A place that shows no name that the estate lacks is proposed by its address: it may be a server that somebody
// forgot; more says that there are others.
func (s *Store) FoundElsewhere(ctx context.Context, now time.Time) (out []proposal.Seen, more bool, err error) {
	rows, err := s.Pool.Query(ctx, `SELECT f.address, f.scheme, f.names[1:$2] FROM found_places f
		WHERE f.seen_at > $1 AND NOT EXISTS (SELECT FROM places p JOIN endpoints e ON e.id = p.endpoint_id
			WHERE p.kind = 'address' AND split_part(p.address, ' ', 1) = f.address
				AND coalesce((SELECT max(x.last_seen) FROM sightings x WHERE x.place_id = p.id), e.observed_at)
					> e.observed_at - interval '1 day')
		ORDER BY f.address LIMIT $3`, now.Add(-seenLately), mostFoundNames, mostFound+1)
	if err != nil {
		return nil, false, err
	}
	defer rows.Close()
	var all []proposal.Seen
	for n := 0; rows.Next(); n++ {
		if more = n == mostFound; more {
			break
		}
		var address string
		var f proposal.Found
		if err := rows.Scan(&address, &f.Scheme, &f.Names); err != nil {
			return nil, false, err
		}
		if f.Address, err = netip.ParseAddrPort(address); err != nil {
			return nil, false, err
		}
		all = append(append(all, proposal.OfFound(f)...), f.Itself())
	}
	rows.Close()
	if err := rows.Err(); err != nil {
		return nil, false, err
	}
	lacking, err := s.unknown(ctx, all)
	if err != nil {
		return nil, false, err
	}
	named := map[string]bool{} // the places that have a name that the estate lacks
	for _, x := range lacking {
		named[x.Source.Address] = named[x.Source.Address] || x.Endpoint.ServerName() != ""
	}
	for _, x := range lacking {
		if x.Endpoint.ServerName() != "" || !named[x.Source.Address] {
			out = append(out, x)
		}
	}
	return out, more, nil
}
