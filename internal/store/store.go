// Package store keeps a site, its journal and its samples in SQLite.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
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
// in a file of their own, with less care and a bounded size.
type Store struct {
	db      *sql.DB
	samples *sql.DB
	now     func() time.Time

	mu       sync.Mutex
	site     *site.Site
	versions map[string]int64 // kind and id -> journal number of the last change
	seq      int64
	undo     []int64 // journal rows that can be taken back, the latest last
	redo     []int64 // and those that can be done again
}

// Open opens the data folder dir, creating it if needed. first gives the site
// of a new folder.
func Open(ctx context.Context, dir string, first func() *site.Site) (*Store, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	db, err := open(ctx, filepath.Join(dir, "site.db"), "FULL", siteMigrations, "migrations")
	if err != nil {
		return nil, err
	}
	samples, err := open(ctx, filepath.Join(dir, "samples.db"), "NORMAL", sampleMigrations, "samplemigrations")
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s := &Store{db: db, samples: samples, now: time.Now}
	err = s.load(ctx)
	if err == nil && s.seq == 0 {
		err = s.begin(ctx, first())
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func open(ctx context.Context, path, synchronous string, migrations fs.FS, folder string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous("+synchronous+")&_pragma=busy_timeout(5000)&_pragma=foreign_keys(1)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // one writer; reads are short
	sub, err := fs.Sub(migrations, folder)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	if _, err := provider.Up(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), db.Close())
	}
	return db, nil
}

// Close closes the files.
func (s *Store) Close() error { return errors.Join(s.db.Close(), s.samples.Close()) }

func key(kind site.Kind, id string) string { return string(kind) + "\x00" + id }

// load reads the site back from its rows.
func (s *Store) load(ctx context.Context) error {
	s.site = &site.Site{Format: site.Format, Version: site.Version, Lines: []site.Line{}, Devices: []site.Device{}, Links: []site.Link{}, Crossings: []site.Crossing{}}
	s.versions = map[string]int64{}
	docs := map[string]json.RawMessage{}
	rows, err := s.db.QueryContext(ctx, `SELECT kind, id, doc, version FROM object`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var kind, id, doc string
		var version int64
		if err := rows.Scan(&kind, &id, &doc, &version); err != nil {
			return err
		}
		docs[key(site.Kind(kind), id)] = json.RawMessage(doc)
		s.versions[key(site.Kind(kind), id)] = version
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if doc, ok := docs[key(site.KindSite, "")]; ok {
		if err := json.Unmarshal(doc, s.site); err != nil {
			return err
		}
	}
	orders, err := s.orders(ctx)
	if err != nil {
		return err
	}
	err = errors.Join(
		gather(docs, orders, site.KindLine, "", &s.site.Lines),
		gather(docs, orders, site.KindDevice, "", &s.site.Devices),
		gather(docs, orders, site.KindLink, "", &s.site.Links),
		gather(docs, orders, site.KindCrossing, "", &s.site.Crossings),
		gather(docs, orders, site.KindDatasheet, "", &s.site.Datasheets),
		gather(docs, orders, site.KindStructure, "", &s.site.Structures),
		gather(docs, orders, site.KindHeadings, "", &s.site.Headings),
	)
	for i := range s.site.Devices {
		d := &s.site.Devices[i]
		d.Points = []site.Point{}
		err = errors.Join(err, gather(docs, orders, site.KindPoint, d.ID, &d.Points))
	}
	if err != nil {
		return err
	}
	return s.loadJournal(ctx)
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

func gather[T any](docs map[string]json.RawMessage, orders map[string][]string, kind site.Kind, parent string, into *[]T) error {
	for _, id := range orders[key(kind, parent)] {
		var item T
		if err := json.Unmarshal(docs[key(kind, id)], &item); err != nil {
			return fmt.Errorf("%s %s: %w", kind, id, err)
		}
		*into = append(*into, item)
	}
	return nil
}

// begin fills a new folder with its first site.
func (s *Store) begin(ctx context.Context, first *site.Site) error {
	next, changes, err := s.site.Apply(site.Diff(s.site, first))
	if err != nil {
		return err
	}
	_, err = s.keep(ctx, next, changes, Entry{Who: "Ferry", Action: "edit", Target: -1, What: "Began the site " + first.Name})
	return err
}

// Site returns the site as it is now, and the number of its last change. The
// site must not be changed.
func (s *Store) Site() (*site.Site, int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.site, s.seq
}

// Versions returns the journal number of the last change of each object that
// has the given kind.
func (s *Store) Versions(kind site.Kind) map[string]int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := map[string]int64{}
	for k, v := range s.versions {
		if id, ok := strings.CutPrefix(k, string(kind)+"\x00"); ok {
			list[id] = v
		}
	}
	return list
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
		if version := s.versions[key(e.Kind, e.ID)]; version > e.Base {
			return Entry{}, s.stale(ctx, e, version)
		}
	}
	return s.apply(ctx, plain, Entry{Who: who, Action: "edit", What: what})
}

// Change computes edits from the site as it is now and applies them as one
// step, for edits that are relative to what is there.
func (s *Store) Change(ctx context.Context, who, what string, edits func(*site.Site) ([]site.Edit, error)) (Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, err := edits(s.site)
	if err != nil {
		return Entry{}, err
	}
	return s.apply(ctx, list, Entry{Who: who, Action: "edit", What: what})
}

func (s *Store) stale(ctx context.Context, e BasedEdit, version int64) error {
	p := problem.New("stale", fmt.Sprintf("This %s has been changed in the meantime.", e.Kind), "Look at what it is now, and enter your change again if it still holds.").At(string(e.Kind) + " " + e.ID)
	if entry, err := s.entry(ctx, version); err == nil {
		p.Sentence = fmt.Sprintf("This %s was changed in another window at %s: %s.", e.Kind, entry.At.Local().Format("15:04:05"), entry.What)
	}
	return p
}

func (s *Store) apply(ctx context.Context, edits []site.Edit, entry Entry) (Entry, error) {
	next, changes, err := s.site.Apply(edits)
	if err != nil {
		return Entry{}, err
	}
	if len(changes) == 0 {
		return Entry{Seq: s.seq}, nil
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

func (s *Store) again(ctx context.Context, who, action string, list *[]int64, edits func([]site.Change) []site.Edit) (Entry, error) {
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
	next, changes, err := s.site.Apply(edits(old.Changes))
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
	result, err := tx.ExecContext(ctx, `INSERT INTO journal (at, who, action, target, what, changes) VALUES (?, ?, ?, ?, ?, ?)`,
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
	s.site = next
	for _, c := range changes {
		s.versions[key(c.Kind, c.ID)] = entry.Seq // of removed objects too: an edit of one is stale
	}
	s.stack(entry.Seq, entry.Action, entry.Target)
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
		case site.KindDatasheet:
			ids = idsOf(next.Datasheets, func(d site.Datasheet) string { return d.ID })
		case site.KindStructure:
			ids = idsOf(next.Structures, func(t site.Structure) string { return t.ID })
		case site.KindHeadings:
			ids = idsOf(next.Headings, func(h site.Headings) string { return h.ID })
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
