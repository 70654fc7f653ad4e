// Package strips records trends: every value that some points get, without a gap, for hours.
package strips

import (
	"context"
	"fmt"
	"log"
	"maps"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/trend"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/store"
)

// Bounds of what is recorded.
const (
	MostPens   = 500
	MostHours  = 7 * 24
	mostStrips = 200
	mostOpen   = 8
	mostOctets = 8 << 30 // of all strips; beyond, nothing is recorded any more
	mostWaits  = 2_000_000
)

// How often what came is put on the disk, and how often it is packed there.
const (
	pace  = 500 * time.Millisecond
	seals = time.Minute
)

// Recorder records, and reads back.
type Recorder struct {
	engine *field.Engine
	store  *store.Store
	now    func() time.Time

	turn sync.Mutex // held while one writes
	mu   sync.Mutex
	all  map[int64]*trend.Strip // as they are on the disk
	open map[int64]*recording
}

// Open begins with what is on the disk. What was recording when Ferry ended goes on, with a
// gap.
func Open(ctx context.Context, engine *field.Engine, st *store.Store) (*Recorder, error) {
	return open(ctx, engine, st, time.Now)
}

func open(ctx context.Context, engine *field.Engine, st *store.Store, now func() time.Time) (*Recorder, error) {
	r := &Recorder{engine: engine, store: st, now: now, all: map[int64]*trend.Strip{}, open: map[int64]*recording{}}
	list, err := st.Strips(ctx)
	if err != nil {
		return nil, err
	}
	for _, strip := range list {
		r.all[strip.ID] = strip
		if strip.ToUs == 0 {
			if err := r.resume(ctx, strip); err != nil {
				return nil, fmt.Errorf("the trend %s: %w", strip.Name, err)
			}
		}
	}
	return r, nil
}

// resume goes on with a strip that was recording when Ferry ended.
func (r *Recorder) resume(ctx context.Context, strip *trend.Strip) error {
	tails, next, err := r.store.Tails(ctx, strip.ID)
	if err != nil {
		return err
	}
	at := r.now()
	rec := newRecording(*strip, at)
	rec.n = next
	for i, tail := range tails {
		rec.tails += int64(len(tail))
		if err := unpackTail(tail, rec.kept); err != nil {
			rec.note(strip.FromUs, fmt.Sprintf("Part %d of %d of the last minute could not be read back: %v.", i+1, len(tails),
				err))
		}
	}
	var last int64
	for pen := range rec.kept {
		if n := len(rec.kept[pen]); n > 0 {
			rec.last[pen] = rec.kept[pen][n-1]
			last = max(last, rec.last[pen].AtUs)
		}
	}
	if last == 0 {
		if last, err = r.lastSealed(ctx, strip); err != nil {
			return err
		}
	}
	rec.axis.after(last)
	now := rec.axis.of(at)
	gap := trend.Sample{AtUs: last + 1, Quality: value.Bad, Reason: "Ferry was not running"}
	for pen := range rec.kept {
		rec.put(pen, gap)
	}
	rec.note(last+1, fmt.Sprintf("Ferry ended without stopping it, and began again %s later.",
		time.Duration((now-last)*1000).Round(time.Second)))
	r.open[strip.ID] = rec
	if err := r.keep(ctx, rec, true); err != nil {
		return err
	}
	switch {
	case now >= rec.strip.UntilUs:
		return r.end(ctx, rec, "its time was over while Ferry was not running")
	case string(r.engine.Mode()) != strip.Mode:
		return r.end(ctx, rec, "Ferry began again in the other mode")
	}
	rec.scribe = r.engine.Hub.Scribe(points(strip))
	return nil
}

func (r *Recorder) lastSealed(ctx context.Context, strip *trend.Strip) (last int64, err error) {
	last = strip.FromUs
	for pen := range strip.Pens {
		samples, err := r.sealed(ctx, strip.ID, pen, 1<<62, 1<<62)
		if err != nil {
			return last, err
		}
		if n := len(samples); n > 0 {
			last = max(last, samples[n-1].AtUs)
		}
	}
	return last, nil
}

func points(strip *trend.Strip) []string {
	list := make([]string, len(strip.Pens))
	for i := range strip.Pens {
		list[i] = strip.Pens[i].Point
	}
	return list
}

