package judge

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
)

// cycles follows connections over which packets go by themselves, one direction each.
type cycles map[cycleKey]*cycle

type cycleKey struct {
	from netip.Addr
	id   uint32
}

// cycle is one direction of such a connection.
type cycle struct {
	way    capture.CycleWay
	talk   *Talk // over which it was opened; nil where the recording begins later
	name   string
	out    bool // from the end that asked for it
	other  *cycle
	opened proof // zero where the recording begins later
	ended  bool

	n, missed    int
	first, last  proof
	sequence     uint32
	gaps, uneven int
	worst        time.Duration
	unevenAt     proofs
	silences     proofs
	silence      time.Duration
	sized        proofs
	size         int
	run, idle    int  // packets whose first 32 bits say so
	set          bool // something else than zeros followed an idle header
	notTold      bool // the first 32 bits are no header
	every        time.Duration
	quickest     [9]time.Duration // the first gaps, from which the interval is taken where it is not known
	lost         proofs
}

// Bounds of what is followed, and from when on it says something.
const (
	mostCycles  = 20_000
	cyclesLeast = 20
	unevenShare = 0.1 // of the gaps
	unevenLeast = 8 * time.Millisecond
	neverRunFor = 5 * time.Second
	firstWithin = time.Second
)

// opening takes in that a connection was opened or ended.
func (cs cycles) opening(c *capture.Conn, t *Talk, h *capture.Heard) {
	o := h.Opening
	asker, answerer := c.Ends[capture.Asker].Addr(), c.Ends[capture.Answerer].Addr()
	if o.Ends {
		for key, each := range cs {
			if each.name == o.Name && (key.from == asker || key.from == answerer) {
				each.ended = true
			}
		}
		return
	}
	if len(cs)+2 > mostCycles {
		return
	}
	of := [2]*cycle{}
	for i, from := range []netip.Addr{asker, answerer} {
		key := cycleKey{from, o.Ways[i].ID}
		if of[i] = cs[key]; of[i] == nil || of[i].talk != nil {
			of[i] = &cycle{} // those of before that has the same identifier are over
		}
		each := of[i]
		each.way, each.talk, each.name, each.out, each.every = o.Ways[i], t, o.Name, i == 0, o.Ways[i].Every
		each.opened = proofOf(h, "it was opened")
		cs[key] = each
	}
	of[0].other, of[1].other = of[1], of[0]
}

// hear takes in a packet.
func (cs cycles) hear(c *capture.Conn, h *capture.Heard) {
	at, from, number := h.Asked, c.Ends[capture.Asker].Addr(), h.AskedIn
	if at.IsZero() {
		at, from, number = h.Answered, c.Ends[capture.Answerer].Addr(), h.AnsweredIn
	}
	key := cycleKey{from, h.Cycle.ID}
	of := cs[key]
	if of == nil {
		if len(cs) >= mostCycles {
			return
		}
		of = &cycle{}
		cs[key] = of
	}
	of.packet(h.Cycle, proof{at: at, packets: [2]int64{number}})
}

func (of *cycle) packet(p *capture.Cycle, pr proof) {
	if step := int32(p.Sequence - of.sequence); of.n > 0 && step <= 0 && step > -1<<16 {
		return // it came twice, or was overtaken
	} else if drops := of.way.Drops; of.n > 0 && step > 1 && step < 1<<16 &&
		(drops == 0 || pr.at.Sub(of.last.at) < drops) {
		of.missed += int(step - 1)
		of.lost.add(proof{at: pr.at, packets: pr.packets, text: fmt.Sprintf("%d follows %d", p.Sequence, of.sequence)})
	}
	if of.n == 0 {
		of.first = pr
	} else {
		of.gap(pr, int32(p.Sequence-of.sequence))
	}
	of.n++
	of.sequence, of.last = p.Sequence, pr
	if of.way.Octets > 0 && p.Octets != of.way.Octets {
		of.size = p.Octets
		of.sized.add(pr)
	}
	if len(p.Data) >= 4 {
		switch head := binary.LittleEndian.Uint32(p.Data); head {
		case 0:
			of.idle++
			for _, b := range p.Data[4:] {
				of.set = of.set || b != 0
			}
		case 1:
			of.run++
		default:
			of.notTold = true
		}
	} else {
		of.notTold = true
	}
}

