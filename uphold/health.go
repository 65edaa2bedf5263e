package uphold

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"isonomos/core/pass"
)

// Facts are what is measured while watching.
type Facts struct {
	registry   *prometheus.Registry
	accounts   prometheus.Gauge
	lastSeen   *prometheus.GaugeVec
	open       *prometheus.GaugeVec
	passesNow  *prometheus.GaugeVec
	sentAll    *prometheus.CounterVec
	failedSend *prometheus.CounterVec
	unsent     *prometheus.GaugeVec
	errors     *prometheus.CounterVec
	delay      prometheus.Histogram
	kept       *prometheus.HistogramVec
	alive      *atomic.Int64 // when it was seen to work last
}

func newFacts() Facts {
	f := Facts{registry: prometheus.NewRegistry(), alive: new(atomic.Int64)}
	gauge := func(name, help string, labels ...string) *prometheus.GaugeVec {
		return prometheus.NewGaugeVec(prometheus.GaugeOpts{Namespace: "isonomos", Name: name, Help: help}, labels)
	}
	counter := func(name, help string, labels ...string) *prometheus.CounterVec {
		return prometheus.NewCounterVec(prometheus.CounterOpts{Namespace: "isonomos", Name: name, Help: help}, labels)
	}
	f.accounts = prometheus.NewGauge(prometheus.GaugeOpts{Namespace: "isonomos", Name: "accounts",
		Help: "Accounts that are watched."})
	f.lastSeen = gauge("account_seen_seconds", "Seconds since an account was read, or its cloud's feed was.", "account")
	f.open = gauge("differences", "What holds now that was not decided, by kind.", "kind")
	f.passesNow = gauge("passes", "Passes by state: open or overdue.", "state")
	f.sentAll = counter("notices_sent_total", "Notices that a target has taken.", "target")
	f.failedSend = counter("notices_failed_total", "Tries to send a notice that failed.", "target")
	f.unsent = gauge("notices_unsent", "Notices that are still to be sent.", "target")
	f.errors = counter("account_errors_total", "Times that an account could not be read.", "account")
	f.delay = prometheus.NewHistogram(prometheus.HistogramOpts{Namespace: "isonomos", Name: "decision_seconds",
		Help:    "Time from a change, by the cloud's clock, until it was decided and recorded.",
		Buckets: []float64{.05, .1, .25, .5, 1, 2, 5, 10, 30, 60, 300}})
	f.kept = prometheus.NewHistogramVec(prometheus.HistogramOpts{Namespace: "isonomos", Name: "put_back_seconds",
		Help:    "Time from a change until it was put back, or shut as a law is enforced, and recorded.",
		Buckets: []float64{.1, .25, .5, 1, 2, 5, 10, 30, 60, 300}}, []string{"type"})
	f.registry.MustRegister(f.kept, f.accounts, f.lastSeen, f.open, f.passesNow, f.sentAll, f.failedSend, f.unsent,
		f.errors, f.delay)
	return f
}

// beat notes that watching goes on.
func (f Facts) beat() { f.alive.Store(time.Now().UnixNano()) }

// Alive reports whether watching has gone on within a time.
func (f Facts) Alive(within time.Duration) bool {
	return time.Since(time.Unix(0, f.alive.Load())) < within
}

func (f Facts) decided(after time.Duration) { f.delay.Observe(max(after, 0).Seconds()) }

func (f Facts) putBack(kind string, after time.Duration) {
	f.kept.WithLabelValues(kind).Observe(max(after, 0).Seconds())
}

func (f Facts) failed(account string) { f.errors.WithLabelValues(account).Inc() }

func (f Facts) sent(target string, sent, failed int) {
	f.sentAll.WithLabelValues(target).Add(float64(sent))
	f.failedSend.WithLabelValues(target).Add(float64(failed))
}

func (f Facts) passes(known map[string]*pass.Known, now time.Time) {
	open, overdue := 0, 0
	for _, k := range known {
		switch {
		case !k.Ended.IsZero():
		case k.Until.After(now):
			open++
		default:
			overdue++
		}
	}
	f.passesNow.WithLabelValues("open").Set(float64(open))
	f.passesNow.WithLabelValues("overdue").Set(float64(overdue))
}

