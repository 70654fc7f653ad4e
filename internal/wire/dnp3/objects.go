package dnp3

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"time"

	"ferry/internal/core/value"
)

// Object is one object of a fragment (annex A).
type Object struct {
	Group, Variation byte
	Index            uint32
	// Flags are those of the object, where Flagged is set; without the bits that are its state.
	Flags   byte
	Flagged bool
	// Value is its value, none for one that has none; of a command Status is what became of it,
	// and Control how it is done.
	Value   value.Value
	Status  byte
	Control Control
	// At is its time, zero for none; Behind by how many milliseconds it is behind one that was told
	// before it, of those that tell it so.
	At     time.Time
	Behind uint16
	// Unset is set where the clock that the time is of was not set.
	Unset bool
	// From and To are the octets that it stands in, among those of all objects; To exclusive. The
	// index before it is not among them.
	From, To int
}

// Flags of objects (annex A, clause 11.2.1 and following); the upper ones mean something by the
// kind of object.
const (
	Online       = 0x01
	Began        = 0x02 // the device was restarted since it was set
	CommLost     = 0x04
	ForcedThere  = 0x08
	ForcedHere   = 0x10
	Chatters     = 0x20 // of binary inputs
	OverRange    = 0x20 // of analogue ones
	RolledOver   = 0x20 // of counters
	Reference    = 0x40 // of analogue ones: its measure is wrong
	Discontinues = 0x40 // of counters
	stateBit     = 0x80
)

// Control is how a binary output is operated: 12.1 (annex A, clause 11.8.1).
type Control struct {
	Code, Count byte
	On, Off     uint32 // in milliseconds
}

// kind is what stands in an object.
type kind byte

const (
	nothing kind = iota
	bits1        // packed, one bit each
	bits2        // packed, two bits each
	state1       // in the upper bit of the flags
	state2       // in the two upper bits of the flags
	u16
	u32
	i16
	i32
	f32
	f64
	control
	octets // as many as the variation says
)

// widths are how many octets a kind has.
var widths = [...]int{u16: 2, u32: 4, i16: 2, i32: 4, f32: 4, f64: 8, control: 10, octets: 0}

// timing is which time stands behind the value.
type timing byte

const (
	untimed timing = iota
	absolute
	relative // to the time of the group 51 before it
)

// spec is how an object is laid out: its flags in 1 octet, its value, its time in 6 or 2 octets,
// and of commands a status in 1.
type spec struct {
	flags  bool
	kind   kind
	time   timing
	status bool
}

// size is how many octets an object has, 0 for one that is packed.
func (s spec) size(variation byte) int {
	if s.kind == bits1 || s.kind == bits2 {
		return 0
	}
	n := 0
	if s.kind == octets {
		n = int(variation)
	} else if int(s.kind) < len(widths) {
		n = widths[s.kind]
	}
	if s.flags {
		n++
	}
	if s.status {
		n++
	}
	return n + map[timing]int{absolute: 6, relative: 2}[s.time]
}

// measured are the variations of analogue events and of what was written; counted those of counter
// events.
var (
	measured = map[byte]spec{1: {flags: true, kind: i32}, 2: {flags: true, kind: i16},
		3: {flags: true, kind: i32, time: absolute}, 4: {flags: true, kind: i16, time: absolute},
		5: {flags: true, kind: f32}, 6: {flags: true, kind: f64}, 7: {flags: true, kind: f32, time: absolute},
		8: {flags: true, kind: f64, time: absolute}}
	counted = map[byte]spec{1: {flags: true, kind: u32}, 2: {flags: true, kind: u16},
		5: {flags: true, kind: u32, time: absolute}, 6: {flags: true, kind: u16, time: absolute}}
)

