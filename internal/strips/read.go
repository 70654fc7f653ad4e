package strips

import (
	"cmp"
	"context"
	"slices"

	"ferry/internal/core/problem"
	"ferry/internal/core/trend"
)

// Strip returns a strip as it is on the disk, and the time up to which it is known what its
// pens had: its end, or while it records that of the last look.
func (r *Recorder) Strip(id int64) (strip trend.Strip, toUs int64, err error) {
	known, err := r.strip(id)
	if err != nil {
		return trend.Strip{}, 0, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	strip, toUs = *known, known.ToUs
	if rec := r.open[id]; rec != nil && toUs == 0 {
		toUs = max(strip.FromUs, min(rec.axis.of(r.now()), strip.UntilUs))
	}
	return strip, toUs, nil
}

// sealed returns the sealed samples of a pen around a time.
func (r *Recorder) sealed(ctx context.Context, id int64, pen int, fromUs, toUs int64) (samples []trend.Sample,
	err error) {
	list, err := r.store.Stretches(ctx, id, pen, fromUs, toUs)
	if err != nil {
		return nil, err
	}
	for _, packed := range list {
		if samples, err = trend.Unpack(packed, samples); err != nil {
			return nil, problem.New("damaged", "A part of the trend is damaged on the disk: "+err.Error()+".",
				"Look at another time of it.")
		}
	}
	return samples, nil
}

// Samples returns the samples of a pen between two times, and the one before.
func (r *Recorder) Samples(ctx context.Context, id int64, pen int, fromUs, toUs int64) ([]trend.Sample, error) {
	strip, err := r.strip(id)
	if err != nil {
		return nil, err
	}
	if pen < 0 || pen >= len(strip.Pens) {
		return nil, problem.New("invalid", "The trend has no such pen.", "Reload the page.")
	}
	for {
		kept, times := r.unsealed(id, pen)
		samples, err := r.sealed(ctx, id, pen, fromUs, toUs)
		if err != nil {
			return nil, err
		}
		if _, now := r.unsealed(id, pen); now != times {
			continue // it was sealed meanwhile, and would be there twice or not at all
		}
		return trend.Between(append(samples, kept...), fromUs, toUs), nil
	}
}

// unsealed returns what is on the disk of a pen and not sealed, and how often the strip was
// sealed before; -1 once it has ended.
func (r *Recorder) unsealed(id int64, pen int) (kept []trend.Sample, times int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	rec := r.open[id]
	if rec == nil {
		return nil, -1
	}
	return rec.kept[pen], rec.times
}

// Row is a sample with its pen.
type Row struct {
	Pen int
	trend.Sample
}

// Each hands over the samples of pens between two times in the order of their times, some at
// once, so that a long strip needs little room.
func (r *Recorder) Each(ctx context.Context, id int64, pens []int, fromUs, toUs int64, rows func([]Row) error) error {
	const window = 60_000_000
	for at := fromUs; at <= toUs; at += window {
		end := min(toUs, at+window-1)
		var list []Row
		for _, pen := range pens {
			samples, err := r.Samples(ctx, id, pen, at, end)
			if err != nil {
				return err
			}
			for i := range samples {
				if samples[i].AtUs >= at {
					list = append(list, Row{pen, samples[i]})
				}
			}
		}
		slices.SortStableFunc(list, func(a, b Row) int { return cmp.Compare(a.AtUs, b.AtUs) })
		if err := rows(list); err != nil {
			return err
		}
	}
	return nil
}
