package store

import (
	"context"
	"database/sql"
	"slices"

	"ferry/internal/core/exchange"
)

// KeptOutages bounds the log of outages on the disk.
const KeptOutages = 10_000

// Outage is a time for which a link brought nothing.
type Outage struct {
	Link, Device string
	FromMs       int64 // milliseconds since 1970
	ToMs         int64 // 0 while it lasts
	Reason       string
	How          exchange.Outcome // how the first try failed
	Tries        int
}

// KeepOutages keeps new outages, and the ends of those that are known.
func (s *Store) KeepOutages(ctx context.Context, list []Outage) error {
	if len(list) == 0 {
		return nil
	}
	return inOne(ctx, s.samples, func(tx *sql.Tx) error {
		for _, o := range list {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO outage (link, device, from_ms, to_ms, reason, how, tries) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (link, from_ms) DO UPDATE SET to_ms = excluded.to_ms, tries = excluded.tries`, o.Link, o.Device,
				o.FromMs, o.ToMs, o.Reason, o.How, o.Tries); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx,
			`DELETE FROM outage WHERE from_ms <
				(SELECT MIN(from_ms) FROM (SELECT from_ms FROM outage ORDER BY from_ms DESC LIMIT ?))`, KeptOutages)
		return err
	})
}

// Outages returns the latest outages, the oldest first.
func (s *Store) Outages(ctx context.Context, most int) ([]Outage, error) {
	rows, err := s.samples.QueryContext(ctx,
		`SELECT link, device, from_ms, to_ms, reason, how, tries FROM outage ORDER BY from_ms DESC LIMIT ?`, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Outage{}
	for rows.Next() {
		var o Outage
		if err := rows.Scan(&o.Link, &o.Device, &o.FromMs, &o.ToMs, &o.Reason, &o.How, &o.Tries); err != nil {
			return nil, err
		}
		list = append(list, o)
	}
	slices.Reverse(list)
	return list, rows.Err()
}
