package bacnet

import (
	"context"
	"fmt"

	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	wire "ferry/internal/wire/bacnet"
)

// WriteItem writes a property: the present value at the priority of the settings, or at that of the element
// of the priority array that is named. A value of none gives the priority up.
func (c *conn) WriteItem(to protocol.Wanted, v value.Value, pass field.Pass) field.Reply {
	return c.owned(func(ctx context.Context) field.Reply {
		w, err := c.written(to, v)
		if err != nil {
			return field.Reply{Outcome: exchange.NotAllowed, Sentence: err.Error()}
		}
		left, refused := field.Let(pass)
		if refused != nil {
			return *refused
		}
		defer left()
		_, reply := c.ask(ctx, wire.WriteProperty, wire.AppendWrite(nil, &w), true)
		return reply
	})
}

// written is a write as it goes out.
func (c *conn) written(to protocol.Wanted, v value.Value) (w wire.Written, err error) {
	p, ok := family.PlaceOf(to.Address)
	if !ok {
		return w, fmt.Errorf("address %s is no object", to.Address)
	}
	w.Reference = wire.Reference{Object: wire.ID(uint16(p.Type), p.Instance), Property: uint32(p.Property), Index: p.Index}
	switch p.Property {
	case family.PriorityArray:
		w.Property, w.Index, w.Priority = uint32(family.PresentValue), wire.Whole, uint8(p.Index)
	case family.PresentValue:
		if p.Type.Commanded() {
			w.Priority = uint8(family.IP.Int(c.settings, family.KeyPriority))
		}
	}
	out := wire.Null()
	if !v.IsNone() {
		if out, err = asWire(v, &p, to.Shape.Type); err != nil {
			return w, err
		}
	}
	w.Values = []wire.Value{out}
	return w, nil
}

// asWire is a value as a property has it: those of the value itself have its type.
func asWire(v value.Value, p *family.Place, as value.Type) (wire.Value, error) {
	switch p.Property {
	case family.PresentValue, family.PriorityArray, family.RelinquishDefault, family.MinPresValue, family.MaxPresValue,
		family.CovIncrement:
		return wire.Of(p.Type, as, v)
	case family.OutOfService:
		return wire.Boolean(v.Float() != 0), nil
	}
	return wire.Of(family.NoType, as, v)
}
