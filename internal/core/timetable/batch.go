package timetable

import (
	"cmp"
	"slices"

	"ferry/internal/core/block"
)

// stretch is one range that is to be read, with its pace.
type stretch struct {
	area block.Area
	Span
}

func (s *stretch) octets() int { return int(s.To-s.From) * s.area.Octets() }

func (s *stretch) asRange() block.Range {
	return block.Range{Area: s.area.Key, Start: s.From, Count: int(s.To - s.From)}
}

// message is a request that several ranges share.
type message struct {
	paceMs int
	of     []int // indices into the stretches
	in     int   // octets of the answer that are taken
}

// filling computes with what one message holds.
type filling struct{ room block.Room }

// takes is what a range takes of the answer. The last of a message is not
// filled up; which one that will be is not known yet, so all are counted so.
func (f filling) takes(octets int) int {
	if f.room.Even {
		octets += octets % 2
	}
	return f.room.InEach + octets
}

// most is how many ranges one message may hold by their number and by what each
// takes of the request.
func (f filling) most() int {
	most := f.room.Ranges
	if f.room.OutEach > 0 {
		most = min(most, f.room.Out/f.room.OutEach)
	}
	return max(1, most)
}

// fits reports whether a range fits into a message with others.
func (f filling) fits(m *message, octets int) bool {
	return len(m.of) < f.most() && m.in+f.takes(octets) <= f.room.In
}

// gather puts ranges into messages: those of one pace together, the largest
// first into the fullest message that holds it, which needs few more messages
// than there must be. Slower ranges then ride with faster messages where a whole
// slower message becomes free by that.
func (f filling) gather(list []stretch) (messages []message) {
	order := make([]int, len(list))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(weight(list[a].PaceMs), weight(list[b].PaceMs)),
			cmp.Compare(list[b].octets(), list[a].octets()))
	})
	begun := 0 // the first message of the pace at hand
	for k, i := range order {
		if k > 0 && list[i].PaceMs != list[order[k-1]].PaceMs {
			f.ride(list, messages[:begun], messages[begun:])
			messages = slices.DeleteFunc(messages, func(m message) bool { return len(m.of) == 0 })
			begun = len(messages)
		}
		best := -1
		for n := begun; n < len(messages); n++ {
			if f.fits(&messages[n], list[i].octets()) && (best < 0 || messages[n].in > messages[best].in) {
				best = n
			}
		}
		if best < 0 {
			best = len(messages)
			messages = append(messages, message{paceMs: list[i].PaceMs})
		}
		f.put(&messages[best], i, list[i].octets())
	}
	f.ride(list, messages[:begun], messages[begun:])
	messages = slices.DeleteFunc(messages, func(m message) bool { return len(m.of) == 0 })
	for i := range messages {
		// In the order of the memory, so that two plans of the same points are
		// alike.
		slices.SortFunc(messages[i].of, func(a, b int) int {
			return cmp.Or(cmp.Compare(list[a].area.Key, list[b].area.Key), cmp.Compare(list[a].From, list[b].From),
				cmp.Compare(a, b))
		})
	}
	return messages
}

func (f filling) put(m *message, i, octets int) {
	m.of = append(m.of, i)
	m.in += f.takes(octets)
}

// ride empties slower messages into what is left of faster ones, the least full
// first, where all of one finds room.
func (f filling) ride(list []stretch, faster, slower []message) {
	if len(faster) == 0 {
		return
	}
	order := make([]int, len(slower))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order,
		func(a, b int) int { return cmp.Or(cmp.Compare(slower[a].in, slower[b].in), cmp.Compare(a, b)) })
	for _, n := range order {
		trial := make([]message, len(faster))
		for i, m := range faster {
			trial[i] = message{m.paceMs, slices.Clone(m.of), m.in}
		}
		if slices.ContainsFunc(slower[n].of, func(i int) bool {
			at := slices.IndexFunc(trial, func(m message) bool { return f.fits(&m, list[i].octets()) })
			if at >= 0 {
				f.put(&trial[at], i, list[i].octets())
			}
			return at < 0
		}) {
			continue
		}
		copy(faster, trial)
		slower[n].of = nil
	}
}

// rate is what messages cost a second: how many there are, and their octets.
func rate(messages []message, list []stretch, f filling) (number, octets float64) {
	for _, m := range messages {
		number += 1 / weight(m.paceMs)
		for _, i := range m.of {
			octets += float64(f.room.OutEach+f.takes(list[i].octets())) / weight(m.paceMs)
		}
	}
	return number, octets
}

// bridges are what another range is taken to cost, in octets, from what it costs
// in the message to what is worth where the number of ranges is what fills it.
var bridges = []float64{1, 3, 8, 16, 32, 64, 128}

// Batch divides the items of several areas into ranges, and puts them into
// messages: the least messages a second, and of ways with as many the fewest
// octets. How wide gaps are read over is tried out.
func batch(areas []block.Area, items [][]Item, rules []Rules, room block.Room) (list []stretch, messages []message) {
	f := filling{room}
	var least, lightest float64
	each := float64(f.room.InEach)
	for _, bridge := range bridges {
		var tried []stretch
		for k, area := range areas {
			r := rules[k]
			r.Most = min(r.Most, (room.In-room.InEach)/area.Octets())
			r.Cost = func(units int) float64 { return bridge*each + float64(units*area.Octets()) }
			for _, span := range Pack(items[k], r) {
				tried = append(tried, stretch{area, span})
			}
		}
		put := f.gather(tried)
		number, octets := rate(put, tried, f)
		if messages == nil || number < least-1e-12 || number < least+1e-12 && octets < lightest {
			list, messages, least, lightest = tried, put, number, octets
		}
	}
	return list, messages
}
