package recording

import (
	"cmp"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// nowhere is the address of an asking end whose own the plan does not say: of the block
// for measurements (RFC 2544).
const nowhere = "198.18.0.1"

// Own makes a recording of what Ferry itself asked: the octets and times are those that
// it has, the connections around them are made so that they tell what it saw. That of a
// link that does not run any more was ended here; nil for all run.
func Own(s *site.Site, list []exchange.Exchange, runs func(link string) bool) []capture.Packet {
	o := own{site: s, stage: rehearsal.New(), conns: map[string]*rehearsal.Conn{}, said: map[string]time.Time{},
		ports: map[string]uint16{}}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b exchange.Exchange) int { return a.At.Compare(b.At) })
	for i := range list {
		o.exchange(&list[i])
	}
	for link, said := range o.said {
		if runs != nil && !runs(link) {
			o.at(said.Add(time.Millisecond), func() {
				if c := o.conns[link]; c != nil {
					c.Close(capture.Asker)
					delete(o.conns, link)
				}
			})
		}
	}
	slices.SortStableFunc(o.events, func(a, b event) int { return a.at.Compare(b.at) })
	for _, e := range o.events {
		if e.at.After(o.stage.Now) || len(o.stage.Packets) == 0 {
			o.stage.Now = e.at
		}
		e.play()
	}
	for i := range o.stage.Packets {
		o.stage.Packets[i].Number = int64(i + 1)
	}
	return o.stage.Packets
}

// WriteOwn writes such a recording as pcapng.
func WriteOwn(to io.Writer, s *site.Site, list []exchange.Exchange, runs func(link string) bool) error {
	return files.WriteCapture(to, Own(s, list, runs))
}

// own plays exchanges again.
type own struct {
	site   *site.Site
	stage  *rehearsal.Stage
	conns  map[string]*rehearsal.Conn // by link
	said   map[string]time.Time       // when anything was said last, by link
	named  map[string]netip.Addr      // addresses that stand for names of machines
	ports  map[string]uint16          // from which links ask with datagrams
	events []event
}

type event struct {
	at   time.Time
	play func()
}

func (o *own) at(t time.Time, play func()) { o.events = append(o.events, event{t, play}) }

// before is a time a little before another, and after the last word of a link.
func (o *own) before(link string, t time.Time) time.Time {
	if said := o.said[link]; t.Sub(said) < 4*time.Millisecond {
		return said.Add(t.Sub(said) / 2)
	}
	return t.Add(-2 * time.Millisecond)
}

