package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"time"

	"ferry/internal/core/checkout"
)

// proofs are the last ones of each point, as they are on the disk. A map that was handed
// out never changes.
type proofs struct {
	last map[string]*checkout.Proved
	rev  int64 // the number of the latest
}

// loadProofs reads the last proof of each point.
func (s *Store) loadProofs(ctx context.Context) error {
	p := &proofs{last: map[string]*checkout.Proved{}}
	list, err := readProofs(ctx, s.db, `SELECT id, doc FROM proof WHERE id IN (SELECT max(id) FROM proof GROUP BY point)`)
	if err != nil {
		return err
	}
	for i := range list {
		p.last[list[i].Point], p.rev = &list[i], max(p.rev, list[i].ID)
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
	err := inOne(ctx, s.db, func(tx *sql.Tx) error {
		for i := range list {
			p := &list[i]
			p.AtMs = at.UnixMilli()
			doc, err := json.Marshal(p)
			if err != nil {
				return err
			}
			result, err := tx.ExecContext(ctx, `INSERT INTO proof (at, who, point, doc) VALUES (?, ?, ?, ?)`,
				at.UTC().Format(time.RFC3339Nano), p.Who, p.Point, string(doc))
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
	next := &proofs{last: maps.Clone(was.last), rev: list[len(list)-1].ID}
	for i := range list {
		p := list[i]
		next.last[p.Point] = &p
	}
	s.proofs.Store(next)
	return nil
}

// Proofs returns the last proof of each point, which must not be changed, and the number of
// the latest of them.
func (s *Store) Proofs() (last map[string]*checkout.Proved, rev int64) {
	p := s.proofs.Load()
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
