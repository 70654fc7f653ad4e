package enip

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/enip"
)

// tellEvery is how often the state is told while it does not change otherwise.
const tellEvery = time.Second

// grace is how long the first packet may take at least: some devices begin to send late.
const grace = time.Second

// act sends what is due and looks whether anything still comes; it runs on the pacer.
func (c *cyclic) act(now time.Time) time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return time.Time{}
	}
	lasts := c.lasts
	if !c.some {
		lasts = max(lasts, grace)
	}
	switch {
	case !c.open:
		if c.changed || !now.Before(c.nextTell) {
			c.nextTell = now.Add(c.tellsOff())
			c.tellLocked(now)
		}
		return c.nextTell
	}
	if end := c.heard.Add(lasts); !now.Before(end) {
		if c.mouth.behind(end, c.group) {
			return now.Add(time.Millisecond) // it may have come in time
		}
		c.timedOut(now, lasts)
		return time.Time{}
	}
	if !now.Before(c.nextOut) {
		c.send(now)
		if c.nextOut = c.nextOut.Add(c.every); now.Sub(c.nextOut) > c.every {
			c.nextOut = now.Add(c.every) // it was held up: what was missed is not made up for
		}
	}
	if !now.Before(c.nextTell) {
		c.nextTell, c.changed = now.Add(tellEvery), true
	}
	if c.changed {
		c.tellLocked(now)
	}
	next := c.nextOut
	for _, t := range []time.Time{c.heard.Add(lasts), c.nextTell} {
		if t.Before(next) {
			next = t
		}
	}
	return next
}

// tellsOff is how often the state is told while the connection is not there: so often
// that nobody takes the session for gone.
func (c *cyclic) tellsOff() time.Duration {
	return min(tellEvery, time.Duration(family.Multiplier(c.settings)*c.in.EveryMs)*time.Millisecond/3)
}

// send sends the outputs. The lock is held.
func (c *cyclic) send(now time.Time) {
	c.sequence++
	if c.moved || c.counted {
		c.count++
	}
	p := wire.Cyclic{Connection: c.toID, Sequence: c.sequence}
	if c.counted {
		p.Data = binary.LittleEndian.AppendUint16(p.Data, c.count)
	}
	if c.out.Head() {
		var head [4]byte
		if c.state.Run {
			head[0] = 1
		}
		p.Data = append(p.Data, head[:]...)
	}
	p.Data = append(p.Data, c.image...)
	octets := wire.AppendCyclic(nil, &p)
	_, err := c.mouth.socket.WriteToUDPAddrPort(octets, c.to)
	if err == nil {
		c.state.Sent++
	}
	if !c.lastOut.IsZero() {
		c.gapsOut.add(now.Sub(c.lastOut))
	}
	c.lastOut = now
	c.keep(now, true, octets)
	c.moved = false
	if c.sent != nil {
		close(c.sent)
		c.sent = nil
	}
}

// Of the packets that went and came: they are recorded several at a time.
const (
	mostGone    = 40
	longestGone = 250 * time.Millisecond
)

// keep has a packet recorded. The lock is held.
func (c *cyclic) keep(now time.Time, out bool, octets []byte) {
	if len(c.gone) == 0 {
		c.goneAt = now
	}
	c.gone = append(c.gone, exchange.Frame{Out: out, Datagram: true, AfterMs: float64(now.Sub(c.goneAt)) / 1e6,
		Octets: octets})
	if len(c.gone) >= mostGone || now.Sub(c.goneAt) > longestGone {
		c.record()
	}
}

// record hands over what went and came. The lock is held.
func (c *cyclic) record() {
	if len(c.gone) == 0 {
		return
	}
	in := 0
	for i := range c.gone {
		if !c.gone[i].Out {
			in++
		}
	}
	state := ""
	if c.out.Head() {
		state = map[bool]string{true: ", run", false: ", idle"}[c.state.Run]
	}
	c.emit(field.Report{At: c.goneAt, Operation: fmt.Sprintf("cyclic data, %d in and %d out%s", in, len(c.gone)-in, state),
		Frames: c.gone, Aside: true, Samples: c.lastIn})
	c.gone, c.lastIn = nil, nil
}

// emit hands a report over, if there is room. The lock is held.
func (c *cyclic) emit(r field.Report) {
	if c.closed {
		return
	}
	select {
	case c.reports <- r:
	default:
	}
}

// came takes a packet in.
func (c *cyclic) came(p *wire.Cyclic, octets []byte, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.open || p.Connection != c.fromID {
		return
	}
	if step := int32(p.Sequence - c.lastSequence); c.some && step <= 0 && step > -staleMost {
		return // it came twice, or was overtaken
	} else if c.some && step > 1 {
		c.state.Missed += uint32(step - 1)
	}
	data := p.Data
	if c.counted {
		if len(data) < 2 {
			c.wrong(octets, now, "the sequence count is missing")
			return
		}
		data = data[2:]
	}
	runs := true
	if c.in.Head() {
		if len(data) < 4 {
			c.wrong(octets, now, "the run/idle header is missing")
			return
		}
		runs, data = data[0]&1 == 1, data[4:]
	}
	if len(data) != c.in.Octets() && family.Cyclic.Value(c.settings, family.KeyLength).Text() != "variable" ||
		len(data) > c.in.Octets() {
		c.wrong(octets, now, fmt.Sprintf("it brings %d octets of data, and the connection was opened for %d", len(data),
			c.in.Octets()))
		return
	}
	if c.some {
		c.gaps.add(now.Sub(c.heard))
	}
	if runs != c.state.FarRuns {
		c.state.FarRuns, c.changed = runs, true
	}
	c.heard, c.some, c.lastSequence = now, true, p.Sequence
	c.state.Received++
	kept := append([]byte(nil), octets...)
	base := cap(octets) - cap(data) // the data is a part of the packet
	r := field.Report{At: now, Operation: fmt.Sprintf("inputs, %d octets", len(data)), Own: true, Octets: kept,
		Samples: make([]field.Sampled, 0, len(c.points))}
	for i := range c.points {
		pt := &c.points[i]
		s := field.Sampled{ID: pt.ID, From: base + int(pt.at.Offset)}
		s.To = s.From + pt.codec.Width()
		if s.To > base+len(data) {
			s.Quality, s.Reason, s.From, s.To = value.Bad, "it is beyond what came", 0, 0
		} else if v, err := pt.codec.Decode(data[pt.at.Offset:], value.Value{}); err != nil {
			s.Quality, s.Reason = value.Bad, err.Error()
		} else if s.Value = v; !runs {
			s.Quality, s.Reason = value.Doubtful, "the far end says that it is idle"
		}
		r.Samples = append(r.Samples, s)
	}
	c.emit(r)
	c.lastIn = r.Samples
	c.keep(now, false, kept)
}

