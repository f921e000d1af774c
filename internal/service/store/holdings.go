package store

import (
	"context"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/plain"
)

// Holding is what one machine holds on disk, with its latest judgement in short.
type Holding struct {
	ID        int64
	Name      string
	Policy    string
	Trust     []string `gorm:"serializer:json"`
	Audiences []string `gorm:"serializer:json"`
	SentAt    time.Time
	Files     int
	Failure   string // why it could not be judged
	Version   int64  // grows with each change of facts or settings
	// JudgedVersion is the version that was judged last, well or not.
	JudgedVersion int64
	Latest        `gorm:"embedded"`
}

// HoldingFile is one file of a holding.
type HoldingFile struct {
	HoldingID int64      `gorm:"primaryKey"`
	Path      string     `gorm:"primaryKey"`
	Facts     facts.File `gorm:"serializer:json"`
	Digest    string     // of the line as it was sent
	Verdict   string
}

// Holdings returns all holdings, by name.
func (s *Store) Holdings(ctx context.Context) ([]Holding, error) {
	var out []Holding
	return out, s.read(ctx).Order("name").Find(&out).Error
}

// Holding returns one; the error is ErrNotFound when it is not there.
func (s *Store) Holding(ctx context.Context, id int64) (Holding, error) {
	var h Holding
	return h, notFound(s.read(ctx).First(&h, id).Error)
}

// ChangeHolding sets what people set of a holding.
func (t *Tx) ChangeHolding(h *Holding, tags string) error {
	if _, err := expected[Holding](t, tags, "id = ?", h.ID); err != nil {
		return err
	}
	h.Failure = ""
	if err := t.db.Model(h).Select("policy", "trust", "audiences", "failure").Updates(h).Error; err != nil {
		return err
	}
	// Whatever the version is by now: facts may have come meanwhile.
	if err := t.db.Model(&Holding{ID: h.ID}).Update("version", gorm.Expr("version + 1")).Error; err != nil {
		return err
	}
	return notFound(t.db.First(h, h.ID).Error)
}

// RemoveHolding removes a holding and its findings, where one of the tags is its.
func (s *Store) RemoveHolding(ctx context.Context, id int64, tags string) error {
	return s.Tx(ctx, func(t *Tx) error {
		if _, err := expected[Holding](t, tags, "id = ?", id); err != nil {
			return err
		}
		return t.db.Delete(&Holding{ID: id}).Error
	})
}

// HoldingFiles returns one page of a holding's files, by path, and the cursor of the next.
func (s *Store) HoldingFiles(ctx context.Context, id int64, verdict, after string, limit int) ([]HoldingFile, string,
	error) {
	db := s.read(ctx).Where("holding_id = ?", id)
	if verdict != "" {
		db = db.Where("verdict = ?", verdict)
	}
	if after != "" {
		path, _, err := readCursor(after)
		if err != nil {
			return nil, "", err
		}
		db = db.Where(`path COLLATE "C" > ?`, path)
	}
	var rows []HoldingFile
	if err := db.Order(`path COLLATE "C"`).Limit(limit + 1).Find(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > limit {
		rows = rows[:limit]
		return rows, writeCursor(rows[limit-1].Path, 0), nil
	}
	return rows, "", nil
}

// AllHoldingFiles returns the facts of every file of a holding, in the order in which they were sent.
func (s *Store) AllHoldingFiles(ctx context.Context, id int64) ([]facts.File, error) {
	var rows []HoldingFile
	if err := s.read(ctx).Where("holding_id = ?", id).Order(`path COLLATE "C"`).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]facts.File, len(rows))
	for i, r := range rows {
		out[i] = r.Facts
	}
	return out, nil
}

// SaveHolding puts the facts of a delivery in place of those that were sent
// before under the same name, and sets the holding's number. What is set of a
// holding that is there stays: it is changed by itself.
func (t *Tx) SaveHolding(h *Holding, delivery Delivery) error {
	h.ID, h.Files, h.Codes, h.Failure, h.Version = 0, delivery.Lines, []string{}, "", 1
	conflict := clause.OnConflict{Columns: []clause.Column{{Name: "name"}},
		DoUpdates: append(clause.AssignmentColumns([]string{"sent_at", "files", "failure"}),
			clause.Assignments(map[string]any{"version": gorm.Expr("holdings.version + 1")})...)}
	if err := t.db.Clauses(conflict, clause.Returning{Columns: []clause.Column{{Name: "id"}, {Name: "version"},
		{Name: "judged_version"}}}).Create(h).Error; err != nil {
		return err
	}
	if err := t.fillIn(h.ID, delivery.ID); err != nil {
		return err
	}
	if err := t.db.Where("holding_id = ?", h.ID).Delete(&HoldingFile{}).Error; err != nil {
		return err
	}
	return t.db.Exec(`INSERT INTO holding_files (holding_id, path, facts, digest)
		SELECT ?, key, payload, digest FROM delivery_lines WHERE delivery_id = ?`, h.ID, delivery.ID).Error
}