// specs are the objects by group and variation (annex A).
var specs = map[byte]map[byte]spec{
	1: {1: {kind: bits1}, 2: {flags: true, kind: state1}},
	2: {1: {flags: true, kind: state1}, 2: {flags: true, kind: state1, time: absolute},
		3: {flags: true, kind: state1, time: relative}},
	3: {1: {kind: bits2}, 2: {flags: true, kind: state2}},
	4: {1: {flags: true, kind: state2}, 2: {flags: true, kind: state2, time: absolute},
		3: {flags: true, kind: state2, time: relative}},
	10: {1: {kind: bits1}, 2: {flags: true, kind: state1}},
	11: {1: {flags: true, kind: state1}, 2: {flags: true, kind: state1, time: absolute}},
	12: {1: {kind: control, status: true}},
	20: {1: {flags: true, kind: u32}, 2: {flags: true, kind: u16}, 5: {kind: u32}, 6: {kind: u16}},
	21: {1: {flags: true, kind: u32}, 2: {flags: true, kind: u16}, 5: {flags: true, kind: u32, time: absolute},
		6: {flags: true, kind: u16, time: absolute}, 9: {kind: u32}, 10: {kind: u16}},
	22: counted, 23: counted,
	30: {1: {flags: true, kind: i32}, 2: {flags: true, kind: i16}, 3: {kind: i32}, 4: {kind: i16},
		5: {flags: true, kind: f32},
		6: {flags: true, kind: f64}},
	32: measured,
	40: {1: {flags: true, kind: i32}, 2: {flags: true, kind: i16}, 3: {flags: true, kind: f32},
		4: {flags: true, kind: f64}},
	41: {1: {kind: i32, status: true}, 2: {kind: i16, status: true}, 3: {kind: f32, status: true},
		4: {kind: f64, status: true}},
	42: measured,
	50: {1: {time: absolute}, 3: {time: absolute}}, 51: {1: {time: absolute}, 2: {time: absolute}},
	52: {1: {kind: u16}, 2: {kind: u16}},
	80: {1: {kind: bits1}},
}

// specOf is the layout of an object; strings have their length as variation.
func specOf(group, variation byte) (spec, bool) {
	if group == 110 || group == 111 {
		return spec{kind: octets}, variation > 0
	}
	s, ok := specs[group][variation]
	return s, ok
}

// Objects reads the objects of an answer in their order. Times of group 51 count for those behind
// that tell theirs by it. It fails where the octets are not what their headers say, and tells those
// before that all the same.
func Objects(b []byte, each func(Object)) error {
	common, all := Object{}, len(b)
	for len(b) > 0 {
		n, err := run(b, all-len(b), &common, each)
		if err != nil {
			return err
		}
		b = b[n:]
	}
	return nil
}

// behind reads the objects of the first header alone, and returns how many octets both have.
func behind(b []byte, each func(Object)) (int, error) { return run(b, 0, &Object{}, each) }

// run reads a header and its objects, at such an octet of all; it returns how many octets they have.
func run(b []byte, at int, common *Object, each func(Object)) (int, error) {
	h, rest, err := ReadHeader(b)
	if err != nil {
		return 0, err
	}
	if h.Group == 0 {
		return attributes(h, rest, at+len(b)-len(rest), len(b), each)
	}
	s, known := specOf(h.Group, h.Variation)
	if !known {
		return 0, fmt.Errorf("object %d.%d is not known: what is behind it cannot be read", h.Group, h.Variation)
	}
	if h.All {
		return 0, fmt.Errorf("an answer holds object %d.%d without saying how many", h.Group, h.Variation)
	}
	at += len(b) - len(rest)
	if s.kind == bits1 || s.kind == bits2 {
		rest, err = packed(h, s.kind, rest, at, each)
	} else {
		rest, err = listed(h, s, rest, at, common, each)
	}
	return len(b) - len(rest), err
}

// Attributes of a device, as variations of group 0 (clause 11.9.1).
const (
	AttrSoftware     = 242
	AttrProduct      = 250
	AttrManufacturer = 252
)

// attributes reads attributes of the device: each is the code of its type and its length in 1 octet
// each, then so many octets. Texts, which have code 1, are told; all is how many octets there were
// with the header.
func attributes(h Header, b []byte, at, all int, each func(Object)) (int, error) {
	if h.All || h.Qualifier&0xF0 != 0 {
		return 0, fmt.Errorf("attribute %d comes without its range", h.Variation)
	}
	for i := range h.Count {
		if len(b) < 2 || len(b) < 2+int(b[1]) {
			return 0, fmt.Errorf("attribute %d is cut short", h.Variation)
		}
		n := 2 + int(b[1])
		o := Object{Group: 0, Variation: h.Variation, Index: h.Start + i, From: at, To: at + n}
		if b[0] == 1 {
			o.Value = value.OfText(textOf(b[2:n]))
		}
		each(o)
		b, at = b[n:], at+n
	}
	return all - len(b), nil
}

