package iec61850

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/iec61850"
)

// mostLists bounds how often is asked for more names.
const mostLists = 1000

// names asks for all names of a class in a domain.
func (c *conn) names(class int, domain string) (list []string, reply field.Reply) {
	q := wire.NameList{Class: class, Domain: domain}
	for range mostLists {
		m, reply := c.ask(wire.GetNameList, q.Octets())
		if !reply.OK() {
			return nil, reply
		}
		part, more, err := wire.ReadNames(m.Body)
		if err != nil {
			return nil, garbled(reply, err)
		}
		list = append(list, part...)
		if !more || len(part) == 0 {
			return list, reply
		}
		q.After = part[len(part)-1]
	}
	return nil, field.Reply{Outcome: exchange.Garbled, Left: true, Sentence: "the server lists names without end"}
}

// domain is the logical device that a reference means: by its name, or as the only one that ends so.
func (c *conn) domain(name string) (string, field.Reply) {
	if c.domains == nil {
		list, reply := c.names(wire.Domains, "")
		if !reply.OK() {
			return "", reply
		}
		c.domains = list
	}
	found := ""
	for _, d := range c.domains {
		if d == name {
			return d, field.Reply{Outcome: exchange.Answered}
		}
		if strings.HasSuffix(d, name) && (found == "" || len(d) < len(found)) {
			found = d
		}
	}
	if found == "" {
		return "", field.Reply{Outcome: exchange.Declined, Left: true, Code: family.ServiceCode(7, 2),
			Sentence: fmt.Sprintf("the server has no logical device %s: it has %s", name, strings.Join(c.domains, ", "))}
	}
	return found, field.Reply{Outcome: exchange.Answered}
}

// typeOf is the type of a variable, asked for once.
func (c *conn) typeOf(n wire.Name) (*wire.Type, field.Reply) {
	if t := c.types[n]; t != nil {
		return t, field.Reply{Outcome: exchange.Answered}
	}
	m, reply := c.ask(wire.GetTypeOf, wire.TypeOf(n))
	if !reply.OK() {
		return nil, reply
	}
	t, err := wire.ReadTypeAnswer(m.Body)
	if err != nil {
		return nil, garbled(reply, err)
	}
	c.types[n] = &t
	return &t, reply
}

// partOf is a part of a type by its name, and which it is; -1 for none.
func partOf(t *wire.Type, name string) (*wire.Type, int) {
	for i := range t.Parts {
		if t.Parts[i].Name == name {
			return &t.Parts[i], i
		}
	}
	return nil, -1
}

// place is where a value stands: what is read for it, and where in that it is.
type place struct {
	ref  family.Ref
	name wire.Name // what is read: the data, with quality and time
	// way leads to the value in it, quality and time to those beside it, nil for none.
	way, quality, time []int
	kind               family.Kind
	bits               int
}

// placeOf finds where the value of a reference stands; a reply that is not good says why nowhere.
func (c *conn) placeOf(a address.Address) (p place, reply field.Reply) {
	r, ok := family.RefOf(a)
	if !ok {
		return p, field.Reply{Outcome: exchange.NotAllowed, Sentence: "it names no attribute"}
	}
	domain, reply := c.domain(r.Device)
	if !reply.OK() {
		return p, reply
	}
	node, reply := c.typeOf(wire.Name{Domain: domain, Item: r.Node})
	if !reply.OK() {
		return p, reply
	}
	missing := field.Reply{Outcome: exchange.Declined, Left: true, Code: family.AccessCode(family.AccessNotThere)}
	t, _ := partOf(node, r.FC)
	if t == nil {
		missing.Sentence = fmt.Sprintf("%s has nothing with the functional constraint %s", r.Node, r.FC)
		return p, missing
	}
	// The data is the deepest that has a quality or a time beside what leads on.
	p = place{ref: r, name: wire.Name{Domain: domain, Item: r.Item()}}
	way, item := []int{}, r.Node+"$"+r.FC
	for _, name := range r.Path {
		part, at := partOf(t, name)
		if part == nil {
			missing.Sentence = fmt.Sprintf("there is no %s in %s", name, item)
			return p, missing
		}
		_, q := partOf(t, "q")
		_, stamp := partOf(t, "t")
		if (q >= 0 || stamp >= 0) && name != "q" && name != "t" {
			p.name.Item, way, p.quality, p.time = item, []int{}, nil, nil
			if q >= 0 {
				p.quality = []int{q}
			}
			if stamp >= 0 {
				p.time = []int{stamp}
			}
		}
		way, t, item = append(way, at), part, item+"$"+name
	}
	if p.name.Item == r.Item() {
		way = nil // it is read alone
	}
	if p.way, p.kind, p.bits = way, t.Kind, t.Size; t.Kind == family.Structure || t.Kind == family.Array {
		missing.Sentence = r.String() + " is no single value: it has parts"
		return p, missing
	}
	return p, reply
}

