package store

import (
	"context"
	"strconv"
	"strings"
	"time"
)

// Gauges are how the estate and the queue are now, as numbers to watch.
type Gauges struct {
	Verdicts    map[string]int  // of endpoints; "none" for those never judged
	Findings    map[string]int  // that count, by severity
	DaysLeft    map[float64]int // leaves of endpoints that end before so many days from now, for each of DayBounds
	Leaves      int             // of which it is known when they end
	DaysSum     float64         // of the days until each ends; negative where it has ended
	OldestJob   time.Duration   // how long the job has waited that is due longest
	LastAudit   *time.Time      // when the last one ended that was not cancelled and did not fail
	Unjudged    int             // holdings that wait to be judged
	LateAudits  int             // schedules whose time passed more than ten minutes ago
	FailedLast  bool            // whether the audit that ended last failed
	LiveWorkers int
}

// DayBounds are the days until leaves end by which they are counted; what has ended is in the first.
var DayBounds = []float64{0, 3, 7, 14, 30, 60, 90, 180, 365}

// arrayOf is the list as an array of the database.
func arrayOf(list []float64) string {
	words := make([]string, len(list))
	for i, x := range list {
		words[i] = strconv.FormatFloat(x, 'g', -1, 64)
	}
	return "{" + strings.Join(words, ",") + "}"
}

// Gauges counts.
func (s *Store) Gauges(ctx context.Context, now time.Time) (g Gauges, err error) {
	g.Verdicts, g.Findings = map[string]int{}, map[string]int{}
	counts := func(into map[string]int, query string) {
		var rows []struct {
			Key   string
			Count int
		}
		if err == nil {
			err = s.read(ctx).Raw(query).Scan(&rows).Error
		}
		for _, r := range rows {
			into[r.Key] = r.Count
		}
	}
	counts(g.Verdicts, "SELECT coalesce(nullif(verdict, ''), 'none') AS key, count(*) FROM endpoints GROUP BY 1")
	counts(g.Findings, "SELECT severity AS key, count(*) FROM findings WHERE state <> 'gone' AND NOT waived GROUP BY 1")
	one := func(into any, query string, arguments ...any) {
		if err == nil {
			err = s.read(ctx).Raw(query, arguments...).Scan(into).Error
		}
	}
	var ends []struct {
		Bucket, Count int
		Sum           float64
	}
	one(&ends, "SELECT width_bucket(days, ?::float8[]) AS bucket, count(*), sum(days) FROM (SELECT "+
		"extract(epoch FROM not_after - ?::timestamptz)::float8 / 86400 AS days FROM endpoints "+
		"WHERE not_after IS NOT NULL) AS ends GROUP BY 1", arrayOf(DayBounds), now)
	g.DaysLeft = map[float64]int{}
	for _, bound := range DayBounds {
		g.DaysLeft[bound] = 0
	}
	for _, e := range ends {
		g.Leaves, g.DaysSum = g.Leaves+e.Count, g.DaysSum+e.Sum
		for _, bound := range DayBounds[e.Bucket:] {
			g.DaysLeft[bound] += e.Count
		}
	}
	var waited float64
	one(&waited, `SELECT coalesce(extract(epoch FROM now() - min(scheduled_at)), 0) FROM river_job
		WHERE state IN ('available', 'retryable', 'scheduled') AND scheduled_at <= now()`)
	g.OldestJob = time.Duration(waited * float64(time.Second))
	one(&g.LastAudit, "SELECT max(finished_at) FROM audits WHERE state = 'finished'")
	one(&g.FailedLast, "SELECT coalesce((SELECT state = 'failed' FROM audits WHERE state IN ('finished', 'failed') "+
		"ORDER BY finished_at DESC LIMIT 1), false)")
	one(&g.Unjudged, "SELECT count(*) FROM holdings WHERE judged_version < version")
	one(&g.LateAudits, "SELECT count(*) FROM schedules WHERE next_at < now() - interval '10 minutes'")
	one(&g.LiveWorkers, "SELECT count(*) FROM workers WHERE beat_at > now() - interval '15 seconds'")
	return g, err
}
