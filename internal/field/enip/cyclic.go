package enip

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/precise"
	wire "ferry/internal/wire/enip"
)

func init() { field.Register(family.Cyclic.Name, cyclicDriver{}) }

// cyclicRules say with what a connection is opened.
var cyclicRules, _ = family.Cyclic.Configures()

type cyclicDriver struct{ driver }

func (d cyclicDriver) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	if len(frames) == 0 || !frames[0].Datagram {
		return d.driver.Dissect(frames, points)
	}
	list := make([][]exchange.Field, len(frames))
	last := len(frames) - 1
	for last >= 0 && frames[last].Out {
		last--
	}
	for i, f := range frames {
		if i == last { // the values are those of the last that came
			list[i] = wire.Labels(f.Octets, points)
		} else {
			list[i] = wire.Labels(f.Octets, nil)
		}
	}
	return list
}

// Dial connects, asks for a session, and who the device is. The cyclic connection is
// opened by Follow.
func (d cyclicDriver) Dial(ctx context.Context, t field.Target) (field.Conn, field.Reply) {
	def := family.Cyclic
	route, err := family.ParseRoute(def.Value(t.Settings, family.KeyRoute).Text())
	if err != nil {
		return nil, field.Reply{Outcome: exchange.NotAllowed, Sentence: "the route cannot be read: " + err.Error()}
	}
	c := &cyclic{conn: &conn{route: route}, plant: t.Plant, remains: t.Remains, settings: t.Settings,
		in:  family.WayIn(t.Settings),
		out: family.WayOut(t.Settings), counted: family.Counted(t.Settings), reports: make(chan field.Report, waiting),
		ended: field.Reply{Outcome: exchange.Closed, Sentence: "the connection was closed"}}
	c.image = make([]byte, c.out.Octets())
	c.state.Enabled = c.withheld() == ""
	if c.remains != nil {
		if on, was := c.remains.Load(keyOff); was && !(c.withheld() != "" && on.(bool)) {
			c.state.Enabled = on.(bool) // what was ordered for one connection is not for the next in the plant
		}
	}
	c.Length = wire.FrameLen
	limit := time.Duration(def.Int(t.Settings, protocol.KeyWithin)) * time.Millisecond
	reply := c.Open(ctx, t, limit, c.greeted)
	if !reply.OK() {
		return nil, reply
	}
	return c, reply
}

// waiting is how many reports may wait to be taken in. What comes on top is left out: it
// is a sign of life all the same.
const waiting = 512

// paces sends the packets of all connections.
var paces precise.Pacer

// cyclic is a cyclic connection, over UDP, with the session over which it is opened and
// ended. What is asked over the session has one owner at a time; packets come and go
// meanwhile.
type cyclic struct {
	*conn
	plant    bool
	remains  *sync.Map
	settings protocol.Settings
	in, out  family.Way
	counted  bool
	reports  chan field.Report

	// Of the owner alone.
	mouth      *mouth
	peer       netip.Addr     // whose packets are taken
	group      netip.AddrPort // of multicast
	openSerial uint16

	mu           sync.Mutex
	toID, fromID uint32 // identifiers of what goes out, and of what comes in
	open         bool
	asked        bool // the far end has opened it, and has not been asked to end it
	closed       bool // its reports are
	ended        field.Reply
	beat         *precise.Beat
	to           netip.AddrPort
	state        family.State
	image        []byte // of the outputs
	points       []standing
	outward      []standing
	setUp        []standing // of the configuration
	known        []standing // of the connection itself

	every, lasts      time.Duration // between two packets out, and the silence after which it is dropped
	inEvery           time.Duration
	nextOut, nextTell time.Time
	begun, heard      time.Time
	sequence          uint32 // of the packets that went
	count             uint16
	moved             bool // the outputs have changed since the last packet
	lastSequence      uint32
	some              bool          // something has come
	sent              chan struct{} // closed with the next packet out
	gone              []exchange.Frame
	lastIn            []field.Sampled // what the last packet held that came
	goneAt            time.Time
	gaps              spread // of what comes in
	gapsOut           spread
	lastOut           time.Time
	changed           bool // the state has
}

