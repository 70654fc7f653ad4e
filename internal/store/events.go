package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"slices"

	"ferry/internal/core/lookout"
)

// KeptEvents bounds the log of what was looked out for.
const KeptEvents = 10_000

// KeepEvents keeps events as they are now.
func (s *Store) KeepEvents(ctx context.Context, list []lookout.Event) error {
	if len(list) == 0 {
		return nil
	}
	return inOne(ctx, s.samples, func(tx *sql.Tx) error {
		for i := range list {
			doc, err := json.Marshal(&list[i])
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO event (id, lookout, start_ms, end_ms, doc) VALUES (?, ?, ?, ?, ?)
				ON CONFLICT (id) DO UPDATE SET end_ms = excluded.end_ms, doc = excluded.doc`, list[i].ID, list[i].Lookout,
				list[i].StartMs, list[i].EndMs, string(doc)); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM event WHERE start_ms <
			(SELECT MIN(start_ms) FROM (SELECT start_ms FROM event ORDER BY start_ms DESC LIMIT ?))`, KeptEvents)
		return err
	})
}

// Events returns the latest events, the oldest first.
func (s *Store) Events(ctx context.Context, most int) ([]lookout.Event, error) {
	rows, err := s.samples.QueryContext(ctx, `SELECT doc FROM event ORDER BY start_ms DESC, id DESC LIMIT ?`, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []lookout.Event{}
	for rows.Next() {
		var doc string
		var e lookout.Event
		if err := rows.Scan(&doc); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(doc), &e); err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	slices.Reverse(list)
	return list, rows.Err()
}

// GoodIn counts the good values of points that came from one time to another, both in
// milliseconds since 1970.
func (s *Store) GoodIn(ctx context.Context, points []string, fromMs, toMs int64) (n int, err error) {
	for _, point := range points {
		var one int
		if err := s.samples.QueryRowContext(ctx,
			`SELECT COUNT(*) FROM sample WHERE point = ? AND at_ms > ? AND at_ms < ? AND good`, point, fromMs, toMs).
			Scan(&one); err != nil {
			return 0, err
		}
		n += one
	}
	return n, nil
}