// packed reads states that stand one behind the other in octets from one on, the first in the lowest
// bits.
func packed(h Header, k kind, b []byte, from int, each func(Object)) ([]byte, error) {
	width := 1
	if k == bits2 {
		width = 2
	}
	n := (int(h.Count)*width + 7) / 8
	if h.Qualifier&0xF0 != 0 || n > len(b) {
		return nil, fmt.Errorf("%d states of object %d.%d do not stand in %d octets", h.Count, h.Group, h.Variation, len(b))
	}
	for i := range h.Count {
		at := int(i) * width
		is := b[at/8] >> (at % 8)
		o := Object{Group: h.Group, Variation: h.Variation, Index: h.Start + i, Value: value.OfBool(is&1 != 0),
			From: from + at/8, To: from + at/8 + 1}
		if k == bits2 {
			o.Value = value.OfUint(uint64(is & 3))
		}
		each(o)
	}
	return b[n:], nil
}

// listed reads objects of whole octets from one on, each with its index before it where the header
// says so. common is the object that holds the time that others tell theirs by.
func listed(h Header, s spec, b []byte, from int, common *Object, each func(Object)) ([]byte, error) {
	prefix := [8]int{0, 1, 2, 4}[h.Qualifier>>4&7]
	if h.Qualifier>>4 > 3 {
		return nil, fmt.Errorf("object %d.%d comes with its sizes, and has one size", h.Group, h.Variation)
	}
	size := s.size(h.Variation)
	if need := uint64(h.Count) * uint64(prefix+size); need > uint64(len(b)) {
		return nil, fmt.Errorf("%d of object %d.%d need %d octets, and there are %d", h.Count, h.Group, h.Variation,
			need, len(b))
	}
	for i := range h.Count {
		o := Object{Group: h.Group, Variation: h.Variation, Index: h.Start + i}
		if prefix > 0 {
			o.Index = 0
			for k := range prefix {
				o.Index |= uint32(b[k]) << (8 * k)
			}
		}
		o.From, o.To = from+prefix, from+prefix+size
		o.read(s, b[prefix:prefix+size], common)
		if h.Group == 51 {
			*common = o
			common.Unset = h.Variation == 2
		}
		each(o)
		b, from = b[prefix+size:], from+prefix+size
	}
	return b, nil
}

// read reads an object out of its octets.
func (o *Object) read(s spec, b []byte, common *Object) {
	if s.flags {
		o.Flags, o.Flagged, b = b[0], true, b[1:]
	}
	switch s.kind {
	case state1:
		o.Value, o.Flags = value.OfBool(o.Flags&stateBit != 0), o.Flags&^stateBit
	case state2:
		o.Value, o.Flags = value.OfUint(uint64(o.Flags>>6)), o.Flags&^0xC0
	case u16:
		o.Value, b = value.OfUint(uint64(binary.LittleEndian.Uint16(b))), b[2:]
	case u32:
		o.Value, b = value.OfUint(uint64(binary.LittleEndian.Uint32(b))), b[4:]
	case i16:
		o.Value, b = value.OfInt(int64(int16(binary.LittleEndian.Uint16(b)))), b[2:]
	case i32:
		o.Value, b = value.OfInt(int64(int32(binary.LittleEndian.Uint32(b)))), b[4:]
	case f32:
		o.Value, b = value.OfFloat(float64(math.Float32frombits(binary.LittleEndian.Uint32(b)))), b[4:]
	case f64:
		o.Value, b = value.OfFloat(math.Float64frombits(binary.LittleEndian.Uint64(b))), b[8:]
	case control:
		o.Control = Control{b[0], b[1], binary.LittleEndian.Uint32(b[2:]), binary.LittleEndian.Uint32(b[6:])}
		b = b[10:]
	case octets:
		o.Value, b = value.OfText(textOf(b)), nil
	}
	switch s.time {
	case absolute:
		o.At = TimeOf(b)
	case relative:
		if o.Behind = binary.LittleEndian.Uint16(b); !common.At.IsZero() {
			o.At, o.Unset = common.At.Add(time.Duration(o.Behind)*time.Millisecond), common.Unset
		}
	}
	if s.status {
		o.Status = b[0]
	}
}

// textOf is a text without the zeros that fill it up; octets that are no text are shown as such.
func textOf(b []byte) string {
	return strings.ToValidUTF8(strings.TrimRight(string(b), "\x00"), "\uFFFD")
}

// TimeOf is a time of six octets: milliseconds since 1970.
func TimeOf(b []byte) time.Time {
	ms := int64(binary.LittleEndian.Uint32(b)) | int64(binary.LittleEndian.Uint16(b[4:]))<<32
	return time.UnixMilli(ms).UTC()
}

// AppendTime puts a time behind other octets.
func AppendTime(b []byte, at time.Time) []byte {
	ms := at.UnixMilli()
	b = binary.LittleEndian.AppendUint32(b, uint32(ms))
	return binary.LittleEndian.AppendUint16(b, uint16(ms>>32))
}
