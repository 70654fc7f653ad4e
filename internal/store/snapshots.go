package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"ferry/internal/core/checkout"
	"ferry/internal/core/problem"
)

// KeptSnapshots bounds how many there are.
const KeptSnapshots = 500

// AddSnapshot keeps what points read, and gives it its number, and its time if it has none.
func (s *Store) AddSnapshot(ctx context.Context, kept *checkout.Snapshot) error {
	var there int
	if err := s.reads.QueryRowContext(ctx, `SELECT count(*) FROM snapshot`).Scan(&there); err != nil {
		return err
	}
	if there >= KeptSnapshots {
		return problem.New("too-many", fmt.Sprintf("%d snapshots are kept already.", there), "Remove some that nobody needs.")
	}
	if kept.AtMs == 0 { // else it was taken elsewhere
		kept.AtMs = s.now().UnixMilli()
	}
	at := time.UnixMilli(kept.AtMs)
	doc, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	result, err := s.db.ExecContext(ctx, `INSERT INTO snapshot (at, who, name, doc) VALUES (?, ?, ?, ?)`,
		at.UTC().Format(time.RFC3339Nano), kept.Who, kept.Name, string(doc))
	if err == nil {
		kept.ID, err = result.LastInsertId()
	}
	return err
}

// Snapshots lists what is kept, the latest first, without the values.
func (s *Store) Snapshots(ctx context.Context) ([]checkout.Snapshot, error) {
	rows, err := s.reads.QueryContext(ctx, `SELECT id, json_remove(doc, '$.values') FROM snapshot ORDER BY id DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []checkout.Snapshot{}
	for rows.Next() {
		var kept checkout.Snapshot
		var doc string
		if err := rows.Scan(&kept.ID, &doc); err != nil {
			return nil, err
		}
		id := kept.ID
		if err := json.Unmarshal([]byte(doc), &kept); err != nil {
			return nil, fmt.Errorf("snapshot %d: %w", id, err)
		}
		kept.ID, kept.Values = id, []checkout.Reading{}
		list = append(list, kept)
	}
	return list, rows.Err()
}

// Snapshot returns one with its values; nil where there is none such.
func (s *Store) Snapshot(ctx context.Context, id int64) (*checkout.Snapshot, error) {
	var doc string
	err := s.reads.QueryRowContext(ctx, `SELECT doc FROM snapshot WHERE id = ?`, id).Scan(&doc)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	kept := &checkout.Snapshot{}
	if err == nil {
		err = json.Unmarshal([]byte(doc), kept)
	}
	kept.ID = id
	return kept, err
}

// RemoveSnapshot drops one.
func (s *Store) RemoveSnapshot(ctx context.Context, id int64) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM snapshot WHERE id = ?`, id)
	return err
}
