package store

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/core/judge"
	"nurvik/core/life"
)

// sighted is a finding with the places at which it was met.
type sighted struct {
	Finding
	places []int64
}

// rowOf is the record of a finding, without its life.
func rowOf(target string, f judge.Finding) Finding {
	cause := judge.CauseOf(f)
	return Finding{ID: judge.Identity(target, f), Code: f.Code, Severity: string(f.Severity), Finding: f,
		Waived: !f.Counts(), Cause: cause.ID, CauseAbout: cause.About}
}

// owned are the findings of one endpoint or holding that are present now. Spoken says of the others whether something
// was said about them.
type owned struct {
	id      int64
	present []sighted
	at      time.Time
	spoken  func(Finding) bool
}

// live lets the findings of owners, all endpoints or all holdings, live on: those that are present are stored, and of
// the others those are gone about which something was said.
func (t *Tx) live(owner string, all []owned) error {
	ids := make([]int64, len(all))
	for i, o := range all {
		ids[i] = o.id
	}
	var known []Finding
	if err := t.db.Where(owner+" IN ?", ids).Find(&known).Error; err != nil {
		return err
	}
	before := map[int64]map[string]Finding{}
	for _, f := range known {
		id := f.owner()
		if before[id] == nil {
			before[id] = map[string]Finding{}
		}
		before[id][f.ID] = f
	}
	var rows, gone []Finding
	places := map[string][]int64{}
	again := map[seenAt][]string{} // those that are as they were
	for _, o := range all {
		mine := before[o.id]
		for _, s := range o.present {
			row := s.Finding
			old := mine[row.ID]
			row.lives(old.life().Seen(o.at))
			if row.State != life.Back { // what comes back is looked at anew
				row.Acknowledged = old.Acknowledged
			}
			delete(mine, row.ID)
			places[row.ID] = s.places
			if alike(old, row) {
				when := seenAt{at: o.at}
				if row.AuditID != nil {
					when.audit = *row.AuditID
				}
				again[when] = append(again[when], row.ID)
			} else {
				rows = append(rows, row)
			}
		}
		for _, id := range slices.Sorted(maps.Keys(mine)) {
			f := mine[id]
			now := f.life().Unseen(o.at, o.spoken(f))
			if now.State != f.State {
				f.lives(now)
				gone = append(gone, f)
			}
		}
	}
	for when, ids := range again {
		if err := t.seenAgain(when, ids); err != nil {
			return err
		}
	}
	if err := upsert(t, rows, clause.OnConflict{UpdateAll: true}); err != nil {
		return err
	}
	for _, f := range gone {
		if err := t.db.Model(&f).Select("state", "gone_at").Updates(&f).Error; err != nil {
			return err
		}
	}
	return t.placeFindings(places)
}

// seenAt is when findings were seen, and in which audit, 0 for none.
type seenAt struct {
	at    time.Time
	audit int64
}

// seenAgain notes that findings were seen which are as they were.
func (t *Tx) seenAgain(when seenAt, ids []string) error {
	slices.Sort(ids)
	changes := map[string]any{"last_seen": gorm.Expr("GREATEST(last_seen, ?)", when.at)}
	if when.audit != 0 {
		changes["audit_id"] = when.audit
	}
	return t.db.Model(&Finding{}).Where("id = ANY(?::text[])", textArray(ids)).UpdateColumns(changes).Error
}

// owner is the number of the endpoint or holding.
func (f Finding) owner() int64 {
	if f.EndpointID != nil {
		return *f.EndpointID
	}
	return *f.HoldingID
}

// alike reports whether a finding that is seen again is as it was, but for the time.
func alike(old, now Finding) bool {
	if old.ID == "" || now.LastSeen.Before(old.LastSeen) {
		return false
	}
	old.LastSeen, old.AuditID = now.LastSeen, now.AuditID
	was, errWas := json.Marshal(old)
	is, errIs := json.Marshal(now)
	return errWas == nil && errIs == nil && bytes.Equal(was, is)
}

type findingPlace struct {
	FindingID string
	PlaceID   int64
}

// placeFindings keeps the places of findings that were seen.
func (t *Tx) placeFindings(places map[string][]int64) error {
	if len(places) == 0 {
		return nil
	}
	ids := slices.Sorted(maps.Keys(places))
	var known []findingPlace
	if err := t.db.Where("finding_id = ANY(?::text[])", textArray(ids)).Find(&known).Error; err != nil {
		return err
	}
	there := map[findingPlace]bool{}
	for _, k := range known {
		there[k] = true
	}
	var fresh []findingPlace
	for _, id := range ids {
		for _, place := range places[id] {
			one := findingPlace{id, place}
			if _, met := there[one]; !met {
				fresh = append(fresh, one)
			}
			there[one] = false
		}
	}
	for _, k := range known {
		if there[k] { // it is not there any more
			if err := t.db.Where("finding_id = ? AND place_id = ?", k.FindingID, k.PlaceID).
				Delete(&findingPlace{}).Error; err != nil {
				return err
			}
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	return t.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&fresh, 1000).Error
}
