package judge

import (
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// watched is what is known of the values of one point of the plan.
type watched struct {
	talk  *Talk // in which it was first read
	point *site.Point
	area  string
	unit  uint32
	size  int // octets
	codec value.Codec
	// orders are the codecs of the other orders, of a number with a fraction.
	orders []value.Codec

	raw       [8]byte
	was       [3]float64 // the last values, the newest first
	reads     int
	changes   int
	first     time.Time
	changed   time.Time
	last      time.Time
	steps     time.Duration // between changes
	absurd    proofs
	beyond    proofs
	sensible  []int     // by order: how often the other order made sense
	moved     []float64 // and by how much of itself it moved
	before    []float64
	alternate int
	apart     int
	lastProof proof
}

// readPart is where points lie in the answer to one question.
type readPart struct {
	at int // octet
	of *watched
}

// watch prepares the points of a device for the answers to a question.
func (p *plan) watch(t *Talk, r block.Range) []readPart {
	list := p.of(t)
	if len(list) == 0 {
		return nil
	}
	device := list[0].device
	def, ok := protocol.Named(t.Protocol)
	if !ok {
		return nil
	}
	area, ok := block.AreaOf(def.Scheme, r.Area)
	if !ok || area.UnitBits < 8 {
		return nil
	}
	var parts []readPart
	for i := range device.Points {
		point := &device.Points[i]
		place := point.Place()
		units := uint32(point.Units(area.UnitBits))
		if place.Area != r.Area || place.Bit >= 0 || place.Offset < r.Start || units == 0 ||
			place.Offset+units > r.Start+uint32(r.Count) || int(units)*area.Octets() > 8 {
			continue
		}
		w := p.watchedOf(t, point, area)
		if w == nil {
			continue
		}
		parts = append(parts, readPart{int(place.Offset-r.Start) * area.Octets(), w})
	}
	return parts
}

// mostWatched bounds the points that are followed.
const mostWatched = 100_000

func (p *plan) watchedOf(t *Talk, point *site.Point, area block.Area) *watched {
	key := watchedKey{t.Key.Answerer, t.Key.Station, t.Key.Line, point.ID}
	if w, ok := p.watched[key]; ok {
		return w
	}
	if len(p.watched) >= mostWatched {
		return nil
	}
	var w *watched
	if codec, err := point.Codec(area.UnitBits); err == nil && (point.Type.IsFloat() || point.Type.IsWhole()) {
		w = &watched{talk: t, point: point, area: area.Key, unit: point.Place().Offset, codec: codec,
			size: point.Units(area.UnitBits) * area.Octets()}
		if point.Type.IsFloat() {
			shape := point.Shape(area.UnitBits)
			for i, order := range value.Orders(w.size) {
				if shape.Order = order; order == point.Order || point.Order == "" && i == 0 {
					continue
				}
				if other, err := value.NewCodec(shape); err == nil {
					w.orders = append(w.orders, other)
				}
			}
			w.sensible = make([]int, len(w.orders))
			w.moved, w.before = make([]float64, len(w.orders)), make([]float64, len(w.orders))
		}
	}
	p.watched[key] = w
	return w
}

// watchedKey names a point of one who answers, whoever asks.
type watchedKey struct {
	at      netip.AddrPort
	station int
	line    string
	point   string
}

func (k watchedKey) String() string {
	return fmt.Sprintf("%s/%d/%s/%s", k.at, k.station, k.line, k.point)
}

// values follows the points in an answer.
func (p *plan) values(t *Talk, h *capture.Heard) {
	if h.Outcome != exchange.Answered || h.Write || len(h.Data) == 0 {
		return
	}
	key := partsKey{t, h.Range}
	parts, known := p.parts[key]
	if !known {
		if len(p.parts) >= mostWatched {
			return
		}
		parts = p.watch(t, h.Range)
		p.parts[key] = parts
	}
	for _, part := range parts {
		if w := part.of; part.at+w.size <= len(h.Data) {
			w.see(h.Data[part.at:part.at+w.size], h)
		}
	}
}

type partsKey struct {
	talk *Talk
	r    block.Range
}

// What no instrument shows: numbers with a fraction smaller or larger than these.
const (
	tiny = 1e-9
	huge = 1e12
)

func senseless(v float64) bool {
	return math.IsNaN(v) || math.IsInf(v, 0) || v != 0 && math.Abs(v) < tiny || math.Abs(v) > huge
}

// see takes in one reading.
func (w *watched) see(raw []byte, h *capture.Heard) {
	w.reads++
	if w.first.IsZero() {
		w.first = h.Asked
	}
	w.last = h.Asked
	w.lastProof = proofOf(h, "")
	same := w.reads > 1 && string(raw) == string(w.raw[:len(raw)])
	if !same {
		copy(w.raw[:], raw)
		if w.reads > 1 {
			if w.changes > 0 {
				w.steps += h.Asked.Sub(w.changed)
			}
			w.changes++
		}
		w.changed = h.Asked
	}
	v, err := w.codec.Decode(raw, value.Value{})
	if err != nil || w.point.Scale().IsMissing(v) {
		return
	}
	f := v.Float()
	if w.point.Type.IsFloat() {
		if senseless(f) {
			w.prove(&w.absurd, h, f)
		}
		for i := range w.orders {
			if o, err := w.orders[i].Decode(raw, value.Value{}); err == nil {
				w.inOrder(i, o.Float())
			}
		}
	}
	shown := w.point.Scale().Apply(v).Float()
	if low, high := w.point.Low, w.point.High; !senseless(f) &&
		(low != nil && shown < *low || high != nil && shown > *high) {
		w.prove(&w.beyond, h, shown)
	}
	if !same && w.changes >= 2 {
		// Two who take turns: each time the value is what it was before the last.
		near, far := math.Abs(shown-w.was[1]), math.Abs(shown-w.was[0])
		if w.alternate++; far > 5*near && far > 1e-9 && math.Abs(w.was[0]-w.was[2]) < far/5 {
			w.apart++
		}
	}
	if !same || w.reads == 1 {
		w.was = [3]float64{shown, w.was[0], w.was[1]}
	}
}

// Numbers that instruments show as a rule.
const (
	small = 1e-4
	large = 1e7
)

// inOrder takes in what a reading would be in another order.
func (w *watched) inOrder(i int, v float64) {
	if v == 0 || math.Abs(v) >= small && math.Abs(v) <= large {
		w.sensible[i]++
	}
	if was := w.before[i]; w.reads > 1 && v != was {
		w.moved[i] += math.Abs(v-was) / max(math.Abs(v), math.Abs(was))
	}
	w.before[i] = v
}

func (w *watched) prove(ps *proofs, h *capture.Heard, v float64) {
	if ps.full() {
		ps.add(proofOf(h, ""))
		return
	}
	ps.add(proofOf(h, fmt.Sprintf("%s reads %.6g %s", w.point.Name, v, w.point.Unit)))
}

// How much must be seen before values are judged.
const (
	absurdLeast    = 3
	frozenLeast    = 30 * time.Second
	alternateLeast = 12
)

// meaning judges the values of a talk.
func (p *plan) meaning(j *Judge) (found []finding.Finding) {
	for _, key := range sorted(p.watched, watchedKey.String) {
		w := p.watched[key]
		if w == nil {
			continue
		}
		subject := finding.Subject{Kind: "point", ID: w.point.ID, Name: j.of(w.talk).Name + " · " + w.point.Name,
			Device: j.of(w.talk).Device}
		add := func(code string, severity finding.Severity, sure float64, ps *proofs, title, sentence, remedy, other string) {
			f := finding.Finding{Code: code, Severity: severity, Sure: sure, Count: ps.n, Subject: subject, Title: title,
				Sentence: sentence, Remedy: remedy, Else: other}
			ps.into(&f)
			found = append(found, f)
		}
		name := w.point.Name
		if w.absurd.n >= absurdLeast && w.absurd.n*4 > w.reads {
			if i := w.better(); i >= 0 {
				order := cmp.Or(string(w.orders[i].Order), "as it comes, the highest octet first")
				add("order-suspect", finding.Fault, 0.9, &w.absurd, name+" is read in the wrong order",
					fmt.Sprintf("%d of %d readings are numbers that no instrument shows; in the order %s all make sense.",
						w.absurd.n, w.reads, order),
					fmt.Sprintf("Set the order of the point to %s.", order), "The type of the point is another.")
			} else {
				add("absurd-value", finding.Fault, 0.9, &w.absurd, name+" shows what no instrument shows",
					fmt.Sprintf("%d of %d readings are such numbers.", w.absurd.n, w.reads),
					"Look at the type and the address of the point: half of it may be of its neighbour.", "")
			}
			continue
		}
		if w.beyond.n > 0 {
			severity := finding.Doubt
			add("out-of-range", severity, 1, &w.beyond, name+" is beyond its limits",
				fmt.Sprintf("%d of %d readings are outside what makes sense for it.", w.beyond.n, w.reads),
				"Compare with the device's own display; then look at scale, type and limits of the point.", "")
		}
		if w.alternate >= alternateLeast && w.apart*5 >= w.alternate*4 {
			ps := proofs{n: w.apart, kept: []proof{w.lastProof}}
			add("alternating-source", finding.Fault, 0.8, &ps, name+" comes from two sources in turn",
				fmt.Sprintf("In %d of %d changes it goes back to what it was before.", w.apart, w.alternate),
				"Look for two devices of one number, and for two writers.", "It really switches at each reading.")
		}
		usual := w.usual()
		if usual > 0 && w.point.Access == site.ReadOnly && w.last.Sub(w.changed) >= max(frozenLeast, 10*usual) {
			ps := proofs{n: 1, kept: []proof{{at: w.changed, text: "its last change"}, w.lastProof}}
			add("frozen-value", finding.Doubt, 0.6, &ps, name+" has stopped changing",
				fmt.Sprintf("It used to change every %s, and stands still for %s although it is read.", long(usual),
					long(w.last.Sub(w.changed))),
				"Compare with the device's own display. The sensor, or the task that writes this value, may have stopped.", "")
		}
	}
	return found
}

// smooth is how much of itself a number moves from reading to reading at most, where it
// is read as it is meant.
const smooth = 0.4

// better finds the one order in which every reading makes sense and the number moves
// smoothly; -1 for none.
func (w *watched) better() int {
	best := -1
	if w.changes < absurdLeast {
		return best // what stands still makes sense in some order or other
	}
	for i, n := range w.sensible {
		if n < w.reads || w.moved[i] > smooth*float64(w.reads) {
			continue
		}
		if best >= 0 {
			return -1
		}
		best = i
	}
	return best
}

// usual is the time between two changes; 0 where it is not known.
func (w *watched) usual() time.Duration {
	if w.changes < 4 {
		return 0
	}
	return w.steps / time.Duration(w.changes-1)
}
