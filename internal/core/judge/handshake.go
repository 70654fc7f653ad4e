package judge

import (
	"bytes"
	"fmt"
	"net/netip"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
)

// handshakes follows numbers that a device counts up and an asker gives back: a result is
// held until its number is.
type handshakes map[handKey]*hands

type handKey struct {
	at      netip.AddrPort
	line    string
	station int
}

// hands is what is known of one device.
type hands struct {
	talk  *Talk
	reads map[block.Range]*lastRead
	pairs map[handPair]*echoed
}

// lastRead is what a range held last, and since when each of its words does.
type lastRead struct {
	data  []byte
	since []time.Time
	at    time.Time
	in    [2]int64
}

// handPair is a word that counts, and where its number is written back.
type handPair struct {
	counts block.Range // the range in which it is read
	word   int
	back   block.Range
}

// echoed is how often a number came back.
type echoed struct {
	n    int
	last uint16
	wait time.Duration // from the count to the echo, altogether
}

// Bounds of what is followed, and from when on a pair is one.
const (
	mostHandReads  = 64
	mostHandPairs  = 256
	echoLeast      = 3
	heldLeast      = 5 * time.Second
	heldTimes      = 4
	mostHandshakes = 5000
)

// hear takes in a read or a write of registers of 16 bits. Reads count once something of
// one register has been written to the device: before, nothing can have come back.
func (hs handshakes) hear(t *Talk, h *capture.Heard) {
	if len(hs) == 0 && !h.Write || h.Outcome != exchange.Answered || len(h.Data) != 2*h.Range.Count || h.Range.Count == 0 {
		return
	}
	key := handKey{t.Key.Answerer, t.Key.Line, t.Key.Station}
	of := hs[key]
	if of == nil {
		if len(hs) >= mostHandshakes || !h.Write || h.Range.Count != 1 {
			return
		}
		of = &hands{talk: t, reads: map[block.Range]*lastRead{}, pairs: map[handPair]*echoed{}}
		hs[key] = of
	}
	if h.Write {
		if h.Range.Count == 1 {
			of.back(h, uint16(h.Data[0])<<8|uint16(h.Data[1]))
		}
		return
	}
	r := of.reads[h.Range]
	if r == nil {
		if len(of.reads) >= mostHandReads {
			return
		}
		r = &lastRead{data: append([]byte(nil), h.Data...), since: make([]time.Time, h.Range.Count)}
		of.reads[h.Range] = r
	}
	r.at, r.in = h.Answered, [2]int64{h.AskedIn, h.AnsweredIn}
	if bytes.Equal(r.data, h.Data) {
		return
	}
	for i := range r.since {
		if r.data[2*i] != h.Data[2*i] || r.data[2*i+1] != h.Data[2*i+1] {
			r.since[i] = h.Answered
		}
	}
	copy(r.data, h.Data)
}

func (r *lastRead) word(i int) uint16 { return uint16(r.data[2*i])<<8 | uint16(r.data[2*i+1]) }

// back looks for the word whose number is written: one that has just counted to it.
func (of *hands) back(h *capture.Heard, v uint16) {
	for counts, r := range of.reads {
		for i := range r.since {
			if r.word(i) != v || r.since[i].IsZero() || counts.Area == h.Range.Area && counts.Start+uint32(i) == h.Range.Start {
				continue
			}
			key := handPair{counts, i, h.Range}
			e := of.pairs[key]
			switch {
			case e == nil:
				if len(of.pairs) >= mostHandPairs {
					continue
				}
				of.pairs[key] = &echoed{n: 1, last: v, wait: h.Asked.Sub(r.since[i])}
			case v == e.last+1 || v == 1 && e.last > 1: // it counts up, and may begin anew
				e.n, e.last = e.n+1, v
				e.wait += h.Asked.Sub(r.since[i])
			case v != e.last:
				e.n, e.last, e.wait = 1, v, 0 // it does not count
			}
		}
	}
}

func (hs handshakes) findings(j *Judge) (found []finding.Finding) {
	for _, key := range sorted(hs, func(k handKey) string { return fmt.Sprintf("%s/%s/%05d", k.at, k.line, k.station) }) {
		of := hs[key]
		for _, p := range sorted(of.pairs, func(p handPair) string {
			return fmt.Sprintf("%s/%08d/%d/%d/%s/%08d", p.counts.Area, p.counts.Start, p.counts.Count, p.word, p.back.Area,
				p.back.Start)
		}) {
			e, r := of.pairs[p], of.reads[p.counts]
			held := r.at.Sub(r.since[p.word])
			if e.n < echoLeast || r.word(p.word) != e.last+1 || held < heldLeast ||
				held < heldTimes*e.wait/time.Duration(e.n) {
				continue
			}
			place := func(area string, unit uint32) string {
				return fmt.Sprintf("%s %d", area, unit)
			}
			if def, ok := protocol.Named(of.talk.Protocol); ok {
				place = func(area string, unit uint32) string { return def.Scheme.Short(block.At(area, unit)) }
			}
			name := j.of(of.talk).Name
			f := finding.Finding{Code: "waiting-for-handshake", Severity: finding.Fault, Sure: 0.8, Count: 1,
				Subject: j.of(of.talk), Title: name + " waits for its number to be given back",
				Sentence: fmt.Sprintf("%s counts results at %s, and %d times its number was written to %s before the next came. The "+
					"last, %d, has not been for %s: it holds that result and brings no other.", name,
					place(p.counts.Area, p.counts.Start+uint32(p.word)), e.n, place(p.back.Area, p.back.Start), r.word(p.word),
					long(held)),
				Remedy: "Have the asking end write the number back that it has read; look whether its program has stopped, or lost " +
					"the right to write.",
				Else: "There is no further result."}
			ps := proofs{}
			ps.add(proof{at: r.at, packets: r.in, text: fmt.Sprintf("still reads %d", r.word(p.word))})
			ps.into(&f)
			found = append(found, f)
		}
	}
	return found
}
