package field

import (
	"context"
	"fmt"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/route"
)

// again is how often an answer that does not pass is asked for once more,
// before anything is concluded from it.
const again = 4

// linger is how long a second answer to the same request is waited for: two
// devices of one number rarely think for the same time.
const linger = 120 * time.Millisecond

// overLine decides the stops Wire, Address and Session of a line that carries
// several stations, from the first answer and, where that does not tell, from
// more. It reports whether the unit answers.
func (w *walk) overLine(ctx context.Context, reply *Reply) bool {
	if reply.Cause == exchange.Others { // it explains whatever else is odd
		w.wireGood("Frames come from the line.")
		w.route.Set(route.Address, route.Good, "They pass their check.", "")
		w.route.Set(route.Session, route.Fault,
			"Somebody else asks on this line too: an answer says nothing of whom it is for, so nothing read "+
				"here is sure.",
			"Find out who else asks (a panel, a second controller, a laptop), and stop it or Ferry. A serial line "+
				"has one asker.")
		return false
	}
	if reply.OK() || reply.Outcome == exchange.Declined {
		w.wireGood("Answers come back.")
		if w.route.Set(route.Address, route.Good, "They pass their check.", ""); reply.Cause == exchange.InPieces {
			w.route.Set(route.Address, route.Doubt, "They pass their check, but "+reply.Sentence+".",
				"By the standard a frame with such a pause is lost: other askers will not take it. Look at the "+
					"device's load, or at the adapter between.")
		}
		return w.onlyOne(ctx)
	}
	switch reply.Outcome {
	case exchange.NoAnswer:
		w.silence(ctx, reply)
		return false
	case exchange.Garbled:
	default:
		return true // the connection went: that is the same on every line
	}
	replies := []Reply{*reply}
	for tried := 0; tried < again && ctx.Err() == nil; tried++ {
		if next := w.plainRead(ctx); next.OK() || next.Outcome == exchange.Declined {
			*reply = next
			w.wireGood("Answers come back.")
			w.route.Set(route.Address, route.Doubt,
				fmt.Sprintf("%d of %d answers did not pass their check: %s.", len(replies), len(replies)+1,
					replies[0].Sentence),
				"Look for noise: shields, termination, bias, and cables beside those of drives.")
			return w.onlyOne(ctx)
		} else if next.Outcome == exchange.Garbled {
			replies = append(replies, next)
		}
	}
	w.garbled(replies)
	return false
}

func (w *walk) wireGood(saw string) { w.route.Set(route.Wire, route.Good, saw, "") }

// onlyOne asks once more and listens for a second answer behind the first.
func (w *walk) onlyOne(ctx context.Context) bool {
	heard := Heard{}
	// What comes behind the first may be a late answer to an earlier question;
	// behind the second nothing is owed.
	for range 2 {
		w.question(ctx, w.runner, func(conn Conn) {
			ear, ok := conn.(Listener)
			if !ok {
				return
			}
			if reply := w.ask(conn, firstOf(w.runner.jobs), time.Now()); reply.OK() ||
				reply.Outcome == exchange.Declined {
				heard = ear.Listen(ctx, linger)
			}
		})
		if heard.Octets <= 3 {
			return true
		}
	}
	w.route.Set(route.Session, route.Fault,
		fmt.Sprintf("Two devices answer to %s: behind the answer came %d octets more.", w.who(), heard.Octets),
		"Take one of them off the line, and give it a number of its own.")
	return false
}

