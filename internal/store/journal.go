package store

import (
	"context"
	"encoding/json"
	"fmt"
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

// loadJournal finds out what can be taken back and done again.
func (s *Store) loadJournal(ctx context.Context) error {
	rows, err := s.db.QueryContext(ctx, `SELECT seq, action, target FROM journal ORDER BY seq`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var seq, target int64
		var action string
		if err := rows.Scan(&seq, &action, &target); err != nil {
			return err
		}
		s.stack(seq, action, target)
	}
	return rows.Err()
}

// stack notes a journal row in the lists of what can be undone and redone. The
// row that begins a site is no edit of it.
func (s *Store) stack(seq int64, action string, target int64) {
	s.seq = seq
	switch {
	case action == "edit" && target == -1:
	case action == "edit":
		s.undo, s.redo = append(s.undo, seq), nil
	case action == "undo":
		s.undo, s.redo = s.undo[:len(s.undo)-1], append(s.redo, target)
	default:
		s.redo, s.undo = s.redo[:len(s.redo)-1], append(s.undo, target)
	}
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
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.entries(ctx, `SELECT seq, at, who, action, target, what, '[]' FROM journal ORDER BY seq DESC LIMIT ?`, most)
}

func (s *Store) entries(ctx context.Context, query string, arg any) ([]Entry, error) {
	rows, err := s.db.QueryContext(ctx, query, arg)
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

// CanUndo and CanRedo say what the next Undo or Redo would concern.
func (s *Store) CanUndo() (undo, redo bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.undo) > 0, len(s.redo) > 0
}

// Written is one row of the journal of writes to devices.
type Written struct {
	ID     int64           `json:"id"`
	At     time.Time       `json:"at"`
	Who    string          `json:"who"`
	Result json.RawMessage `json:"result"`
}

// AddWritten journals a write to a device. result is kept as JSON.
func (s *Store) AddWritten(ctx context.Context, who string, result any) error {
	data, err := json.Marshal(result)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO written (at, who, result) VALUES (?, ?, ?)`, s.now().UTC().Format(time.RFC3339Nano), who, string(data))
	return err
}

// WrittenList returns the latest writes to devices, the newest first.
func (s *Store) WrittenList(ctx context.Context, most int) ([]Written, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, at, who, result FROM written ORDER BY id DESC LIMIT ?`, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Written{}
	for rows.Next() {
		var w Written
		var at, result string
		if err := rows.Scan(&w.ID, &at, &w.Who, &result); err != nil {
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
