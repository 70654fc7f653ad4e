package enip

import (
	"ferry/internal/bench"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/enip"
)

// object reads or writes attributes.
func (t *talk) object(r *wire.Request, a *wire.Answer, fault bench.Fault) {
	if r.Path.Class == wire.ClassIdentity && r.Path.Instance == 1 {
		id := t.identity(fault)
		a.Status, a.Data = wire.AnswerWho(r, &id)
		return
	}
	data, writable, there, known := t.attribute(&r.Path)
	switch {
	case !there:
		a.Status = 0x16
	case !known:
		a.Status = 0x14
	case r.Service == wire.GetSingle:
		a.Data = data
	case r.Service != wire.SetSingle:
		a.Status = 0x08
	case fault.Kind == "setup":
		a.Status = 0x10
	case !writable:
		a.Status = 0x0E
	case len(r.Data) < len(data):
		a.Status = 0x13
	case len(r.Data) > len(data):
		a.Status = 0x15
	default:
		t.set(&r.Path, r.Data)
	}
}

// attribute puts the values of an attribute together.
func (t *talk) attribute(p *wire.Path) (data []byte, writable, there, known bool) {
	if t.adapter != nil && p.Class == wire.ClassAssembly {
		data, there = t.adapter.assembly(p.Instance)
		if p.Attribute == 4 {
			data = []byte{byte(len(data)), byte(len(data) >> 8)}
		}
		return data, false, there, there && (p.Attribute == 3 || p.Attribute == 4)
	}
	for _, h := range t.device.Memory.Held() {
		at, ok := family.AttributeOf(h.Address)
		if !ok || at.Class != p.Class || at.Instance != p.Instance {
			continue
		}
		there = true
		if at.Number != p.Attribute {
			continue
		}
		known, writable = true, writable || h.Writable
		v, _ := t.device.Memory.Value(h.Address)
		octets := []byte{0}
		if at.Bit < 0 {
			octets, _ = family.KindOf(h.Shape.Type).Append(nil, v)
		} else if v.Bool() {
			octets[0] = 1 << at.Bit
		}
		if need := at.Octet + len(octets); len(data) < need {
			data = append(data, make([]byte, need-len(data))...)
		}
		for i, o := range octets {
			data[at.Octet+i] |= o
		}
	}
	return data, writable, there, known
}

// set takes an attribute apart into its values.
func (t *talk) set(p *wire.Path, data []byte) {
	for _, h := range t.device.Memory.Held() {
		at, ok := family.AttributeOf(h.Address)
		if !ok || at.Class != p.Class || at.Instance != p.Instance || at.Number != p.Attribute || !h.Writable {
			continue
		}
		if at.Bit >= 0 {
			t.device.Memory.Set(h.Address, value.OfBool(data[at.Octet]&(1<<at.Bit) != 0))
		} else if v, _, err := family.KindOf(h.Shape.Type).Decode(data[at.Octet:]); err == nil {
			t.device.Memory.Set(h.Address, v)
		}
	}
}
