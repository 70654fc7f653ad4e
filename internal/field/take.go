package field

import (
	"errors"
	"fmt"
	"math"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// record takes in one exchange of an era, numbers it, and decodes the parts
// that its answer brought; there are none if it failed.
func (h *Hub) record(era uint64, e *exchange.Exchange, parts []part) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if era != h.era {
		return
	}
	h.seq++
	e.Seq = h.seq
	// The octets belong to the connection, which will use them again.
	n := len(e.Data)
	for i := range e.Frames {
		n += len(e.Frames[i].Octets)
	}
	frames, octets := h.roomFor(e.Frames), h.room(n)
	keep := func(from []byte) []byte {
		n := copy(octets, from)
		kept := octets[:n:n]
		octets = octets[n:]
		return kept
	}
	for i := range frames {
		frames[i].Octets = keep(frames[i].Octets)
	}
	e.Frames, e.Data = frames, keep(e.Data)
	if len(h.exchanges) >= keptExchanges/2 || h.kept+n > keptOctets/2 {
		h.before, h.exchanges, h.kept = h.exchanges, h.before[:0], 0
	}
	h.kept += n
	h.exchanges = append(h.exchanges, *e)
	h.diagnosis.Exchange(e)
	h.log(e)
	if e.RequestID != "" {
		h.measure(e)
	}
	h.share = max(leastTrend, min(keptTrend, allTrends/max(1, len(h.points))))
	arrived := e.At.Add(time.Duration(e.LatencyMs * float64(time.Millisecond)))
	ms := arrived.UnixMilli()
	for i := range parts {
		h.take(&parts[i], e, arrived, ms)
	}
}

// chunk is how many octets are made room for at once.
const chunk = 1 << 14

// room returns room for so many octets, out of a block that several share.
func (h *Hub) room(n int) []byte {
	if n > len(h.octets) {
		h.octets = make([]byte, max(chunk, n))
	}
	octets := h.octets[:n:n]
	h.octets = h.octets[n:]
	return octets
}

// roomFor returns a copy of frames in room that several exchanges share.
func (h *Hub) roomFor(frames []exchange.Frame) []exchange.Frame {
	n := len(frames)
	if n > len(h.frames) {
		h.frames = make([]exchange.Frame, max(chunk/64, n))
	}
	room := h.frames[:n:n]
	h.frames = h.frames[n:]
	copy(room, frames)
	return room
}

func (h *Hub) measure(e *exchange.Exchange) {
	s := h.stats[e.RequestID]
	if s == nil {
		s = &RequestStats{ID: e.RequestID, link: e.Link}
		h.stats[e.RequestID] = s
	}
	s.Count++
	s.LastMs, s.Outcome, s.AtMs = e.LatencyMs, e.Outcome, e.At.UnixMilli()
	s.LateMs = max(s.LateMs, e.LateMs)
	if e.Outcome != exchange.Answered {
		s.Failed++
		return
	}
	s.MeanMs += (e.LatencyMs - s.MeanMs) / float64(s.Count-s.Failed)
	s.WorstMs = max(s.WorstMs, e.LatencyMs)
}

// take decodes one point out of the data of an answer.
func (h *Hub) take(p *part, e *exchange.Exchange, at time.Time, ms int64) {
	t, end := p.track, p.at+p.codec.Width()
	if end > len(e.Data) {
		h.spoil(t, value.ErrShort.Error())
		return
	}
	if len(e.Refused) > 0 && e.Refused[p.of] != 0 {
		h.spoil(t, e.Sentence)
		return
	}
	words := e.Data[p.at:end]
	prev := t.raw
	if p.power {
		prev = value.Value{}
	}
	raw, err := p.codec.Decode(words, prev)
	if err != nil {
		h.spoil(t, err.Error())
		return
	}
	if p.power {
		h.raise(t, raw.Int())
		return
	}
	if t.needsPower && !t.powered {
		h.spoil(t, "its power of ten, in another register, has not been read")
		return
	}
	t.live.AtMs, t.arrived = ms, at
	t.takes++
	since, still := t.habit.See(raw, at)
	if raw != t.raw || t.live.Quality != value.Good {
		t.raw = raw
		h.renew(t, words)
	}
	if t.live.Quality == value.Bad {
		return // it was read, and means that there is no value
	}
	if e.Doubt != "" {
		t.live.Quality, t.live.Reason = value.Doubtful, e.Doubt
	} else if still {
		t.live.Quality, t.live.Reason = value.Doubtful, stoodStill(since)
	}
	h.touch(t)
	h.keep(t, ms)
	t.tell()
}

