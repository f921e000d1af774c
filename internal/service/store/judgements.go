package store

import (
	"context"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pki"
)

// Authorities returns the DER of every authority that was met.
func (s *Store) Authorities(ctx context.Context) ([][]byte, error) {
	var out [][]byte
	return out, s.read(ctx).Model(&Certificate{}).Where("authority").Order("sha256").Pluck("der", &out).Error
}

// SaveCertificates keeps each certificate once, with first and last sight.
func (t *Tx) SaveCertificates(list []*pki.Certificate, seen time.Time) error {
	rows := make([]Certificate, 0, len(list))
	for _, c := range list {
		row := Certificate{
			SHA256: c.Fingerprint().String(), SPKISHA256: c.PublicKey.Fingerprint().String(), DER: c.Raw,
			Subject: c.Subject.String(), Issuer: c.Issuer.String(), Serial: c.SerialHex(), Authority: c.IsCA(),
			FirstSeen: seen, LastSeen: seen,
		}
		if !c.NotAfter.IsZero() {
			row.NotAfter = &c.NotAfter
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil
	}
	return t.db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "sha256"}}, DoUpdates: clause.AssignmentColumns([]string{"last_seen"})}).
		CreateInBatches(&rows, 500).Error
}

// SaveJudgement stores facts and judgement of one endpoint and lets its findings live on.
func (t *Tx) SaveJudgement(audit, endpoint int64, f facts.Endpoint, j judge.Judgement, at time.Time) error {
	row := Examination{AuditID: audit, EndpointID: endpoint, Facts: &f, Verdict: string(j.Verdict), Judgement: &j}
	if err := t.db.Model(&row).Select("facts", "verdict", "judgement").Updates(&row).Error; err != nil {
		return err
	}
	count := map[judge.Severity]int{}
	codes := []string{}
	for _, finding := range j.Findings {
		count[finding.Severity]++
		if !slices.Contains(codes, finding.Code) {
			codes = append(codes, finding.Code)
		}
	}
	latest := Endpoint{ID: endpoint, AuditID: &audit, Verdict: string(j.Verdict), NotAfter: j.NotAfter, Issuer: j.Issuer,
		Faults: count[judge.Fault], Risks: count[judge.Risk], Notes: count[judge.Note], Codes: codes, JudgedAt: &at}
	columns := []string{"audit_id", "verdict", "faults", "risks", "notes", "codes", "judged_at"}
	if j.Verdict != judge.Unreachable { // what was served last stays known
		columns = append(columns, "not_after", "issuer")
	}
	if err := t.db.Model(&latest).Select(columns).UpdateColumns(&latest).Error; err != nil {
		return err
	}
	return t.saveFindings(audit, endpoint, j, at)
}

// saveFindings follows the life of each finding. An endpoint that cannot be
// reached says nothing about its certificates, so their findings stay as they are.
func (t *Tx) saveFindings(audit, endpoint int64, j judge.Judgement, at time.Time) error {
	var present []Finding
	for _, f := range j.Findings {
		row := findingRow(j.Target, f, at)
		row.EndpointID, row.AuditID = &endpoint, &audit
		present = append(present, row)
	}
	return t.live("endpoint_id", endpoint, present, at, func(f Finding) bool {
		reachability := f.Severity == string(judge.None) || f.Code == "dns.unresolved"
		return j.Verdict != judge.Unreachable || reachability
	})
}

// findingRow is the record of a finding that is seen for the first time.
func findingRow(target string, f judge.Finding, at time.Time) Finding {
	row := Finding{
		ID: judge.Identity(target, f), Code: f.Code, Severity: string(f.Severity), Subject: f.Subject,
		About: f.About, Message: f.Message, Remedy: f.Remedy, Evidence: f.Evidence, Addresses: f.Addresses,
		State: FindingNew, FirstSeen: at, LastSeen: at,
	}
	if row.Addresses == nil {
		row.Addresses = []string{}
	}
	return row
}

