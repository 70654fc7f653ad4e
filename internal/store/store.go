// Package store keeps a site, its journal and its samples in SQLite.
package store

import (
	"bytes"
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

//go:embed migrations/*.sql
var siteMigrations embed.FS

//go:embed samplemigrations/*.sql
var sampleMigrations embed.FS

// Store is an open data folder. What it was told to keep is on the disk when
// the call returns: it survives a kill and a loss of power. Samples are kept
// in a file of their own, with less care and a bounded size, and trends in another.
//
// Whoever reads the site gets the latest Snapshot and waits for nobody; whoever
// changes it takes turns.
type Store struct {
	dir     string
	db      *sql.DB
	reads   *sql.DB // of the same file; they do not wait for a change
	samples *sql.DB
	trends  *sql.DB
	now     func() time.Time
	mark    *os.File
	notices []string

	snapshot atomic.Pointer[Snapshot]
	proofs   atomic.Pointer[proofs]
	proving  sync.Mutex // held while proofs are kept

	mu    sync.Mutex // held while a change is made
	undo  []int64    // journal rows that can be taken back, the latest last
	redo  []int64    // and those that can be done again
	rows  []rowSize  // of the journal, the oldest first
	bytes int64      // of these
}

// Open opens the data folder dir, creating it if needed. first gives the site
// of a new folder.
func Open(ctx context.Context, dir string, first func() *site.Site) (*Store, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if err := begin(ctx, dir, first); err != nil {
		return nil, err
	}
	return open(ctx, dir)
}

// Notices says what was found when the folder was opened that somebody has to
// know: what was damaged, and what was kept of it.
func (s *Store) Notices() []string { return s.notices }

// uri names a file to SQLite, whatever its path holds.
func uri(path string) string {
	return "file:" + strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path)
}

