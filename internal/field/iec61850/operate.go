package iec61850

import (
	"fmt"
	"math"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/iec61850"
)

// Control models (IEC 61850-7-2, clause 20.1).
const (
	statusOnly = iota
	directNormal
	selectNormal
	directEnhanced
	selectEnhanced
)

// termination is the report of how a command ended.
type termination struct {
	item  string
	cause int // -1 for well
}

// WriteItem writes an attribute, or operates a control as its model says.
func (c *conn) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	return c.owned(func() field.Reply {
		p, reply := c.placeOf(to.Address)
		if !reply.OK() {
			reply.Left = false
			return reply
		}
		d, err := dataOf(v, p.kind, p.bits)
		if err != nil {
			return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
		}
		name := wire.Name{Domain: p.name.Domain, Item: p.ref.Item()}
		if p.ref.FC == "CO" {
			return c.operate(&p, d, pass)
		}
		return c.writes(name, d, pass)
	})
}

// writes sends one value, once the pass is given.
func (c *conn) writes(n wire.Name, d wire.Data, pass field.Pass) field.Reply {
	left, refused := field.Let(pass)
	if refused != nil {
		return *refused
	}
	defer left()
	m, reply := c.ask(wire.Write, wire.WriteOf([]wire.Name{n}, []wire.Data{d}))
	if !reply.OK() {
		return reply
	}
	list, err := wire.ReadWritten(m.Body)
	switch {
	case err != nil || len(list) != 1:
		return garbled(reply, fmt.Errorf("it does not say whether it was written"))
	case list[0] >= 0:
		code := family.AccessCode(list[0])
		reply.Outcome, reply.Code, reply.Sentence = exchange.Declined, code, "the server refuses: "+family.Words(code)
	}
	return reply
}

// operate carries a command out: it is selected first where its model says so, and with enhanced
// security its end is waited for.
func (c *conn) operate(p *place, v wire.Data, pass field.Pass) field.Reply {
	data, _, found := strings.Cut(p.ref.Item(), "$Oper$")
	if !found {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "a control is operated by its Oper.ctlVal"}
	}
	name := func(member string) wire.Name { return wire.Name{Domain: p.name.Domain, Item: data + "$" + member} }
	model := wire.Name{Domain: p.name.Domain, Item: strings.Replace(data, "$CO$", "$CF$", 1) + "$ctlModel"}
	results, _, reply := c.readAll([]wire.Name{model})
	if !reply.OK() {
		reply.Left = false
		return reply
	}
	how := int64(directNormal)
	if results[0].Refused < 0 {
		how = results[0].Data.Int
	}
	if how == statusOnly {
		return field.Reply{Outcome: exchange.NotAllowed,
			Sentence: "the control is for status only: the server takes no commands for it"}
	}
	node, reply := c.typeOf(wire.Name{Domain: p.name.Domain, Item: p.ref.Node})
	if !reply.OK() {
		reply.Left = false
		return reply
	}
	t := node
	for _, part := range append([]string{"CO"}, strings.Split(strings.SplitN(data, "$", 3)[2], "$")...) {
		if t, _ = partOf(t, part); t == nil {
			return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the control has no type"}
		}
	}
	oper, _ := partOf(t, "Oper")
	if oper == nil {
		return field.Reply{Outcome: exchange.NotAllowed, Sentence: "the control has no Oper"}
	}
	c.number++
	command := c.command(oper, v)
	for len(c.terminated) > 0 {
		<-c.terminated
	}
	switch how {
	case selectNormal:
		left, refused := field.Let(pass)
		if refused != nil {
			return *refused
		}
		results, _, reply = c.readAll([]wire.Name{name("SBO")})
		left()
		reply.Left = false // a selection changes nothing
		if !reply.OK() {
			return reply
		}
		if results[0].Refused >= 0 || results[0].Data.Text == "" {
			code := family.CauseCode(3)
			reply.Outcome, reply.Code = exchange.Declined, code
			reply.Sentence = "the server does not let it be selected: " + family.Words(code)
			return reply
		}
	case selectEnhanced:
		reply = c.writes(name("SBOw"), command, pass)
		if !reply.OK() {
			reply.Left = false
			return c.because(reply)
		}
	}
	reply = c.writes(name("Oper"), command, pass)
	if !reply.OK() {
		return c.because(reply)
	}
	if how == directEnhanced || how == selectEnhanced {
		return c.ends(name("Oper").Item, reply)
	}
	return reply
}

