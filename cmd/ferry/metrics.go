package main

import (
	"encoding/json"
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ferry/internal/core/crossing"
	"ferry/internal/core/finding"
	"ferry/internal/field"
)

// watched serves what a watch asks: figures in the text format of Prometheus, and
// whether all is well.
func watched(engine *field.Engine) http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collector{engine})
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	mux.HandleFunc("GET /health", func(w http.ResponseWriter, _ *http.Request) {
		state := engine.State()
		counts := map[string]int{}
		for _, x := range engine.Crossings() {
			counts[x.State]++
		}
		ok := counts[string(crossing.Failed)]+counts[string(crossing.Stopped)]+counts[string(crossing.Away)] == 0
		for _, s := range engine.Serving() {
			ok = ok && s.Sentence == ""
		}
		lists := map[string]string{}
		for _, l := range engine.Lists() {
			lists[l.List] = string(l.Stand)
			ok = ok && l.Severity() != finding.Fault
		}
		w.Header().Set("Content-Type", "application/json")
		if !ok {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"ok": ok, "mode": state.Mode, "links": len(state.Running),
			"serving": len(state.Serving), "crossings": counts, "lists": lists}) // whoever asks may have gone
	})
	return mux
}

// collector counts when it is asked.
type collector struct{ engine *field.Engine }

var (
	crossingsIn = prometheus.NewDesc("ferry_crossings", "Crossings by what they do.", []string{"state"}, nil)
	valuesOf    = prometheus.NewDesc("ferry_crossing_values_total", "Values by what became of them.",
		[]string{"crossing", "result"}, nil)
	hadFor = prometheus.NewDesc("ferry_value_had_seconds",
		"How long Ferry had a value, from the source's answer to the write.", nil, nil)
	linksRunning = prometheus.NewDesc("ferry_links_running", "Links that run.", nil, nil)
	clientsOf    = prometheus.NewDesc("ferry_clients", "Clients that are connected.", []string{"device"}, nil)
	turnedAway   = prometheus.NewDesc("ferry_clients_turned_away_total", "Clients that were turned away.",
		[]string{"device"}, nil)
	writtenToday = prometheus.NewDesc("ferry_target_writes_today", "Writes of today into a target.",
		[]string{"point"}, nil)
	namesCarry = prometheus.NewDesc("ferry_list_names", "Names of a list, and those of them that carry.",
		[]string{"list", "which"}, nil)
	pairUses = prometheus.NewDesc("ferry_pair_used",
		"Which of two addresses a link uses: 0 for the first, 1 for the second.", []string{"link"}, nil)
	lastExchanges = prometheus.NewDesc("ferry_exchanges_total", "Exchanges with devices.", nil, nil)
)

func (c collector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{crossingsIn, valuesOf, hadFor, linksRunning, clientsOf, turnedAway,
		writtenToday, namesCarry, pairUses, lastExchanges} {
		ch <- d
	}
}

func (c collector) Collect(ch chan<- prometheus.Metric) {
	states := map[string]int{}
	for _, x := range c.engine.Crossings() {
		states[x.State]++
		for result, n := range map[string]int{"read": x.Counts.Read, "carried": x.Counts.Carried, "held": x.Counts.Held,
			"merged": x.Counts.Merged, "refused": x.Counts.Refused, "dropped": x.Counts.Dropped} {
			ch <- prometheus.MustNewConstMetric(valuesOf, prometheus.CounterValue, float64(n), x.ID, result)
		}
	}
	for state, n := range states {
		ch <- prometheus.MustNewConstMetric(crossingsIn, prometheus.GaugeValue, float64(n), state)
	}
	had := c.engine.Latencies()
	ch <- prometheus.MustNewConstHistogram(hadFor, had.Count, had.Seconds, had.Buckets)
	ch <- prometheus.MustNewConstMetric(linksRunning, prometheus.GaugeValue, float64(len(c.engine.State().Running)))
	for _, s := range c.engine.Serving() {
		ch <- prometheus.MustNewConstMetric(clientsOf, prometheus.GaugeValue, float64(len(s.Clients)), s.Device)
		ch <- prometheus.MustNewConstMetric(turnedAway, prometheus.CounterValue, float64(s.Away), s.Device)
	}
	for point, n := range c.engine.Worn() {
		ch <- prometheus.MustNewConstMetric(writtenToday, prometheus.GaugeValue, float64(n), point)
	}
	for _, l := range c.engine.Lists() {
		ch <- prometheus.MustNewConstMetric(namesCarry, prometheus.GaugeValue, float64(l.Names), l.List, "all")
		ch <- prometheus.MustNewConstMetric(namesCarry, prometheus.GaugeValue, float64(l.Carrying), l.List, "carrying")
	}
	for _, p := range c.engine.Pairs() {
		ch <- prometheus.MustNewConstMetric(pairUses, prometheus.GaugeValue, float64(p.Used), p.Link)
	}
	ch <- prometheus.MustNewConstMetric(lastExchanges, prometheus.CounterValue, float64(c.engine.Hub.LastSeq()))
}