// at is the part of a value to which a way leads; nil for none.
func at(d *wire.Data, way []int) *wire.Data {
	for _, i := range way {
		if i >= len(d.Parts) {
			return nil
		}
		d = &d.Parts[i]
	}
	return d
}

// sampled is what a value says of a point.
func (p *place) sampled(id string, d *wire.Data) field.Sampled {
	s := field.Sampled{ID: id, Quality: value.Good, From: d.From, To: d.To}
	v := at(d, p.way)
	if v == nil {
		s.Quality, s.Reason = value.Bad, "the server tells of less than its type says"
		return s
	}
	s.From, s.To = v.From, v.To
	var ok bool
	if s.Value, ok = plain(v); !ok {
		s.Quality, s.Reason = value.Bad, "it holds no single value"
		return s
	}
	if p.quality != nil {
		if q := at(d, p.quality); q != nil && q.Kind == family.BitString {
			s.Quality, s.Reason = family.Quality(q.Bits).Means()
		}
	}
	if p.time != nil {
		if t := at(d, p.time); t != nil && t.Kind == family.UTCTime {
			s.Time = t.Time
			if s.Quality == value.Good && s.Reason == "" && t.TimeQuality&0x60 != 0 {
				s.Reason = "its time is that of a clock that failed or is not synchronised"
			}
		}
	}
	return s
}

// plain is a value as points hold it.
func plain(d *wire.Data) (value.Value, bool) {
	switch d.Kind {
	case family.Boolean:
		return value.OfBool(d.Int != 0), true
	case family.Integer:
		return value.OfInt(d.Int), true
	case family.Unsigned:
		return value.OfUint(uint64(d.Int)), true
	case family.Floating:
		return value.OfFloat(d.Float), true
	case family.BitString:
		if d.Size == 2 { // on the wire the first bit is the upper one
			return value.OfUint(d.Bits&1<<1 | d.Bits>>1&1), true
		}
		return value.OfUint(d.Bits), true
	case family.VisibleString, family.MMSString:
		return value.OfText(d.Text), true
	case family.UTCTime:
		return value.OfMoment(d.Time.UnixMilli()), true
	}
	return value.Value{}, false
}

// readAtOnce is how many variables are asked for with one question.
const readAtOnce = 40

// readAll reads variables; results are as many as there are names.
func (c *conn) readAll(names []wire.Name) (results []wire.Result, octets []int, reply field.Reply) {
	reply = field.Reply{Outcome: exchange.Answered}
	for part := range slices.Chunk(names, readAtOnce) {
		m, reply := c.ask(wire.Read, wire.ReadOf(part))
		if !reply.OK() {
			return nil, nil, reply
		}
		list, err := wire.ReadResults(m.Body, 0)
		if err == nil && len(list) != len(part) {
			err = fmt.Errorf("%d results for %d variables", len(list), len(part))
		}
		if err != nil {
			return nil, nil, garbled(reply, err)
		}
		results = append(results, list...)
	}
	return results, nil, reply
}

