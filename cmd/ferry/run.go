package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/spf13/cobra"

	"ferry/internal/core/crossing"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/files"
)

// runCommand runs a site without windows, for machines that stand in a cabinet.
func runCommand() *cobra.Command {
	c := &cobra.Command{Use: "run SITE.json",
		Short: "Run a site without windows: its links, its crossings and what it serves",
		Args:  cobra.ExactArgs(1)}
	dir := c.Flags().String("data", "ferry-run", "folder for the journal, the samples and the secrets")
	plant := c.Flags().Bool("plant", false, "ask real devices, also on serial lines; without it the simulated ones")
	release := c.Flags().Bool("release", false, "with --plant, let every crossing write; without it they wait")
	only := c.Flags().StringSlice("only", nil,
		"ids of the links, and of the devices that Ferry is, that run; all if not given")
	watch := c.Flags().String("watch", "127.0.0.1:9642", "address for /metrics and /health; empty for none")
	secrets := c.Flags().StringToString("secret", nil, "NAME=FILE of a secret that the site names")
	c.RunE = func(c *cobra.Command, args []string) (err error) {
		data, err := os.ReadFile(args[0])
		if err != nil {
			return err
		}
		next, err := files.ReadSite(data)
		if err != nil {
			return err
		}
		if *release && !*plant {
			return errors.New("--release is for --plant: on the bench crossings write without it")
		}
		unlock, err := lockFolder(*dir)
		if err != nil {
			return err
		}
		defer unlock()
		opened, err := openSite(c.Context(), c, *dir, func() *site.Site { return next })
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, opened.close()) }()
		if err := opened.follow(c.Context(), next); err != nil {
			return err
		}
		engine := opened.engine
		engine.Kept = keptIn(*secrets, engine.Kept)
		if *plant {
			if err := engine.SetMode(field.Plant); err != nil {
				return err
			}
			engine.AllowAll()
		}
		if *release {
			if err := engine.ReleaseAll("the command line"); err != nil {
				return err
			}
		}
		logs := slog.New(slog.NewJSONHandler(c.ErrOrStderr(), nil))
		if *watch != "" {
			listener, err := net.Listen("tcp", *watch)
			if err != nil {
				return fmt.Errorf("--watch %s: %w", *watch, err)
			}
			server := &http.Server{Handler: watched(engine), ReadHeaderTimeout: 5 * time.Second}
			defer server.Close()
			go func() {
				if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
					logs.Error("metrics and health are not served any more", "error", err)
				}
			}()
		}
		engine.Planned(c.Context())
		if err := engine.Start(*only); err != nil {
			return err
		}
		logs.Info("running", "site", next.Name, "mode", string(engine.Mode()), "links", len(engine.State().Running),
			"serving", len(engine.State().Serving), "crossings", len(next.Crossings))
		tell(c.Context(), engine, logs)
		logs.Info("stopping")
		engine.Stop(nil)
		return nil
	}
	return c
}

// follow brings the open site to what a file says, as one change.
func (r *running) follow(ctx context.Context, next *site.Site) error {
	now, _ := r.store.Site()
	if len(site.Diff(now, next)) == 0 {
		return nil
	}
	if _, err := r.store.Change(ctx, "ferry run", "brought in the site "+next.Name, func(now *site.Site) ([]site.Edit,
		error) {
		return site.Diff(now, next), nil
	}); err != nil {
		return err
	}
	now, seq := r.store.Site()
	if err := r.bench.Sync(now); err != nil {
		return fmt.Errorf("cannot start the simulated devices: %w", err)
	}
	r.engine.Update(now, seq)
	return nil
}

// keptIn looks for secrets in files that were named, and then in what is kept.
func keptIn(secrets map[string]string, kept func(protocol.Kind, string) ([]byte, error)) func(protocol.Kind,
	string) ([]byte, error) {
	return func(kind protocol.Kind, name string) ([]byte, error) {
		path, ok := secrets[name]
		if !ok {
			return kept(kind, name)
		}
		data, err := os.ReadFile(path)
		if kind == protocol.Secret {
			data = []byte(strings.TrimRight(string(data), "\r\n"))
		}
		return data, err
	}
}

// tell logs what changes until ctx ends: states of crossings, outages of links, and
// what is served.
func tell(ctx context.Context, engine *field.Engine, logs *slog.Logger) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	rev := uint64(1)
	states, served := map[string]string{}, map[string]string{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		engine.Hub.Age(time.Now())
		var list []field.CrossingState
		list, rev = engine.CrossingsSince(rev)
		for _, x := range list {
			if states[x.ID] == x.State {
				continue
			}
			states[x.ID] = x.State
			level := slog.LevelInfo
			switch crossing.State(x.State) {
			case crossing.Failed, crossing.Stopped, crossing.Away:
				level = slog.LevelWarn
			}
			logs.Log(ctx, level, "crossing", "id", x.ID, "state", x.State, "because", x.Sentence, "dropped",
				x.Counts.Dropped,
				"refused", x.Counts.Refused, "merged", x.Counts.Merged)
		}
		for _, s := range engine.Serving() {
			if served[s.Device] != s.Sentence {
				served[s.Device] = s.Sentence
				logs.Warn("serving", "device", s.Device, "because", s.Sentence)
			}
		}
	}
}

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
		w.Header().Set("Content-Type", "application/json")
		if !ok {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"ok": ok, "mode": state.Mode, "links": len(state.Running),
			"serving": len(state.Serving), "crossings": counts}) // whoever asks may have gone
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
	lastExchanges = prometheus.NewDesc("ferry_exchanges_total", "Exchanges with devices.", nil, nil)
)

func (c collector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{crossingsIn, valuesOf, hadFor, linksRunning, clientsOf, turnedAway,
		writtenToday,
		lastExchanges} {
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
	ch <- prometheus.MustNewConstMetric(lastExchanges, prometheus.CounterValue, float64(c.engine.Hub.LastSeq()))
}

// crossingsCommand holds what is done with the crossings of a site on paper.
func crossingsCommand() *cobra.Command {
	c := &cobra.Command{Use: "crossings", Short: "Work on the crossings of a site on paper"}
	check := &cobra.Command{Use: "check SITE.json",
		Short: "Say what is wrong with the crossings of a site, with the ways out",
		Args:  cobra.ExactArgs(1)}
	asJSON := check.Flags().Bool("json", false, "print one JSON object")
	check.RunE = func(c *cobra.Command, args []string) error {
		data, err := os.ReadFile(args[0])
		if err != nil {
			return err
		}
		s, err := files.ReadSite(data)
		if err != nil {
			return err
		}
		found := crossing.Check(s)
		if *asJSON {
			err = printJSON(c.OutOrStdout(), map[string]any{"site": s.Name, "findings": found})
		} else {
			printCrossings(c.OutOrStdout(), s, found)
		}
		if err != nil {
			return err
		}
		return verdict(found)
	}
	c.AddCommand(check)
	return c
}

// printCrossings prints a line for each finding, and for each way out of what is
// wrong with its crossing.
func printCrossings(out io.Writer, s *site.Site, found []finding.Finding) {
	told := map[string]bool{}
	for i := range found {
		printFindings(out, found[i:i+1])
		if id := found[i].Subject.ID; !told[id] {
			told[id] = true
			judged, _ := crossing.Judge(s, id, crossing.Seen{})
			for _, o := range judged.Outs {
				fmt.Fprintf(out, "      way out: %s (%s)\n", printable(o.Title), printable(o.Costs))
			}
		}
	}
	fmt.Fprintf(out, "%s: %d crossings, %d findings\n", printable(s.Name), len(s.Crossings), len(found))
}
