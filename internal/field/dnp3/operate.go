package dnp3

import (
	"fmt"
	"math"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/dnp3"
)

// Codes of a control (IEEE 1815, clause 11.8.1): the operation in the lower four bits, which of two
// relays in the upper two.
const (
	pulseOn   = 0x01
	pulseOff  = 0x02
	latchOn   = 0x03
	latchOff  = 0x04
	closing   = 0x40
	tripping  = 0x80
	mostPulse = math.MaxUint32
)

// WriteItem operates an output: by selecting it first, or directly, as the link is set.
func (c *conn) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	s := c.toward()
	o, err := s.command(to, v)
	if err != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	}
	objects, err := wire.AppendObjects(nil, wire.Index16, []wire.Object{o})
	if err != nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
	}
	if err := c.own(); err != nil {
		return c.gone()
	}
	defer c.release()
	function, frames := wire.FnDirect, []exchange.Frame(nil)
	began := field.Tape{}
	began.Begin()
	if c.def.Value(s.has(), family.KeyOperate).Text() == family.OperateSelect {
		selected := s.ask(&question{function: wire.FnSelect, objects: objects, once: true, pass: pass}, c.breaks)
		if reply := became(&selected, &o, "to be selected for it"); !reply.OK() {
			reply.Left = false // a selection changes nothing
			return reply
		}
		function, frames = wire.FnOperate, selected.Frames
	}
	operated := s.ask(&question{function: function, objects: objects, once: true, pass: pass}, c.breaks)
	operated.Frames = append(frames, operated.Frames...)
	if len(frames) > 0 {
		operated.SentAt = began.Began()
	}
	return became(&operated, &o, "the command")
}

// command is the object by which a value is given to an output.
func (s *station) command(to protocol.Wanted, v value.Value) (o wire.Object, err error) {
	name, ok := family.ObjectOf(to.Address)
	if !ok || name.Kind.Command() == 0 {
		return o, fmt.Errorf("only binary and analogue outputs take commands")
	}
	o = wire.Object{Group: name.Kind.Command(), Variation: 1, Index: name.Index}
	if name.Kind == family.BinaryOutput {
		o.Control = wire.Control{Count: 1, On: uint32(s.int(family.KeyOnMs)), Off: uint32(s.int(family.KeyOffMs))}
		on := v.Bool()
		switch {
		case name.How == family.Pulse && on:
			o.Control.Code = pulseOn
		case name.How == family.Pulse:
			o.Control.Code = pulseOff
		case name.How == family.Trip && on:
			o.Control.Code = closing | pulseOn
		case name.How == family.Trip:
			o.Control.Code = tripping | pulseOn
		case on:
			o.Control.Code = latchOn
		default:
			o.Control.Code = latchOff
		}
		if name.How == family.Latch {
			o.Control.On, o.Control.Off = 0, 0
		}
		return o, nil
	}
	o.Value = v
	low, high := math.Inf(-1), math.Inf(1)
	switch to.Shape.Type {
	case value.TypeFloat64:
		o.Variation = 4
	case value.TypeFloat32:
		o.Variation = 3
		low, high = -math.MaxFloat32, math.MaxFloat32
	case value.TypeInt16, value.TypeInt8, value.TypeUint8, value.TypeBool:
		o.Variation, low, high = 2, math.MinInt16, math.MaxInt16
	default:
		low, high = math.MinInt32, math.MaxInt32
	}
	f := v.Float()
	if o.Variation <= 2 && f != math.Trunc(f) || !(f >= low && f <= high) {
		return o, fmt.Errorf("%s does not fit the output: it takes %s from %.0f to %.0f", v,
			map[bool]string{true: "whole numbers", false: "numbers"}[o.Variation <= 2], low, high)
	}
	if o.Variation <= 2 {
		o.Value = value.OfInt(int64(f))
	} else {
		o.Value = value.OfFloat(f)
	}
	return o, nil
}

// became is what became of a command: its answer repeats it, with a status.
func became(a *answer, o *wire.Object, what string) field.Reply {
	if !a.OK() {
		return a.Reply
	}
	var back *wire.Object
	for i := range a.messages {
		if err := wire.Objects(a.messages[i].Objects, func(each wire.Object) { back = &each }); err != nil {
			a.Outcome, a.Sentence = exchange.Garbled, err.Error()
			return a.Reply
		}
	}
	reply, refused := a.refusal(what)
	switch {
	case back != nil && back.Status != 0 && back.Group == o.Group:
		reply.Outcome, reply.Code = exchange.Declined, family.StatusCode(back.Status)
		reply.Sentence = "the outstation refuses " + what + ": " + family.Words(reply.Code)
	case refused:
	case back == nil:
		reply.Outcome, reply.Sentence = exchange.Garbled, "the answer does not say what became of it"
	case back.Group != o.Group || back.Variation != o.Variation || back.Index != o.Index || back.Control != o.Control ||
		back.Value != o.Value && !o.Value.IsNone():
		reply.Outcome, reply.Sentence = exchange.Garbled, "the answer tells of another command than the one that was sent"
	}
	return reply
}