// Begin begins to record points of the site, for so many hours at most.
func (r *Recorder) Begin(ctx context.Context, name, who string, ids []string, hours float64) (*trend.Strip, error) {
	name = strings.TrimSpace(name)
	ids = once(ids)
	switch {
	case name == "" || len(name) > 200:
		return nil, problem.New("no-name", "A trend needs a name of up to 200 characters.", "Give it one: tank 3 over night.")
	case len(ids) == 0 || len(ids) > MostPens:
		return nil, problem.New("invalid", fmt.Sprintf("A trend has 1 to %d points, not %d.", MostPens, len(ids)),
			"Choose fewer, or record two trends.")
	case !(hours > 0) || hours > MostHours:
		return nil, problem.New("too-long", fmt.Sprintf("A trend records for up to %d hours.", MostHours),
			"Give a shorter time.")
	}
	strip := trend.Strip{Name: name, Who: who, Mode: string(r.engine.Mode()), Notes: []trend.Note{}}
	now := r.engine.Site()
	for _, id := range ids {
		pen, err := penOf(now, id)
		if err != nil {
			return nil, err
		}
		strip.Pens = append(strip.Pens, pen)
	}
	r.turn.Lock()
	defer r.turn.Unlock()
	r.mu.Lock()
	recording, there := len(r.open), len(r.all)
	octets := r.octets()
	r.mu.Unlock()
	switch {
	case recording >= mostOpen:
		return nil, problem.New("too-many", fmt.Sprintf("%d trends are being recorded already.", recording),
			"Stop one of them.")
	case there >= mostStrips:
		return nil, problem.New("too-many", fmt.Sprintf("%d trends are kept already.", there),
			"Remove some that nobody needs.")
	case octets >= mostOctets:
		return nil, problem.New("too-large", fmt.Sprintf("The trends that are kept take %d MB already.", octets>>20),
			"Remove some that nobody needs.")
	}
	at := r.now()
	strip.FromUs = at.UnixMicro()
	strip.UntilUs = strip.FromUs + int64(hours*3600*1e6)
	if err := r.store.AddStrip(ctx, &strip); err != nil {
		return nil, problem.New("not-kept", "The trend could not be begun: "+err.Error()+".", "Look at the disk.")
	}
	rec := newRecording(strip, at)
	rec.scribe = r.engine.Hub.Scribe(ids)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.open[strip.ID], r.all[strip.ID] = rec, &strip
	return &strip, nil
}

// once leaves each point its first place.
func once(ids []string) (list []string) {
	there := map[string]bool{}
	for _, id := range ids {
		if !there[id] {
			there[id] = true
			list = append(list, id)
		}
	}
	return list
}

// penOf says what is to be recorded of a point.
func penOf(now *site.Site, id string) (pen trend.Pen, err error) {
	d, p := now.Point(id)
	switch {
	case p == nil:
		return pen, problem.New("gone", "One of the points is no longer in the site.", "Reload to see what changed.").At(id)
	case p.Type.IsText():
		return pen, problem.New("no-number", fmt.Sprintf("%s · %s is a text, which has no trend.", d.Name, p.Name),
			"Leave it out.").At(d.Name + " · " + p.Name)
	case p.Access == site.WriteOnly:
		return pen, problem.New("not-read", fmt.Sprintf("%s · %s is written only.", d.Name, p.Name),
			"Leave it out, or choose the point that tells it back.").At(d.Name + " · " + p.Name)
	}
	pen = trend.Pen{Point: p.ID, Device: d.ID, Name: d.Name + " · " + p.Name, Unit: p.Unit, PaceMs: p.PaceMs, Decimals: -1,
		TwoState: p.Type == value.TypeBool}
	if p.Decimals != nil {
		pen.Decimals = *p.Decimals
	}
	if l := now.LinkOf(d, p); l != nil && p.PaceMs > 0 {
		if def, ok := protocol.Named(l.Protocol); ok {
			if _, reports := def.Reports(); reports {
				pen.PaceMs = 0
			}
		}
	}
	return pen, nil
}

