package timetable

import (
	"cmp"
	"fmt"
	"slices"

	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// asked packs the points of a device that is asked for places by their names:
// those of one pace, in the order of the map, as many to a message as it holds.
func (l *linked) asked(rules protocol.Asks) (requests []Request) {
	room := askRoom(rules.AskRoom(l.link.Settings))
	var wanted []protocol.Wanted
	for i := range l.device.Points {
		if p := &l.device.Points[i]; p.Access != site.WriteOnly && !p.Address.IsZero() {
			wanted = append(wanted, p.Wanted())
		}
	}
	slices.SortStableFunc(wanted, func(a, b protocol.Wanted) int {
		return cmp.Compare(weight(a.PaceMs),
			weight(b.PaceMs))
	})
	for len(wanted) > 0 {
		n := room.fit(rules, wanted)
		requests = append(requests, l.itemRequest(rules, room, wanted[:n]))
		for _, w := range wanted[:n] {
			if w.PaceMs > 0 {
				alone := l.itemRequest(rules, room, []protocol.Wanted{w})
				l.alone++
				l.aloneMs += (alone.WireMs + alone.DeviceMs + alone.GapMs) / float64(w.PaceMs)
			}
		}
		wanted = wanted[n:]
	}
	l.merged = len(requests)
	for i := range requests {
		if r := &requests[i]; r.PaceMs > 0 {
			l.mergedMs += (r.WireMs + r.DeviceMs + r.GapMs) / float64(r.PaceMs)
		}
	}
	return requests
}

// askRoom is protocol.AskRoom with what this package does with one.
type askRoom protocol.AskRoom

// fit is how many places, of one pace and at least one, go into one message.
func (room askRoom) fit(rules protocol.Asks, wanted []protocol.Wanted) int {
	out, in := room.OutHead, room.InHead
	for i, w := range wanted {
		o, n := rules.AskBytes(w)
		out, in = out+o, in+n
		if i > 0 && (w.PaceMs != wanted[0].PaceMs || room.Items > 0 && i >= room.Items ||
			room.Out > 0 && out > room.Out || room.In > 0 && in > room.In) {
			return i
		}
	}
	return len(wanted)
}

// itemRequest makes the request for some places.
func (l *linked) itemRequest(rules protocol.Asks, room askRoom, wanted []protocol.Wanted) Request {
	r := Request{Link: l.link.ID, Line: l.link.Line, Device: l.device.ID, PaceMs: wanted[0].PaceMs,
		ID:       fmt.Sprintf("%s-%s-%d", l.link.ID, wanted[0].ID, wanted[0].PaceMs),
		Function: rules.AskFunction(), Operation: rules.Asking(wanted), Count: len(wanted),
		Address: l.ends.def.Scheme.Short(wanted[0].Address), out: room.OutHead}
	in := room.InHead
	for _, w := range wanted {
		o, n := rules.AskBytes(w)
		r.out, in = r.out+o, in+n
		r.Points = append(r.Points, w.ID)
	}
	r.WireMs, r.GapMs = float64(r.out+in)*l.ends.octetMs+l.ends.between, l.ends.after
	r.DeviceMs, r.WorstDeviceMs = l.ends.think, l.ends.worst
	return r
}
