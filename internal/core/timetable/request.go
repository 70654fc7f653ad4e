package timetable

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// beSilent makes a task what it is when nothing answers. A device that is left
// alone for a while is tried once in that time, by its first request; the
// others wait for it, and are marked by a negative period.
func (l *linked) beSilent(t *task, q *Request, first bool) float64 {
	once := l.ends.silent(q)
	t.ms, t.after = float64(l.ends.tries)*once, 0
	if l.ends.restAfter > 0 {
		if t.ms, t.periodMs = once, -1; first {
			t.periodMs = l.ends.restMs
		}
	}
	if t.periodMs < 0 {
		return 0
	}
	return t.ms
}

// compile packs the points of the link's answering end.
func (l *linked) compile(ctx context.Context) []Request {
	if asks, ok := l.ends.def.Asks(); ok {
		if _, reports := l.ends.def.Reports(); reports {
			return nil // what is reported need not be asked for
		}
		return l.asked(asks)
	}
	shape, ok := block.ShapeOf(l.ends.def.Scheme)
	if !ok || l.ends.ranges == nil {
		return nil
	}
	w := l.wanted(ctx, shape)
	for k := range w.areas {
		l.compare(w.items[k], w.rules[k])
	}
	if several, ok := l.ends.def.Rules.(protocol.Batches); ok {
		list, messages := batch(w.areas, w.items, w.rules, several.Room(l.link.Settings))
		requests := make([]Request, len(messages))
		for i, m := range messages {
			requests[i] = l.request(w, list, m)
		}
		return requests
	}
	var requests []Request
	for k, area := range w.areas {
		for _, span := range Pack(w.items[k], w.rules[k]) {
			requests = append(requests,
				l.request(w, []stretch{{area, span}}, message{paceMs: span.PaceMs, of: []int{0}}))
		}
	}
	return requests
}

// wants is what is to be read of a device: for each area the items, the points
// of each, and what bounds a request.
type wants struct {
	areas  []block.Area
	items  [][]Item
	points [][][]string
	rules  []Rules
}

func (l *linked) wanted(ctx context.Context, shape block.Shape) *wants {
	w := &wants{}
	def, device := l.ends.def, l.device
	for _, area := range block.AreasIn(shape, device.Places) {
		items, points := itemsOf(device, area)
		if len(items) == 0 {
			continue
		}
		perUnit := unitMs * float64(area.UnitBits) / 16
		one := make([]block.Range, 1) // what is weighed at the moment
		rules := Rules{
			Context:    ctx,
			Most:       regmap.Limit(device, area, def.Most(l.link.Settings)),
			NoBridging: device.Limits.NoBridging,
			Even:       device.Limits.EvenRequests && area.UnitBits == 16,
			Cost: func(units int) float64 {
				one[0] = block.Range{Area: area.Key, Count: units}
				return l.ends.think + l.ends.wire(one) + l.ends.after + perUnit*float64(units)
			},
		}
		for _, f := range device.Limits.Forbidden {
			if f.Area == area.Key {
				rules.Forbidden = append(rules.Forbidden, Item{From: f.From, To: f.From + f.Count})
			}
		}
		w.areas, w.items = append(w.areas, area), append(w.items, items)
		w.points, w.rules = append(w.points, points), append(w.rules, rules)
	}
	return w
}

// request makes the request of a message.
func (l *linked) request(w *wants, list []stretch, m message) Request {
	r := Request{Link: l.link.ID, Line: l.link.Line, Device: l.device.ID, PaceMs: m.paceMs, Points: []string{}}
	copying := 0.0
	for _, i := range m.of {
		s := &list[i]
		k := slices.IndexFunc(w.areas, func(a block.Area) bool { return a.Key == s.area.Key })
		for _, item := range s.Items {
			r.Points = append(r.Points, w.points[k][item]...)
		}
		one := s.asRange()
		r.Ranges = append(r.Ranges, one)
		r.Count += one.Count
		r.Unused += s.Unused
		copying += unitMs * float64(s.area.UnitBits) / 16 * float64(one.Count)
	}
	first := r.Ranges[0]
	r.Area, r.Start = first.Area, first.Start
	r.ID = fmt.Sprintf("%s-%s%d-%d", l.link.ID, first.Area, first.Start, m.paceMs)
	r.Function = l.ends.ranges.Function(first.Area)
	r.Operation = l.ends.ranges.Operation(r.Ranges)
	r.Address = l.ends.def.Scheme.Short(block.At(first.Area, first.Start))
	r.WireMs, r.GapMs = l.ends.wire(r.Ranges), l.ends.after
	r.DeviceMs, r.WorstDeviceMs = l.ends.think+copying, l.ends.worst+copying
	return r
}

// compare works out what the same points would cost with a request for each,
// and with requests for neighbours of one pace.
func (l *linked) compare(items []Item, rules Rules) {
	byPace := map[int][]Item{}
	for _, it := range items {
		if it.PaceMs > 0 {
			l.alone++
			l.aloneMs += rules.Cost(rules.width(it.From, it.To)) / float64(it.PaceMs)
			byPace[it.PaceMs] = append(byPace[it.PaceMs], it)
		}
	}
	rules.NoBridging = true
	for _, pace := range slices.Sorted(maps.Keys(byPace)) { // in order: sums of floats depend on it
		for _, span := range Pack(byPace[pace], rules) {
			l.merged++
			l.mergedMs += rules.Cost(int(span.To-span.From)) / float64(pace)
		}
	}
}

// itemsOf lists what is to be read of an area, with the ids of the points of
// each: those of one structure are read in one piece, and a register that only
// holds the power of ten of points has none.
func itemsOf(device *site.Device, area block.Area) (items []Item, points [][]string) {
	structures := map[string]int{}
	for i := range device.Placements {
		if device.Placements[i].Structure != "" {
			structures[device.Placements[i].ID] = -1
		}
	}
	most := uint32(125 * 16 / area.UnitBits)
	for i := range device.Points {
		p := &device.Points[i]
		if p.Access == site.WriteOnly {
			continue
		}
		if p.Place().Area == area.Key {
			it := Item{p.Place().Offset, p.Place().Offset + uint32(p.Units(area.UnitBits)), p.PaceMs}
			at := -1
			if p.From != nil {
				if known, ok := structures[p.From.Placement]; ok {
					at = known
				}
			}
			if at >= 0 && max(items[at].To, it.To)-min(items[at].From, it.From) <= most {
				whole := &items[at]
				whole.From, whole.To = min(whole.From, it.From), max(whole.To, it.To)
				if weight(it.PaceMs) < weight(whole.PaceMs) {
					whole.PaceMs = it.PaceMs
				}
				points[at] = append(points[at], p.ID)
			} else {
				if p.From != nil {
					if _, ok := structures[p.From.Placement]; ok {
						structures[p.From.Placement] = len(items)
					}
				}
				items, points = append(items, it), append(points, []string{p.ID})
			}
		}
		if block.Of(p.PowerAt).Area == area.Key && !p.Address.IsZero() {
			items, points = append(items, Item{block.Of(p.PowerAt).Offset, block.Of(p.PowerAt).Offset + 1, p.PaceMs}),
				append(points, nil)
		}
	}
	return items, points
}
