package bacnet

import (
	"math"
	"slices"

	family "ferry/internal/core/family/bacnet"
	wire "ferry/internal/wire/bacnet"
)

func (o *Object) property(p family.Property) ([]wire.Value, bool, *wire.Failure) {
	switch p { // which each object has, and which are read most
	case family.PresentValue:
		return one(o.present())
	case family.StatusFlags:
		return one(wire.Bits(uint64(o.flags()), flagCount))
	}
	required, optional := o.properties()
	if p != family.PropertyList && !slices.Contains(required, p) && !slices.Contains(optional, p) {
		return nil, false, unknownProperty
	}
	switch p {
	case family.ObjectIdentifier:
		return one(wire.Object(o.ID))
	case family.ObjectName:
		return one(wire.Text(o.Name))
	case family.ObjectType:
		return one(wire.Enumerated(uint64(o.ID.Type())))
	case family.Description:
		return one(wire.Text(o.Description))
	case family.EventState:
		return one(wire.Enumerated(normalState))
	case family.OutOfService:
		return one(wire.Boolean(o.Flags&OutOfService != 0))
	case family.Reliability:
		return one(wire.Enumerated(uint64(o.Reliability)))
	case family.Units:
		return one(wire.Enumerated(uint64(o.Unit)))
	case family.MinPresValue:
		return one(o.number(o.Low))
	case family.MaxPresValue:
		return one(o.number(o.High))
	case family.CovIncrement:
		return one(o.number(o.Step))
	case polarity:
		return one(wire.Enumerated(normalPolar))
	case family.InactiveText:
		return one(wire.Text(o.States[0]))
	case family.ActiveText:
		return one(wire.Text(o.States[1]))
	case family.NumberOfStates:
		return one(wire.Unsigned(uint64(max(1, len(o.States)))))
	case family.StateText:
		list := make([]wire.Value, len(o.States))
		for i, text := range o.States {
			list[i] = wire.Text(text)
		}
		return list, true, nil
	case family.PriorityArray:
		return o.commands[:], true, nil
	case family.RelinquishDefault:
		v := o.Value
		if v.Tag == wire.TagNull {
			v = o.nothing()
		}
		return one(v)
	case family.PropertyList:
		return listed(slices.Concat(required, optional))
	}
	return nil, false, unknownProperty
}

// present is the present value; where nothing stands there yet, one of its type, which the reliability
// says is none.
func (o *Object) present() wire.Value {
	if o.Commanded {
		for i := range o.commands { // the first is the strongest
			if o.commands[i].Tag != wire.TagNull {
				return o.commands[i]
			}
		}
	}
	if o.Value.Tag == wire.TagNull {
		return o.nothing()
	}
	return o.Value
}

// flags is its status: also that what stands behind it does not follow what is commanded.
func (o *Object) flags() uint8 {
	if o.differs && o.held() {
		return o.Flags | Overridden
	}
	return o.Flags
}

// held reports whether anybody commands it.
func (o *Object) held() bool {
	return slices.ContainsFunc(o.commands[:], func(v wire.Value) bool { return v.Tag != wire.TagNull })
}

// nothing is a value of its type.
func (o *Object) nothing() wire.Value {
	switch family.Type(o.ID.Type()) {
	case family.BinaryInput, family.BinaryOutput, family.BinaryValue:
		return wire.Enumerated(offInBinary)
	case family.MultiInput, family.MultiOutput, family.MultiValue:
		return wire.Unsigned(multiStateLow)
	case family.CharacterValue:
		return wire.Text("")
	}
	return o.number(0)
}

// number is a number in the type of its present value.
func (o *Object) number(f float64) wire.Value {
	switch family.Type(o.ID.Type()) {
	case family.LargeAnalogValue:
		return wire.Double(f)
	case family.IntegerValue:
		return wire.Signed(int64(min(max(f, math.MinInt32), math.MaxInt32)))
	case family.Accumulator, family.PositiveIntValue:
		return wire.Unsigned(uint64(min(max(f, 0), math.MaxUint32)))
	}
	return wire.Real(f)
}

// beyond is the reliability of what stands in an object that cannot hold it.
func (o *Object) beyond() uint32 {
	v := &o.Value
	if o.fits(v) == nil {
		return NoFault
	}
	switch f := v.Float; {
	case v.Tag == wire.TagUnsigned || v.Tag == wire.TagEnumerated:
		return MultiStateFault
	case !math.IsNaN(o.High) && f > o.High:
		return OverRange
	case !math.IsNaN(o.Low) && f < o.Low:
		return UnderRange
	}
	return UnreliableOther
}

// fits says why a value cannot stand in an object; nil where it can.
func (o *Object) fits(v *wire.Value) *wire.Failure {
	if none := o.nothing(); v.Constructed || v.Opaque || v.Tag != none.Tag {
		return wrongType
	}
	switch family.Type(o.ID.Type()) {
	case family.BinaryOutput, family.BinaryValue, family.BinaryInput:
		if v.Uint > 1 {
			return outOfRange
		}
	case family.MultiOutput, family.MultiValue, family.MultiInput:
		if v.Uint < 1 || v.Uint > uint64(max(1, len(o.States))) {
			return outOfRange
		}
	default:
		f := v.Float
		switch v.Tag {
		case wire.TagUnsigned:
			f = float64(v.Uint)
		case wire.TagSigned:
			f = float64(v.Int)
		case wire.TagText:
			return nil
		}
		if math.IsNaN(f) || !math.IsNaN(o.Low) && f < o.Low || !math.IsNaN(o.High) && f > o.High {
			return outOfRange
		}
	}
	return nil
}
