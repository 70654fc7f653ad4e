package store

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"ferry/internal/bench"
	"ferry/internal/core/checkout"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

func opened(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(context.Background(), dir, bench.Demo)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func rename(id, name string) site.Edit {
	return site.Edit{Kind: site.KindLine, ID: id, After: json.RawMessage(`{"name":"` + name + `","medium":"ethernet"}`)}
}

func code(err error) string {
	var p *problem.Problem
	if errors.As(err, &p) {
		return p.Code
	}
	return ""
}

// TestReopen: what was edited, and what can be undone, is there again after
// the files are opened anew, without the first having been closed in order.
func TestReopen(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	first := opened(t, dir)
	_, seq := first.Site()
	if _, err := first.Edit(ctx, "test", "renamed the line",
		[]BasedEdit{{rename("plantnet", "Shore net"), seq}}); err != nil {
		t.Fatal(err)
	}
	if _, err := first.Edit(ctx, "test", "removed the probe",
		[]BasedEdit{{site.Edit{Kind: site.KindDevice, ID: "do11"}, seq}}); err != nil {
		t.Fatal(err)
	}
	if _, err := first.Undo(ctx, "test"); err != nil {
		t.Fatal(err)
	}
	want, _ := first.Site()
	second := opened(t, dir)
	got, _ := second.Site()
	if a, b := asJSON(got), asJSON(want); a != b {
		t.Fatalf("reopened it is\n%s\nand was\n%s", a, b)
	}
	if n := second.Now(); !n.CanUndo || !n.CanRedo {
		t.Errorf("after reopening: undo %v, redo %v", n.CanUndo, n.CanRedo)
	}
	if _, err := second.Redo(ctx, "test"); err != nil {
		t.Fatal(err)
	}
	if now, _ := second.Site(); now.Device("do11") != nil {
		t.Error("redo did not remove the probe again")
	}
	for range 2 {
		if _, err := second.Undo(ctx, "test"); err != nil {
			t.Fatal(err)
		}
	}
	if now, _ := second.Site(); asJSON(now) != asJSON(bench.Demo()) {
		t.Error("with everything taken back it is not the first site")
	}
	if _, err := second.Undo(ctx, "test"); code(err) != "nothing" {
		t.Errorf("undo of nothing: %v", err)
	}
	entries, err := second.Journal(ctx, 100)
	if err != nil || len(entries) != 7 || entries[0].Action != "undo" || entries[6].Who != "Ferry" {
		t.Errorf("the journal has %d rows: %+v, %v", len(entries), entries, err)
	}
}

// TestReopenEverything: every kind of object is there again after a restart.
func TestReopenEverything(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	first := opened(t, dir)
	if _, err := first.Change(ctx, "test", "kept what can be placed", func(*site.Site) ([]site.Edit, error) {
		return []site.Edit{
			{Kind: site.KindDatasheet, ID: "s",
				After: json.RawMessage(`{"name":"Optode","map":"modbus-tcp","points":[{"id":"a","name":"Oxygen","address":"hr0","type":"float32","paceMs":1000,"access":"r","useful":true}]}`)},
			{Kind: site.KindStructure, ID: "t",
				After: json.RawMessage(`{"name":"Pump","members":[{"name":"Run","type":"bool"}]}`)},
			{Kind: site.KindHeadings, ID: "h", After: json.RawMessage(`{"words":["Reg"],"columns":["address"]}`)},
		}, nil
	}); err != nil {
		t.Fatal(err)
	}
	want, _ := first.Site()
	if got, _ := opened(t, dir).Site(); asJSON(got) != asJSON(want) ||
		len(got.Datasheets)+len(got.Structures)+len(got.Headings) != 3+7 { // the demo site has seven
		t.Error("reopened it is another site")
	}
}

func asJSON(s any) string {
	data, err := json.Marshal(s)
	if err != nil {
		return err.Error()
	}
	return string(data)
}

func TestStale(t *testing.T) {
	s, ctx := opened(t, t.TempDir()), context.Background()
	_, seq := s.Site()
	if _, err := s.Edit(ctx, "one", "renamed it", []BasedEdit{{rename("plantnet", "A"), seq}}); err != nil {
		t.Fatal(err)
	}
	before, _ := s.Site()
	_, err := s.Edit(ctx, "two", "renamed it otherwise", []BasedEdit{{rename("plantnet", "B"), seq}})
	if code(err) != "stale" {
		t.Errorf("an edit of an old version: %v", err)
	}
	if after, _ := s.Site(); !reflect.DeepEqual(before, after) {
		t.Error("the refused edit changed the site")
	}
	// Of an object that was removed, too.
	_, now := s.Site()
	if _, err := s.Edit(ctx, "one", "removed it",
		[]BasedEdit{{site.Edit{Kind: site.KindCrossing, ID: "x-temp"}, now}}); err != nil {
		t.Fatal(err)
	}
	_, err = s.Edit(ctx, "two", "changed it",
		[]BasedEdit{{site.Edit{Kind: site.KindCrossing, ID: "x-temp",
			After: json.RawMessage(`{"from":"do11-02","to":"gate-02"}`)}, seq}})
	if code(err) != "stale" {
		t.Errorf("an edit of what was removed: %v", err)
	}
}

func TestSamples(t *testing.T) {
	s, ctx := opened(t, t.TempDir()), context.Background()
	var list []Sample
	for i := range 100 {
		list = append(list, Sample{"do11-01", int64(1000 + i), float64(i), true})
	}
	if err := s.AddSamples(ctx, list); err != nil {
		t.Fatal(err)
	}
	got, err := s.Samples(ctx, "do11-01", 1090)
	if err != nil || len(got) != 10 || got[0].V != 90 {
		t.Errorf("got %v, %v", got, err)
	}
}

// TestOutages: an outage is kept when it begins, and its end with it.
func TestOutages(t *testing.T) {
	s, ctx := opened(t, t.TempDir()), context.Background()
	began := Outage{Link: "lss-do13", Device: "do13", FromMs: 1000, Reason: "nothing came back within 300 ms", Tries: 1}
	ended, other := began,
		Outage{Link: "lss-do14", Device: "do14", FromMs: 1500, Reason: "nothing came back within 300 ms", Tries: 2}
	ended.ToMs, ended.Tries = 9000, 12
	for _, list := range [][]Outage{{began}, {other, ended}, nil} {
		if err := s.KeepOutages(ctx, list); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := s.Outages(ctx, 10); err != nil || !reflect.DeepEqual(got, []Outage{ended, other}) {
		t.Errorf("%+v, %v", got, err)
	}
}

// TestKeptDatabase: a database of version 0.9 opens for good, holds the site of
// the file that version wrote at the same moment, and its last change can still
// be taken back.
func TestKeptDatabase(t *testing.T) {
	dir := t.TempDir()
	packed, err := os.Open("testdata/kept-0.9.db.gz")
	if err != nil {
		t.Fatal(err)
	}
	defer packed.Close()
	unpacked, err := gzip.NewReader(packed)
	if err != nil {
		t.Fatal(err)
	}
	data, err := io.ReadAll(unpacked)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "site.db"), data, 0o644); err != nil {
		t.Fatal(err)
	}
	s := opened(t, dir)
	got, _ := s.Site()
	file, err := os.ReadFile("../files/testdata/kept-0.9.site.json")
	if err != nil {
		t.Fatal(err)
	}
	want, err := files.ReadSite(file)
	if err != nil {
		t.Fatal(err)
	}
	if a, b := asJSON(got), asJSON(want); a != b {
		t.Errorf("it holds\n%s\nand the file\n%s", a, b)
	}
	entry, err := s.Undo(context.Background(), "test")
	if err != nil || !strings.Contains(entry.What, "remark") {
		t.Errorf("taken back: %+v, %v", entry, err)
	}
}