// live lets the findings of one owner live on: those that are present are
// stored, and of the others those are gone of which ends says so.
func (t *Tx) live(owner string, id int64, present []Finding, at time.Time, ends func(Finding) bool) error {
	var known []Finding
	if err := t.db.Where(owner+" = ?", id).Find(&known).Error; err != nil {
		return err
	}
	before := map[string]Finding{}
	for _, f := range known {
		before[f.ID] = f
	}
	for i := range present {
		row := &present[i]
		if old, ok := before[row.ID]; ok {
			row.FirstSeen, row.State = old.FirstSeen, FindingStanding
			if old.State == FindingGone {
				row.State = FindingBack
			}
			delete(before, row.ID)
		}
	}
	if len(present) > 0 {
		if err := t.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(&present, 500).Error; err != nil {
			return err
		}
	}
	for _, f := range before {
		if f.State == FindingGone || !ends(f) {
			continue
		}
		if err := t.db.Model(&f).Updates(map[string]any{"state": FindingGone, "gone_at": at}).Error; err != nil {
			return err
		}
	}
	return nil
}

// LatestExamination returns the judgement that the endpoint's list entry shows.
func (s *Store) LatestExamination(ctx context.Context, e Endpoint) (*Examination, error) {
	if e.AuditID == nil {
		return nil, nil
	}
	var x Examination
	err := s.read(ctx).Where("audit_id = ? AND endpoint_id = ?", *e.AuditID, e.ID).First(&x).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return &x, err
}

// FindingQuery selects findings.
type FindingQuery struct {
	EndpointID int64
	HoldingID  int64
	Code       string
	Severity   string
	State      string // "" for all that are not gone
	Search     string
	After      string
	Limit      int
}

// FindingRow is a finding with its endpoint's target, or its holding's name.
type FindingRow struct {
	Finding
	Target  string
	Holding string
	SortKey string
}

// Findings returns one page, the worst first, and the cursor of the next.
func (s *Store) Findings(ctx context.Context, q FindingQuery) ([]FindingRow, string, error) {
	const key = `CASE severity WHEN 'fault' THEN '1' WHEN 'risk' THEN '2' WHEN 'note' THEN '4' ELSE '3' END || ' ' || coalesce(target, name || ' ' || path) || ' ' || code || ' ' || about || ' ' || findings.id`
	db := s.read(ctx).Model(&Finding{}).Select("findings.*, coalesce(endpoints.target, '') AS target, coalesce(holdings.name, '') AS holding, " + key + ` COLLATE "C" AS sort_key`).
		Joins("LEFT JOIN endpoints ON endpoints.id = endpoint_id LEFT JOIN holdings ON holdings.id = holding_id")
	for column, value := range map[string]string{"code": q.Code, "severity": q.Severity, "state": q.State} {
		if value != "" {
			db = db.Where("findings."+column+" = ?", value)
		}
	}
	if q.State == "" {
		db = db.Where("state <> ?", FindingGone)
	}
	if q.EndpointID != 0 {
		db = db.Where("endpoint_id = ?", q.EndpointID)
	}
	if q.HoldingID != 0 {
		db = db.Where("holding_id = ?", q.HoldingID)
	}
	if q.Search != "" {
		like := "%" + escapeLike(q.Search) + "%"
		db = db.Where("target ILIKE ? OR name ILIKE ? OR path ILIKE ? OR message ILIKE ?", like, like, like, like)
	}
	if q.After != "" {
		value, _, err := readCursor(q.After)
		if err != nil {
			return nil, "", err
		}
		db = db.Where("("+key+`) COLLATE "C" > ?`, value)
	}
	var rows []FindingRow
	if err := db.Order("sort_key").Limit(q.Limit + 1).Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) > q.Limit {
		rows = rows[:q.Limit]
		return rows, writeCursor(rows[q.Limit-1].SortKey, 0), nil
	}
	return rows, "", nil
}
