package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "ferry/internal/families"

	"ferry/internal/bench"
	"ferry/internal/core/site"
)

// spoil writes over part of a file.
func spoil(t *testing.T, path string, at int64, with []byte) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteAt(with, at); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
}

// edited makes n edits of the line's name and leaves the folder as a kill would.
func edited(t *testing.T, dir string, n int) *Store {
	t.Helper()
	s := opened(t, dir)
	for i := range n {
		if _, err := s.Edit(context.Background(), "test", "renamed it",
			[]BasedEdit{{rename("plantnet", fmt.Sprint("Net ", i)), s.Now().Seq}}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// TestFoundDamaged: what is wrong with the files is said, with the way out, and
// nothing begins anew without a word.
func TestFoundDamaged(t *testing.T) {
	ctx := context.Background()
	run := func(dir, statement string) {
		db, err := sql.Open("sqlite", filepath.Join(dir, siteFile))
		if err == nil {
			_, err = db.Exec(statement)
		}
		if err != nil {
			t.Fatal(err)
		}
		_ = db.Close()
	}
	for _, c := range []struct {
		name    string
		spoil   func(dir string)
		refused string // what opening says; "" where it opens
		notice  string
	}{
		{"newer tables", func(dir string) {
			run(dir, `INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`)
		}, "newer version", ""},
		{"a kind of object that is not known", func(dir string) {
			run(dir, `INSERT INTO object (kind, id, parent, doc, version) VALUES ('tide', 'a', '', '{}', 1)`)
		}, "does not know", ""},
		{"a field that is not known", func(dir string) {
			run(dir, `UPDATE object SET doc = json_set(doc, '$.draught', 3) WHERE kind = 'line'`)
		}, "draught", ""},
		{"an empty site.db", func(dir string) { _ = os.Truncate(filepath.Join(dir, siteFile), 0) }, "is empty", ""},
		{"no site.db beside its copies", func(dir string) { _ = os.Remove(filepath.Join(dir, siteFile)) },
			"put the latest", ""},
		{"a damaged site.db", func(dir string) {
			spoil(t, filepath.Join(dir, siteFile), 4096, []byte(strings.Repeat("tide", 4096)))
		}, "damaged", ""},
		{"damaged samples", func(dir string) {
			spoil(t, filepath.Join(dir, samplesFile), 0, []byte(strings.Repeat("tide", 1024)))
		}, "", "samples.db was damaged"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			if err := edited(t, dir, 2).Close(); err != nil {
				t.Fatal(err)
			}
			c.spoil(dir)
			s, err := Open(ctx, dir, bench.Demo)
			if c.refused != "" {
				if err == nil || !strings.Contains(err.Error(), c.refused) {
					t.Fatalf("it opens with %v", err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			if got := strings.Join(s.Notices(), " "); !strings.Contains(got, c.notice) {
				t.Errorf("it says %q", got)
			}
			if now, _ := s.Site(); now.Line("plantnet").Name != "Net 1" {
				t.Errorf("the line is called %s", now.Line("plantnet").Name)
			}
		})
	}
}

// TestJournalOfTheDatabaseDamaged: edits that were acknowledged and are lost with
// the database's own journal are said to be, and what was found is kept.
func TestJournalOfTheDatabaseDamaged(t *testing.T) {
	dir := t.TempDir()
	first := edited(t, dir, 6) // and not closed: what it did is in the journal
	killed := t.TempDir()
	for _, name := range []string{siteFile, siteFile + "-wal", markFile} {
		if err := copyFile(filepath.Join(dir, name), filepath.Join(killed, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	undamaged := t.TempDir()
	for _, name := range []string{siteFile, siteFile + "-wal", markFile} {
		if err := copyFile(filepath.Join(killed, name), filepath.Join(undamaged, name)); err != nil {
			t.Fatal(err)
		}
	}
	if s := opened(t, undamaged); len(s.Notices()) != 0 {
		t.Errorf("after a kill it says %q", s.Notices())
	}
	wal := filepath.Join(killed, siteFile+"-wal")
	info, err := os.Stat(wal)
	if err != nil {
		t.Fatal(err)
	}
	spoil(t, wal, info.Size()*2/3, []byte("tide"))
	s := opened(t, killed)
	if got := strings.Join(s.Notices(), " "); !strings.Contains(got, "changes of the site are missing") ||
		!strings.Contains(got, "damaged-") {
		t.Errorf("it says %q", got)
	}
	if kept, err := filepath.Glob(filepath.Join(killed, copiesFolder, "damaged-*", siteFile+"-wal")); err != nil ||
		len(kept) != 1 {
		t.Errorf("kept as found: %v, %v", kept, err)
	}
}

// TestCopies: there is one a day, the oldest go, and one is kept before the
// tables change.
func TestCopies(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir)
	day := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	for i := range keptCopies + 5 {
		s.now = func() time.Time { return day.AddDate(0, 0, i) }
		for range 2 {
			if err := s.KeepCopy(context.Background()); err != nil {
				t.Fatal(err)
			}
		}
	}
	list, err := filepath.Glob(filepath.Join(dir, copiesFolder, "site-*.db"))
	if err != nil || len(list) != keptCopies {
		t.Errorf("%d copies: %v, %v", len(list), list, err)
	}
	old := t.TempDir() // a copy opens as a site
	if err := copyFile(list[0], filepath.Join(old, siteFile)); err != nil {
		t.Fatal(err)
	}
	if now, _ := opened(t, old).Site(); asJSON(now) != asJSON(bench.Demo()) {
		t.Error("the copy is another site")
	}
	db, err := sql.Open("sqlite", filepath.Join(old, siteFile))
	if err == nil { // as the version before wrote it
		_, err = db.Exec(`DROP INDEX written_open; ALTER TABLE written DROP COLUMN open; DROP TABLE proof; DROP TABLE snapshot; DELETE FROM goose_db_version WHERE version_id >= 2;
			INSERT INTO written (at, who, result) VALUES ('2026-11-01T10:00:00Z', 'a window', '{"ok":true,"atMs":5}')`)
	}
	if err != nil {
		t.Fatal(err)
	}
	_ = db.Close()
	migrated := opened(t, old)
	if list, err := migrated.WrittenList(context.Background(), 9); err != nil || len(list) != 1 ||
		!strings.Contains(string(list[0].Result), `"state":"written"`) {
		t.Errorf("%+v, %v", list, err)
	}
	if list, err := filepath.Glob(filepath.Join(old, copiesFolder, "site-before-version-2-*.db")); err != nil ||
		len(list) != 1 {
		t.Errorf("before the tables changed: %v, %v", list, err)
	}
}

// TestRemovedStaysRemoved: an edit of what was removed is refused after a
// restart as before it.
func TestRemovedStaysRemoved(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	s := opened(t, dir)
	seq := s.Now().Seq
	if _, err := s.Edit(ctx, "one", "removed the probe",
		[]BasedEdit{{site.Edit{Kind: site.KindDevice, ID: "do11"}, seq}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = opened(t, dir)
	for _, e := range []site.Edit{
		{Kind: site.KindDevice, ID: "do11", After: json.RawMessage(`{"name":"DO probe 11","ports":[]}`)},
		{Kind: site.KindPoint, ID: "do11-01", Parent: "do11", After: json.RawMessage(`{"name":"Oxygen"}`)},
	} {
		if _, err := s.Edit(ctx, "two", "changed it", []BasedEdit{{e, seq}}); code(err) != "stale" {
			t.Errorf("an edit of a removed %s: %v", e.Kind, err)
		}
	}
	if now, _ := s.Site(); now.Device("do11") != nil {
		t.Error("half of it is back")
	}
}

// TestFiftyEditors: everybody counts a number up in the site; what was accepted
// is there, whatever they read meanwhile.
func TestFiftyEditors(t *testing.T) {
	s, ctx := opened(t, t.TempDir()), context.Background()
	var accepted [10]atomic.Int64
	const start = "counted 0"
	remark := func(n *Snapshot, i int) (string, site.Device) {
		d := n.Site.Devices[i+1] // the first is the controller
		d.Points = nil
		if d.Remark == "" || !strings.HasPrefix(d.Remark, "counted ") {
			d.Remark = start
		}
		return d.Remark, d
	}
	var wg sync.WaitGroup
	for w := range 50 {
		wg.Go(func() {
			random := rand.New(rand.NewPCG(uint64(w), 7))
			for range 40 {
				i := random.IntN(10)
				n := s.Now()
				_, d := remark(n, i)
				var count int
				if _, err := fmt.Sscanf(d.Remark, "counted %d", &count); err != nil {
					t.Error(err)
					return
				}
				d.Remark = fmt.Sprint("counted ", count+1)
				_, err := s.Edit(ctx, "test", "counted",
					[]BasedEdit{{site.Put(site.KindDevice, d.ID, "", d), n.Versions(site.KindDevice, "")[d.ID]}})
				switch {
				case err == nil:
					accepted[i].Add(1)
				case code(err) != "stale":
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	total := int64(0)
	for i := range accepted {
		text, _ := remark(s.Now(), i)
		if want := fmt.Sprint("counted ", accepted[i].Load()); text != want {
			t.Errorf("object %d: %s, and accepted were %d", i, text, accepted[i].Load())
		}
		total += accepted[i].Load()
	}
	t.Logf("%d accepted edits", total)
}

// TestJournalIsBounded: the oldest steps go, and what is left can be taken back.
func TestJournalIsBounded(t *testing.T) {
	dir := t.TempDir()
	s := edited(t, dir, 3)
	s.mu.Lock()
	s.bytes += keptStepBytes // as if the first were that large
	s.rows[0].bytes += keptStepBytes
	s.mu.Unlock()
	if _, err := s.Edit(context.Background(), "test", "one more",
		[]BasedEdit{{rename("plantnet", "Last"), s.Now().Seq}}); err != nil {
		t.Fatal(err)
	}
	entries, err := s.Journal(context.Background(), 99)
	if err != nil || len(entries) != 4 {
		t.Fatalf("%d rows, %v", len(entries), err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = opened(t, dir)
	for range 4 {
		if _, err := s.Undo(context.Background(), "test"); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.Undo(context.Background(), "test"); code(err) != "nothing" {
		t.Error(err)
	}
}
