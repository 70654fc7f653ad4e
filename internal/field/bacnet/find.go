package bacnet

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/bacnet"
)

// registers has a device of another subnet bring broadcasts here, as long as the connection lasts.
func (c *conn) registers() field.Reply {
	at, err := foreignAt(c.ctx, &c.target)
	if err != nil {
		return field.Failure(err, true)
	}
	if !at.IsValid() {
		return field.Reply{Outcome: exchange.Answered}
	}
	ask := (&wire.Link{Function: wire.RegisterForeign, Seconds: foreignSeconds}).Append(nil)
	for range 1 + c.retries {
		if err = c.socket.sendOctets(at, ask); err != nil {
			return field.Failure(err, true)
		}
		select {
		case said := <-c.noted:
			if said != registered {
				return field.Reply{Outcome: exchange.Refused, Stop: route.Session, Sentence: at.String() +
					" does not take this machine as a foreign device: " + said}
			}
			c.others.Go(func() { c.renews(at, ask) })
			return field.Reply{Outcome: exchange.Answered}
		case <-time.After(c.within):
		case <-c.ctx.Done():
			return field.Failure(field.ErrCalledOff, false)
		}
	}
	return field.Reply{Outcome: exchange.NoAnswer, Stop: route.Session,
		Sentence: at.String() + " does not answer: no broadcast will be brought from its subnet"}
}

// foreignAt is who brings broadcasts from another subnet, by the settings; none where nobody is to.
func foreignAt(ctx context.Context, t *field.Target) (at netip.AddrPort, err error) {
	where := strings.TrimSpace(family.IP.Value(t.Settings, family.KeyForeign).Text())
	if where == "" {
		return at, nil
	}
	if !strings.Contains(where, ":") {
		where = net.JoinHostPort(where, strconv.Itoa(family.UsualPort))
	}
	if at, err = resolve(ctx, where); err != nil {
		return at, err
	}
	return at, allowed(t, at)
}

// registered is what a device says that takes another as foreign.
const registered = ""

// renews keeps the registration.
func (c *conn) renews(at netip.AddrPort, ask []byte) {
	tick := time.NewTicker(foreignSeconds * time.Second / 2)
	defer tick.Stop()
	for {
		select {
		case <-c.life.Done():
			return
		case <-tick.C:
			_ = c.socket.sendOctets(at, ask) // one of two is enough
		}
	}
}

// finds asks in the network behind the address who has the instance.
func (c *conn) finds(network uint16) field.Reply {
	body := wire.AppendWhoIs(nil, wire.Range{First: c.device, Last: c.device})
	m := wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs, Body: body}
	n := wire.Network{To: wire.Station{Network: network}, Carries: true, Body: m.Append(nil)}
	octets := (&wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}).Append(nil)
	said := ""
	for range 1 + c.retries {
		c.taped(true, time.Now(), octets)
		if err := c.socket.sendOctets(c.to, octets); err != nil {
			return field.Failure(err, true)
		}
		timer := time.NewTimer(c.within)
	waits:
		for {
			select {
			case f := <-c.present:
				if f.behind.Network == network && f.Device.Instance() == c.device {
					c.taped(false, time.Now(), f.datagram)
					c.behind, c.most = f.behind, min(c.most, int(f.MostOctets))
					timer.Stop()
					return field.Reply{Outcome: exchange.Answered}
				}
			case said = <-c.noted:
				break waits
			case <-timer.C:
				break waits
			case <-c.ctx.Done():
				timer.Stop()
				return field.Failure(field.ErrCalledOff, false)
			}
		}
		timer.Stop()
		if said != "" {
			return field.Reply{Outcome: exchange.Refused, Stop: route.Session, Sentence: "the router says: " + said}
		}
	}
	reply := c.silent()
	if reply.Outcome != exchange.Refused {
		reply.Outcome, reply.Stop = exchange.NoAnswer, route.Session
		reply.Sentence = fmt.Sprintf("no device with the instance %d answers from the network %d behind %s", c.device,
			network, c.to)
	}
	return reply
}

