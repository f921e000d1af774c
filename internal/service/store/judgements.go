package store

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"

	"nurvik/core/facts"
	"nurvik/core/judge"
)

// Outcome is what an audit came to about one endpoint.
type Outcome struct {
	Audit, Endpoint int64
	Facts           facts.Endpoint
	Stored          bool            // the facts are in the database as they are
	Judgement       judge.Judgement // its verdict becomes one that also what was known before bears out
	At              time.Time       // of the judgement
	SawAt           time.Time       // of its findings, which is earlier where it was judged again

	stand []Finding // that stand because not everything was visited
}

// SaveProvisional stores facts and judgements of endpoints while their audit is under way, and what was seen at their
// addresses. Their findings live on when the audit ends. All are saved, or none.
func (t *Tx) SaveProvisional(all []*Outcome) error {
	newest, err := t.saveVerdicts(all, Judged)
	if err != nil || len(newest) == 0 {
		return err
	}
	places, err := t.addressPlaces(newest)
	if err != nil {
		return err
	}
	return t.sightAddresses(places, newest)
}

// SaveJudgement stores judgements at the end of an audit, and lets the endpoints' findings live on. All are saved, or
// none.
func (t *Tx) SaveJudgement(all []*Outcome) error {
	newest, err := t.saveVerdicts(all, Closed)
	if err != nil || len(newest) == 0 {
		return err
	}
	places, err := t.addressPlaces(newest)
	if err != nil {
		return err
	}
	owners := make([]owned, len(newest))
	for i, x := range newest {
		owners[i] = owned{id: x.Endpoint, at: x.SawAt, present: x.sighted(places), spoken: x.spoken}
	}
	return t.live("endpoint_id", owners)
}

// sighted are the findings with their places.
func (x *Outcome) sighted(places map[spotAt]int64) []sighted {
	present := make([]sighted, 0, len(x.Judgement.Findings))
	for _, found := range x.Judgement.Findings {
		s := sighted{Finding: rowOf(x.Judgement.Target, found)}
		s.EndpointID, s.AuditID = &x.Endpoint, &x.Audit
		for _, o := range x.Facts.Observations {
			id, ok := places[spotAt{x.Endpoint, o.Place(), o.ServerName}]
			if ok && slices.Contains(found.Addresses, o.Place()) {
				s.places = append(s.places, id)
			}
		}
		present = append(present, s)
	}
	return present
}

// spoken reports whether the judgement says something about a finding that it does not have. An endpoint that cannot be
// reached says nothing about its certificates, so their findings stay as they are.
func (x *Outcome) spoken(f Finding) bool {
	if slices.ContainsFunc(x.stand, func(s Finding) bool { return s.ID == f.ID }) {
		return false
	}
	reachability := f.Severity == string(judge.None) || f.Code == "dns.unresolved"
	return x.Judgement.Verdict != judge.Unreachable || reachability
}

// saveVerdicts stores examinations, and what lists show of the endpoints. Where another audit observed an endpoint
// later, the judgement is only this audit's: it returns those that are their endpoint's newest.
func (t *Tx) saveVerdicts(all []*Outcome, stage Stage) (newest []*Outcome, err error) {
	type row struct {
		Audit     int64           `json:"audit"`
		Endpoint  int64           `json:"endpoint"`
		Verdict   judge.Verdict   `json:"verdict"`
		Judgement judge.Judgement `json:"judgement"`
		Facts     *facts.Endpoint `json:"facts,omitempty"`
	}
	rows, tallies := make([]row, len(all)), make([]judge.Tally, len(all))
	for i, x := range all {
		if tallies[i], err = t.boundedBy(x); err != nil {
			return nil, err
		}
		rows[i] = row{Audit: x.Audit, Endpoint: x.Endpoint, Verdict: x.Judgement.Verdict, Judgement: x.Judgement}
		if !x.Stored {
			rows[i].Facts = &x.Facts
		}
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return nil, err
	}
	err = t.db.Exec(`UPDATE examinations x SET verdict = n.verdict, judgement = n.judgement, stage = ?,
			facts = coalesce(n.facts, x.facts)
		FROM jsonb_to_recordset(?::jsonb) AS n (audit bigint, endpoint bigint, verdict text, judgement jsonb,
			facts jsonb)
		WHERE x.audit_id = n.audit AND x.endpoint_id = n.endpoint`, stage, string(text)).Error
	if err != nil {
		return nil, err
	}
	return t.saveLatest(all, tallies, stage)
}

