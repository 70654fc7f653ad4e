package store

import (
	"context"
	"database/sql"
)

// Wear is how often a point was written on a day.
type Wear struct {
	Point string
	Day   string // as 2006-01-02
	Count int
}

// keptDays is how many days of wear are kept.
const keptDays = "-60 days"

// KeepWear keeps counts of writes, in the place of those of before.
func (s *Store) KeepWear(ctx context.Context, list []Wear) error {
	if len(list) == 0 {
		return nil
	}
	return inOne(ctx, s.samples, func(tx *sql.Tx) error {
		for _, w := range list {
			if _, err := tx.ExecContext(ctx, `INSERT INTO wear (point, day, count) VALUES (?, ?, ?)
				ON CONFLICT (point, day) DO UPDATE SET count = excluded.count`, w.Point, w.Day, w.Count); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM wear WHERE day < date(?, ?)`, list[0].Day, keptDays)
		return err
	})
}

// WearOf returns the counts of a day.
func (s *Store) WearOf(ctx context.Context, day string) ([]Wear, error) {
	rows, err := s.samples.QueryContext(ctx, `SELECT point, day, count FROM wear WHERE day = ? ORDER BY point`, day)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Wear{}
	for rows.Next() {
		var w Wear
		if err := rows.Scan(&w.Point, &w.Day, &w.Count); err != nil {
			return nil, err
		}
		list = append(list, w)
	}
	return list, rows.Err()
}