// connect opens one file, brings its tables up to date and sees to it that this
// version knows them all. copied, if set, is called before they are changed.
func connect(ctx context.Context, path, synchronous string, migrations fs.FS, folder string,
	copied func(*sql.DB, int64) error) (*sql.DB, error) {
	db, err := sql.Open("sqlite",
		uri(path)+"?_pragma=journal_mode(WAL)&_pragma=synchronous("+synchronous+
			")&_pragma=busy_timeout(5000)&_pragma=foreign_keys(1)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // one writer
	fail := func(err error) (*sql.DB, error) { return nil, errors.Join(err, db.Close()) }
	var sound string
	if err := db.QueryRowContext(ctx, `PRAGMA quick_check(1)`).Scan(&sound); err != nil || sound != "ok" {
		return fail(&Damaged{filepath.Base(path), errors.Join(err, errors.New(sound))})
	}
	sub, err := fs.Sub(migrations, folder)
	if err != nil {
		return fail(err)
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		return fail(err)
	}
	at, known, err := provider.GetVersions(ctx)
	if err != nil {
		return fail(fmt.Errorf("%s: %w", filepath.Base(path), err))
	}
	if at > known {
		return fail(fmt.Errorf("%s was written by a newer version of Ferry (its tables are of version %d, and this "+
			"one knows %d): open it with that version, or go on from an earlier copy in %s",
			filepath.Base(path), at, known, copiesFolder))
	}
	if at > 0 && at < known && copied != nil {
		if err := copied(db, at); err != nil {
			return fail(fmt.Errorf("no copy could be kept before the tables of %s are changed: %w", filepath.Base(path),
				err))
		}
	}
	if _, err := provider.Up(ctx); err != nil {
		return fail(fmt.Errorf("%s: %w", filepath.Base(path), err))
	}
	return db, nil
}

// Close closes the files.
func (s *Store) Close() error {
	var errs []error
	for _, db := range []*sql.DB{s.reads, s.db, s.samples, s.trends} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	if s.mark != nil {
		errs = append(errs, s.mark.Close())
	}
	return errors.Join(errs...)
}

func key(kind site.Kind, id string) string { return string(kind) + "\x00" + id }

// load reads the site back from its rows.
func (s *Store) load(ctx context.Context) error {
	n := &Snapshot{versions: map[group]map[string]int64{},
		Site: &site.Site{Format: site.Format, Version: site.Version, Lines: []site.Line{}, Devices: []site.Device{},
			Links: []site.Link{}, Crossings: []site.Crossing{}}}
	docs := map[string]json.RawMessage{}
	rows, err := s.db.QueryContext(ctx, `SELECT kind, id, parent, doc, version FROM object`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var kind, id, parent, doc string
		var version int64
		if err := rows.Scan(&kind, &id, &parent, &doc, &version); err != nil {
			return err
		}
		docs[key(site.Kind(kind), id)] = json.RawMessage(doc)
		g := groupOf(site.Kind(kind), parent)
		if n.versions[g] == nil {
			n.versions[g] = map[string]int64{}
		}
		n.versions[g][id] = version
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if doc, ok := docs[key(site.KindSite, "")]; ok {
		if err := strictly(doc, n.Site); err != nil {
			return fmt.Errorf("the name of the site: %w", err)
		}
		delete(docs, key(site.KindSite, ""))
	}
	orders, err := s.orders(ctx)
	if err != nil {
		return err
	}
	err = errors.Join(
		gather(docs, orders, site.KindLine, "", &n.Site.Lines),
		gather(docs, orders, site.KindDevice, "", &n.Site.Devices),
		gather(docs, orders, site.KindLink, "", &n.Site.Links),
		gather(docs, orders, site.KindCrossing, "", &n.Site.Crossings),
		gather(docs, orders, site.KindList, "", &n.Site.Lists),
		gather(docs, orders, site.KindDatasheet, "", &n.Site.Datasheets),
		gather(docs, orders, site.KindStructure, "", &n.Site.Structures),
		gather(docs, orders, site.KindHeadings, "", &n.Site.Headings),
		gather(docs, orders, site.KindLookout, "", &n.Site.Lookouts),
		gather(docs, orders, site.KindOutlet, "", &n.Site.Outlets),
	)
	for i := range n.Site.Devices {
		d := &n.Site.Devices[i]
		d.Points = []site.Point{}
		err = errors.Join(err, gather(docs, orders, site.KindPoint, d.ID, &d.Points))
	}
	if err != nil {
		return fmt.Errorf("site.db holds what this version of Ferry does not know, and would lose: %w; open it with "+
			"the version that wrote it", err)
	}
	for k := range docs {
		kind, id, _ := strings.Cut(k, "\x00")
		return fmt.Errorf("site.db holds a %s %q that this version of Ferry does not know, or that has lost its "+
			"place: open it with the version that wrote it, or go on from a copy in %s", kind, id, copiesFolder)
	}
	if err := s.loadJournal(ctx, n); err != nil {
		return err
	}
	if err := s.loadProofs(ctx); err != nil {
		return err
	}
	s.snapshot.Store(n)
	return nil
}

// strictly reads a kept object: a field that this version does not know is an
// error, since it would be lost when the object is kept again.
func strictly(doc json.RawMessage, into any) error {
	d := json.NewDecoder(bytes.NewReader(doc))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

func (s *Store) orders(ctx context.Context) (map[string][]string, error) {
	orders := map[string][]string{}
	rows, err := s.db.QueryContext(ctx, `SELECT kind, parent, ids FROM sibling`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var kind, parent, ids string
		if err := rows.Scan(&kind, &parent, &ids); err != nil {
			return nil, err
		}
		var list []string
		if err := json.Unmarshal([]byte(ids), &list); err != nil {
			return nil, err
		}
		orders[key(site.Kind(kind), parent)] = list
	}
	return orders, rows.Err()
}

func gather[T any](docs map[string]json.RawMessage, orders map[string][]string, kind site.Kind, parent string,
	into *[]T) error {
	for _, id := range orders[key(kind, parent)] {
		var item T
		if err := strictly(docs[key(kind, id)], &item); err != nil {
			return fmt.Errorf("%s %s: %w", kind, id, err)
		}
		delete(docs, key(kind, id))
		*into = append(*into, item)
	}
	return nil
}

// fill gives a new folder its first site.
func (s *Store) fill(ctx context.Context, first *site.Site) error {
	now := s.Now()
	next, changes, err := now.Site.Apply(site.Diff(now.Site, first))
	if err != nil {
		return err
	}
	_, err = s.keep(ctx, next, changes,
		Entry{Who: "Ferry", Action: "edit", Target: -1, What: "Began the site " + first.Name})
	return err
}

// Now returns the site as it is, with its versions.
func (s *Store) Now() *Snapshot { return s.snapshot.Load() }

// Site returns the site as it is now, and the number of its last change. The
// site must not be changed.
func (s *Store) Site() (*site.Site, int64) {
	n := s.Now()
	return n.Site, n.Seq
}

// BasedEdit is an edit with the version of the object that its author saw.
type BasedEdit struct {
	site.Edit
	// Base is that version; 0 for an object that the author creates.
	Base int64 `json:"base"`
}

// Edit applies edits as one step: all or none. If an object has changed since
// its author saw it, nothing is changed and a problem with the code "stale"
// says who changed what.
func (s *Store) Edit(ctx context.Context, who, what string, edits []BasedEdit) (Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	plain := make([]site.Edit, len(edits))
	for i, e := range edits {
		plain[i] = e.Edit
	}
	if err := s.fresh(ctx, edits); err != nil {
		return Entry{}, err
	}
	return s.apply(ctx, plain, Entry{Who: who, Action: "edit", What: what})
}

// fresh refuses edits of what has changed since their author saw it. The lock
// is held.
func (s *Store) fresh(ctx context.Context, edits []BasedEdit) error {
	now := s.Now()
	for _, e := range edits {
		version, there := now.versions[groupOf(e.Kind, e.Parent)][e.ID]
		if version > e.Base || !there && e.Base > 0 {
			return s.stale(ctx, e, version)
		}
	}
	return nil
}

// ChangeOf is Change for edits that also replace what their author saw: seen are
// these objects with their versions, compared as Edit does.
func (s *Store) ChangeOf(ctx context.Context, who, what string, seen []BasedEdit,
	edits func(*site.Site) ([]site.Edit, error)) (Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.fresh(ctx, seen); err != nil {
		return Entry{}, err
	}
	return s.change(ctx, who, what, edits)
}

// Change computes edits from the site as it is now and applies them as one
// step, for edits that are relative to what is there.
func (s *Store) Change(ctx context.Context, who, what string,
	edits func(*site.Site) ([]site.Edit, error)) (Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.change(ctx, who, what, edits)
}

func (s *Store) change(ctx context.Context, who, what string,
	edits func(*site.Site) ([]site.Edit, error)) (entry Entry, err error) {
	defer func() {
		if p := recover(); p != nil { // the lock of the site is held
			log.Printf("working out %q: %v\n%s", what, p, debug.Stack())
			err = problem.New("defect",
				"The change could not be worked out: a defect of Ferry's own. Nothing was changed.",
				"Report it with the log.")
		}
	}()
	list, err := edits(s.Now().Site)
	if err != nil {
		return Entry{}, err
	}
	return s.apply(ctx, list, Entry{Who: who, Action: "edit", What: what})
}

func (s *Store) stale(ctx context.Context, e BasedEdit, version int64) error {
	if version == 0 {
		return problem.New("stale", fmt.Sprintf("This %s has been removed in the meantime.", e.Kind),
			"Undo its removal to have it back, or leave it.").At(string(e.Kind) + " " + e.ID)
	}
	p := problem.New("stale", fmt.Sprintf("This %s has been changed in the meantime.", e.Kind),
		"Look at what it is now, and enter your change again if it still holds.").At(string(e.Kind) + " " + e.ID)
	if entry, err := s.entry(ctx, version); err == nil {
		by := "by " + entry.Who
		if strings.HasPrefix(entry.Who, "window ") || entry.Who == "a window" { // where nobody signs in
			by = "in another window"
		}
		p.Sentence = fmt.Sprintf("This %s was changed %s at %s: %s.", e.Kind, by, entry.At.Local().Format("15:04:05"),
			entry.What)
	}
	return p
}

func (s *Store) apply(ctx context.Context, edits []site.Edit, entry Entry) (Entry, error) {
	now := s.Now()
	next, changes, err := now.Site.Apply(edits)
	if err != nil {
		return Entry{}, err
	}
	if len(changes) == 0 {
		return Entry{Seq: now.Seq}, nil
	}
	return s.keep(ctx, next, changes, entry)
}

// Undo takes the latest edit back. Redo does the edit again that was taken
// back last. Both are journalled as steps of their own.
func (s *Store) Undo(ctx context.Context, who string) (Entry, error) {
	return s.again(ctx, who, "undo", &s.undo, site.Invert)
}

// Redo does again what Undo took back last.
func (s *Store) Redo(ctx context.Context, who string) (Entry, error) {
	return s.again(ctx, who, "redo", &s.redo, func(changes []site.Change) []site.Edit {
		edits := make([]site.Edit, len(changes))
		for i, c := range changes {
			index := c.Index
			edits[i] = site.Edit{Kind: c.Kind, ID: c.ID, Parent: c.Parent, Index: &index, After: c.After}
		}
		return edits
	})
}

func (s *Store) again(ctx context.Context, who, action string, list *[]int64,
	edits func([]site.Change) []site.Edit) (Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(*list) == 0 {
		return Entry{}, problem.New("nothing", "There is nothing to "+action+".", "")
	}
	target := (*list)[len(*list)-1]
	old, err := s.entry(ctx, target)
	if err != nil {
		return Entry{}, err
	}
	next, changes, err := s.Now().Site.Apply(edits(old.Changes))
	if err != nil {
		return Entry{}, err
	}
	return s.keep(ctx, next, changes, Entry{Who: who, Action: action, Target: target, What: old.What})
}

// keep writes a step in one transaction and then shows it. The lock is held.
func (s *Store) keep(ctx context.Context, next *site.Site, changes []site.Change, entry Entry) (Entry, error) {
	entry.At, entry.Changes = s.now().UTC(), changes
	data, err := json.Marshal(changes)
	if err != nil {
		return Entry{}, err
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return Entry{}, err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	result, err := tx.ExecContext(ctx,
		`INSERT INTO journal (at, who, action, target, what, changes) VALUES (?, ?, ?, ?, ?, ?)`,
		entry.At.Format(time.RFC3339Nano), entry.Who, entry.Action, entry.Target, entry.What, string(data))
	if err != nil {
		return Entry{}, err
	}
	if entry.Seq, err = result.LastInsertId(); err != nil {
		return Entry{}, err
	}
	if err := writeObjects(ctx, tx, changes, entry.Seq); err != nil {
		return Entry{}, err
	}
	if err := writeOrders(ctx, tx, next, changes); err != nil {
		return Entry{}, err
	}
	if err := tx.Commit(); err != nil {
		return Entry{}, err
	}
	s.stack(entry.Seq, entry.Action, entry.Target, int64(len(data)))
	s.snapshot.Store(&Snapshot{Site: next, Seq: entry.Seq, CanUndo: len(s.undo) > 0, CanRedo: len(s.redo) > 0,
		versions: s.Now().after(changes, entry.Seq)})
	if err := errors.Join(s.reached(entry.Seq), s.prune(ctx)); err != nil {
		log.Printf("the change %d is kept, but: %v", entry.Seq, err)
	}
	return entry, nil
}

func writeObjects(ctx context.Context, tx *sql.Tx, changes []site.Change, seq int64) error {
	put, err := tx.PrepareContext(ctx, `INSERT INTO object (kind, id, parent, doc, version) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (kind, id) DO UPDATE SET parent = excluded.parent, doc = excluded.doc, version = excluded.version`)
	if err != nil {
		return err
	}
	defer put.Close()
	drop, err := tx.PrepareContext(ctx, `DELETE FROM object WHERE kind = ? AND id = ?`)
	if err != nil {
		return err
	}
	defer drop.Close()
	for _, c := range changes {
		if c.After == nil {
			_, err = drop.ExecContext(ctx, c.Kind, c.ID)
		} else {
			_, err = put.ExecContext(ctx, c.Kind, c.ID, c.Parent, string(c.After), seq)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// writeOrders keeps the order of siblings where one came or went.
func writeOrders(ctx context.Context, tx *sql.Tx, next *site.Site, changes []site.Change) error {
	done := map[string]bool{}
	for _, c := range changes {
		k := key(c.Kind, c.Parent)
		if c.Kind == site.KindSite || done[k] || (c.Before != nil && c.After != nil) {
			continue
		}
		done[k] = true
		ids := []string{}
		switch c.Kind {
		case site.KindLine:
			ids = idsOf(next.Lines, func(l site.Line) string { return l.ID })
		case site.KindDevice:
			ids = idsOf(next.Devices, func(d site.Device) string { return d.ID })
		case site.KindLink:
			ids = idsOf(next.Links, func(l site.Link) string { return l.ID })
		case site.KindCrossing:
			ids = idsOf(next.Crossings, func(x site.Crossing) string { return x.ID })
		case site.KindList:
			ids = idsOf(next.Lists, func(l site.List) string { return l.ID })
		case site.KindDatasheet:
			ids = idsOf(next.Datasheets, func(d site.Datasheet) string { return d.ID })
		case site.KindStructure:
			ids = idsOf(next.Structures, func(t site.Structure) string { return t.ID })
		case site.KindHeadings:
			ids = idsOf(next.Headings, func(h site.Headings) string { return h.ID })
		case site.KindLookout:
			ids = idsOf(next.Lookouts, func(l site.Lookout) string { return l.ID })
		case site.KindOutlet:
			ids = idsOf(next.Outlets, func(o site.Outlet) string { return o.ID })
		case site.KindPoint:
			if d := next.Device(c.Parent); d != nil {
				ids = idsOf(d.Points, func(p site.Point) string { return p.ID })
			}
		default:
			return fmt.Errorf("the order of a %s is not kept", c.Kind) // a kind that was added to the site and not here
		}
		data, err := json.Marshal(ids)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO sibling (kind, parent, ids) VALUES (?, ?, ?)
			ON CONFLICT (kind, parent) DO UPDATE SET ids = excluded.ids`, c.Kind, c.Parent, string(data)); err != nil {
			return err
		}
	}
	return nil
}

func idsOf[T any](list []T, id func(T) string) []string {
	ids := make([]string, len(list))
	for i, item := range list {
		ids[i] = id(item)
	}
	return ids
}