// knows asks the device what it is able to do: it is there then, and is the one that is meant.
func (c *conn) knows() field.Reply {
	ref := whole(wire.ID(uint16(family.Device), c.device), servicesSupported)
	m, reply := c.ask(c.ctx, wire.ReadProperty, wire.AppendReadProperty(nil, ref), false)
	switch {
	case reply.Outcome == exchange.NoAnswer:
		return c.silent()
	case reply.Outcome == exchange.Declined && reply.Code == family.ErrorCode(classObject, family.CodeUnknownObject):
		reply.Stop, reply.Outcome = route.Session, exchange.Refused
		reply.Sentence = fmt.Sprintf("the device there has not the instance %d", c.device)
		if is, ok := c.whoIs(); ok {
			reply.Sentence += fmt.Sprintf(": it is %d", is)
		}
		return reply
	case reply.Outcome == exchange.Declined:
		return field.Reply{Outcome: exchange.Answered} // it does not tell, and need not
	case !reply.OK():
		reply.Stop = route.Session
		return reply
	}
	_, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
	if err != nil || len(values) != 1 || values[0].Tag != wire.TagBits {
		return field.Reply{Outcome: exchange.Garbled, Stop: route.Session,
			Sentence: "what the device says of itself cannot be read"}
	}
	c.single = !values[0].Bit(bitReadMultiple)
	if v, is := c.property(c.ctx, family.MaxOctets); is.OK() && v.Tag == wire.TagUnsigned {
		c.most = max(leastMessage, min(c.most, int(min(v.Uint, wire.MostOctets))))
	}
	if most, ok := c.remember("perAsk", 0).(int); ok {
		c.perAsk = most
	}
	return reply
}

// Properties of a device, classes of errors and bits of its services that count here.
const (
	servicesSupported family.Property = 97
	vendorIdentifier  family.Property = 120
	firmwareRevision  family.Property = 44
	classObject                       = 1
	classServices                     = 5
	unknownWish                       = 79 // unknown subscription
	bitReadMultiple                   = 14
)

// leastMessage is what any device takes at least (clause 20.1.2.5).
const leastMessage = 50

// whoIs asks the device at the address for its instance, by the one that stands for any.
func (c *conn) whoIs() (instance uint32, ok bool) {
	ref := whole(wire.ID(uint16(family.Device), wire.AnyInstance), family.ObjectIdentifier)
	m, reply := c.ask(c.ctx, wire.ReadProperty, wire.AppendReadProperty(nil, ref), false)
	if !reply.OK() {
		return 0, false
	}
	_, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
	if err != nil || len(values) != 1 || values[0].Tag != wire.TagObject {
		return 0, false
	}
	return values[0].Object.Instance(), true
}

// silent tells a machine at whose port nobody listens from one that says nothing: a socket that is bound to
// it hears of the first.
func (c *conn) silent() field.Reply {
	reply := field.Reply{Outcome: exchange.Unreached,
		Sentence: fmt.Sprintf("nothing came back from %s within %d ms", c.to, c.within.Milliseconds())}
	over, err := net.DialUDP("udp4", nil, net.UDPAddrFromAddrPort(c.to))
	if err != nil {
		return reply
	}
	defer over.Close()
	m := wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs,
		Body: wire.AppendWhoIs(nil, wire.Range{First: c.device, Last: c.device})}
	n := wire.Network{Carries: true, Body: m.Append(nil)}
	if _, err := over.Write((&wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}).Append(nil)); err != nil {
		return reply
	}
	if err := over.SetReadDeadline(time.Now().Add(refusedWithin)); err != nil {
		return reply
	}
	buf := make([]byte, wire.MostDatagram)
	if _, err := over.Read(buf); errors.Is(err, syscall.ECONNREFUSED) {
		return field.Reply{Outcome: exchange.Refused, Sentence: "the machine is there, but nothing listens on that port"}
	} else if err == nil {
		reply.Outcome, reply.Stop = exchange.NoAnswer, route.Session
		reply.Sentence = fmt.Sprintf("somebody answers at %s, but not to questions for the device %d", c.to, c.device)
	}
	return reply
}
