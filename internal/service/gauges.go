package service

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"nurvik/internal/service/store"
)

// gauges tells metrics of the estate when they are read. It counts at most every few seconds, however many read.
type gauges struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time

	mutex   sync.Mutex
	counted time.Time // by this process's own clock
	last    store.Gauges
	err     error
}

// countEvery is how long counts are used again.
const countEvery = 10 * time.Second

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("nurvik_"+name, help, labels, nil)
}

var (
	endpointsGauge = describe("endpoints", "Endpoints by verdict; none is those never judged.", "verdict")
	findingsGauge  = describe("findings", "Findings that count, by severity.", "severity")
	daysLeftGauge  = describe("leaf_days_left", "Days until the leaf certificates end that endpoints serve.")
	oldestGauge    = describe("queue_oldest_seconds", "How long the job has waited that is due longest.")
	lastAuditGauge = describe("last_audit_timestamp_seconds", "When the last audit ended that did not fail.")
	failedGauge    = describe("last_audit_failed", "1 where the audit that ended last failed.")
	unjudgedGauge  = describe("holdings_waiting", "Holdings that wait to be judged.")
	lateGauge      = describe("schedules_late", "Schedules whose audit has been due for more than ten minutes.")
	workersGauge   = describe("workers", "Processes that work on the database.")
)

// Describe implements prometheus.Collector.
func (g *gauges) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{endpointsGauge, findingsGauge, daysLeftGauge, oldestGauge, lastAuditGauge,
		failedGauge,
		unjudgedGauge, lateGauge, workersGauge} {
		out <- d
	}
}

// Collect implements prometheus.Collector. Without the database it tells nothing, and so no old number either.
func (g *gauges) Collect(out chan<- prometheus.Metric) {
	now, err := g.counts()
	if err != nil {
		g.log.Warn("the estate could not be counted for metrics", "error", err)
		return
	}
	send := func(d *prometheus.Desc, value float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
	}
	for _, verdict := range []string{"sound", "at-risk", "faulty", "unreachable", "none"} {
		send(endpointsGauge, float64(now.Verdicts[verdict]), verdict)
	}
	for _, severity := range []string{"fault", "risk", "note", "none"} {
		send(findingsGauge, float64(now.Findings[severity]), severity)
	}
	buckets := map[float64]uint64{}
	for bound, count := range now.DaysLeft {
		buckets[bound] = uint64(count)
	}
	out <- prometheus.MustNewConstHistogram(daysLeftGauge, uint64(now.Leaves), now.DaysSum, buckets)
	send(oldestGauge, now.OldestJob.Seconds())
	if now.LastAudit != nil {
		send(lastAuditGauge, float64(now.LastAudit.Unix()))
	}
	send(failedGauge, map[bool]float64{true: 1}[now.FailedLast])
	send(unjudgedGauge, float64(now.Unjudged))
	send(lateGauge, float64(now.LateAudits))
	send(workersGauge, float64(now.LiveWorkers))
}

func (g *gauges) counts() (store.Gauges, error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if !g.counted.IsZero() && time.Since(g.counted) < countEvery {
		return g.last, g.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	g.last, g.err = g.store.Gauges(ctx, g.now())
	g.counted = time.Now()
	return g.last, g.err
}
