package modbus

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"time"

	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

// isRequest reports whether b begins with a whole request of somebody else's; over says
// that nothing more came behind it.
func (c *lineConn) isRequest(b []byte, over bool) bool {
	n, asked := c.framing.FrameAt(b)
	if n == 0 || !asked || !over && c.unfinished(b) || bytes.Equal(b[:n], c.request) {
		return false
	}
	unit, pdu, err := c.framing.Open(b[:n])
	if err != nil || pdu[0] > wire.ReadInputRegisters {
		return false
	}
	// An answer of three octets is as long as a request, and may look like one.
	if last, ok := c.asked[unit]; ok && pdu[1] == 3 && time.Since(last) < stranger {
		return false
	}
	c.others = time.Now()
	return true
}

// unfinished reports whether b may be the beginning of an answer, ours or one that is
// owed, whatever that passes for by itself.
func (c *lineConn) unfinished(b []byte) bool {
	return c.framing.Unfinished(b) || c.framing.Begins(c.request, b) ||
		slices.ContainsFunc(c.owes, func(o owed) bool { return c.framing.Begins([]byte(o.request), b) })
}

// notOurs returns the length of the frame at the beginning of what came, if it
// is a late answer of another unit, or belongs to another asker; else 0. over says that
// nothing more came behind it.
func (c *lineConn) notOurs(over bool) int {
	n, asked := c.framing.FrameAt(c.in)
	if n == 0 || !over && c.unfinished(c.in) {
		return 0
	}
	if asked && c.isRequest(c.in, over) {
		return n
	}
	unit, pdu, err := c.framing.Open(c.in[:n])
	if err != nil || unit == c.unit {
		return 0
	}
	if c.paid(unit, pdu) || time.Since(c.others) < foreign {
		return n
	}
	return 0
}

// foreign is for how long a frame of another asker makes answers doubtful.
const foreign = 30 * time.Second

// drain takes in what came since the last exchange: late answers, and what
// others said.
func (c *lineConn) drain() error {
	c.in = c.in[:0]
	for {
		n, err := c.stream.Read(c.in[len(c.in):cap(c.in)], time.Now())
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
		c.quiet = time.Now().Add(ms(c.silence))
		if c.in = c.in[:len(c.in)+n]; len(c.in) == cap(c.in) {
			c.overheard(c.in)
			c.in = c.in[:0]
		}
	}
	c.overheard(c.in)
	c.in, c.drained = c.in[:0], true
	return nil
}

// late is how late an answer may be that comes all the same, on a machine that stood
// still.
func (c *lineConn) late() time.Duration { return 10 * c.over() }

// stranger is after how long without a question of ours a unit that answers
// answers somebody else.
const stranger = time.Minute

// overheard finds the frames in octets that nobody here waited for. Among octets that are
// no frame some pass their check by chance: one there says that somebody else asks only
// if another does soon after.
func (c *lineConn) overheard(b []byte) {
	before, spoilt := c.others, false
	defer func() {
		if now := c.others; spoilt && now != before && time.Since(c.suspected) > foreign {
			c.suspected, c.others = now, before
		}
	}()
	for at := 0; at < len(b); {
		rest := b[at:]
		n, asked := c.framing.FrameAt(rest)
		if n == 0 {
			spoilt = true
			at++
			continue
		}
		frame := rest[:n]
		at += n
		if asked && c.unfinished(rest) {
			return // an answer that is not all here: it accuses nobody
		}
		if was := c.others; asked && c.isRequest(frame, true) {
			if !c.drained {
				c.others = was // it may be this end's own, over an earlier connection, or the answer to that
			}
			continue
		}
		if unit, pdu, err := c.framing.Open(frame); err == nil && !bytes.Equal(frame, c.request) && !c.paid(unit, pdu) {
			since := c.began // what was asked over an earlier connection may still be answered
			if last, ok := c.asked[unit]; ok {
				since = last.Add(max(0, stranger-c.late()))
			}
			if time.Since(since) > c.late() {
				c.others = time.Now()
			}
		}
	}
}

// Listen takes in what others say, and tells requests from answers by which of
// them a frame can be.
func (c *lineConn) Listen(ctx context.Context, d time.Duration) field.Heard {
	heard := field.Heard{Stations: []int{}}
	began := time.Now()
	var all []byte
	buf := make([]byte, 512)
	for end := began.Add(d); time.Now().Before(end) && ctx.Err() == nil && c.ctx.Err() == nil; {
		n, err := c.stream.Read(buf, minTime(end, time.Now().Add(slice)))
		if err != nil {
			c.broken = true
			break
		}
		all = append(all, buf[:n]...)
	}
	heard.Ms, heard.Octets = float64(time.Since(began))/1e6, len(all)
	seen := map[byte]bool{}
	for at := 0; at < len(all); {
		n, asked := c.framing.FrameAt(all[at:])
		if n == 0 {
			at++
			continue
		}
		unit, _, _ := c.framing.Open(all[at : at+n])
		heard.Frames++
		if asked {
			heard.Asked++
		}
		if !seen[unit] {
			seen[unit] = true
			heard.Stations = append(heard.Stations, int(unit))
		}
		at += n
	}
	switch {
	case heard.Octets == 0:
		heard.Sentence = "Nobody speaks."
	case heard.Frames == 0:
		heard.Sentence = fmt.Sprintf("%d octets came and no frame passes its check: somebody speaks with other "+
			"settings, or another protocol.", heard.Octets)
	case heard.Asked > 0:
		heard.Sentence = fmt.Sprintf("Somebody asks here already: %d frames, %d of them requests. Two askers on one "+
			"line collide.", heard.Frames, heard.Asked)
	default:
		heard.Sentence = fmt.Sprintf("%d frames came and none of them is a request.", heard.Frames)
	}
	c.quiet = time.Now().Add(ms(c.silence))
	return heard
}