// fillIn gives the lines of files that are as they were the facts that were sent before. The error is a *ChangedError
// where some are not here any more.
func (t *Tx) fillIn(holding, delivery int64) error {
	if err := t.db.Exec(`UPDATE delivery_lines l SET payload = f.facts FROM holding_files f
		WHERE l.delivery_id = ? AND l.payload IS NULL AND f.holding_id = ? AND f.path = l.key AND f.digest = l.digest`,
		delivery, holding).Error; err != nil {
		return err
	}
	var missing int64
	err := t.db.Model(&DeliveryLine{}).Where("delivery_id = ? AND payload IS NULL", delivery).Count(&missing).Error
	if err == nil && missing > 0 {
		err = &ChangedError{int(missing)}
	}
	return err
}

// ConfiguredHoldings are those that hold the configuration of servers, by name.
func (s *Store) ConfiguredHoldings(ctx context.Context) ([]Holding, error) {
	var out []Holding
	return out, s.read(ctx).Where("EXISTS (SELECT FROM holding_files f " +
		"WHERE f.holding_id = holdings.id AND f.configured)").Order("name").Find(&out).Error
}

// HoldingDigests returns one page of the paths and digests of a holding's files, by path, and the cursor of the next.
func (s *Store) HoldingDigests(ctx context.Context, id int64, after string, limit int) ([]HoldingFile, string, error) {
	db := s.read(ctx).Where("holding_id = ?", id)
	if after != "" {
		path, _, err := readCursor(after)
		if err != nil {
			return nil, "", err
		}
		db = db.Where(`path COLLATE "C" > ?`, path)
	}
	var rows []HoldingFile
	if err := db.Select("path", "digest").Order(`path COLLATE "C"`).Limit(limit + 1).Find(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > limit {
		rows = rows[:limit]
		return rows, writeCursor(rows[limit-1].Path, 0), nil
	}
	return rows, "", nil
}

// SaveHoldingJudgement stores the verdicts of a holding's files, what they
// hold, and lets the holding's findings live on.
func (t *Tx) SaveHoldingJudgement(h *Holding, files []facts.File, told []facts.Configuration,
	judgements []judge.Judgement, at time.Time) error {
	var now Holding
	err := notFound(t.db.Clauses(clause.Locking{Strength: "UPDATE"}).Select("version").First(&now, h.ID).Error)
	if err != nil || now.Version != h.Version { // it was changed meanwhile, and is judged again
		return err
	}
	places, err := t.sightFiles(h.ID, files, told, at)
	if err != nil {
		return err
	}
	verdict := judge.Sound
	var all []judge.Finding
	var present []sighted
	byVerdict := map[judge.Verdict][]string{}
	for _, j := range judgements {
		byVerdict[j.Verdict] = append(byVerdict[j.Verdict], j.Target)
		if j.Verdict.Worse(verdict) {
			verdict = j.Verdict
		}
		all = append(all, j.Findings...)
		for _, f := range j.Findings {
			s := sighted{Finding: rowOf(h.Name+":"+j.Target, f)}
			s.HoldingID, s.Path = &h.ID, j.Target
			for _, spot := range []Spot{{Path: f.Evidence.File, Line: f.Evidence.Line},
				{Path: j.Target, Line: f.Evidence.Line}, {Path: j.Target}} {
				if id, ok := places[spot]; ok {
					s.places = []int64{id}
					break
				}
			}
			present = append(present, s)
		}
	}
	for v, paths := range byVerdict {
		for part := range slices.Chunk(paths, 1000) {
			if err := t.db.Model(&HoldingFile{}).Where("holding_id = ? AND path IN ?", h.ID, part).Update("verdict",
				string(v)).Error; err != nil {
				return err
			}
		}
	}
	h.Latest = latestOf(verdict, judge.TallyOf(all), at)
	slices.Sort(h.Codes)
	h.Failure, h.JudgedVersion = "", h.Version
	if err := t.db.Model(h).Select(append([]string{"failure", "judged_version"},
		latest...)).UpdateColumns(h).Error; err != nil {
		return err
	}
	return t.live("holding_id", []owned{{id: h.ID, present: present, at: at,
		spoken: func(Finding) bool { return true }}})
}

// FailHolding notes why the holding could not be judged.
func (s *Store) FailHolding(ctx context.Context, id int64, reason string) error {
	return s.write(ctx, func(db *gorm.DB) error {
		return db.Model(&Holding{ID: id}).Updates(map[string]any{"failure": plain.Text(reason),
			"judged_version": gorm.Expr("version")}).Error
	})
}
