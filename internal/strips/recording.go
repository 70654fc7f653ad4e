package strips

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"ferry/internal/core/trend"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/store"
)

// recording is a strip that goes on.
type recording struct {
	strip  trend.Strip // as it will be on the disk next
	scribe *field.Scribe
	axis   axis
	last   []trend.Sample   // by pen, the last that came
	waits  [][]trend.Sample // by pen, for the disk
	count  int              // of those
	kept   [][]trend.Sample // on the disk, and not sealed
	n      int64            // of the next tail
	tails  int64            // octets of those on the disk
	sealed time.Time
	times  int    // that it was
	failed string // why nothing can be kept at the moment
}

func newRecording(strip trend.Strip, at time.Time) *recording {
	n := len(strip.Pens)
	return &recording{strip: strip, axis: newAxis(at), last: make([]trend.Sample, n), waits: make([][]trend.Sample, n),
		kept: make([][]trend.Sample, n), sealed: at}
}

// mostNotes bounds what is said of one strip.
const mostNotes = 1000

func (rec *recording) note(atUs int64, sentence string) {
	if len(rec.strip.Notes) < mostNotes {
		// The list may be in the hands of who reads it.
		rec.strip.Notes = append(rec.strip.Notes[:len(rec.strip.Notes):len(rec.strip.Notes)],
			trend.Note{AtUs: atUs, Sentence: sentence})
	}
}

// put adds a sample; none lies before the one before it.
func (rec *recording) put(pen int, s trend.Sample) {
	s.AtUs = max(s.AtUs, rec.last[pen].AtUs)
	rec.last[pen] = s
	rec.waits[pen] = append(rec.waits[pen], s)
	rec.count++
	if !s.Gap() {
		rec.strip.Samples++
	}
}

// drain takes in what came.
func (r *Recorder) drain(rec *recording) {
	now := r.now()
	if said := rec.axis.look(now); said != "" {
		rec.note(rec.axis.of(now), said)
	}
	if rec.scribe == nil {
		return
	}
	list, lost := rec.scribe.Drain(now)
	for i := range list {
		w := &list[i]
		at := rec.axis.of(w.At)
		if at < rec.strip.FromUs {
			at = rec.strip.FromUs // what stood there when it began
		}
		if at > rec.strip.UntilUs {
			continue
		}
		rec.put(w.Pen, trend.Sample{AtUs: at, V: w.V, Quality: w.Quality, Reason: w.Reason})
	}
	if lost == 0 && rec.count <= mostWaits {
		return
	}
	at := rec.axis.of(now)
	if rec.count > mostWaits { // the disk does not take them
		lost += rec.count
		rec.waits, rec.count = make([][]trend.Sample, len(rec.waits)), 0
	}
	rec.note(at, fmt.Sprintf("%d samples were lost, because the disk did not take them in time.", lost))
	for pen := range rec.last {
		rec.put(pen, trend.Sample{AtUs: at, Quality: value.Bad, Reason: "samples were lost"})
	}
}

// keep puts what waits on the disk, and seals what is there if that is due. Only then is it
// shown: what was ever shown is not lost.
func (r *Recorder) keep(ctx context.Context, rec *recording, seal bool) (err error) {
	defer func() {
		failed := ""
		if err != nil {
			failed = err.Error()
		}
		r.mu.Lock()
		rec.failed = failed
		r.mu.Unlock()
	}()
	tail := packTail(rec.waits)
	if len(tail) > 0 || seal {
		rec.strip.Octets += int64(len(tail))
		if err := r.store.AddTail(ctx, &rec.strip, rec.n, tail); err != nil {
			rec.strip.Octets -= int64(len(tail))
			return err
		}
		rec.n, rec.tails = rec.n+1, rec.tails+int64(len(tail))
	}
	strip := rec.strip
	r.mu.Lock()
	for pen, waits := range rec.waits {
		rec.kept[pen] = append(rec.kept[pen], waits...)
		rec.waits[pen] = waits[:0]
	}
	rec.count = 0
	r.all[strip.ID] = &strip
	r.mu.Unlock()
	if !seal {
		return nil
	}
	return r.seal(ctx, rec)
}

// seal packs what is on the disk by pens.
func (r *Recorder) seal(ctx context.Context, rec *recording) error {
	var list []store.Stretch
	octets := rec.strip.Octets - rec.tails
	for pen, samples := range rec.kept {
		if len(samples) == 0 {
			continue
		}
		packed := trend.Pack(samples)
		list = append(list, store.Stretch{Pen: pen, FromUs: samples[0].AtUs, ToUs: samples[len(samples)-1].AtUs,
			Packed: packed})
		octets += int64(len(packed))
	}
	strip := rec.strip
	strip.Octets = octets
	if err := r.store.Seal(ctx, &strip, list); err != nil {
		return err
	}
	rec.strip.Octets, rec.tails = octets, 0
	r.mu.Lock()
	defer r.mu.Unlock()
	for pen := range rec.kept {
		rec.kept[pen] = nil // whoever reads has the old one
	}
	rec.sealed, rec.times = r.now(), rec.times+1
	r.all[strip.ID] = &strip
	return nil
}

// packTail packs what waits: for each pen that has something its number, the length, and the
// packed samples.
func packTail(waits [][]trend.Sample) (tail []byte) {
	for pen, samples := range waits {
		if len(samples) == 0 {
			continue
		}
		packed := trend.Pack(samples)
		tail = binary.AppendUvarint(tail, uint64(pen))
		tail = binary.AppendUvarint(tail, uint64(len(packed)))
		tail = append(tail, packed...)
	}
	return tail
}

var errTail = errors.New("what was kept last is damaged")

// unpackTail undoes packTail, and adds the samples to those of into.
func unpackTail(tail []byte, into [][]trend.Sample) (err error) {
	for len(tail) > 0 {
		pen, n := binary.Uvarint(tail)
		if n <= 0 || pen >= uint64(len(into)) {
			return errTail
		}
		length, m := binary.Uvarint(tail[n:])
		if m <= 0 || length > uint64(len(tail)-n-m) {
			return errTail
		}
		tail = tail[n+m:]
		if into[pen], err = trend.Unpack(tail[:length], into[pen]); err != nil {
			return err
		}
		tail = tail[length:]
	}
	return nil
}
