package dnp3

import (
	"encoding/binary"
	"fmt"
	"math"
)

// AppendObjects puts objects of one group and variation behind others, in a header with a
// qualifier: of a range they follow each other from the first one's index on; with an index before
// each they are in any order. It fails where an object does not fit what the header says.
func AppendObjects(b []byte, qualifier byte, list []Object) ([]byte, error) {
	if len(list) == 0 {
		return b, nil
	}
	h := Header{Group: list[0].Group, Variation: list[0].Variation, Qualifier: qualifier, Count: uint32(len(list))}
	s, known := specOf(h.Group, h.Variation)
	if !known {
		return nil, fmt.Errorf("object %d.%d is not known", h.Group, h.Variation)
	}
	code, prefix := qualifier&0x0F, [8]int{0, 1, 2, 4}[qualifier>>4&7]
	if code <= FromTo32 {
		h.Start = list[0].Index
	}
	for i := range list {
		o := &list[i]
		switch {
		case o.Group != h.Group || o.Variation != h.Variation:
			return nil, fmt.Errorf("object %d.%d is not of kind %d.%d", o.Group, o.Variation, h.Group, h.Variation)
		case code <= FromTo32 && o.Index != h.Start+uint32(i):
			return nil, fmt.Errorf("object %d does not follow %d", o.Index, h.Start+uint32(i)-1)
		case code <= FromTo32 && bitsOf(1<<code) < o.Index, prefix > 0 && bitsOf(prefix) < o.Index:
			return nil, fmt.Errorf("index %d does not fit into the header", o.Index)
		}
	}
	b = h.Append(b)
	if s.kind == bits1 || s.kind == bits2 {
		return appendPacked(b, s.kind, list), nil
	}
	for i := range list {
		for k := range prefix {
			b = append(b, byte(list[i].Index>>(8*k)))
		}
		b = list[i].append(b, s)
	}
	return b, nil
}

// bitsOf is the greatest number that so many octets hold.
func bitsOf(octets int) uint32 { return uint32(1<<(8*octets) - 1) }

func appendPacked(b []byte, k kind, list []Object) []byte {
	width := 1
	if k == bits2 {
		width = 2
	}
	at := len(b)
	b = append(b, make([]byte, (len(list)*width+7)/8)...)
	for i := range list {
		b[at+i*width/8] |= byte(list[i].Value.Uint()) & (1<<width - 1) << (i * width % 8)
	}
	return b
}

// append puts the octets of an object behind others.
func (o *Object) append(b []byte, s spec) []byte {
	if s.flags {
		flags := o.Flags
		switch s.kind {
		case state1:
			flags = flags&^stateBit | byte(o.Value.Uint())<<7
		case state2:
			flags = flags&^0xC0 | byte(o.Value.Uint())<<6
		}
		b = append(b, flags)
	}
	switch s.kind {
	case u16, i16:
		b = binary.LittleEndian.AppendUint16(b, uint16(o.Value.Int()))
	case u32, i32:
		b = binary.LittleEndian.AppendUint32(b, uint32(o.Value.Int()))
	case f32:
		b = binary.LittleEndian.AppendUint32(b, math.Float32bits(float32(o.Value.Float())))
	case f64:
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(o.Value.Float()))
	case control:
		b = append(b, o.Control.Code, o.Control.Count)
		b = binary.LittleEndian.AppendUint32(b, o.Control.On)
		b = binary.LittleEndian.AppendUint32(b, o.Control.Off)
	case octets:
		text := make([]byte, o.Variation)
		copy(text, o.Value.Text())
		b = append(b, text...)
	}
	switch s.time {
	case absolute:
		b = AppendTime(b, o.At)
	case relative:
		b = binary.LittleEndian.AppendUint16(b, o.Behind)
	}
	if s.status {
		b = append(b, o.Status)
	}
	return b
}