// AskItems asks for attributes, with quality and time beside them.
func (c *conn) AskItems(wanted []protocol.Wanted) (reply field.Reply, samples []field.Sampled) {
	reply = c.owned(func() (reply field.Reply) {
		samples, reply = c.items(wanted)
		return reply
	})
	return reply, samples
}

// items reads points. The turn is held.
func (c *conn) items(wanted []protocol.Wanted) (samples []field.Sampled, reply field.Reply) {
	var places []place
	var names []wire.Name
	var ids []string
	for _, w := range wanted {
		p, reply := c.placeOf(w.Address)
		switch {
		case reply.OK():
			places, names, ids = append(places, p), append(names, p.name), append(ids, w.ID)
		case reply.Outcome == exchange.Declined || reply.Outcome == exchange.NotAllowed:
			samples = append(samples, field.Sampled{ID: w.ID, Quality: value.Bad, Code: reply.Code, Reason: reply.Sentence})
		default:
			return nil, reply
		}
	}
	results, _, reply := c.readAll(names)
	if !reply.OK() {
		return samples, reply
	}
	for i := range results {
		if code := results[i].Refused; code >= 0 {
			samples = append(samples, field.Sampled{ID: ids[i], Quality: value.Bad, Code: family.AccessCode(code),
				Reason: "the server refuses it: " + family.Words(family.AccessCode(code))})
			continue
		}
		s := places[i].sampled(ids[i], &results[i].Data)
		s.From, s.To = 0, 0
		if v := at(&results[i].Data, places[i].way); v != nil {
			s.Words = v.Append(nil)
		}
		samples = append(samples, s)
	}
	return samples, reply
}

// Look asks for attributes that may not be there.
func (c *conn) Look(list []address.Address) (looked []protocol.Looked, reply field.Reply) {
	reply = c.owned(func() field.Reply {
		wanted := make([]protocol.Wanted, len(list))
		for i, a := range list {
			looked = append(looked, protocol.Looked{Address: a, Presence: protocol.Missing})
			wanted[i] = protocol.Wanted{ID: strconv.Itoa(i), Address: a}
		}
		samples, reply := c.items(wanted)
		for _, s := range samples {
			i, err := strconv.Atoi(s.ID)
			if err != nil {
				continue
			}
			l := &looked[i]
			switch {
			case s.Code == family.AccessCode(family.AccessDenied):
				l.Presence, l.Reason = protocol.Barred, s.Reason
			case s.Code != 0:
				l.Reason = s.Reason
			case s.Value.IsNone():
				l.Presence, l.Reason = protocol.Unclear, s.Reason
			default:
				l.Presence, l.Value, l.Reason = protocol.Here, s.Value, s.Reason
				if p, reply := c.placeOf(l.Address); reply.OK() {
					l.Type = typeOf(p.kind, p.bits)
				}
				l.Writable = family.MMS.Rules.(protocol.Items).Writable(l.Address) == nil
			}
		}
		return reply
	})
	return looked, reply
}

// typeOf is the type of points that hold a value of a kind.
func typeOf(kind family.Kind, bits int) value.Type {
	return basicOf(&wire.Type{Kind: kind, Size: bits}).holds
}

// basic is a basic type of files with the type of points.
type basic struct {
	name  string
	holds value.Type
}

