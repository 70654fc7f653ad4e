package store

import (
	"context"
	"database/sql"
)

// KeptSamples bounds the number of samples on the disk: some 50 MB.
const KeptSamples = 1_000_000

// Sample is one recorded value of a point in engineering units.
type Sample struct {
	Point string
	AtMs  int64 // milliseconds since 1970
	V     float64
	Good  bool
}

// AddSamples keeps samples in one transaction and drops the oldest beyond the
// bound.
func (s *Store) AddSamples(ctx context.Context, list []Sample) error {
	if len(list) == 0 {
		return nil
	}
	return inOne(ctx, s.samples, func(tx *sql.Tx) error {
		put, err := tx.PrepareContext(ctx, `INSERT INTO sample (point, at_ms, v, good) VALUES (?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer put.Close()
		var last int64
		for _, sample := range list {
			result, err := put.ExecContext(ctx, sample.Point, sample.AtMs, sample.V, sample.Good)
			if err != nil {
				return err
			}
			if last, err = result.LastInsertId(); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM sample WHERE id <= ?`, last-KeptSamples)
		return err
	})
}

// Samples returns the samples of a point since a time, the oldest first.
func (s *Store) Samples(ctx context.Context, point string, sinceMs int64) ([]Sample, error) {
	rows, err := s.samples.QueryContext(ctx,
		`SELECT at_ms, v, good FROM sample WHERE point = ? AND at_ms >= ? ORDER BY at_ms LIMIT 5000`, point, sinceMs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Sample{}
	for rows.Next() {
		sample := Sample{Point: point}
		if err := rows.Scan(&sample.AtMs, &sample.V, &sample.Good); err != nil {
			return nil, err
		}
		list = append(list, sample)
	}
	return list, rows.Err()
}
