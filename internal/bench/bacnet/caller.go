package bacnet

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/bacnet"
	wire "ferry/internal/wire/bacnet"
)

// Caller names who asks a device, Network over what.
func (speech) Caller() string { return "building controller" }

// Network is as Caller.
func (speech) Network() string { return "udp4" }

// How a caller asks.
const (
	answerWithin = time.Second
	asksAgain    = 3
	roundEvery   = time.Second
	readAtOnce   = 30
	writesAt     = 8 // the priority of a person
)

// Call plays a building controller: it asks all devices behind an address who they are, and reads all that
// they have again and again.
func (speech) Call(ctx context.Context, over net.Conn, screen *bench.Screen) error {
	c := &caller{conn: over, screen: screen}
	if err := c.finds(); err != nil {
		return err
	}
	tick := time.NewTicker(roundEvery)
	defer tick.Stop()
	for {
		for i := range c.devices {
			d := &c.devices[i]
			if err := c.follows(d); err != nil {
				return err
			}
			if err := c.round(d); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case o := <-screen.Orders:
			o.Done(c.operate(o.Name, o.On))
		case <-tick.C:
		}
	}
}

// caller is a building controller, which asks one question at a time.
type caller struct {
	conn    net.Conn
	screen  *bench.Screen
	invoke  uint8
	devices []known
}

// known is a device that was found.
type known struct {
	id      wire.ObjectID
	behind  wire.Station
	objects []named
	listed  uint64 // the revision of its database of which these are
}

// named is an object with its name.
type named struct {
	id   wire.ObjectID
	name string
}

func (c *caller) send(to wire.Station, m *wire.Message) error {
	n := wire.Network{To: to, Carries: true, Expects: m.Kind == wire.Confirmed, Body: m.Append(nil)}
	_, err := c.conn.Write((&wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}).Append(nil))
	return err
}

// receive takes the next message that comes until a time.
func (c *caller) receive(until time.Time) (from wire.Station, m wire.Message, err error) {
	buf := make([]byte, wire.MostDatagram)
	if err := c.conn.SetReadDeadline(until); err != nil {
		return from, m, err
	}
	for {
		n, err := c.conn.Read(buf)
		if err != nil {
			return from, m, err
		}
		l, err := wire.ParseLink(append([]byte(nil), buf[:n]...))
		if err != nil || l.NPDU == nil {
			continue
		}
		network, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
		if err != nil || !network.Carries {
			continue
		}
		if m, err = wire.ParseMessage(network.Body, network.BodyAt); err == nil {
			return network.From, m, nil
		}
	}
}

// finds asks who is there.
func (c *caller) finds() error {
	for range asksAgain {
		if err := c.send(wire.Station{Network: wire.EveryNetwork}, &wire.Message{Kind: wire.Unconfirmed,
			Service: wire.WhoIs}); err != nil {
			return err
		}
		until := time.Now().Add(answerWithin)
		for {
			from, m, err := c.receive(until)
			if errors.Is(err, os.ErrDeadlineExceeded) {
				break
			}
			if err != nil {
				return err
			}
			p, err := wire.ParseIAm(m.Body, m.BodyAt)
			if m.Kind != wire.Unconfirmed || m.Service != wire.IAm || err != nil ||
				slices.ContainsFunc(c.devices, func(k known) bool { return k.id == p.Device && k.behind == from }) {
				continue
			}
			c.devices = append(c.devices, known{id: p.Device, behind: from})
		}
		if len(c.devices) > 0 {
			return nil
		}
	}
	return errors.New("nobody says that it is there")
}

// refusal is an answer that says no.
type refusal struct{ words string }

func (r refusal) Error() string { return r.words }

// ask asks a question, again where no answer comes.
func (c *caller) ask(to wire.Station, service uint8, body []byte) (m wire.Message, err error) {
	for range asksAgain {
		c.invoke++
		q := wire.Message{Kind: wire.Confirmed, Invoke: c.invoke, Service: service, MostOctets: wire.MostOctets, Body: body}
		if err := c.send(to, &q); err != nil {
			return m, err
		}
		until := time.Now().Add(answerWithin)
		for {
			from, m, err := c.receive(until)
			if errors.Is(err, os.ErrDeadlineExceeded) {
				break
			}
			if err != nil {
				return m, err
			}
			if from != to || m.Invoke != c.invoke {
				continue
			}
			switch m.Kind {
			case wire.SimpleAck, wire.ComplexAck:
				return m, nil
			case wire.Reject:
				return m, refusal{family.Words(family.RejectCode(m.Reason))}
			case wire.Abort:
				return m, refusal{family.Words(family.AbortCode(m.Reason))}
			case wire.ErrorAnswer:
				f, err := wire.ParseFailure(m.Body, m.BodyAt)
				if err != nil {
					return m, err
				}
				return m, refusal{family.Words(family.ErrorCode(f.Class, f.Code))}
			}
		}
		if service == wire.WriteProperty {
			break // what may have been done is not done twice
		}
	}
	return m, errors.New("it does not answer")
}