// because adds the additional cause to a refusal: it comes in a report of its own, before.
func (c *conn) because(reply field.Reply) field.Reply {
	if reply.Outcome != exchange.Declined {
		return reply
	}
	select {
	case t := <-c.terminated:
		if t.cause > 0 {
			reply.Code = family.CauseCode(t.cause)
			reply.Sentence = "the server refuses: " + family.Words(reply.Code)
		}
	default:
	}
	return reply
}

// ends waits until the server says how a command ended.
func (c *conn) ends(item string, reply field.Reply) field.Reply {
	timer := time.NewTimer(c.within)
	defer timer.Stop()
	for {
		select {
		case t := <-c.terminated:
			switch {
			case t.cause >= 0:
				reply.Outcome, reply.Code = exchange.Declined, family.CauseCode(t.cause)
				reply.Sentence = "the command failed: " + family.Words(reply.Code)
				return reply
			case t.item == item:
				return reply
			}
		case <-timer.C:
			reply.Outcome = exchange.NoAnswer
			reply.Sentence = fmt.Sprintf("the server took the command and does not say within %d ms how it ended",
				c.within.Milliseconds())
			return reply
		case <-c.ended:
			return c.why()
		}
	}
}

// operated notes how a command ended (IEC 61850-8-1, clauses 20.8 and 20.9).
func (c *conn) operated(names []wire.Name, values []wire.Result) {
	t := termination{cause: -1}
	for i, n := range names {
		if n.Item != "LastApplError" {
			t.item = n.Item
			continue
		}
		t.cause = 0
		if i < len(values) {
			if parts := values[i].Data.Parts; len(parts) >= 5 {
				t.cause = int(parts[4].Int)
			}
		}
	}
	select {
	case c.terminated <- t:
	default: // nobody waits for so many
	}
}

// command is what is written to Oper and SBOw: the value, and who commands.
func (c *conn) command(oper *wire.Type, v wire.Data) wire.Data {
	out := wire.Data{Kind: family.Structure}
	for i := range oper.Parts {
		p := &oper.Parts[i]
		d := wire.Data{Kind: p.Kind, Size: max(p.Size, -p.Size)}
		switch p.Name {
		case "ctlVal":
			if d = v; p.Kind == family.Structure { // an analogue value has a part for it
				d = wire.Data{Kind: family.Structure, Parts: []wire.Data{v}}
			}
		case "origin":
			d = wire.Data{Kind: family.Structure, Parts: []wire.Data{{Kind: family.Integer, Int: remoteControl, Size: 8},
				{Kind: family.OctetString, Text: family.MMS.Value(c.settings, family.KeyOrigin).Text()}}}
		case "ctlNum":
			d.Int = int64(c.number)
		case "T":
			d.Time = time.Now()
			if d.Kind == family.EntryTime {
				d.Time = d.Time.UTC()
			}
		}
		out.Parts = append(out.Parts, d)
	}
	return out
}

// remoteControl is the category of an origin that is no station (IEC 61850-7-3, clause 6.8).
const remoteControl = 3

// dataOf is a value in a kind of the wire; an error where it does not fit exactly.
func dataOf(v value.Value, kind family.Kind, bits int) (d wire.Data, err error) {
	d = wire.Data{Kind: kind, Size: max(bits, -bits)}
	switch kind {
	case family.Boolean:
		if v.Bool() {
			d.Int = 1
		}
	case family.Integer, family.Unsigned:
		f := v.Float()
		low, high := 0.0, math.Exp2(float64(d.Size))-1
		if kind == family.Integer {
			low, high = -math.Exp2(float64(d.Size-1)), math.Exp2(float64(d.Size-1))-1
		}
		if f != math.Trunc(f) || !(f >= low && f <= high) {
			return d, fmt.Errorf("%s does not fit: it takes whole numbers of %d bits", v, d.Size)
		}
		if d.Int = int64(f); v.Kind() == value.Int || v.Kind() == value.Uint {
			d.Int = v.Int()
		}
	case family.Floating:
		d.Float = v.Float()
	case family.BitString:
		if d.Size != 2 || v.Uint() > 3 {
			return d, fmt.Errorf("%s does not fit: it takes the states 0 to 3", v)
		}
		d.Bits = v.Uint()&1<<1 | v.Uint()>>1&1
	case family.VisibleString, family.MMSString:
		d.Text = v.Text()
	case family.UTCTime:
		d.Time = time.UnixMilli(v.Int())
	default:
		return d, fmt.Errorf("it takes no single value")
	}
	return d, nil
}
