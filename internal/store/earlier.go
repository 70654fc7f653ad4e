package store

import (
	"context"
	"encoding/json"
	"fmt"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// SiteAt returns the site as it was after a step of the journal, and as it is now. The objects
// that were changed since are put back; among their siblings they may stand elsewhere.
func (s *Store) SiteAt(ctx context.Context, seq int64) (then, now *site.Site, err error) {
	current := s.Now()
	var first int64
	if err := s.reads.QueryRowContext(ctx, `SELECT COALESCE(MIN(seq), 0) FROM journal`).Scan(&first); err != nil {
		return nil, nil, err
	}
	if seq < first-1 || seq > current.Seq {
		return nil, nil, problem.New("gone", fmt.Sprintf("What the site was after change %d is no longer known.", seq),
			"Choose a later one, or compare with a site file.")
	}
	// Of each object that was changed since, what it was before the first of these changes.
	before := map[string]site.Change{}
	var order []string
	rows, err := s.reads.QueryContext(ctx, `SELECT changes FROM journal WHERE seq > ? AND seq <= ? ORDER BY seq`, seq,
		current.Seq)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		var changes []site.Change
		if err := rows.Scan(&text); err != nil {
			return nil, nil, err
		}
		if err := json.Unmarshal([]byte(text), &changes); err != nil {
			return nil, nil, err
		}
		for _, c := range changes {
			k := key(c.Kind, c.ID)
			if _, known := before[k]; !known {
				before[k] = c
				order = append(order, k)
			}
		}
	}
	if err := rows.Err(); err != nil {
		return nil, nil, err
	}
	changes := make([]site.Change, 0, len(order))
	for _, k := range order {
		c := before[k]
		if _, there := current.Versions(c.Kind, c.Parent)[c.ID]; there || c.Before != nil {
			changes = append(changes, c) // else it has come and gone since
		}
	}
	then, _, err = current.Site.Apply(putBack(changes))
	return then, current.Site, err
}

// putBack are the edits that make objects what they were before changes: those that were not
// there go, the dependent ones first, and the others are put, each after what it depends on.
func putBack(changes []site.Change) (edits []site.Edit) {
	kinds := site.Kinds()
	for i := len(kinds) - 1; i >= 0; i-- {
		for _, c := range changes {
			if c.Kind == kinds[i] && c.Before == nil && c.Kind != site.KindSite {
				edits = append(edits, site.Edit{Kind: c.Kind, ID: c.ID, Parent: c.Parent})
			}
		}
	}
	for _, kind := range kinds {
		for _, c := range changes {
			if c.Kind == kind && c.Before != nil {
				index := c.Index
				edits = append(edits, site.Edit{Kind: c.Kind, ID: c.ID, Parent: c.Parent, Index: &index, After: c.Before})
			}
		}
	}
	return edits
}