// boundedBy makes the verdict one that also what was known before bears out, where not everything was visited.
func (t *Tx) boundedBy(x *Outcome) (judge.Tally, error) {
	before := Endpoint{ID: x.Endpoint} // it may have been removed meanwhile
	if len(x.Facts.Unvisited) > 0 {
		if err := t.db.Select("id", "verdict").Limit(1).Find(&before).Error; err != nil {
			return judge.Tally{}, err
		}
	}
	stand, tally, err := t.partly(before, &x.Facts, &x.Judgement, func(j judge.Judgement) judge.Judgement { return j })
	x.stand = stand
	return tally, err
}

// saveLatest stores what lists show of the endpoints, unless another audit observed one later.
func (t *Tx) saveLatest(all []*Outcome, tallies []judge.Tally, stage Stage) (newest []*Outcome, err error) {
	rows := make([]json.RawMessage, len(all))
	for i, x := range all {
		observed, err := t.observedAt(x.Audit, x.Facts)
		if err != nil {
			return nil, err
		}
		tally, j := tallies[i], x.Judgement
		row := map[string]any{"id": x.Endpoint, "audit_id": x.Audit, "observed_at": observed.UnixMicro(),
			"judged_by": j.Basis.Policy, "provisional": stage != Closed, "verdict": j.Verdict,
			"faults": tally.Faults, "risks": tally.Risks, "notes": tally.Notes, "waived": tally.Waived,
			"codes": tally.Codes, "judged_at": x.At.UnixMicro(), "issuer": j.Issuer}
		if j.NotAfter != nil {
			row["not_after"] = j.NotAfter.Unix()
		}
		if rows[i], err = json.Marshal(row); err != nil {
			return nil, err
		}
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return nil, err
	}
	// What was served last stays known of what cannot be reached. A time in the future is from before a clock was put
	// back, and says nothing.
	var saved []int64
	at := moment("n.observed_at")
	err = t.db.Raw(`UPDATE endpoints e SET audit_id = n.audit_id, observed_at = `+at+`,
			judged_by = n.judged_by, provisional = n.provisional, verdict = n.verdict,
			faults = n.faults, risks = n.risks, notes = n.notes, waived = n.waived, codes = n.codes, judged_at = `+moment("n.judged_at")+`,
			not_after = CASE WHEN n.verdict = 'unreachable' THEN e.not_after ELSE to_timestamp(n.not_after) END,
			issuer = CASE WHEN n.verdict = 'unreachable' THEN e.issuer ELSE n.issuer END
		FROM jsonb_to_recordset(?::jsonb) AS n (id bigint, audit_id bigint, observed_at bigint, judged_by text,
			provisional boolean, verdict text, faults integer, risks integer, notes integer, waived integer,
			codes jsonb, judged_at bigint, not_after bigint, issuer text)
		WHERE e.id = n.id AND (e.observed_at IS NULL OR e.observed_at <= `+at+`
			OR e.observed_at > now() + interval '1 minute')
		RETURNING e.id`, string(text)).Scan(&saved).Error
	for _, x := range all {
		if slices.Contains(saved, x.Endpoint) {
			newest = append(newest, x)
		}
	}
	return newest, err
}

// moment is a time from its microseconds since 1970: in words it would have no year 0, which facts may have. It is
// exact for a hundred years and more from now.
func moment(column string) string {
	return "'epoch'::timestamptz + " + column + " * interval '1 microsecond'"
}

// observedAt is when the endpoint was visited last. Where nothing was visited, its name was looked up when the audit
// began.
func (t *Tx) observedAt(audit int64, f facts.Endpoint) (time.Time, error) {
	var out time.Time
	for _, o := range f.Observations {
		if o.At.After(out) {
			out = o.At
		}
	}
	if !out.IsZero() {
		return out, nil
	}
	return out, t.db.Model(&Audit{ID: audit}).Select("created_at").Scan(&out).Error
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
