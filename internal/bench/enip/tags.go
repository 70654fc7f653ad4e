package enip

import (
	"encoding/binary"
	"errors"
	"slices"
	"strings"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	family "ferry/internal/core/family/enip"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/enip"
)

// tag reads or writes a tag.
func (t *talk) tag(r *wire.Request, a *wire.Answer, fault bench.Fault) {
	at := address.Named(family.Tags, r.Path.String())
	held, known := t.held(at)
	v, ok := t.device.Memory.Value(at)
	if !known || !ok || fault.Kind == "renamed" {
		a.Status = 0x04
		return
	}
	kind := family.KindOf(held.Shape.Type)
	if fault.Kind == "retyped" {
		kind = map[family.Kind]family.Kind{family.REAL: family.DINT, family.DINT: family.REAL}[kind]
		if kind == 0 {
			kind = family.LREAL
		}
		v = value.OfFloat(v.Float())
		if kind == family.DINT {
			v = value.OfInt(int64(v.Float()))
		}
	}
	le := binary.LittleEndian
	switch r.Service {
	case wire.ReadTag, wire.ReadPart:
		values, err := kind.Append(nil, v)
		if err == nil && len(r.Data) >= 2 {
			values, err = t.elements(r, kind, values, int(le.Uint16(r.Data)))
		}
		if err != nil {
			a.Status, a.Extended = 0xFF, []uint16{0x2105} // beyond the end
			return
		}
		from := 0
		if r.Service == wire.ReadPart && len(r.Data) >= 6 {
			from = min(int(le.Uint32(r.Data[2:])), len(values))
		}
		if values = values[from:]; len(values) > mostOfTag {
			values, a.Status = values[:mostOfTag], 0x06
		}
		a.Data = append(le.AppendUint16(nil, uint16(kind)), values...)
	case wire.WriteTag:
		switch {
		case len(r.Data) < 4:
			a.Status = 0x13
		case fault.Kind == "setup":
			a.Status = 0x10
		case family.Kind(le.Uint16(r.Data)) != kind:
			a.Status, a.Extended = 0xFF, []uint16{0x2107}
		default:
			v, _, err := kind.Decode(r.Data[4:])
			if err != nil {
				a.Status = 0x13
			} else if !held.Writable || !t.device.Memory.Set(at, v) {
				a.Status = 0x0F
			}
		}
	case wire.ModifyTag:
		t.modify(r, a, at, kind, &held, v, fault)
	default:
		a.Status = 0x08
	}
}

// modify sets and resets bits of a tag by two masks, each as wide as it.
func (t *talk) modify(r *wire.Request, a *wire.Answer, at address.Address, kind family.Kind, held *protocol.Held,
	v value.Value, fault bench.Fault) {
	width := kind.Octets()
	octets, err := kind.Append(nil, v)
	switch {
	case fault.Kind == "setup":
		a.Status = 0x10
	case len(r.Data) != 2+2*width || int(binary.LittleEndian.Uint16(r.Data)) != width || err != nil ||
		kind == family.REAL || kind == family.LREAL:
		a.Status = 0x03
	case !held.Writable:
		a.Status = 0x0F
	default:
		for i := range octets {
			octets[i] = (octets[i] | r.Data[2+i]) & r.Data[2+width+i]
		}
		if v, _, err := kind.Decode(octets); err != nil || !t.device.Memory.Set(at, v) {
			a.Status = 0x0F
		}
	}
}

// mostOfTag is how many octets of a tag fit into an answer, in whole values.
const mostOfTag = 240

// elements appends those of an array that follow the one that is named.
func (t *talk) elements(r *wire.Request, kind family.Kind, values []byte, count int) ([]byte, error) {
	p := r.Path
	p.Names = slices.Clone(p.Names)
	last := &p.Names[len(p.Names)-1]
	for i := 1; i < count; i++ {
		if len(last.Indexes) != 1 {
			return nil, errors.New("it is no array")
		}
		next := *last
		next.Indexes = []uint32{last.Indexes[0] + uint32(i)}
		name := wire.Path{Names: append(slices.Clone(p.Names[:len(p.Names)-1]), next), Class: -1, Instance: -1, Attribute: -1}
		v, ok := t.device.Memory.Value(address.Named(family.Tags, name.String()))
		if !ok {
			return nil, errors.New("it has fewer elements")
		}
		var err error
		if values, err = kind.Append(values, v); err != nil {
			return nil, err
		}
	}
	return values, nil
}

func (t *talk) held(at address.Address) (protocol.Held, bool) {
	for _, h := range t.device.Memory.Held() {
		if h.Address == at {
			return h, true
		}
	}
	return protocol.Held{}, false
}

// tagsAtOnce is how many tags one answer of the list holds.
const tagsAtOnce = 12

// structured and arrayed are what the type of a tag has beside its code.
const (
	structured = 0x8000
	arrayed    = 0x2000
)

// tags lists tags from an instance on: number, name, type.
func (t *talk) tags(r *wire.Request, a *wire.Answer) {
	type entry struct {
		name string
		kind uint16
	}
	var list []entry
	for _, h := range t.device.Memory.Held() {
		name, ok := family.TagOf(h.Address)
		if !ok {
			continue
		}
		kind := uint16(family.KindOf(h.Shape.Type))
		base, rest, parted := strings.Cut(name, ".")
		word, _, indexed := strings.Cut(base, "[")
		switch {
		case parted && rest != "":
			kind = structured | 0x123
		case indexed:
			kind |= arrayed
		}
		if indexed && parted {
			kind |= arrayed
		}
		if !slices.ContainsFunc(list, func(e entry) bool { return e.name == word }) {
			list = append(list, entry{word, kind})
		}
	}
	from := max(0, r.Path.Instance)
	le := binary.LittleEndian
	for i := max(from, 1); i <= len(list); i++ {
		if i >= from+tagsAtOnce {
			a.Status = 0x06 // there are more
			break
		}
		e := list[i-1]
		a.Data = le.AppendUint32(a.Data, uint32(i))
		a.Data = le.AppendUint16(a.Data, uint16(len(e.name)))
		a.Data = append(a.Data, e.name...)
		a.Data = le.AppendUint16(a.Data, e.kind)
	}
}
