package enip

import (
	"bytes"
	"fmt"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/enip"
)

// WriteItem writes a tag, with its type and the count of one before it, one of its bits, or
// an attribute. The type is that which the device has, so it is asked for where it is not
// known, and so is the rest of an attribute of which a part is written. The write is put
// once: what became of it where no answer came is not known.
func (c *conn) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	return c.Question(false, func() field.Reply {
		var r wire.Request
		var refused *field.Reply
		if at, ok := family.AttributeOf(to.Address); ok {
			r, refused = c.intoAttribute(&at, &to, v)
		} else {
			r, refused = c.intoTag(&to, v)
		}
		if refused != nil {
			return *refused
		}
		a, failed := c.ask(&r, pass)
		switch {
		case failed != nil:
			return *failed
		case a.Status != 0:
			delete(c.kinds, r.Path.String()) // its type may have changed
			return declined(&a)
		}
		return field.Reply{Outcome: exchange.Answered, Left: true}
	})
}

func notAllowed(format string, args ...any) *field.Reply {
	return &field.Reply{Outcome: exchange.NotAllowed, Sentence: fmt.Sprintf(format, args...)}
}

// mostLearnt bounds the types that are kept.
const mostLearnt = 100_000

// learn keeps the type of a tag that was read.
func (c *conn) learn(r *wire.Request, a *wire.Answer) {
	if r.Service != wire.ReadTag || a.Status != 0 || len(a.Data) < 2 || len(c.kinds) >= mostLearnt {
		return
	}
	kind := family.Kind(le.Uint16(a.Data))
	if a.Data[0] == byte(family.Structure) {
		kind = family.Structure
	}
	c.kinds[r.Path.String()] = kind
}

// kindOf is the type of a tag, for which the device is asked where it is not known.
func (c *conn) kindOf(path *wire.Path) (family.Kind, *field.Reply) {
	if kind, known := c.kinds[path.String()]; known {
		return kind, nil
	}
	r := wire.Request{Service: wire.ReadTag, Path: *path, Data: []byte{1, 0}}
	a, failed := c.ask(&r, nil)
	switch {
	case failed != nil:
		return 0, failed
	case a.Status == partial && len(a.Data) >= 2: // a long one
		a.Status = 0
	case a.Status != 0:
		return 0, nil // one that can only be written
	}
	c.learn(&r, &a)
	return c.kinds[path.String()], nil
}

// intoTag is the question that writes a tag, or one of its bits (Read Modify Write: the
// octets of a mask, the bits that are set, and those that are not reset).
func (c *conn) intoTag(to *protocol.Wanted, v value.Value) (r wire.Request, refused *field.Reply) {
	name, _ := family.TagOf(to.Address)
	path, bit, err := pathOf(name)
	if err != nil {
		return r, notAllowed("%v", err)
	}
	kind, failed := c.kindOf(&path)
	if failed != nil {
		return r, failed
	}
	if kind != 0 {
		if why := kind.Fits(to.Shape.Type, bit >= 0); why != "" {
			return r, notAllowed("%s", why)
		}
	}
	if bit >= 0 {
		width := kind.Octets()
		switch {
		case kind == 0:
			return r, notAllowed("it does not tell the type of the tag, so that how wide its bits lie is not known: write the tag")
		case bit >= 8*width:
			return r, notAllowed("%s has no bit %d", kind, bit)
		}
		r = wire.Request{Service: wire.ModifyTag, Path: path, Data: le.AppendUint16(nil, uint16(width))}
		masks := append(make([]byte, width), bytes.Repeat([]byte{0xFF}, width)...)
		if v.Bool() {
			masks[bit/8] |= 1 << (bit % 8)
		} else {
			masks[width+bit/8] &^= 1 << (bit % 8)
		}
		r.Data = append(r.Data, masks...)
		return r, nil
	}
	if kind == 0 {
		kind = family.KindOf(to.Shape.Type)
	}
	if kind == 0 {
		return r, notAllowed("EtherNet/IP has no %s: choose another type", to.Shape.Type)
	}
	r = wire.Request{Service: wire.WriteTag, Path: path, Data: le.AppendUint16(le.AppendUint16(nil, uint16(kind)), 1)}
	if r.Data, err = kind.Append(r.Data, v); err != nil {
		return r, notAllowed("%v", err)
	}
	return r, nil
}

// intoAttribute is the question that writes an attribute. One of which the point is a part is
// read first, and the rest goes as it was.
func (c *conn) intoAttribute(at *family.Attribute, to *protocol.Wanted, v value.Value) (r wire.Request,
	refused *field.Reply) {
	kind := family.KindOf(to.Shape.Type)
	if kind == 0 {
		return r, notAllowed("EtherNet/IP has no %s: choose another type", to.Shape.Type)
	}
	path := wire.PathTo(at.Class, at.Instance, at.Number)
	r = wire.Request{Service: wire.SetSingle, Path: path}
	part := at.Octet > 0 || at.Bit >= 0
	switch {
	case to.Shape.Type.IsText() && part:
		return r, notAllowed("a text in the middle of an attribute cannot be written: it may be of any length")
	case to.Shape.Type.IsText():
		kind = family.ShortString
	}
	value := []byte{0}
	if at.Bit < 0 {
		var err error
		if value, err = kind.Append(nil, v); err != nil {
			return r, notAllowed("%v", err)
		}
	}
	if !part {
		r.Data = value
		return r, nil
	}
	a, failed := c.ask(&wire.Request{Service: wire.GetSingle, Path: path}, nil)
	switch {
	case failed != nil:
		return r, failed
	case a.Status != 0:
		reply := declined(&a)
		reply.Outcome, reply.Sentence = exchange.NotAllowed,
			"the rest of the attribute cannot be read, so it is not written: "+reply.Sentence
		return r, &reply
	case at.Octet+len(value) > len(a.Data):
		return r, notAllowed("the attribute has %d octets, and the map has the value from octet %d on", len(a.Data), at.Octet)
	}
	r.Data = append([]byte(nil), a.Data...)
	switch {
	case at.Bit < 0:
		copy(r.Data[at.Octet:], value)
	case v.Bool():
		r.Data[at.Octet] |= 1 << at.Bit
	default:
		r.Data[at.Octet] &^= 1 << at.Bit
	}
	return r, nil
}