// gap takes in the time between two packets.
func (of *cycle) gap(pr proof, steps int32) {
	d := pr.at.Sub(of.last.at)
	if of.every == 0 { // as they come
		k := of.n - 1
		of.quickest[k] = d
		if k == len(of.quickest)-1 {
			slices.Sort(of.quickest[:])
			of.every = of.quickest[len(of.quickest)/2]
		}
		return
	}
	drops := of.way.Drops
	if drops > 0 && d >= drops {
		of.silences.add(proof{at: pr.at, packets: [2]int64{of.last.packets[0], pr.packets[0]}, text: "nothing for " +
			long(d)})
		of.silence = max(of.silence, d)
		return
	}
	if steps > 1 {
		return // what is missing is not late
	}
	of.gaps++
	off := (d - of.every).Abs()
	if off > max(of.every/2, unevenLeast) {
		of.uneven++
		of.unevenAt.add(proof{at: pr.at, packets: pr.packets, text: long(d) + " after the one before"})
		of.worst = max(of.worst, off)
	}
}

// senders is how many directions bring enough to be judged.
func (cs cycles) senders() (n int) {
	for _, of := range cs {
		if of.gaps >= cyclesLeast {
			n++
		}
	}
	return n
}

func (cs cycles) findings(j *Judge) (found []finding.Finding) {
	for _, key := range sorted(cs, func(k cycleKey) string { return fmt.Sprintf("%s %08x", k.from, k.id) }) {
		of := cs[key]
		subject, who := finding.Subject{Kind: "address", ID: key.from.String(), Name: j.hostName(key.from)},
			j.hostName(key.from)
		if of.talk != nil {
			subject = j.of(of.talk)
		}
		subject.Column = fmt.Sprintf("%08x", key.id)
		add := func(code string, severity finding.Severity, sure float64, ps *proofs, title, sentence, remedy, other string) {
			f := finding.Finding{Code: code, Severity: severity, Sure: sure, Count: max(1, ps.n), Subject: subject, Title: title,
				Sentence: sentence, Remedy: remedy, Else: other}
			ps.into(&f)
			found = append(found, f)
		}
		of.timedOut(j, who, add)
		if of.gaps >= cyclesLeast && float64(of.uneven) > unevenShare*float64(of.gaps) {
			add("interval-jitter", finding.Fault, 0.9, &of.unevenAt, who+" does not keep its interval",
				fmt.Sprintf("Of %d packets that %s sends every %s, %d are off by more than half of that, the worst by %s.",
					of.gaps, who, long(of.every), of.uneven, long(of.worst)),
				"Look at the load of the device that sends, and at switches on the way; a longer interval bears more.",
				"The recorder, or the machine on which it ran, was late.")
		}
		if of.missed >= 3 && of.missed*50 > of.n {
			add("sequence-gap", finding.Doubt, 0.8, &of.lost, "Packets of "+who+" are missing",
				fmt.Sprintf("%d packets of %d that %s sent are not there: their numbers are left out.", of.missed, of.n+of.missed,
					who),
				"Look at the cable, the duplex of both ports, and the load of the switch.", "The recording has left packets out.")
		}
		if of.sized.n > 0 {
			add("size-differs", finding.Fault, 1, &of.sized, who+" sends another size than was agreed",
				fmt.Sprintf("The connection was opened for %d octets from %s, and its packets carry %d.", of.way.Octets, who,
					of.size),
				"Restart the device after its assemblies were changed, and open the connection anew.", "")
		}
		if f, ok := of.neverRun(j, who); ok {
			f.Subject = subject
			found = append(found, f)
		}
	}
	return found
}

