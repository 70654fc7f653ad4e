package dnp3

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Fragment is a message of the application layer (clause 4.2): Control in 1 octet, Function in 1,
// in answers the Indications in 2, and objects.
type Fragment struct {
	Control     byte
	Function    Function
	Indications Indications // of answers
	Objects     []byte
}

// Bits of Control: the first and the last fragment of a message, that it is to be confirmed, and
// that nobody asked for it; the rest is its number.
const (
	First       = 0x80
	Last        = 0x40
	Confirm     = 0x20
	Unsolicited = 0x10
	NumberMask  = 0x0F
)

// Function is what a fragment is for (clause 4.4.1).
type Function byte

// What fragments are for.
const (
	FnConfirm         Function = 0
	FnRead            Function = 1
	FnWrite           Function = 2
	FnSelect          Function = 3
	FnOperate         Function = 4
	FnDirect          Function = 5
	FnDirectNoAck     Function = 6
	FnFreeze          Function = 7
	FnFreezeNoAck     Function = 8
	FnFreezeClear     Function = 9
	FnColdRestart     Function = 13
	FnWarmRestart     Function = 14
	FnEnable          Function = 20
	FnDisable         Function = 21
	FnAssignClass     Function = 22
	FnDelay           Function = 23
	FnRecordTime      Function = 24
	FnResponse        Function = 129
	FnUnsolicited     Function = 130
	leastOfAnswers             = 129
	octetsOfAsking             = 2
	octetsOfAnswering          = 4
)

// Answers reports whether a function is that of an answer.
func (f Function) Answers() bool { return f >= leastOfAnswers }

// Indications are what an outstation says of itself with each answer (clause 4.5), the first octet
// in the lower eight bits.
type Indications uint16

// Internal indications.
const (
	Broadcast      Indications = 1 << 0
	Class1         Indications = 1 << 1
	Class2         Indications = 1 << 2
	Class3         Indications = 1 << 3
	NeedTime       Indications = 1 << 4
	LocalControl   Indications = 1 << 5
	Trouble        Indications = 1 << 6
	Restarted      Indications = 1 << 7
	NoFunction     Indications = 1 << 8
	ObjectUnknown  Indications = 1 << 9
	ParameterError Indications = 1 << 10
	EventOverflow  Indications = 1 << 11
	AlreadyDoing   Indications = 1 << 12
	ConfigCorrupt  Indications = 1 << 13
)

// Append puts the octets of a fragment behind others.
func (f *Fragment) Append(b []byte) []byte {
	b = append(b, f.Control, byte(f.Function))
	if f.Function.Answers() {
		b = binary.LittleEndian.AppendUint16(b, uint16(f.Indications))
	}
	return append(b, f.Objects...)
}

// ReadFragment reads a fragment; its objects are part of b.
func ReadFragment(b []byte) (f Fragment, err error) {
	if len(b) < octetsOfAsking {
		return f, errors.New("the fragment is shorter than its header")
	}
	f.Control, f.Function, b = b[0], Function(b[1]), b[octetsOfAsking:]
	if f.Function.Answers() {
		if len(b) < octetsOfAnswering-octetsOfAsking {
			return f, errors.New("the answer ends before its indications")
		}
		f.Indications, b = Indications(binary.LittleEndian.Uint16(b)), b[2:]
	}
	f.Objects = b
	return f, nil
}

// Header is what stands before objects of one kind (clause 4.2.2.7): their group and variation in 1
// octet each, a qualifier in 1, and the range that the qualifier says.
type Header struct {
	Group, Variation byte
	Qualifier        byte
	// Start and Count say which: of ranges the first index and how many; of counts how many. All
	// is set where all of them are meant.
	Start uint32
	Count uint32
	All   bool
}

// Qualifiers: the prefix of each object in the upper four bits, how the range is said in the lower.
const (
	FromTo8  = 0x00 // first and last index in 1 octet each
	FromTo16 = 0x01 // in 2
	FromTo32 = 0x02
	AllOf    = 0x06
	Count8   = 0x07
	Count16  = 0x08
	Count32  = 0x09
	Index8   = 0x17 // a count in 1 octet, and an index in 1 before each
	Index16  = 0x28 // in 2
	Sized16  = 0x5B // a count in 1, and the size in 2 octets before each
)

// mostObjects bounds a range, whatever it says.
const mostObjects = 1 << 20

// ReadHeader reads a header, and returns what is behind it.
func ReadHeader(b []byte) (h Header, rest []byte, err error) {
	if len(b) < 3 {
		return h, nil, fmt.Errorf("an object header ends after %d octets", len(b))
	}
	h.Group, h.Variation, h.Qualifier, b = b[0], b[1], b[2], b[3:]
	number := func(octets int) (n uint32) {
		if len(b) < octets {
			err = fmt.Errorf("the range of object %d.%d is cut short", h.Group, h.Variation)
			return 0
		}
		for i := range octets {
			n |= uint32(b[i]) << (8 * i)
		}
		b = b[octets:]
		return n
	}
	switch code := h.Qualifier & 0x0F; code {
	case FromTo8, FromTo16, FromTo32:
		octets := 1 << code
		first := number(octets)
		last := number(octets)
		if err == nil && (last < first || last-first >= mostObjects) {
			err = fmt.Errorf("object %d.%d is said to go from %d to %d", h.Group, h.Variation, first, last)
		}
		h.Start, h.Count = first, last-first+1
	case AllOf:
		h.All = true
	case Count8, Count16, Count32:
		h.Count = number(1 << (code - Count8))
	case 0x0B:
		h.Count = number(1)
	default:
		err = fmt.Errorf("object %d.%d has qualifier 0x%02X, which is not known", h.Group, h.Variation, h.Qualifier)
	}
	if err == nil && h.Count > mostObjects {
		err = fmt.Errorf("object %d.%d is said to come %d times", h.Group, h.Variation, h.Count)
	}
	return h, b, err
}

// Append puts the octets of a header behind others.
func (h *Header) Append(b []byte) []byte {
	b = append(b, h.Group, h.Variation, h.Qualifier)
	number := func(n uint32, octets int) {
		for i := range octets {
			b = append(b, byte(n>>(8*i)))
		}
	}
	switch code := h.Qualifier & 0x0F; code {
	case FromTo8, FromTo16, FromTo32:
		number(h.Start, 1<<code)
		number(h.Start+h.Count-1, 1<<code)
	case Count8, Count16, Count32:
		number(h.Count, 1<<(code-Count8))
	case 0x0B:
		number(h.Count, 1)
	}
	return b
}
