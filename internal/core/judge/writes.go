package judge

import (
	"fmt"
	"net/netip"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
)

// written is what is known of the writes to one stretch of units.
type written struct {
	talk    *Talk
	askers  map[netip.Addr]*proofs
	last    uint64 // a digest of what was written last
	at      time.Time
	by      netip.Addr
	n       int
	same    int // times that the same was written again
	first   time.Time
	changed proofs // times that another asker wrote something else soon after
	without proofs // times that it read back as something else
	few     proofs
	checked bool
}

type writtenKey struct {
	at      netip.AddrPort
	line    string
	station int
	unit    block.Range
}

// writes are those of a recording, by what was written.
type writes map[writtenKey]*written

// mostWritten bounds the stretches that are followed.
const mostWritten = 10_000

func digest(b []byte) uint64 {
	h := uint64(14695981039346656037) // FNV-1a
	for _, v := range b {
		h = (h ^ uint64(v)) * 1099511628211
	}
	return h
}

// settles is how long a device may take until what was written reads back; what is
// read later is the device's own doing.
const (
	settles   = time.Second
	forgotten = 10 * time.Second
)

// hear takes in a write that was accepted, or a read of just what was written.
func (w writes) hear(t *Talk, h *capture.Heard) {
	if h.Outcome != exchange.Answered || h.Range.Count == 0 {
		return
	}
	key := writtenKey{t.Key.Answerer, t.Key.Line, t.Key.Station, h.Range}
	of := w[key]
	if !h.Write {
		if of != nil && !of.checked && h.Asked.Sub(of.at) >= settles && h.Asked.Sub(of.at) < forgotten {
			of.checked = true
			if digest(h.Data) != of.last {
				of.without.add(proofOf(h, fmt.Sprintf("reads % X", head(h.Data))))
			}
		}
		return
	}
	if of == nil {
		if len(w) >= mostWritten {
			return
		}
		of = &written{talk: t, askers: map[netip.Addr]*proofs{}, first: h.Asked}
		w[key] = of
	}
	d := digest(h.Data)
	if of.n > 0 {
		if d == of.last {
			of.same++
		} else if of.by != t.Key.Asker {
			of.changed.add(proofOf(h, fmt.Sprintf("%s writes % X", t.Key.Asker, head(h.Data))))
		}
	}
	of.n++
	of.last, of.at, of.by, of.checked = d, h.Asked, t.Key.Asker, false
	ps := of.askers[t.Key.Asker]
	if ps == nil {
		if len(of.askers) >= 16 {
			return
		}
		ps = &proofs{}
		of.askers[t.Key.Asker] = ps
	}
	of.few.add(proofOf(h, ""))
	ps.add(proofOf(h, ""))
}

func head(b []byte) []byte { return b[:min(len(b), 8)] }

// The rates from which writes are too many: of the same value, again and again.
const (
	stormLeast = 20
	stormEvery = 250 * time.Millisecond
)

func (w writes) findings(j *Judge) (found []finding.Finding) {
	for _, key := range sorted(w, func(k writtenKey) string {
		return fmt.Sprintf("%s/%s/%05d/%s/%08d/%d", k.at, k.line, k.station, k.unit.Area, k.unit.Start, k.unit.Count)
	}) {
		of := w[key]
		name := j.of(of.talk).Name
		what := of.talk.words(&capture.Heard{Range: key.unit, Write: true, Function: of.function()})
		add := func(code string, severity finding.Severity, sure float64, ps *proofs, title, sentence, remedy, other string) {
			f := finding.Finding{Code: code, Severity: severity, Sure: sure, Count: ps.n,
				Subject: j.of(of.talk), Title: title, Sentence: sentence, Remedy: remedy, Else: other}
			f.Subject.ID += "/" + fmt.Sprint(key.unit.Start)
			ps.into(&f)
			found = append(found, f)
		}
		if len(of.askers) > 1 && of.changed.n > 0 {
			add("two-writers", finding.Fault, 0.9, &of.changed, "Two write the same to "+name,
				fmt.Sprintf("%d askers write %s, and %d times one changed what another had written.", len(of.askers), what,
					of.changed.n), "One value has one owner: stop one of the two, or give it a point of its own.",
				"A person changed a setpoint that a controller also writes.")
		}
		if span := of.at.Sub(of.first); of.n >= stormLeast && span/time.Duration(of.n) < stormEvery && of.same*2 > of.n {
			add("write-storm", finding.Doubt, 0.9, &of.few, name+" is written all the time",
				fmt.Sprintf("%s %d times in %s, and %d times with what it was already.", what, of.n, long(span), of.same),
				"Write on change: memory that keeps setpoints bears some 100 000 writes.", "")
		}
		if of.without.n >= 2 {
			add("write-without-effect", finding.Doubt, 0.8, &of.without, "Writing to "+name+" has no effect",
				fmt.Sprintf("%d times it took %s and read back as something else a second later.", of.without.n, what),
				"Look whether the device is in remote mode, and whether its own program writes the same place.",
				"The place is for commands and reads as a state.")
		}
	}
	return found
}

func (w *written) function() int {
	for _, r := range w.talk.Requests {
		if r.Write {
			return r.Function
		}
	}
	return 0
}