// span is a time given in milliseconds.
func span(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

func (o *own) exchange(e *exchange.Exchange) {
	link := o.site.Link(e.Link)
	if link == nil {
		return
	}
	line, device := o.site.Line(link.Line), o.site.Device(link.Answering)
	if line == nil || device == nil || device.PortFor(link) == nil {
		return
	}
	if line.Medium == site.SerialLine {
		o.onLine(line, e)
		return
	}
	def, ok := protocol.Named(link.Protocol)
	if !ok {
		return
	}
	answerer := o.addressOf(device.PortFor(link).Host)
	if def.Datagrams {
		from := uint16(firstPort + len(o.ports)) // each link asks from a port of its own
		if at, known := o.ports[e.Link]; known {
			from = at
		}
		o.ports[e.Link] = from
		o.datagrams(e, o.asker(link), from, netip.AddrPortFrom(answerer, uint16(def.Int(link.Settings, protocol.KeyPort))))
		return
	}
	if slices.ContainsFunc(e.Frames, func(f exchange.Frame) bool { return f.Datagram }) {
		port := uint16(def.DatagramPort)
		o.datagrams(e, o.asker(link), port, netip.AddrPortFrom(answerer, port))
		return
	}
	to := netip.AddrPortFrom(answerer, uint16(def.Int(link.Settings, protocol.KeyPort))).String()
	o.overNetwork(e, o.asker(link), to)
}

// addressOf is the address of a host; one that is given by its name has one that no
// network uses (RFC 5737).
func (o *own) addressOf(host string) netip.Addr {
	if a, err := netip.ParseAddr(host); err == nil {
		return a
	}
	if a, known := o.named[host]; known {
		return a
	}
	if o.named == nil {
		o.named = map[string]netip.Addr{}
	}
	a := netip.AddrFrom4([4]byte{203, 0, 113, byte(1 + len(o.named)%254)})
	o.named[host] = a
	return a
}

// asker is the address of the end that asks.
func (o *own) asker(link *site.Link) string {
	if d := o.site.Device(link.Asking); d != nil {
		for _, port := range d.Ports {
			if a, err := netip.ParseAddr(port.Host); err == nil && port.Line == link.Line {
				return a.String()
			}
		}
	}
	return nowhere
}

func (o *own) onLine(line *site.Line, e *exchange.Exchange) {
	for _, f := range e.Frames {
		p := capture.Packet{Kind: capture.Serial, Line: line.Name, Payload: f.Octets, Side: capture.Answerer,
			Whole: len(f.Octets)}
		if line.Serial != nil {
			p.Format = &line.Serial.Format
		}
		if f.Out {
			p.Side = capture.Asker
		}
		o.at(e.At.Add(span(f.AfterMs)), func() { o.stage.Put(p) })
		if f.Out && e.Cause == exchange.Echo {
			back := p
			back.Side = capture.Answerer
			o.at(e.At.Add(span(f.AfterMs)+time.Millisecond), func() { o.stage.Put(back) })
		}
	}
}

// firstPort is that of the first link that asks with datagrams.
const firstPort = 49152

// datagrams plays packets that went without a connection, or beside one.
func (o *own) datagrams(e *exchange.Exchange, asker string, port uint16, answerer netip.AddrPort) {
	from, err := netip.ParseAddr(asker)
	if err != nil {
		return
	}
	ends := [2]netip.AddrPort{netip.AddrPortFrom(from, port), answerer}
	for _, f := range e.Frames {
		p := capture.Packet{Kind: capture.UDP, From: ends[1], To: ends[0], Payload: f.Octets, Whole: len(f.Octets)}
		if f.Out {
			p.From, p.To = p.To, p.From
		}
		o.at(e.At.Add(span(f.AfterMs)), func() { o.stage.Put(p) })
	}
}

// partedBy is how long the pieces of an answer are taken to have been apart.
const partedBy = 3 * time.Millisecond

// overNetwork plays an exchange over TCP.
func (o *own) overNetwork(e *exchange.Exchange, from, to string) {
	end := e.At.Add(span(e.LatencyMs))
	key := e.Link
	switch e.Outcome {
	case exchange.Refused:
		var c *rehearsal.Conn
		o.at(e.At, func() { c = o.stage.Begin(from, to) })
		o.at(end, func() { c.Reset(capture.Answerer) })
		return
	case exchange.Unreached:
		var c *rehearsal.Conn
		o.at(e.At, func() { c = o.stage.Begin(from, to) })
		for _, again := range []time.Duration{time.Second, 3 * time.Second, 7 * time.Second} {
			if at := e.At.Add(again); at.Before(end) {
				o.at(at, func() { c.Again() }) // as systems do it
			}
		}
		return
	case exchange.NoSuchName, exchange.NotAllowed, exchange.CalledOff:
		return
	}
	if e.Connecting && e.Outcome != exchange.Answered { // it is given up, whatever was said over it
		key += " " + e.At.String()
		defer o.at(end.Add(time.Millisecond), func() {
			if c := o.conns[key]; c != nil {
				c.Close(capture.Asker)
				delete(o.conns, key)
			}
		})
	}
	if e.Connecting && e.Outcome == exchange.Answered { // in the place of the one before
		o.at(o.before(e.Link, e.At), func() {
			if c := o.conns[key]; c != nil {
				c.Close(capture.Asker)
			}
			o.conns[key] = o.stage.Dial(from, to)
		})
	}
	anew := slices.ContainsFunc(e.Frames, func(f exchange.Frame) bool { return f.Anew })
	if !e.HungUpAt.IsZero() || e.Manner&exchange.Dozes != 0 && !anew {
		ended := e.HungUpAt
		if ended.IsZero() || ended.After(e.At.Add(-2*time.Millisecond)) {
			ended = o.before(e.Link, e.At)
		}
		o.at(ended, func() {
			if c := o.conns[key]; c != nil {
				c.Close(capture.Answerer)
				delete(o.conns, key)
			}
		})
	}
	o.at(e.At.Add(-time.Millisecond), func() {
		if o.conns[key] == nil {
			o.conns[key] = o.stage.Dial(from, to)
		}
	})
	frames := e.Frames
	if at := slices.IndexFunc(frames, func(f exchange.Frame) bool { return f.Anew }); at > 0 &&
		e.Cause != exchange.Redone {
		frames = frames[at:] // the far end had gone before the question came
	}
	for i, f := range frames {
		side := capture.Answerer
		if f.Out {
			side = capture.Asker
		}
		octets, at := f.Octets, e.At.Add(span(f.AfterMs))
		if f.Anew {
			ended := o.before(e.Link, at)
			if i > 0 { // under the question
				ended = e.At.Add(span((frames[i-1].AfterMs + f.AfterMs) / 2))
			}
			o.at(ended, func() {
				if c := o.conns[key]; c != nil {
					c.Close(capture.Answerer)
				}
				o.conns[key] = o.stage.Dial(from, to)
			})
		}
		if e.Manner&exchange.Pieces != 0 && side == capture.Answerer && len(octets) > 1 {
			// That it came in pieces is known, and not where it was parted.
			first := octets[:len(octets)/2]
			octets = octets[len(octets)/2:]
			o.at(at.Add(-partedBy), func() {
				if c := o.conns[key]; c != nil {
					c.Say(side, first)
				}
			})
		}
		o.at(at, func() {
			if c := o.conns[key]; c != nil {
				c.Say(side, octets)
			}
		})
	}
	if n := len(frames); n > 0 {
		o.said[e.Link] = e.At.Add(span(frames[n-1].AfterMs))
	}
	ends := func(play func(c *rehearsal.Conn)) {
		after := 500 * time.Microsecond
		if len(frames) == 0 {
			after = time.Microsecond // it was seen when it had ended, and another may follow at once
		}
		o.said[e.Link] = end.Add(after)
		o.at(end.Add(after), func() {
			if c := o.conns[key]; c != nil {
				play(c)
				delete(o.conns, key)
			}
		})
	}
	switch {
	case e.Outcome == exchange.Reset:
		ends(func(c *rehearsal.Conn) { c.Reset(capture.Answerer) })
	case e.Outcome == exchange.Closed, e.Cause == exchange.HungUp, e.Manner&exchange.HangsUp != 0:
		ends(func(c *rehearsal.Conn) { c.Close(capture.Answerer) })
	}
}

// Table is exchanges as rows of a table, below its headings.
func Table(s *site.Site, list []exchange.Exchange) [][]string {
	rows := [][]string{{"Number", "Time", "Asks", "Answers", "Question", "Outcome", "Latency ms", "Sent", "Received",
		"Says"}}
	for i := range list {
		e := &list[i]
		asking, answering := e.Link, e.Device
		if link := s.Link(e.Link); link != nil {
			if d := s.Device(link.Asking); d != nil {
				asking = d.Name
			}
		}
		if d := s.Device(e.Device); d != nil {
			answering = d.Name
		}
		out, in := exchange.Sides(e.Frames)
		rows = append(rows, []string{fmt.Sprint(e.Seq), e.At.UTC().Format("2006-01-02T15:04:05.000000Z"), asking, answering,
			e.Operation, string(e.Outcome), fmt.Sprintf("%.3f", e.LatencyMs), fmt.Sprintf("% X", out), fmt.Sprintf("% X", in),
			cmp.Or(e.Sentence, e.Doubt)})
	}
	return rows
}