// standing is a point with where it is.
type standing struct {
	protocol.Wanted
	at    block.Place
	codec value.Codec
}

// withheld says why the connection is not opened in the plant before somebody orders that:
// because its outputs have no header, so that they are in effect at once, or because the
// device is set up by its configuration, and not by order yet. Empty where it is opened.
func (c *cyclic) withheld() string {
	switch {
	case !c.plant:
		return ""
	case c.out.Octets() > 0 && !c.out.Head():
		return atOnce
	case c.configures() == "":
		return ""
	case c.remains != nil:
		if octets, was := c.remains.Load(keyConfigured); was && octets == c.configures() {
			return ""
		}
	}
	return setsUp
}

// configures are the octets by which opening the connection sets the device up; empty for
// none.
func (c *cyclic) configures() string {
	_, octets, _ := cyclicRules.Configured(c.settings) // one that cannot be read is not sent
	return string(octets)
}

func (c *cyclic) Toward(s protocol.Settings) {
	c.Limit = time.Duration(family.Cyclic.Int(s, protocol.KeyWithin)) * time.Millisecond
}

// greeted asks for a session, and who the device is.
func (c *cyclic) greeted() field.Reply {
	if reply := c.begin(); !reply.OK() {
		return reply
	}
	a, failed := c.ask(&wire.Request{Service: wire.GetAll, Path: wire.PathTo(wire.ClassIdentity, 1, -1)}, nil)
	if failed != nil {
		return *failed
	}
	if id, _, err := wire.ParseWho(a.Data); err == nil && a.Status == 0 {
		c.mu.Lock()
		c.state.Vendor, c.state.Name = id.Vendor, id.Name
		c.mu.Unlock()
	}
	return field.Reply{Outcome: exchange.Answered, Left: true}
}

// Usable reports whether packets go, or the session can be asked.
func (c *cyclic) Usable() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return !c.closed && !c.Over() && (c.open || c.conn.Usable())
}

// Reports hands over what comes.
func (c *cyclic) Reports() <-chan field.Report { return c.reports }

// Ended says how the connection ended.
func (c *cyclic) Ended() field.Reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ended
}

// Follow opens the connection, the first time, and says which points are wanted of it.
func (c *cyclic) Follow(wanted []protocol.Wanted) (field.Reply, []field.Refusal) {
	refused := c.lay(wanted)
	c.mu.Lock()
	is, wants := c.open, c.state.Enabled
	c.mu.Unlock()
	reply := field.Reply{Outcome: exchange.Answered}
	switch {
	case is:
	case wants:
		reply = c.opening(nil)
		if reply.Outcome == exchange.Declined && len(wanted) > 0 {
			// The session stands, and what is known of the connection is told.
			refused = c.none(wanted, &reply)
			reply.Outcome, reply.Sentence = exchange.Answered, ""
		}
	case c.withheld() != "":
		refused = c.none(wanted, &field.Reply{Sentence: c.withheld()})
	default:
		refused = c.none(wanted, &field.Reply{Sentence: "the connection is switched off: write its point Enabled"})
	}
	if reply.OK() {
		c.beats()
		c.tell(time.Now())
	}
	return reply, refused
}

// atOnce and setsUp are why a connection is not opened by itself in the plant.
const (
	atOnce = "its outputs have no run/idle header, so that what is sent takes effect at once: write the point Enabled of the " +
		"connection to open it"
	setsUp = "opening the connection sets the device up by its configuration, which nobody has ordered yet: write the point Enabled of " +
		"the connection to open it"
)

// none refuses all points that a connection carries which is not there.
func (c *cyclic) none(wanted []protocol.Wanted, why *field.Reply) (refused []field.Refusal) {
	for i := range wanted {
		if block.Of(wanted[i].Address).Area != family.AreaConn {
			refused = append(refused, field.Refusal{ID: wanted[i].ID, Code: why.Code, Sentence: why.Sentence})
		}
	}
	return refused
}

// keyOff is under what the channel keeps that the connection was switched off, or on, and
// keyConfigured with which configuration it was opened by order.
const (
	keyOff        = "switched"
	keyConfigured = "configured"
)

