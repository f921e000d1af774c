package store

import (
	"context"
	"slices"
	"time"

	"gorm.io/gorm/clause"

	"nurvik/core/facts"
	"nurvik/core/judge"
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
	Verdict   string
	Faults    int
	Risks     int
	Notes     int
	Codes     []string `gorm:"serializer:json"`
	JudgedAt  *time.Time
}

// HoldingFile is one file of a holding.
type HoldingFile struct {
	HoldingID int64      `gorm:"primaryKey"`
	Path      string     `gorm:"primaryKey"`
	Facts     facts.File `gorm:"serializer:json"`
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

// RemoveHolding removes a holding and its findings.
func (s *Store) RemoveHolding(ctx context.Context, id int64) error {
	result := s.read(ctx).Delete(&Holding{ID: id})
	if result.Error == nil && result.RowsAffected == 0 {
		return ErrNotFound
	}
	return result.Error
}

// HoldingFiles returns one page of a holding's files, by path, and the cursor of the next.
func (s *Store) HoldingFiles(ctx context.Context, id int64, verdict, after string, limit int) ([]HoldingFile, string, error) {
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

// SaveHolding puts the facts in place of those that were sent before under the
// same name, and sets the holding's number.
func (t *Tx) SaveHolding(h *Holding, files []facts.File) error {
	h.Files, h.Codes = len(files), []string{}
	conflict := clause.OnConflict{Columns: []clause.Column{{Name: "name"}}, DoUpdates: clause.AssignmentColumns([]string{"policy", "trust", "audiences", "sent_at", "files"})}
	if err := t.db.Clauses(conflict, clause.Returning{Columns: []clause.Column{{Name: "id"}}}).Create(h).Error; err != nil {
		return err
	}
	if err := t.db.Where("holding_id = ?", h.ID).Delete(&HoldingFile{}).Error; err != nil {
		return err
	}
	rows := make([]HoldingFile, 0, len(files))
	for _, f := range files {
		rows = append(rows, HoldingFile{HoldingID: h.ID, Path: f.Path, Facts: f})
	}
	if len(rows) == 0 {
		return nil
	}
	return t.db.CreateInBatches(&rows, 500).Error
}

// SaveHoldingJudgement stores the verdicts of a holding's files and lets its findings live on.
func (t *Tx) SaveHoldingJudgement(h *Holding, judgements []judge.Judgement, at time.Time) error {
	count, verdict := map[judge.Severity]int{}, judge.Sound
	codes, present := []string{}, []Finding{}
	byVerdict := map[judge.Verdict][]string{}
	for _, j := range judgements {
		byVerdict[j.Verdict] = append(byVerdict[j.Verdict], j.Target)
		if slices.Index(judge.Verdicts, j.Verdict) < slices.Index(judge.Verdicts, verdict) {
			verdict = j.Verdict
		}
		for _, f := range j.Findings {
			count[f.Severity]++
			if !slices.Contains(codes, f.Code) {
				codes = append(codes, f.Code)
			}
			row := findingRow(h.Name+":"+j.Target, f, at)
			row.HoldingID, row.Path = &h.ID, j.Target
			present = append(present, row)
		}
	}
	slices.Sort(codes)
	for v, paths := range byVerdict {
		for part := range slices.Chunk(paths, 1000) {
			if err := t.db.Model(&HoldingFile{}).Where("holding_id = ? AND path IN ?", h.ID, part).Update("verdict", string(v)).Error; err != nil {
				return err
			}
		}
	}
	h.Verdict, h.Faults, h.Risks, h.Notes, h.Codes, h.JudgedAt = string(verdict), count[judge.Fault], count[judge.Risk], count[judge.Note], codes, &at
	if err := t.db.Model(h).Select("verdict", "faults", "risks", "notes", "codes", "judged_at").UpdateColumns(h).Error; err != nil {
		return err
	}
	return t.live("holding_id", h.ID, present, at, func(Finding) bool { return true })
}