// staleMost is how far behind a sequence number counts as old; further it is that of an
// end that began anew.
const staleMost = 1 << 16

// wrong tells of a packet that is not what the connection was opened for. The lock is held.
func (c *cyclic) wrong(octets []byte, now time.Time, why string) {
	c.state.Error, c.changed = why, true
	c.emit(field.Report{At: now, Operation: "inputs", Wrong: why,
		Frames: []exchange.Frame{{Datagram: true, Octets: append([]byte(nil), octets...)}}})
}

// outputs are the samples of what is sent. The lock is held.
func (c *cyclic) outputs(now time.Time) field.Report {
	r := field.Report{At: now, Operation: "outputs as they are sent", Own: true, Octets: append([]byte(nil), c.image...)}
	r.Samples = sampled(c.outward, c.image)
	return r
}

// configuration are the samples of what the connection was opened with. The lock is held.
func (c *cyclic) configuration(now time.Time) field.Report {
	_, octets, _ := cyclicRules.Configured(c.settings) // it was opened with them
	return field.Report{At: now, Operation: "configuration as it was sent", Own: true, Octets: octets,
		Samples: sampled(c.setUp, octets)}
}

// sampled reads points that stand in octets of this end, which are long enough.
func sampled(points []standing, octets []byte) (list []field.Sampled) {
	for i := range points {
		pt := &points[i]
		s := field.Sampled{ID: pt.ID, From: int(pt.at.Offset), To: int(pt.at.Offset) + pt.codec.Width()}
		v, err := pt.codec.Decode(octets[pt.at.Offset:], value.Value{})
		if s.Value = v; err != nil {
			s.Quality, s.Reason = value.Bad, err.Error()
		}
		list = append(list, s)
	}
	return list
}

// tell hands over the outputs and the state.
func (c *cyclic) tell(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.emit(c.outputs(now))
	if len(c.setUp) > 0 && c.open {
		c.emit(c.configuration(now))
	}
	c.tellLocked(now)
}

func (c *cyclic) tellLocked(now time.Time) {
	c.changed = false
	c.state.InMs, c.state.InJitterMs = c.gaps.of(c.inEvery)
	c.state.OutMs, c.state.OutJitterMs = c.gapsOut.of(c.every)
	r := field.Report{At: now, Operation: "state of the connection", Own: true}
	if !c.open {
		for i := range c.points {
			r.Samples = append(r.Samples, field.Sampled{ID: c.points[i].ID, Quality: value.Bad, Reason: c.why()})
		}
		for i := range c.setUp {
			r.Samples = append(r.Samples, field.Sampled{ID: c.setUp[i].ID, Quality: value.Bad, Reason: c.why()})
		}
	}
	for i := range c.known {
		v, _ := c.state.At(c.known[i].Address)
		r.Samples = append(r.Samples, field.Sampled{ID: c.known[i].ID, Value: v})
	}
	if len(r.Samples) > 0 || !c.open {
		c.emit(r)
	}
}

// why says why the connection is not there. The lock is held.
func (c *cyclic) why() string {
	switch {
	case !c.state.Enabled && c.withheld() != "":
		return c.withheld()
	case !c.state.Enabled:
		return "the connection is switched off"
	}
	return cmp.Or(c.state.Error, "the connection is not open")
}

// timedOut ends the connection for want of packets. The lock is held.
func (c *cyclic) timedOut(now time.Time, lasts time.Duration) {
	c.state.Connected, c.open = false, false
	c.state.Status, c.state.Extended = 0x01, 0x0203
	c.state.Error = fmt.Sprintf("nothing came for %d ms: the connection timed out", lasts.Milliseconds())
	c.ended = field.Reply{Outcome: exchange.NoAnswer, Cause: exchange.Quiet, Sentence: c.state.Error}
	if !c.some {
		c.ended.Sentence = fmt.Sprintf("the connection was opened, and not one packet came within %d ms",
			lasts.Milliseconds())
		if c.group.IsValid() {
			c.ended.Sentence += fmt.Sprintf(": what it sends to the group %s does not arrive", c.group.Addr())
		}
		if want := family.Cyclic.Int(c.settings, family.KeyCyclicPort); c.mouth != nil && int(c.mouth.at.Port()) != want {
			c.ended.Sentence += fmt.Sprintf("; port %d of this machine is another program's, and the device may send there alone", want)
		}
		c.state.Error = c.ended.Sentence
	}
	c.record()
	c.tellLocked(now)
	c.finish()
}

// finish closes the reports. The lock is held.
func (c *cyclic) finish() {
	if !c.closed {
		c.closed = true
		close(c.reports)
	}
	if c.sent != nil {
		close(c.sent)
		c.sent = nil
	}
}