// TestProofs: what was proved is there after a restart, the last of each point counts, and
// none is ever changed.
func TestProofs(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s := opened(t, dir)
	for i, list := range [][]checkout.Proved{{{Point: "a", Result: checkout.Right, Read: "1", Mode: "plant"},
		{Point: "b", Result: checkout.Wrong, Mode: "bench"}},
		{{Point: "a", Result: checkout.Wrong, Read: "2", Mode: "bench"}}, nil} {
		if err := s.AddProofs(ctx, list); err != nil {
			t.Fatalf("%d: %v", i, err)
		}
	}
	before, rev := s.Proofs("bench")
	_ = s.Close()
	s = opened(t, dir)
	after, again := s.Proofs("bench")
	if plant, _ := s.Proofs("plant"); len(plant) != 1 || plant["a"].Read != "1" {
		t.Errorf("on the plant count %s", asJSON(plant))
	}
	if rev != 3 || again != 3 || len(after) != 2 || asJSON(before) != asJSON(after) || after["a"].Read != "2" ||
		after["a"].AtMs == 0 {
		t.Errorf("%d, %d: %s, %s", rev, again, asJSON(before), asJSON(after))
	}
	if list, err := s.ProofsOf(ctx, "a"); err != nil || len(list) != 2 || list[1].Read != "1" || list[1].ID != 1 {
		t.Errorf("%+v, %v", list, err)
	}
}