// measure brings up to date what is not counted as it happens.
func (u *Upholder) measure(ctx context.Context) {
	f, now := u.Facts, u.Now()
	if u.nowReading() == nil {
		return
	}
	all := u.known()
	f.accounts.Set(float64(len(all)))
	kinds := map[string]int{"opened": 0, "closed": 0, "changed": 0, "blind": 0}
	for _, a := range all {
		a.mu.Lock()
		since := a.seen
		if since.IsZero() {
			since = a.began
		}
		for _, h := range a.held {
			kinds[h.Kind]++
		}
		a.mu.Unlock()
		f.lastSeen.WithLabelValues(a.name).Set(now.Sub(since).Seconds())
	}
	u.mu.Lock()
	for _, s := range u.sights {
		if s.held != nil {
			kinds[s.held.Kind]++
		}
	}
	u.mu.Unlock()
	f.open.Reset() // what is no more is not counted any longer
	for kind, n := range kinds {
		f.open.WithLabelValues(kind).Set(float64(n))
	}
	f.unsent.Reset()
	for _, t := range u.targets() {
		if _, n, err := u.Store.Outbox(ctx, t.Name, 1); err == nil {
			f.unsent.WithLabelValues(t.Name).Set(float64(n))
		}
	}
}

// unready says why not everything is watched as it should be; it is empty if everything is.
func (u *Upholder) unready() string {
	r := u.nowReading()
	if r == nil {
		return "it has not begun"
	}
	u.mu.Lock()
	misses, broken := u.misses, u.broken
	u.mu.Unlock()
	switch {
	case misses > 0:
		return "what is found can't be recorded"
	case broken != "":
		return "the definitions or settings have a mistake"
	}
	if name := u.silentCloud(r); name != "" {
		return "the cloud " + name + " is not heard"
	}
	late, first := 0, ""
	all := u.known()
	for _, a := range all {
		of := a.of()
		u.mu.Lock()
		after := r.blindAfter(u.sights[of])
		u.mu.Unlock()
		a.mu.Lock()
		since, _, _ := a.unknown()
		if a.seen.IsZero() || u.Now().Sub(since) > after || !a.judged {
			if late++; first == "" {
				first = a.name
			}
		}
		a.mu.Unlock()
	}
	switch {
	case len(all) == 0:
		return "no account was read yet"
	case late > 0:
		return fmt.Sprintf("%d of %d accounts are not seen, such as %s", late, len(all), first)
	}
	return ""
}

// silentCloud is a cloud that was not heard yet, or not for long; empty if there is none.
func (u *Upholder) silentCloud(r *Reading) string {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, x := range r.Definitions.Estate.Clouds {
		if s := u.sight(x.Name); s.seen.IsZero() || u.Now().Sub(s.seen) > r.blindAfter(s) {
			return x.Name
		}
	}
	return ""
}

// stuckAfter is how long nothing may happen until the program counts as stuck.
const stuckAfter = time.Minute

// Handler serves whether it is alive and ready, and what is measured.
func (u *Upholder) Handler() http.Handler {
	mux := http.NewServeMux()
	say := func(w http.ResponseWriter, problem string) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		if problem != "" {
			w.WriteHeader(http.StatusServiceUnavailable)
			fmt.Fprintln(w, problem)
			return
		}
		fmt.Fprintln(w, "ok")
	}
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) {
		problem := ""
		if !u.Facts.Alive(stuckAfter) {
			problem = "nothing has happened for a minute"
		}
		say(w, problem)
	})
	mux.HandleFunc("GET /readyz", func(w http.ResponseWriter, _ *http.Request) { say(w, u.unready()) })
	metrics := promhttp.HandlerFor(u.Facts.registry, promhttp.HandlerOpts{})
	var one sync.Mutex // what is measured for one question is not taken away by another
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		one.Lock()
		defer one.Unlock()
		u.measure(r.Context())
		metrics.ServeHTTP(w, r)
	})
	return mux
}
