package jobs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"nurvik/internal/service/store"
)

// sweepInterval is how often every process looks for what others left lying.
const sweepInterval = 5 * time.Second

// gaveUp is told of what failed so often that nobody tries any more.
const gaveUp = "given up after too many attempts; the log of the service says why"

// live are the jobs of a kind that somebody will work on, as the numbers of what they are about.
func live(kind, number string) string {
	return `(SELECT (args ->> '` + number + `')::bigint FROM river_job WHERE kind IN (` + kind + `)
		AND state IN ('available', 'pending', 'retryable', 'running', 'scheduled'))`
}

// sweepRule is one statement of a sweep. Many processes may sweep at once.
type sweepRule struct {
	what      string
	statement string
	rare      bool // it looks at all jobs, and what it finds can wait
}

var sweepRules = []sweepRule{
	// A clock that was put back leaves times in the future. Nothing here is put off for longer than a minute, but for
	// visits that are spread.
	{what: "jobs in the future", statement: `UPDATE river_job SET scheduled_at = now()
		WHERE state IN ('available', 'retryable', 'scheduled') AND scheduled_at > now() + interval '1 minute'
			+ make_interval(secs => coalesce((args ->> 'spread')::int, 0))`},
	{what: "a leader in the future", statement: `DELETE FROM river_leader
		WHERE expires_at > now() + interval '2 minutes'`},
	{what: "workers in the future", statement: `UPDATE workers SET beat_at = now()
		WHERE beat_at > now() + interval '10 seconds'`},
	// A worker that no longer says that it lives is dead, or cut off: then it finds out when it says so the next time,
	// and some jobs run twice, without harm.
	{what: "dead workers", statement: fmt.Sprintf(`DELETE FROM workers WHERE beat_at < now() - interval '%d seconds'`,
		int(stale/time.Second))},
	{what: "jobs of dead workers", statement: `UPDATE river_job SET state = 'available', scheduled_at = now()
		WHERE state = 'running' AND attempted_by[array_upper(attempted_by, 1)] NOT IN (SELECT instance FROM workers)`},
	{what: "turns of dead workers", statement: `UPDATE lanes SET holder = '', until = now()
		WHERE holder <> '' AND holder NOT IN (SELECT instance FROM workers)`},
	{what: "turns in the future", rare: true, statement: `UPDATE lanes SET until = now()
		WHERE until > now() + interval '1 hour'`},
	// The visit, plan or judgement of which no job is left was tried too often.
	{what: "visits given up", rare: true, statement: `UPDATE visits SET state = 'failed', failure = '` + gaveUp + `'
		WHERE state = 'waiting' AND id NOT IN ` + live("'visit'", "visit_id")},
	// The last visit of an endpoint that was given up, or cut off before it could say that it was the last.
	{what: "endpoints that were visited", rare: true, statement: `UPDATE examinations x SET stage = 'visited'
		FROM audits a WHERE a.id = x.audit_id AND a.state IN ('planning', 'visiting') AND stage = 'planned'
		AND NOT EXISTS (SELECT FROM visits v WHERE v.audit_id = x.audit_id AND v.endpoint_id = x.endpoint_id
			AND v.state = 'waiting')`},
	{what: "audits given up", rare: true, statement: `UPDATE audits SET state = 'failed', failure = '` + gaveUp + `',
		finished_at = now() WHERE state IN ('planning', 'judging') AND id NOT IN ` + live("'plan', 'close'", "audit_id") +
		` OR state = 'visiting' AND judge_queued AND id NOT IN ` + live("'judge'", "audit_id")},
	{what: "what-ifs given up", rare: true, statement: `UPDATE what_ifs SET state = 'failed', failure = '` + gaveUp + `',
		finished_at = now() WHERE state = 'judging' AND id NOT IN ` + live("'what-if'", "what_if_id")},
	{what: "searches given up", rare: true, statement: `UPDATE searches SET state = 'failed', failure = '` + gaveUp + `',
		finished_at = now() WHERE state = 'searching' AND id NOT IN ` + live("'search'", "search_id")},
	{what: "holdings given up", rare: true, statement: `UPDATE holdings SET failure = '` + gaveUp + `',
		judged_version = version WHERE judged_version < version AND id NOT IN ` + live("'holding'", "holding_id")},
}

// sweep does this until the context ends.
func (q *Queue) sweep(ctx context.Context) {
	tick := time.NewTicker(sweepInterval)
	defer tick.Stop()
	for round := 0; ; round++ {
		if err := q.sweepOnce(ctx, round%6 == 0); err != nil && ctx.Err() == nil {
			q.options.Log.Warn("looking for jobs that were left lying failed; trying again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (q *Queue) sweepOnce(ctx context.Context, all bool) error {
	if err := q.store.SeeVantages(ctx); err != nil {
		return fmt.Errorf("vantages: %w", err)
	}
	if all {
		if n, err := q.store.Abandoned(ctx, q.options.Absent); err != nil {
			return fmt.Errorf("visits from vantages at which nobody works: %w", err)
		} else if n > 0 {
			q.options.Log.Warn("visits were given up: nobody works at their vantage", "visits", n)
		}
	}
	for _, rule := range sweepRules {
		if rule.rare && !all {
			continue
		}
		tag, err := q.store.Pool.Exec(ctx, rule.statement)
		if err != nil {
			return fmt.Errorf("%s: %w", rule.what, err)
		}
		if n := tag.RowsAffected(); n > 0 {
			q.options.Log.Warn("put in order", "what", rule.what, "records", n)
		}
	}
	if all {
		if err := q.store.ForgetLanes(ctx); err != nil {
			return fmt.Errorf("turns that are over: %w", err)
		}
		if err := q.endWaivers(ctx); err != nil {
			return fmt.Errorf("waivers that have ended: %w", err)
		}
		if err := q.holdBack(ctx); err != nil {
			return fmt.Errorf("schedules in the future: %w", err)
		}
	}
	if err := q.startDue(ctx); err != nil {
		return fmt.Errorf("audits that are due: %w", err)
	}
	// An audit of which the last visit was given up, or the last endpoint removed, has nobody who moves it on.
	toJudge, toEnd, err := q.store.Standing(ctx)
	for _, id := range toJudge {
		err = errors.Join(err, q.store.Tx(ctx, func(tx *store.Tx) error {
			return q.putJudge(ctx, tx, id, tx.QueueJudge)
		}))
	}
	for _, id := range toEnd {
		err = errors.Join(err, q.conclude(ctx, id))
	}
	return err
}
