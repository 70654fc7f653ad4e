package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"fmt"

	"ferry/internal/core/trend"
)

//go:embed trendmigrations/*.sql
var trendMigrations embed.FS

// Stretch is a packed run of samples of one pen.
type Stretch struct {
	Pen          int
	FromUs, ToUs int64
	Packed       []byte
}

// AddStrip keeps a new recording and gives it its number.
func (s *Store) AddStrip(ctx context.Context, strip *trend.Strip) error {
	doc, err := json.Marshal(strip)
	if err != nil {
		return err
	}
	result, err := s.trends.ExecContext(ctx, `INSERT INTO strip (doc) VALUES (?)`, string(doc))
	if err == nil {
		strip.ID, err = result.LastInsertId()
	}
	return err
}

// Strips lists all recordings, the latest first.
func (s *Store) Strips(ctx context.Context) ([]*trend.Strip, error) {
	rows, err := s.trends.QueryContext(ctx, `SELECT id, doc FROM strip ORDER BY id DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []*trend.Strip{}
	for rows.Next() {
		var id int64
		var doc string
		if err := rows.Scan(&id, &doc); err != nil {
			return nil, err
		}
		strip := &trend.Strip{}
		if err := json.Unmarshal([]byte(doc), strip); err != nil {
			return nil, fmt.Errorf("trend %d: %w", id, err)
		}
		strip.ID = id
		list = append(list, strip)
	}
	return list, rows.Err()
}

func keepStrip(ctx context.Context, tx *sql.Tx, strip *trend.Strip) error {
	doc, err := json.Marshal(strip)
	if err == nil {
		_, err = tx.ExecContext(ctx, `UPDATE strip SET doc = ? WHERE id = ?`, string(doc), strip.ID)
	}
	return err
}

// AddTail keeps what came last of a recording, and the recording as it is now.
func (s *Store) AddTail(ctx context.Context, strip *trend.Strip, n int64, pens []byte) error {
	return inOne(ctx, s.trends, func(tx *sql.Tx) error {
		if len(pens) > 0 {
			if _, err := tx.ExecContext(ctx, `INSERT INTO tail (strip, n, pens) VALUES (?, ?, ?)`, strip.ID, n,
				pens); err != nil {
				return err
			}
		}
		return keepStrip(ctx, tx, strip)
	})
}

// Tails returns what was added to a recording since it was sealed last, in its order, and the
// number for the next.
func (s *Store) Tails(ctx context.Context, strip int64) (list [][]byte, next int64, err error) {
	if err := s.trends.QueryRowContext(ctx, `SELECT COALESCE(MAX(n), -1) + 1 FROM tail WHERE strip = ?`, strip).
		Scan(&next); err != nil {
		return nil, 0, err
	}
	list, err = blobs(s.trends.QueryContext(ctx, `SELECT pens FROM tail WHERE strip = ? ORDER BY n`, strip))
	return list, next, err
}

// Seal keeps stretches in the place of all tails of a recording.
func (s *Store) Seal(ctx context.Context, strip *trend.Strip, list []Stretch) error {
	return inOne(ctx, s.trends, func(tx *sql.Tx) error {
		put, err := tx.PrepareContext(ctx, `INSERT INTO stretch (strip, pen, from_us, to_us, packed) VALUES (?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer put.Close()
		for i := range list {
			if _, err := put.ExecContext(ctx, strip.ID, list[i].Pen, list[i].FromUs, list[i].ToUs, list[i].Packed); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM tail WHERE strip = ?`, strip.ID); err != nil {
			return err
		}
		return keepStrip(ctx, tx, strip)
	})
}

// Stretches returns what was sealed of a pen that overlaps a time, with the stretch before it,
// in its order.
func (s *Store) Stretches(ctx context.Context, strip int64, pen int, fromUs, toUs int64) ([][]byte, error) {
	return blobs(s.trends.QueryContext(ctx, `SELECT packed FROM stretch WHERE strip = ?1 AND pen = ?2 AND from_us <= ?4
		AND from_us >= COALESCE((SELECT MAX(from_us) FROM stretch WHERE strip = ?1 AND pen = ?2 AND from_us < ?3), 0)
		ORDER BY from_us, id`, strip, pen, fromUs, toUs))
}

func blobs(rows *sql.Rows, err error) (list [][]byte, _ error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var blob []byte
		if err := rows.Scan(&blob); err != nil {
			return nil, err
		}
		list = append(list, blob)
	}
	return list, rows.Err()
}

// RemoveStrip drops a recording with its samples.
func (s *Store) RemoveStrip(ctx context.Context, id int64) error {
	_, err := s.trends.ExecContext(ctx, `DELETE FROM strip WHERE id = ?`, id)
	return err
}