// silence decides what nothing at all means: if others on the line answer, the
// wire is good and this device is not there, not on, or set otherwise.
func (w *walk) silence(ctx context.Context, reply *Reply) {
	limit := w.limit()
	number, _ := w.runner.def.StationOf(w.runner.link.Settings)
	if reply.Cause == exchange.Echo {
		w.route.Set(route.Wire, route.Doubt, "What is sent comes back: the adapter hears itself.",
			"Switch its echo off, or leave it: Ferry takes the echo away.")
	}
	if w.late(ctx, reply) {
		w.wireGood("Answers come back.")
		w.route.Set(route.Address, route.Good, "They pass their check.", "")
		return
	}
	for _, other := range w.others {
		var got Reply
		w.question(ctx, other, func(conn Conn) {
			began := time.Now()
			at := other.jobs[0].Ranges[0]
			first := []block.Range{{Area: at.Area, Start: at.Start, Count: 1}}
			got = Ask(conn, first)
			other.note(first, &got, began)
			w.route.Requests++
		})
		if !got.OK() && got.Outcome != exchange.Declined {
			continue
		}
		w.wireGood(other.device.Name + " answers on the same line, so wire and port are good.")
		w.route.Set(route.Address, route.Good, "Its answers pass their check.", "")
		w.route.Set(route.Session, route.Fault, fmt.Sprintf("%s says nothing within %d ms.", begun(w.who()), limit),
			fmt.Sprintf("First compare its number: is it really %d on its display or its switches? Then its power "+
				"and its own settings: a device that is set to another baud rate stays silent. The sweep tries the "+
				"usual ones.", number))
		return
	}
	w.route.Set(route.Wire, route.Fault,
		fmt.Sprintf("Nothing comes back from the line: %s and %d others were asked and none answered within %d ms.",
			w.who(), len(w.others), limit),
		"Check power and cable, swap the two wires of the pair, and compare the baud rate. Then sweep the "+
			"usual settings.")
}

// garbled concludes from answers of which none passed.
func (w *walk) garbled(replies []Reply) {
	counts := map[exchange.Cause]int{}
	last := map[exchange.Cause]string{}
	looks := map[string]int{}
	for i := range replies {
		r := &replies[i]
		counts[r.Cause]++
		looks[r.Looks]++
		// Of several formats that it looks like, the most frequent counts.
		if last[r.Cause] == "" || looks[r.Looks] >= 2 || r.Looks == "" {
			last[r.Cause] = r.Sentence
		}
	}
	tried := len(replies)
	w.wireGood("Bytes come back from the line.")
	switch {
	case counts[exchange.OtherStation] > 0:
		w.route.Set(route.Address, route.Good, "They pass their check.", "")
		w.route.Set(route.Session, route.Fault, sentence(last[exchange.OtherStation]),
			"Compare the number on the device with the map: one of the two is wrong.")
	case counts[exchange.TwoStations] > 0:
		w.route.Set(route.Address, route.Good, "They begin as they should.", "")
		w.route.Set(route.Session, route.Fault,
			fmt.Sprintf("Two devices answer to %s: %s, in %d of %d answers.", w.who(), last[exchange.TwoStations],
				counts[exchange.TwoStations], tried),
			"Take one of them off the line, and give it a number of its own.")
	case counts[exchange.Format] > tried/2:
		w.route.Set(route.Address, route.Fault,
			fmt.Sprintf("Bytes come back, but no frame survives its check: in %d of %d answers, %s.",
				counts[exchange.Format], tried, last[exchange.Format]),
			"Set the device, or this end, so that both are alike. To be sure, sweep the usual settings.")
	case counts[exchange.CutShort] > tried/2:
		w.route.Set(route.Address, route.Fault,
			fmt.Sprintf("Answers break off: in %d of %d, %s.", counts[exchange.CutShort], tried,
				last[exchange.CutShort]),
			"Bytes are lost on the way: look at the adapter, its driver and its buffer, and at termination.")
	default:
		w.route.Set(route.Address, route.Fault,
			fmt.Sprintf("Bytes come back, but no frame survives its check: %d of %d answers, the last because %s.",
				tried, tried, replies[tried-1].Sentence),
			"If each begins as it should, two devices have one number. Otherwise look for noise, termination and "+
				"bias, or sweep the usual settings.")
	}
}
