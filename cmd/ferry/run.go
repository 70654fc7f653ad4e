package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ferry/internal/core/crossing"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/lookout"
	"ferry/internal/vault"
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
	var programs map[string]string
	allowPrograms(c, &programs)
	c.RunE = func(c *cobra.Command, args []string) (err error) {
		next, err := readSite(args[0])
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
		opened, err := openSite(c.Context(), c, *dir, func(vault.Vault) (*site.Site, error) { return next, nil }, programs)
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
		tell(c.Context(), engine, opened.lookouts, logs)
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

// tellEvents logs what lookouts saw begin and end, and returns what is not over.
func tellEvents(lookouts *lookout.Keeper, seen map[string]bool, logs *slog.Logger) map[string]bool {
	events, _ := lookouts.Events()
	open := map[string]bool{}
	for i := range events {
		e := &events[i]
		switch {
		case !e.Over():
			if open[e.ID] = true; !seen[e.ID] {
				logs.Warn("lookout", "name", e.Name, "subject", e.Subject.Name, "says", e.Says)
			}
		case seen[e.ID]:
			logs.Info("lookout over", "name", e.Name, "subject", e.Subject.Name, "ended", e.Ended)
		}
	}
	return open
}

// tell logs what changes until ctx ends: states of crossings and lists, what is served,
// and pairs of addresses that were switched.
func tell(ctx context.Context, engine *field.Engine, lookouts *lookout.Keeper, logs *slog.Logger) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	rev := uint64(1)
	seen := map[string]bool{} // events that are not over
	states, served, stands, switches := map[string]string{}, map[string]string{}, map[string]string{}, map[string]int64{}
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
		for _, l := range engine.Lists() {
			if said := l.Title + ". " + l.Sentence; stands[l.List] != said {
				stands[l.List] = said
				level := slog.LevelInfo
				if l.Severity() != "" {
					level = slog.LevelWarn
				}
				logs.Log(ctx, level, "list", "id", l.List, "stand", string(l.Stand), "carrying", l.Carrying, "names", l.Names,
					"because", said)
			}
		}
		seen = tellEvents(lookouts, seen, logs)
		for _, p := range engine.Pairs() {
			for _, s := range p.Switches {
				if s.AtMs > switches[p.Link] && s.StaleMs >= 0 {
					switches[p.Link] = s.AtMs
					logs.Warn("switched", "link", p.Link, "to", s.To, "because", s.Why, "staleMs", s.StaleMs)
				}
			}
		}
	}
}