// octets is what all strips take on the disk. It is called with mu held.
func (r *Recorder) octets() (sum int64) {
	for _, strip := range r.all {
		sum += strip.Octets
	}
	return sum
}

// List returns all strips, the latest first, and why one cannot be kept at the moment.
func (r *Recorder) List() (list []trend.Strip, failing map[int64]string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	failing = map[int64]string{}
	for _, id := range slices.Backward(slices.Sorted(maps.Keys(r.all))) {
		list = append(list, *r.all[id])
		if rec := r.open[id]; rec != nil && rec.failed != "" {
			failing[id] = rec.failed
		}
	}
	return list, failing
}

// strip returns one as it is on the disk.
func (r *Recorder) strip(id int64) (*trend.Strip, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if strip := r.all[id]; strip != nil {
		return strip, nil
	}
	return nil, problem.New("gone", "The trend is no longer kept.", "Reload to see which there are.")
}

// End stops a strip for a reason.
func (r *Recorder) End(ctx context.Context, id int64, why string) error {
	if _, err := r.strip(id); err != nil {
		return err
	}
	r.turn.Lock()
	defer r.turn.Unlock()
	r.mu.Lock()
	rec := r.open[id]
	r.mu.Unlock()
	if rec == nil {
		return nil // it has ended
	}
	r.drain(rec)
	return r.end(ctx, rec, why)
}

// end stops a recording. It is called in turn.
func (r *Recorder) end(ctx context.Context, rec *recording, why string) error {
	to := min(rec.axis.of(r.now()), rec.strip.UntilUs)
	for pen := range rec.last {
		to = max(to, rec.last[pen].AtUs)
	}
	rec.strip.ToUs, rec.strip.Why = to, why
	if err := r.keep(ctx, rec, true); err != nil {
		rec.strip.ToUs, rec.strip.Why = 0, ""
		return problem.New("not-kept", "What was recorded last could not be kept: "+err.Error()+".",
			"Look at the disk, then stop it again: it goes on until then.")
	}
	if rec.scribe != nil {
		rec.scribe.End()
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.open, rec.strip.ID)
	return nil
}

// Remove drops a strip that has ended.
func (r *Recorder) Remove(ctx context.Context, id int64) error {
	if _, err := r.strip(id); err != nil {
		return err
	}
	r.turn.Lock()
	defer r.turn.Unlock()
	r.mu.Lock()
	rec := r.open[id]
	r.mu.Unlock()
	if rec != nil {
		return problem.New("recording", "The trend is being recorded.", "Stop it first.")
	}
	if err := r.store.RemoveStrip(ctx, id); err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.all, id)
	return nil
}

// Run keeps what comes until ctx ends. What records then goes on when Ferry begins again.
func (r *Recorder) Run(ctx context.Context) {
	tick := time.NewTicker(pace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			r.Look(context.WithoutCancel(ctx))
			return
		case <-tick.C:
			r.Look(ctx)
		}
	}
}

// Look keeps what came since the last time.
func (r *Recorder) Look(ctx context.Context) {
	defer func() {
		if p := recover(); p != nil { // a defect in it ends neither Ferry nor the recording
			log.Printf("trends: %v\n%s", p, debug.Stack())
		}
	}()
	r.turn.Lock()
	defer r.turn.Unlock()
	r.mu.Lock()
	open := slices.Collect(maps.Values(r.open))
	octets := r.octets()
	r.mu.Unlock()
	for _, rec := range open {
		before := rec.failed
		if err := r.look(ctx, rec, octets); err != nil && ctx.Err() == nil && before == "" {
			log.Printf("trend %d: %v", rec.strip.ID, err) // once, and not twice a second
		}
	}
}

func (r *Recorder) look(ctx context.Context, rec *recording, octets int64) error {
	now := r.now()
	r.drain(rec)
	switch {
	case string(r.engine.Mode()) != rec.strip.Mode:
		return r.end(ctx, rec, "the mode was switched")
	case rec.axis.of(now) >= rec.strip.UntilUs:
		return r.end(ctx, rec, "its time was over")
	case octets >= mostOctets:
		return r.end(ctx, rec, fmt.Sprintf("all trends together take %d MB, which is the most", octets>>20))
	}
	return r.keep(ctx, rec, now.Sub(rec.sealed) >= seals)
}