func stoodStill(since time.Time) string {
	return "has not changed since " + since.Format("15:04:05") + ", against its habit"
}

// renew shows a raw value that was read and is another, or good again.
func (h *Hub) renew(t *track, words []byte) {
	t.words = append(t.words[:0], words...)
	scale := t.point.Scale()
	if scale.IsMissing(t.raw) {
		h.spoil(t, "not available: the device sends its code for that, "+t.raw.String())
		return
	}
	scale.Power = t.power
	v := scale.Apply(t.raw)
	if v != t.live.Value || t.live.ChangedMs == 0 {
		t.changes++
		if t.live.ChangedMs = t.live.AtMs; t.beat != nil {
			t.beat.moved = t.live.AtMs
		}
		t.live.Value, t.live.Shown = v, t.point.Shown(v)
	}
	t.live.Quality, t.live.Reason, t.stilled = value.Good, "", false
	if t.alive.still(t.live.AtMs) {
		t.live.Quality, t.live.Reason, t.stilled = value.Doubtful, t.alive.reason(), true
	}
	h.doubt(t)
}

// doubt looks whether a value makes sense.
func (h *Hub) doubt(t *track) {
	if why := regmap.Doubt(t.point, t.raw, t.live.Value); why != "" && why != t.live.Reason {
		t.live.Quality, t.live.Reason = value.Doubtful, why
		h.touch(t)
	}
}

// scale returns the scale of a point with the power of ten last read for it.
func (h *Hub) scale(p *site.Point) (value.Scale, error) {
	scale := p.Scale()
	if p.PowerAt.IsZero() {
		return scale, nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	t := h.points[p.ID]
	if t == nil || !t.powered {
		return scale, errors.New("its power of ten, in another register, has not been read yet")
	}
	scale.Power = t.power
	return scale, nil
}

// mostPower bounds a power of ten that makes sense; devices put codes such as
// -32768 there for a value that they do not have.
const mostPower = 20

// raise takes in the power of ten of a point that another register holds.
func (h *Hub) raise(t *track, power int64) {
	if power < -mostPower || power > mostPower {
		t.powered = false
		h.spoil(t, fmt.Sprintf("the register of its power of ten holds %d, which is none", power))
		return
	}
	if changed := !t.powered || t.power != int(power); changed && !t.raw.IsNone() {
		t.power, t.powered = int(power), true
		h.renew(t, t.words)
		h.touch(t)
		return
	}
	t.power, t.powered = int(power), true
}

// keep adds the value to the trend and to the samples.
func (h *Hub) keep(t *track, ms int64) {
	f := t.live.Value.Float()
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return
	}
	// Of a point that somebody looks at many are remembered, of the others what
	// their number leaves.
	most := h.share
	if t.looked {
		most = keptTrend
	}
	if len(t.trend) >= most {
		t.trend = append(t.trend[:0], t.trend[len(t.trend)-most/2:]...)
	}
	t.trend = append(t.trend, Trend{ms, f})
	if len(h.samples) >= keptSamples {
		h.samples = append(h.samples[:0], h.samples[keptSamples/2:]...)
	}
	h.samples = append(h.samples, sample{ms, f, t.n, t.live.Quality == value.Good})
}

// spoil marks a point as unreadable. Its last value is kept with its time, for
// whoever asks what it was, and is shown as bad.
func (h *Hub) spoil(t *track, reason string) {
	if t.live.Quality == value.Bad && t.live.Reason == reason {
		return
	}
	t.live.Quality, t.live.Reason = value.Bad, reason
	h.touch(t)
	t.tell()
}

// fail marks points as unreadable for a reason. One that was never read has the
// time of the first failure.
func (h *Hub) fail(era uint64, points []string, reason string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if era != h.era {
		return
	}
	for _, id := range points {
		if t := h.points[id]; t != nil {
			if t.live.Value.IsNone() {
				t.live.AtMs = time.Now().UnixMilli()
			}
			h.spoil(t, reason)
		}
	}
}
