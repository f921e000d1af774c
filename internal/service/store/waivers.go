package store

import (
	"context"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/internal/api"
)

// Waiver takes findings of a code out of verdicts until a day: everywhere, or of one endpoint, one holding, or the
// endpoints with a label.
type Waiver struct {
	ID         int64
	Code       string
	EndpointID *int64
	HoldingID  *int64
	Label      string // KEY=VALUE
	Reason     string
	Until      time.Time // the last day
	ByName     string
	CreatedAt  time.Time
	EndedAt    *time.Time // it was seen that the last day is over
}

// Rule is the waiver as policies have them.
func (w Waiver) Rule() policy.Waiver {
	return policy.Waiver{Code: w.Code, Reason: w.Reason, Until: w.Until.Format(time.DateOnly), By: w.ByName}
}

// Waivers are all of a kind that judging needs.
type Waivers []Waiver

// OfEndpoint are those for one endpoint.
func (all Waivers) OfEndpoint(e Endpoint) []policy.Waiver {
	var out []policy.Waiver
	for _, w := range all {
		key, value, labelled := strings.Cut(w.Label, "=")
		switch {
		case w.HoldingID != nil, w.EndpointID != nil && *w.EndpointID != e.ID,
			labelled && e.Settings.Labels[key] != value:
			continue
		}
		out = append(out, w.Rule())
	}
	return out
}

// OfHolding are those for one holding.
func (all Waivers) OfHolding(id int64) []policy.Waiver {
	var out []policy.Waiver
	for _, w := range all {
		if w.EndpointID == nil && w.Label == "" && (w.HoldingID == nil || *w.HoldingID == id) {
			out = append(out, w.Rule())
		}
	}
	return out
}

// Waivers returns those that have not ended, the first to end in front.
func (s *Store) Waivers(ctx context.Context) (Waivers, error) { return waivers(s.read(ctx)) }

// Waivers is the same inside a transaction.
func (t *Tx) Waivers() (Waivers, error) { return waivers(t.db) }

func waivers(db *gorm.DB) (out Waivers, err error) {
	return out, db.Where("ended_at IS NULL").Order("until, id").Find(&out).Error
}

// Waiver returns one.
func (s *Store) Waiver(ctx context.Context, id int64) (Waiver, error) {
	var out Waiver
	return out, notFound(s.read(ctx).First(&out, id).Error)
}

// AddWaiver stores a waiver.
func (s *Store) AddWaiver(ctx context.Context, w *Waiver) error {
	return s.write(ctx, func(db *gorm.DB) error { return db.Create(w).Error })
}

// RemoveWaiver takes a waiver back.
func (s *Store) RemoveWaiver(ctx context.Context, id int64) error {
	return s.write(ctx, func(db *gorm.DB) error { return db.Delete(&Waiver{ID: id}).Error })
}

// EndWaivers marks those whose last day is over, and returns them.
func (s *Store) EndWaivers(ctx context.Context, now time.Time) (out Waivers, err error) {
	err = s.write(ctx, func(db *gorm.DB) error {
		return db.Raw("UPDATE waivers SET ended_at = ? WHERE ended_at IS NULL AND until < ? RETURNING *", now,
			now.UTC().Truncate(24*time.Hour)).Scan(&out).Error
	})
	return out, err
}

// Bearers returns the endpoints and holdings with present findings of a code: what a waiver of it can be about.
func (s *Store) Bearers(ctx context.Context, code string) (endpoints, holdings []int64, err error) {
	present := func(column string, out *[]int64) error {
		return s.read(ctx).Model(&Finding{}).Where("code = ? AND state <> 'gone' AND "+column+" IS NOT NULL", code).
			Distinct().Order(column).Pluck(column, out).Error
	}
	if err := present("endpoint_id", &endpoints); err != nil {
		return nil, nil, err
	}
	return endpoints, holdings, present("holding_id", &holdings)
}

// Rewaive brings what is shown of an endpoint up to date with the waivers, as if it had been judged with them.
func (t *Tx) Rewaive(id int64, waivers []policy.Waiver, at time.Time) error {
	var e Endpoint
	if err := t.db.First(&e, id).Error; err != nil || e.AuditID == nil {
		return notFound(err)
	}
	var x Examination
	if err := t.db.Where("audit_id = ? AND endpoint_id = ?", *e.AuditID, id).First(&x).Error; err != nil {
		return notFound(err)
	}
	if x.Judgement == nil {
		return nil
	}
	j := judge.Rewaived(*x.Judgement, waivers, at)
	again := func(j judge.Judgement) judge.Judgement { return judge.Rewaived(j, waivers, at) }
	stand, tally, err := t.partly(e, x.Facts, &j, again)
	if err != nil {
		return err
	}
	findings := slices.Clone(j.Findings)
	for _, s := range stand {
		findings = append(findings, s.Finding)
	}
	x.Judgement, x.Verdict = &j, string(j.Verdict)
	if err := t.db.Model(&x).Select("verdict", "judgement").Updates(&x).Error; err != nil {
		return err
	}
	judged := e.JudgedAt
	e.Latest = latestOf(j.Verdict, tally, at)
	e.JudgedAt = judged
	if err := t.db.Model(&e).Select(latest).UpdateColumns(&e).Error; err != nil {
		return err
	}
	for _, f := range findings {
		row := rowOf(j.Target, f)
		err := t.db.Model(&row).Where("state <> 'gone'").Select("finding", "waived").Updates(&row).Error
		if err != nil {
			return err
		}
	}
	return nil
}

// Acknowledge notes that somebody has seen a finding, or takes that back for nil.
func (s *Store) Acknowledge(ctx context.Context, id string, a *api.Acknowledgement) (f FindingRow, err error) {
	err = s.write(ctx, func(db *gorm.DB) error {
		done := db.Model(&Finding{ID: id}).Select("acknowledged").Updates(&Finding{Acknowledged: a})
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return done.Error
	})
	if err != nil {
		return f, err
	}
	rows, _, err := s.Findings(ctx, FindingQuery{ID: id, State: anyState, Limit: 1})
	if err == nil && len(rows) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return f, err
	}
	return rows[0], nil
}

// About names what a waiver is about, with what the caller knows of names.
func (w Waiver) About(endpoints, holdings map[int64]string) string {
	switch {
	case w.EndpointID != nil:
		return endpoints[*w.EndpointID]
	case w.HoldingID != nil:
		return holdings[*w.HoldingID]
	}
	return w.Label
}

// Names are the targets of endpoints and the names of holdings.
func (s *Store) Names(ctx context.Context, endpoints, holdings []int64) (targets, names map[int64]string, err error) {
	targets, names = map[int64]string{}, map[int64]string{}
	var e []Endpoint
	if err := s.read(ctx).Select("id", "target").Where("id IN ?", slices.Clone(endpoints)).Find(&e).Error; err != nil {
		return nil, nil, err
	}
	for _, x := range e {
		targets[x.ID] = x.Target
	}
	var h []Holding
	if err := s.read(ctx).Select("id", "name").Where("id IN ?", slices.Clone(holdings)).Find(&h).Error; err != nil {
		return nil, nil, err
	}
	for _, x := range h {
		names[x.ID] = x.Name
	}
	return targets, names, nil
}
