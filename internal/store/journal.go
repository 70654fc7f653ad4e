package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ferry/internal/core/site"
)

// Entry is one row of the journal.
type Entry struct {
	Seq     int64         `json:"seq"`
	At      time.Time     `json:"at"`
	Who     string        `json:"who"`
	Action  string        `json:"action"`
	Target  int64         `json:"target,omitempty"`
	What    string        `json:"what"`
	Changes []site.Change `json:"changes,omitempty"`
}

// Bounds of the journal of changes. Steps beyond them can no longer be taken
// back.
const (
	KeptSteps     = 20_000
	keptStepBytes = 256 << 20
)

// rowSize is how much a journal row takes.
type rowSize struct{ seq, bytes int64 }

// loadJournal finds out what can be taken back and done again.
func (s *Store) loadJournal(ctx context.Context, n *Snapshot) error {
	rows, err := s.db.QueryContext(ctx, `SELECT seq, action, target, length(changes) FROM journal ORDER BY seq`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var seq, target, size int64
		var action string
		if err := rows.Scan(&seq, &action, &target, &size); err != nil {
			return err
		}
		s.stack(seq, action, target, size)
		n.Seq = seq
	}
	n.CanUndo, n.CanRedo = len(s.undo) > 0, len(s.redo) > 0
	return rows.Err()
}

// stack notes a journal row in the lists of what can be undone and redone. The
// row that begins a site is no edit of it.
func (s *Store) stack(seq int64, action string, target, size int64) {
	s.rows, s.bytes = append(s.rows, rowSize{seq, size}), s.bytes+size
	switch {
	case action == "edit" && target == -1:
	case action == "edit":
		s.undo, s.redo = append(s.undo, seq), nil
	case action == "undo":
		s.undo, s.redo = s.undo[:max(0, len(s.undo)-1)], append(s.redo, target)
	default:
		s.redo, s.undo = s.redo[:max(0, len(s.redo)-1)], append(s.undo, target)
	}
}

// prune drops the oldest rows of the journal beyond its bounds. The lock is
// held.
func (s *Store) prune(ctx context.Context) error {
	drop, freed := 0, int64(0)
	for len(s.rows)-drop > 1 && (len(s.rows)-drop > KeptSteps+KeptSteps/10 || s.bytes-freed > keptStepBytes) {
		freed += s.rows[drop].bytes
		drop++
	}
	if drop == 0 {
		return nil
	}
	if len(s.rows)-drop > KeptSteps { // many at a time, so that it is done seldom
		drop = len(s.rows) - KeptSteps
	}
	last := s.rows[drop-1].seq
	if _, err := s.db.ExecContext(ctx, `DELETE FROM journal WHERE seq <= ?`, last); err != nil {
		return fmt.Errorf("the oldest of the journal could not be dropped: %w", err)
	}
	for _, row := range s.rows[:drop] {
		s.bytes -= row.bytes
	}
	s.rows = slices.Delete(s.rows, 0, drop)
	old := func(seq int64) bool { return seq <= last }
	s.undo, s.redo = slices.DeleteFunc(s.undo, old), slices.DeleteFunc(s.redo, old)
	return nil
}

func (s *Store) entry(ctx context.Context, seq int64) (Entry, error) {
	list, err := s.entries(ctx, `SELECT seq, at, who, action, target, what, changes FROM journal WHERE seq = ?`, seq)
	if err != nil {
		return Entry{}, err
	}
	if len(list) == 0 {
		return Entry{}, fmt.Errorf("journal row %d is missing", seq)
	}
	return list[0], nil
}

// Journal returns the latest rows of the journal, the newest first, without
// their changes.
func (s *Store) Journal(ctx context.Context, most int) ([]Entry, error) {
	return s.entries(ctx, `SELECT seq, at, who, action, target, what, '[]' FROM journal ORDER BY seq DESC LIMIT ?`,
		most)
}

func (s *Store) entries(ctx context.Context, query string, arg any) ([]Entry, error) {
	rows, err := s.reads.QueryContext(ctx, query, arg)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Entry{}
	for rows.Next() {
		var e Entry
		var at, changes string
		if err := rows.Scan(&e.Seq, &at, &e.Who, &e.Action, &e.Target, &e.What, &changes); err != nil {
			return nil, err
		}
		if e.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(changes), &e.Changes); err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	return list, rows.Err()
}

// Written is one row of the journal of writes to devices.
type Written struct {
	ID  int64     `json:"id"`
	At  time.Time `json:"at"`
	Who string    `json:"who"`
	// Open is set while the outcome is not kept.
	Open   bool            `json:"open"`
	Result json.RawMessage `json:"result"`
}

// KeptWrites bounds the journal of writes to devices.
const KeptWrites = 100_000

// BeginWrite journals a write to a device before it goes, and returns the id of
// its row. doc is JSON.
func (s *Store) BeginWrite(ctx context.Context, who string, doc []byte) (int64, error) {
	result, err := s.db.ExecContext(ctx, `INSERT INTO written (at, who, result, open) VALUES (?, ?, ?, 1)`,
		s.now().UTC().Format(time.RFC3339Nano), who, string(doc))
	if err != nil {
		return 0, err
	}
	id, err := result.LastInsertId()
	if err == nil && id%1000 == 0 {
		_, err = s.db.ExecContext(ctx, `DELETE FROM written WHERE id <= ? AND open = 0`, id-KeptWrites)
	}
	return id, err
}

// Outcome is what became of a write: its row as it is to be kept, and whether
// more is still to come.
type Outcome struct {
	ID   int64
	Doc  []byte
	Open bool
}

// EndWrites keeps what became of writes, in one transaction.
func (s *Store) EndWrites(ctx context.Context, list []Outcome) error {
	return inOne(ctx, s.db, func(tx *sql.Tx) error {
		for _, o := range list {
			if _, err := tx.ExecContext(ctx, `UPDATE written SET result = ?, open = ? WHERE id = ?`, string(o.Doc),
				o.Open, o.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// WrittenList returns the latest writes to devices, the newest first.
func (s *Store) WrittenList(ctx context.Context, most int) ([]Written, error) {
	return s.written(ctx, `SELECT id, at, who, open, result FROM written ORDER BY id DESC LIMIT ?`, most)
}

// OpenWrites returns the writes whose outcome was never kept.
func (s *Store) OpenWrites(ctx context.Context) ([]Written, error) {
	return s.written(ctx, `SELECT id, at, who, open, result FROM written WHERE open = 1 LIMIT ?`, KeptWrites)
}

func (s *Store) written(ctx context.Context, query string, arg any) ([]Written, error) {
	rows, err := s.reads.QueryContext(ctx, query, arg)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Written{}
	for rows.Next() {
		var w Written
		var at, result string
		if err := rows.Scan(&w.ID, &at, &w.Who, &w.Open, &result); err != nil {
			return nil, err
		}
		if w.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, err
		}
		w.Result = json.RawMessage(result)
		list = append(list, w)
	}
	return list, rows.Err()
}

// inOne writes in one transaction.
func inOne(ctx context.Context, db *sql.DB, write func(*sql.Tx) error) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	if err := write(tx); err != nil {
		return err
	}
	return tx.Commit()
}