// remember keeps a switch for the connections that follow.
func (c *cyclic) remember(on bool) {
	if c.remains != nil {
		c.remains.Store(keyOff, on)
		if on {
			c.remains.Store(keyConfigured, c.configures())
		}
	}
	c.mu.Lock()
	c.state.Enabled, c.changed = on, true
	c.mu.Unlock()
}

// beats has the pacer look after the connection.
func (c *cyclic) beats() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.beat == nil && !c.closed {
		now := time.Now()
		c.nextTell = now.Add(c.tellsOff())
		c.beat = &precise.Beat{Due: now, Act: c.act}
		paces.Add(c.beat)
	}
}

// lay works out where the points are, and which are not exchanged.
func (c *cyclic) lay(wanted []protocol.Wanted) (refused []field.Refusal) {
	sizes := map[string]int{family.AreaIn: c.in.Octets(), family.AreaOut: c.out.Octets()}
	lists := map[string][]standing{}
	if _, config, err := cyclicRules.Configured(c.settings); err == nil {
		sizes[family.AreaConfig] = len(config)
	}
	for _, w := range wanted {
		at := block.Of(w.Address)
		if at.Area == family.AreaConn {
			if _, ok := (&family.State{}).At(w.Address); !ok {
				refused = append(refused, field.Refusal{ID: w.ID, Sentence: "the connection tells nothing there"})
				continue
			}
			lists[at.Area] = append(lists[at.Area], standing{Wanted: w, at: at})
			continue
		}
		w.Shape.Unit = 8
		codec, err := value.NewCodec(w.Shape)
		end := int(at.Offset) + block.Units(w.Shape, 8)
		switch size, known := sizes[at.Area]; {
		case !known || err != nil:
			refused = append(refused, field.Refusal{ID: w.ID, Sentence: fmt.Sprintf("it has no place in an assembly: %v", err)})
		case end > size && at.Area == family.AreaConfig:
			refused = append(refused, field.Refusal{ID: w.ID,
				Sentence: fmt.Sprintf("octet %d of the configuration is not sent: it has %d", end-1, size)})
		case end > size:
			refused = append(refused, field.Refusal{ID: w.ID,
				Sentence: fmt.Sprintf("octet %d is not exchanged: the connection carries %d", end-1, size)})
		default:
			lists[at.Area] = append(lists[at.Area], standing{w, at, codec})
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.points, c.outward, c.setUp, c.known = lists[family.AreaIn], lists[family.AreaOut], lists[family.AreaConfig],
		lists[family.AreaConn]
	c.changed = true
	if c.open {
		c.emit(c.outputs(time.Now()))
		if len(c.setUp) > 0 {
			c.emit(c.configuration(time.Now()))
		}
	}
	return refused
}

// fail notes why the connection is not there.
func (c *cyclic) fail(reply *field.Reply) {
	c.mu.Lock()
	defer c.mu.Unlock()
	status, extended := family.StatusOf(reply.Code)
	c.state.Connected, c.state.Status, c.state.Extended, c.state.Error = false, uint16(status), extended, reply.Sentence
	c.changed = true
}

// stop ends the sending, and returns whether there was any.
func (c *cyclic) stop() bool {
	c.mu.Lock()
	was := c.asked
	c.open, c.asked = false, false
	c.state.Connected, c.state.Run, c.state.FarRuns = false, false, false
	c.record()
	c.mu.Unlock()
	if c.mouth != nil {
		c.mouth.forget(c.fromID, c)
		if c.group.IsValid() {
			c.mouth.part(c.group)
			c.group = netip.AddrPort{}
		}
	}
	return was
}

// Close ends the connection and the session.
func (c *cyclic) Close() error {
	if c.stop() && c.session != 0 {
		c.endOf(c.ending())
	}
	c.mu.Lock()
	c.finish()
	if c.beat != nil {
		paces.Drop(c.beat)
	}
	c.mu.Unlock()
	if c.mouth != nil {
		c.mouth.leave()
		c.mouth = nil
	}
	return c.conn.Close()
}
