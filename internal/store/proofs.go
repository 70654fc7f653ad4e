package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"ferry/internal/core/checkout"
)

// proofs are the last ones of each point, as they are on the disk: of all, and of those that
// were made on the plant. A map that was handed out never changes.
type proofs struct {
	last, plant map[string]*checkout.Proved
	rev         int64 // the number of the latest
}

// plantMode is the mode of proofs that were made with real devices.
const plantMode = "plant"

func (p *proofs) add(proof *checkout.Proved) {
	p.last[proof.Point], p.rev = proof, max(p.rev, proof.ID)
	if proof.Mode == plantMode {
		p.plant[proof.Point] = proof
	}
}

// loadProofs reads the last proof of each point.
func (s *Store) loadProofs(ctx context.Context) error {
	p := &proofs{last: map[string]*checkout.Proved{}, plant: map[string]*checkout.Proved{}}
	list, err := readProofs(ctx, s.db, `SELECT id, doc FROM proof WHERE id IN (SELECT max(id) FROM proof
		GROUP BY point, json_extract(doc, '$.mode')) ORDER BY id`)
	if err != nil {
		return err
	}
	for i := range list {
		p.add(&list[i])
	}
	s.proofs.Store(p)
	return nil
}

// readProofs reads rows of proofs.
func readProofs(ctx context.Context, db *sql.DB, query string, args ...any) ([]checkout.Proved, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []checkout.Proved{}
	for rows.Next() {
		var p checkout.Proved
		var id int64
		var doc string
		if err := rows.Scan(&id, &doc); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(doc), &p); err != nil {
			return nil, fmt.Errorf("proof %d: %w", id, err)
		}
		p.ID = id
		list = append(list, p)
	}
	return list, rows.Err()
}

// AddProofs keeps proofs, all of them or none, and gives them their numbers and their time.
func (s *Store) AddProofs(ctx context.Context, list []checkout.Proved) error {
	s.proving.Lock()
	defer s.proving.Unlock()
	at := s.now()
	for i := range list {
		list[i].AtMs = at.UnixMilli()
	}
	return s.keepProofs(ctx, list)
}

// TakeProofs keeps proofs that were made elsewhere, with their times. One of a point of which a
// later one is there is left out, in each mode for itself.
func (s *Store) TakeProofs(ctx context.Context, list []checkout.Proved) (taken int, err error) {
	s.proving.Lock()
	defer s.proving.Unlock()
	was, later := s.proofs.Load(), []checkout.Proved{}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b checkout.Proved) int { return cmp.Compare(a.AtMs, b.AtMs) })
	for i := range list {
		last := was.last[list[i].Point]
		if list[i].Mode == plantMode {
			last = was.plant[list[i].Point]
		}
		if last == nil || last.AtMs < list[i].AtMs {
			later = append(later, list[i])
		}
	}
	return len(later), s.keepProofs(ctx, later)
}

// keepProofs keeps proofs as they are. It is called with proving held.
func (s *Store) keepProofs(ctx context.Context, list []checkout.Proved) error {
	err := inOne(ctx, s.db, func(tx *sql.Tx) error {
		for i := range list {
			p := &list[i]
			doc, err := json.Marshal(p)
			if err != nil {
				return err
			}
			result, err := tx.ExecContext(ctx, `INSERT INTO proof (at, who, point, doc) VALUES (?, ?, ?, ?)`,
				time.UnixMilli(p.AtMs).UTC().Format(time.RFC3339Nano), p.Who, p.Point, string(doc))
			if err == nil {
				p.ID, err = result.LastInsertId()
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil || len(list) == 0 {
		return err
	}
	was := s.proofs.Load()
	next := &proofs{last: maps.Clone(was.last), plant: maps.Clone(was.plant), rev: was.rev}
	for i := range list {
		p := list[i]
		next.add(&p)
	}
	s.proofs.Store(next)
	return nil
}

// Proofs returns the last proof of each point, which must not be changed, and the number of
// the latest of them. On the plant those alone count that were made there: the bench is a
// rehearsal.
func (s *Store) Proofs(mode string) (last map[string]*checkout.Proved, rev int64) {
	p := s.proofs.Load()
	if mode == plantMode {
		return p.plant, p.rev
	}
	return p.last, p.rev
}

// ProofsOf returns the proofs of a point, the latest first.
func (s *Store) ProofsOf(ctx context.Context, point string) ([]checkout.Proved, error) {
	return readProofs(ctx, s.reads, `SELECT id, doc FROM proof WHERE point = ? ORDER BY id DESC LIMIT 100`, point)
}

// AllProofs returns every proof that was made, the latest first, at most so many.
func (s *Store) AllProofs(ctx context.Context, most int) ([]checkout.Proved, error) {
	return readProofs(ctx, s.reads, `SELECT id, doc FROM proof ORDER BY id DESC LIMIT ?`, most)
}