// basicOf is the basic type that a type of the wire is most likely.
func basicOf(t *wire.Type) basic {
	switch t.Kind {
	case family.Boolean:
		return basic{"BOOLEAN", value.TypeBool}
	case family.Integer:
		switch {
		case t.Size <= 8:
			return basic{"INT8", value.TypeInt8}
		case t.Size <= 16:
			return basic{"INT16", value.TypeInt16}
		case t.Size <= 32:
			return basic{"INT32", value.TypeInt32}
		}
		return basic{"INT64", value.TypeInt64}
	case family.Unsigned:
		switch {
		case t.Size <= 8:
			return basic{"INT8U", value.TypeUint8}
		case t.Size <= 16:
			return basic{"INT16U", value.TypeUint16}
		case t.Size <= 32:
			return basic{"INT32U", value.TypeUint32}
		}
		return basic{"INT64U", value.TypeUint64}
	case family.Floating:
		if t.Size == 64 {
			return basic{"FLOAT64", value.TypeFloat64}
		}
		return basic{"FLOAT32", value.TypeFloat32}
	case family.BitString:
		switch t.Size {
		case 2, -2:
			return basic{"Dbpos", value.TypeUint8}
		case 13, -13:
			return basic{"Quality", ""}
		}
		return basic{"Check", ""}
	case family.VisibleString:
		return basic{"VisString255", value.TypeText}
	case family.MMSString:
		return basic{"Unicode255", value.TypeText}
	case family.UTCTime:
		return basic{"Timestamp", value.TypeUnixMs}
	case family.OctetString:
		return basic{"Octet64", ""}
	}
	return basic{}
}

// listedFor bounds how long the model is read for one page of a list.
const listedFor = 2 * time.Second

// List tells of the attributes of the server that points are made of, logical node by logical node.
func (c *conn) List(behind string) (held []protocol.Held, next string, reply field.Reply) {
	reply = c.owned(func() field.Reply {
		if _, reply := c.domain(""); !reply.OK() && len(c.domains) == 0 {
			return reply
		}
		began := time.Now()
		past := behind == ""
		reply := field.Reply{Outcome: exchange.Answered}
		for _, d := range c.domains {
			var items []string
			if items, reply = c.names(wire.Variables, d); !reply.OK() {
				return reply
			}
			for _, node := range items {
				if strings.Contains(node, "$") {
					continue
				}
				mark := d + "/" + node
				if !past {
					past = mark == behind
					continue
				}
				var t *wire.Type
				if t, reply = c.typeOf(wire.Name{Domain: d, Item: node}); !reply.OK() {
					return reply
				}
				held = append(held, heldIn(d, node, t)...)
				if time.Since(began) > listedFor {
					next = mark
					return reply
				}
			}
		}
		return reply
	})
	return held, next, reply
}

// heldIn are the attributes of a logical node, by a model that is made of its type.
func heldIn(domain, node string, t *wire.Type) []protocol.Held {
	ln := &family.Node{Name: node}
	for i := range t.Parts {
		fc := &t.Parts[i]
		if fc.Name == "RP" || fc.Name == "BR" || fc.Name == "GO" || fc.Name == "LG" || fc.Name == "MS" {
			continue // control blocks
		}
		for k := range fc.Parts {
			data := ln.Find(fc.Parts[k].Name)
			if data == nil {
				data = &family.Node{Name: fc.Parts[k].Name}
				ln.Parts = append(ln.Parts, data)
			}
			merge(data, &fc.Parts[k], fc.Name)
		}
	}
	m := family.Model{Domains: []*family.Domain{{Name: domain, Inst: domain, Nodes: []*family.Node{ln}}}}
	return m.Held()
}

// merge puts what data has under a functional constraint into its node.
func merge(data *family.Node, t *wire.Type, fc string) {
	for i := range t.Parts {
		p := &t.Parts[i]
		n := &family.Node{Name: p.Name, FC: fc, Basic: basicOf(p).name}
		if sub, _ := partOf(p, "q"); sub != nil { // it is data in data
			if n = data.Find(p.Name); n == nil {
				n = &family.Node{Name: p.Name}
				data.Parts = append(data.Parts, n)
			}
			merge(n, p, fc)
			continue
		}
		if p.Kind == family.Structure {
			n.Basic = ""
			merge(n, p, fc)
		}
		data.Parts = append(data.Parts, n)
	}
}
