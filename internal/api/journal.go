package api

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"ferry/internal/field"
	"ferry/internal/store"
)

// WriteJournal keeps the writes of an engine in a store.
type WriteJournal struct{ Store *store.Store }

// Intend keeps a write before it goes.
func (j WriteJournal) Intend(ctx context.Context, r *field.Record) error {
	doc, err := json.Marshal(r)
	if err != nil {
		return err
	}
	r.ID, err = j.Store.BeginWrite(ctx, r.Who, doc)
	return err
}

// Outcome keeps what became of writes.
func (j WriteJournal) Outcome(ctx context.Context, records ...*field.Record) error {
	list := make([]store.Outcome, len(records))
	for i, r := range records {
		doc, err := json.Marshal(r)
		if err != nil {
			return err
		}
		list[i] = store.Outcome{ID: r.ID, Doc: doc, Open: r.State == field.UnderWay || r.State == field.Carrying}
	}
	return j.Store.EndWrites(ctx, list)
}

// Settle says of the writes that were under way when Ferry was killed what is
// known of them, which is nothing.
func (j WriteJournal) Settle(ctx context.Context) error {
	open, err := j.Store.OpenWrites(ctx)
	if err != nil || len(open) == 0 {
		return err
	}
	list := make([]store.Outcome, 0, len(open))
	for _, w := range open {
		var r field.Record
		if err := json.Unmarshal(w.Result, &r); err != nil {
			return fmt.Errorf("row %d of the journal of writes: %w", w.ID, err)
		}
		at := time.UnixMilli(max(r.AtMs, r.EndMs)).Format("15:04:05")
		if r.Crossing != "" {
			r.Sentence = fmt.Sprintf("Ferry ended without a word after %s: the crossing had written %d times by "+
				"what was kept, and may have written more.", at, r.Count)
		} else {
			r.Sentence = "Ferry ended without a word after " + at +
				", while this was under way: it is not known whether the device took it."
		}
		r.State = field.NotKnown
		doc, err := json.Marshal(r)
		if err != nil {
			return err
		}
		list = append(list, store.Outcome{ID: w.ID, Doc: doc})
	}
	return j.Store.EndWrites(ctx, list)
}
