package jobs

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// Metrics count what the jobs do. A nil value counts nothing.
type Metrics struct {
	visits      *prometheus.CounterVec
	seconds     prometheus.Histogram
	connections prometheus.Counter
}

// NewMetrics registers the metrics.
func NewMetrics(registry prometheus.Registerer) *Metrics {
	m := &Metrics{
		visits: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "nurvik_visits_total",
			Help: "Visits by outcome."}, []string{"outcome"}),
		seconds: prometheus.NewHistogram(prometheus.HistogramOpts{Name: "nurvik_visit_seconds",
			Help: "Duration of a visit.", Buckets: []float64{.01, .05, .1, .5, 1, 5, 20, 60, 120}}),
		connections: prometheus.NewCounter(prometheus.CounterOpts{Name: "nurvik_visit_connections_total",
			Help: "Connections opened by visits."}),
	}
	registry.MustRegister(m.visits, m.seconds, m.connections)
	return m
}

func (m *Metrics) visited(outcome string, took time.Duration, connections int) {
	if m == nil {
		return
	}
	m.visits.WithLabelValues(outcome).Inc()
	m.seconds.Observe(took.Seconds())
	m.connections.Add(float64(connections))
}
