// Package modbus is the driver of the Modbus family: over TCP with one request
// outstanding, and RTU or ASCII over a serial port or in a TCP stream.
package modbus

import (
	"fmt"
	"time"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

func init() {
	field.Register(family.TCP.Name, tcpDriver{dissector{wire.TCP}})
	field.Register(family.RTUTCP.Name, streamDriver{dissector{wire.RTU}})
	field.Register(family.RTU.Name, serialDriver{dissector{wire.RTU}})
	field.Register(family.ASCII.Name, serialDriver{dissector{wire.ASCII}})
}

type dissector struct{ framing wire.Framing }

func (d dissector) Dissect(frames []exchange.Frame, points []exchange.Labelled) [][]exchange.Field {
	request, answer := exchange.Sides(frames)
	var asked, answered []exchange.Field
	if len(request) > 0 {
		asked = d.framing.DissectRequest(request)
	}
	if len(answer) > 0 {
		answered = d.framing.DissectAnswer(request, answer, points)
	}
	return exchange.Spread(frames, asked, answered)
}

// client asks in data units; how they travel is the business of exchange,
// which sends c.pdu to c.unit.
type client struct {
	// exchange asks for the pass, if it is given one, just before it sends.
	exchange func(pass field.Pass) field.Reply
	unit     byte
	limit    time.Duration
	pdu      []byte
	bits     []byte
}

func (c *client) toward(def *protocol.Def, settings protocol.Settings) {
	c.unit = byte(def.Int(settings, family.KeyUnit))
	c.limit = time.Duration(def.Int(settings, protocol.KeyWithin)) * time.Millisecond
}

// Read asks for one range: a request holds no more.
func (c *client) Read(ranges []block.Range) field.Reply {
	if len(ranges) != 1 {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "a request asks for one run of units"}
	}
	r := ranges[0]
	c.pdu = wire.ReadPDU(c.pdu[:0], r.Area, uint16(r.Start), r.Count)
	reply := c.exchange(nil)
	if reply.OK() {
		reply.Data = c.spread(r.Area, r.Count, reply.Data)
	}
	return reply
}

// greeting is a register: some devices have none, and say so.
var greeting = []block.Range{{Area: family.HoldingRegisters, Count: 1}}

func (c *client) Greet() field.Reply { return c.Read(greeting) }

// spread gives every unit its whole octets: a bit one, 0 or 1.
func (c *client) spread(area string, count int, data []byte) []byte {
	if area != family.Coils && area != family.DiscreteInputs {
		return data
	}
	c.bits = c.bits[:0]
	for i := range count {
		c.bits = append(c.bits, data[i/8]>>(i%8)&1)
	}
	return c.bits
}

func (c *client) Write(to address.Address, data []byte, pass field.Pass) field.Reply {
	at := block.Of(to)
	if pass == nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "nobody let it go"}
	}
	if at.Area == family.Coils {
		c.pdu = wire.WriteCoilPDU(c.pdu[:0], uint16(at.Offset), data[0] != 0)
	} else {
		c.pdu = wire.WriteRegistersPDU(c.pdu[:0], uint16(at.Offset), data)
	}
	return c.exchange(pass)
}

// optional reports whether the request is one that devices may not know.
func (c *client) optional() bool {
	return c.pdu[0] == wire.EncapsulatedTransfer || c.pdu[0] == wire.ReportServerID
}

func (c *client) Identify() (text, by string, reply field.Reply) {
	c.pdu = wire.IdentifyPDU(c.pdu[:0])
	if reply = c.exchange(nil); reply.OK() {
		if text, ok := wire.ParseIdentity(reply.Data); ok {
			return text, "function 43/14", reply
		}
	} else if reply.Outcome != exchange.Declined {
		return "", "function 43/14", reply
	}
	c.pdu = wire.ReportIDPDU(c.pdu[:0])
	if reply = c.exchange(nil); reply.OK() {
		if text, ok := wire.ParseServerID(reply.Data); ok {
			return text, "function 17", reply
		}
	}
	return "", "function 17", reply
}

// judge turns a whole frame into a reply, or an error that says what is broken.
func judge(framing wire.Framing, request, frame []byte, may wire.Lenience) (field.Reply, error) {
	answer, err := framing.CheckLeniently(request, frame, may)
	if err != nil {
		return field.Reply{}, err
	}
	reply := field.Reply{Outcome: exchange.Answered, Data: answer.Data, Request: request, Answer: frame}
	if answer.Declined {
		why := family.TCP.Decline(answer.Exception)
		reply.Outcome, reply.Code, reply.Data = exchange.Declined, answer.Exception, nil
		reply.Sentence = fmt.Sprintf("exception %d, %s", answer.Exception, why.Title)
	}
	return reply, nil
}