func (c *caller) property(d *known, o wire.ObjectID, p family.Property, index int64) ([]wire.Value, error) {
	ref := wire.Reference{Object: o, Property: uint32(p), Index: index}
	m, err := c.ask(d.behind, wire.ReadProperty, wire.AppendReadProperty(nil, ref))
	if err != nil {
		return nil, err
	}
	_, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
	return values, err
}

// follows lists a device that was not, or whose database has another revision since.
func (c *caller) follows(d *known) error {
	revision, err := c.property(d, d.id, family.DatabaseRevision, wire.Whole)
	if err != nil || len(revision) != 1 {
		return fmt.Errorf("it does not say which revision its database has: %w", err)
	}
	if is := revision[0].Uint; is != d.listed {
		if err := c.lists(d); err != nil {
			return err
		}
		d.listed = is
		c.offers()
	}
	return nil
}

// lists reads which objects a device has, and their names.
func (c *caller) lists(d *known) error {
	d.objects = nil
	count, err := c.property(d, d.id, family.ObjectList, 0)
	if err != nil || len(count) != 1 {
		return fmt.Errorf("it does not say how many objects it has: %w", err)
	}
	for i := int64(1); i <= int64(min(count[0].Uint, 2000)); i++ {
		values, err := c.property(d, d.id, family.ObjectList, i)
		if err != nil {
			return err
		}
		o := values[0].Object
		if family.Type(o.Type()).Holds() == "" {
			continue
		}
		name, err := c.property(d, o, family.ObjectName, wire.Whole)
		if err != nil || len(name) != 1 {
			return fmt.Errorf("an object without a name: %w", err)
		}
		d.objects = append(d.objects, named{o, name[0].Text})
	}
	return nil
}

// offers says what can be operated.
func (c *caller) offers() {
	var names []string
	for i := range c.devices {
		for _, o := range c.devices[i].objects {
			if t := family.Type(o.id.Type()); t == family.BinaryValue || t == family.BinaryOutput {
				names = append(names, o.name)
			}
		}
	}
	c.screen.Commands(names)
}

// round reads all that a device has.
func (c *caller) round(d *known) error {
	for list := d.objects; len(list) > 0; {
		n := min(len(list), readAtOnce)
		var refs []wire.Reference
		for _, o := range list[:n] {
			for _, p := range []family.Property{family.PresentValue, family.StatusFlags, family.Reliability} {
				refs = append(refs, wire.Reference{Object: o.id, Property: uint32(p), Index: wire.Whole})
			}
		}
		m, err := c.ask(d.behind, wire.ReadPropertyMultiple, wire.AppendReadMultiple(nil, refs))
		if err != nil {
			return err
		}
		results, err := wire.ParseMultipleAnswer(m.Body, m.BodyAt)
		if err != nil || len(results) != len(refs) {
			return fmt.Errorf("an answer of %d properties to a question for %d: %w", len(results), len(refs), err)
		}
		for i, o := range list[:n] {
			c.shows(o.name, results[3*i:3*i+3])
		}
		list = list[n:]
	}
	return nil
}

// shows has an object stand on the screen.
func (c *caller) shows(name string, results []wire.Result) {
	shown := bench.Shown{Name: name, Value: "?"}
	if values := results[0].Values; len(values) == 1 {
		shown.Value = values[0].String()
		if values[0].Tag == wire.TagReal || values[0].Tag == wire.TagDouble {
			shown.Value = strconv.FormatFloat(values[0].Float, 'g', 6, 64)
		}
	}
	if flags := results[1].Values; len(flags) == 1 && flags[0].Bit(1) {
		shown.Quality = "fault"
		if why := results[2].Values; len(why) == 1 {
			shown.Quality += ": " + family.ReliabilityWords(why[0].Uint)
		}
	}
	c.screen.Show(shown)
}

// operate writes a binary object.
func (c *caller) operate(name string, on bool) error {
	for i := range c.devices {
		d := &c.devices[i]
		at := slices.IndexFunc(d.objects, func(o named) bool { return o.name == name })
		if at < 0 {
			continue
		}
		v := wire.Enumerated(0)
		if on {
			v = wire.Enumerated(1)
		}
		w := wire.Written{Reference: wire.Reference{Object: d.objects[at].id, Property: uint32(family.PresentValue),
			Index: wire.Whole}, Values: []wire.Value{v}, Priority: writesAt}
		_, err := c.ask(d.behind, wire.WriteProperty, wire.AppendWrite(nil, &w))
		return err
	}
	return errors.New("there is no such object any more")
}
