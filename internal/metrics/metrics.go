// Package metrics lets an installation be watched from outside: what stands, what was
// done and how long it took, in the OpenMetrics text format
// (https://prometheus.io/docs/specs/om/open_metrics_spec/). It reads what the service
// counts, names nobody, and changes nothing.
package metrics

import (
	"context"
	"log/slog"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Of is what is looked at.
type Of struct {
	Figures    *service.Figures
	Store      *store.Store
	LastBackup func() (time.Time, error)
	// TrailBehind is since when the second place has not followed the records, the zero
	// time where it has; nil where there is none.
	TrailBehind func() time.Time
	// CertificateEnds is when the certificate of the door ends; nil where it has none.
	CertificateEnds func() time.Time
}

// Watch is what is counted of a store's writer from when it is opened.
type Watch struct {
	registry *prometheus.Registry
	commits  prometheus.Histogram
	requests prometheus.Counter
	launches *prometheus.HistogramVec
	steps    *prometheus.HistogramVec
	entries  *prometheus.CounterVec
	entered  *prometheus.CounterVec
}

// seconds are the bounds of what takes from a moment to an hour.
var seconds = []float64{0.1, 0.25, 0.5, 1, 2.5, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 3600}

// New begins to count.
func New() *Watch {
	w := &Watch{registry: prometheus.NewRegistry(),
		commits:  prometheus.NewHistogram(prometheus.HistogramOpts{Name: "yardbench_commit_seconds", Help: "How long the writer takes to commit a group of requests.", Buckets: []float64{.0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 5}}),
		requests: prometheus.NewCounter(prometheus.CounterOpts{Name: "yardbench_written_requests_total", Help: "Requests that the writer has answered."}),
		launches: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "yardbench_launch_seconds", Help: "How long launches took that went well, from acceptance to ready.", Buckets: seconds}, []string{"prepared"}),
		steps:    prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "yardbench_step_seconds", Help: "How long steps of launches, starts and rebuilds took that went well.", Buckets: seconds}, []string{"step"}),
		entries:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "yardbench_journal_entries_total", Help: "What was written into the journal since the service began, by kind."}, []string{"kind"}),
		entered:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "yardbench_phases_entered_total", Help: "How often workspaces, prebuilds among them, came into each phase since the service began: preparing or starting and then ready or failed, say, at each launch."}, []string{"phase"}),
	}
	w.registry.MustRegister(w.commits, w.requests, w.launches, w.steps, w.entries, w.entered, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return w
}

// Watching is what a store is to tell it.
func (w *Watch) Watching() store.Watching {
	return store.Watching{
		Committed: func(took time.Duration, requests int) {
			w.commits.Observe(took.Seconds())
			w.requests.Add(float64(requests))
		},
		Took: func(t store.Took) {
			if t.Launch {
				w.launches.WithLabelValues(map[bool]string{true: "yes", false: "no"}[t.Cached]).Observe(t.Time.Seconds())
				return
			}
			w.steps.WithLabelValues(t.Step).Observe(t.Time.Seconds())
		},
		Entry: func(e store.Said) {
			w.entries.WithLabelValues(e.Kind).Inc()
			if e.Phase != "" {
				w.entered.WithLabelValues(string(e.Phase)).Inc()
			}
		},
	}
}

// The gauges, computed as somebody asks.
var (
	workspaces = desc("workspaces", "People's workspaces by phase.", "phase")
	conditions = desc("conditions", "What stands beside the phases of people's workspaces, by kind.", "kind")
	trouble    = desc("trouble", "What keeps the service from being well, by kind: 1 while it does.", "kind")
	waiting    = desc("writer_waiting", "Requests that wait for the writer now.")
	most       = desc("writer_waiting_most", "How many may wait for the writer; one more is refused.")
	failing    = desc("webhooks_failing", "Webhooks that are not taken.")
	lag        = desc("webhook_lag_entries", "Entries of the journal that the webhook furthest behind has not been told of.")
	refused    = desc("sign_ins_refused_total", "Sign-ins by password that were refused since the service began.")
	entries    = desc("journal_entries", "Entries of the journal.")
	free       = desc("data_free_bytes", "Room that is left where the data directory is.")
	size       = desc("data_size_bytes", "The size of what the data directory lies on.")
	backedUp   = desc("last_backup_timestamp_seconds", "When the newest backup was made; 0 for never.")
	certEnds   = desc("certificate_ends_timestamp_seconds", "When the certificate of the service's door ends; 0 where it has none.")
	trailLag   = desc("trail_behind_seconds", "For how long the second place has not followed the records; 0 where it has, or there is none.")
	sealing    = desc("sealing_key_made_timestamp_seconds", "When the key that secrets are sealed with was made; 0 for the first.")
	built      = desc("build_info", "The service's version.", "version")
)

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("yardbench_"+name, help, labels, nil)
}

// gauges computes what stands.
type gauges struct{ Of }

// Describe implements [prometheus.Collector].
func (g gauges) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{workspaces, conditions, trouble, waiting, most, failing, lag, refused, entries, free, size, backedUp, trailLag, certEnds, sealing, built} {
		to <- d
	}
}

// askedFor bounds how long it is computed.
const askedFor = 10 * time.Second

// Collect implements [prometheus.Collector].
func (g gauges) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), askedFor)
	defer cancel()
	put := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	put(built, 1, wire.Version())
	n, bound := g.Store.Waiting()
	put(waiting, float64(n))
	put(most, float64(bound))
	if left, whole := g.Store.Room(); whole > 0 {
		put(free, float64(left))
		put(size, float64(whole))
	}
	if at, err := g.LastBackup(); err == nil {
		put(backedUp, max(0, float64(at.Unix())))
	}
	behind := 0.0
	if g.TrailBehind != nil {
		if since := g.TrailBehind(); !since.IsZero() {
			behind = time.Since(since).Seconds()
		}
	}
	put(trailLag, behind)
	ends := int64(0)
	if g.CertificateEnds != nil {
		ends = g.CertificateEnds().Unix()
	}
	put(certEnds, float64(ends))
	f, err := g.Figures.Now(ctx)
	if err != nil {
		slog.Warn("what is counted is not to be had now", "error", err)
		return
	}
	for _, p := range lifecycle.Phases {
		if p != lifecycle.Removed {
			put(workspaces, float64(f.Phases[string(p)]), string(p))
		}
	}
	for kind, n := range f.Conditions {
		put(conditions, float64(n), kind)
	}
	is := map[string]bool{}
	for _, t := range f.Troubles {
		is[t.Kind] = true
	}
	for _, kind := range wire.Troubles {
		put(trouble, map[bool]float64{true: 1}[is[kind]], kind)
	}
	put(failing, float64(f.WebhooksFailing))
	put(lag, float64(f.WebhookLag))
	to <- prometheus.MustNewConstMetric(refused, prometheus.CounterValue, float64(f.RefusedSignIns))
	put(entries, float64(f.Entries))
	made := 0.0
	if !f.SealingKeyMade.IsZero() {
		made = float64(f.SealingKeyMade.Unix())
	}
	put(sealing, made)
}

// Handler answers what is counted.
func (w *Watch) Handler(of Of) (http.Handler, error) {
	if err := w.registry.Register(gauges{of}); err != nil {
		return nil, err
	}
	return promhttp.HandlerFor(w.registry, promhttp.HandlerOpts{EnableOpenMetrics: true, Timeout: 2 * askedFor, MaxRequestsInFlight: 4}), nil
}