// neverRun says where the bit in front of the data never says run. Whether there is such a
// bit is known from the plan, or is likely where something follows zeros.
func (of *cycle) neverRun(j *Judge, who string) (f finding.Finding, ok bool) {
	headed, known := j.headed(of)
	lasted := of.last.at.Sub(of.first.at)
	if of.notTold || of.run > 0 || of.n < cyclesLeast || lasted < neverRunFor || known && !headed || !known &&
		!(of.out && of.set) {
		return f, false
	}
	if of.out && !of.set {
		return f, false // nothing is ordered that would have to be acted on
	}
	f = finding.Finding{Code: "never-run", Severity: finding.Fault, Sure: 0.7, Count: 1, Title: who + " never says run",
		Sentence: fmt.Sprintf("In none of %d packets within %s does %s set the run bit, though outputs follow it: the far end does not act "+
			"on them.", of.n, long(lasted), who),
		Remedy: "Put the asking end into run; look whether its program, or a point that enables it, holds it idle.",
		Else:   "The first 4 octets are data, and the connection has no header."}
	if known {
		f.Sure, f.Else = 1, ""
	}
	if !of.out {
		f.Sentence = fmt.Sprintf("In none of %d packets within %s does %s set the run bit: what it sends is not from a program that runs.",
			of.n, long(lasted), who)
		f.Remedy = "Put the device into run mode, or end its set-up."
	}
	ps := proofs{}
	ps.add(of.first)
	ps.add(of.last)
	ps.into(&f)
	return f, true
}

// headed is what the plan says of a header in front of the data.
func (j *Judge) headed(of *cycle) (headed, known bool) {
	if j.plan == nil || of.talk == nil {
		return false, false
	}
	for _, p := range j.plan.of(of.talk) {
		def, _ := protocol.Named(p.link.Protocol)
		if headed, known = def.Headed(p.link.Settings, !of.out); known {
			return headed, true
		}
	}
	return false, false
}

// timedOut says where a direction stopped, or never began.
func (of *cycle) timedOut(j *Judge, who string, add func(string, finding.Severity, float64, *proofs, string, string,
	string, string)) {
	drops := of.way.Drops
	if of.other == nil || drops == 0 {
		return
	}
	switch {
	case of.n == 0:
		if of.ended || of.other.n < 5 || j.last.Sub(of.opened.at) < max(drops, firstWithin) ||
			of.other.last.at.Sub(of.opened.at) < drops {
			return
		}
		ps := proofs{}
		ps.add(of.opened)
		if of.way.Many {
			add("multicast-lost", finding.Fault, 0.8, &ps, "What "+who+" sends to many does not arrive",
				fmt.Sprintf("%s opened a connection in which it sends to many at once, and not one of its packets came.", who),
				"Look at the switch: it may not pass multicast on without a querier. Or ask for packets to one.",
				"It sends nothing at all.")
			return
		}
		add("cyclic-timeout", finding.Fault, 0.9, &ps, who+" sends nothing over a connection that is open",
			fmt.Sprintf("%s took the connection, and not one of its packets came within %s.", who, long(drops)),
			"Look whether a firewall lets UDP pass, and whether the device is in run mode.", "The recording has no UDP.")
	case of.silences.n > 0:
		ps := of.silences
		add("cyclic-timeout", finding.Fault, 1, &ps, "Nothing came from "+who+" for as long as it may",
			fmt.Sprintf("%s sends every %s, and was silent for %s: after %s the connection is dropped.", who, long(of.every),
				long(of.silence),
				long(drops)), "Look at the network and at the load of both ends at that time; a larger multiplier bears more.", "")
	case !of.ended && j.last.Sub(of.last.at) >= drops+of.every && of.other.last.at.Sub(of.last.at) >= drops/2:
		ps := proofs{}
		ps.add(of.last)
		add("cyclic-timeout", finding.Fault, 1, &ps, who+" stopped sending",
			fmt.Sprintf("The last packet of %s came %s before the end, and the connection was not closed: after %s of silence it is dropped.", who,
				long(j.last.Sub(of.last.at)), long(drops)),
			"Look whether the device was switched off or restarted, and at the way to it.", "")
	}
}

// hostName is how people call an address.
func (j *Judge) hostName(a netip.Addr) string {
	if j.plan != nil && j.plan.askers[a] != "" {
		return j.plan.askers[a]
	}
	return a.String()
}
