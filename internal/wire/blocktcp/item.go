package blocktcp

import (
	"encoding/binary"
	"errors"
	"fmt"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/blocktcp"
)

// Item is a run of memory in a message: an item of a request has 12 octets,
//
//	12 0A 10, type, count of 16 bits, block of 16 bits, area,
//	8 × byte + bit in 24 bits
type Item struct {
	block.Range
	// Bit is the one bit that is meant, 0 to 7; -1 for whole bytes.
	Bit int
}

// Types of items in a request, and of their data in an answer.
const (
	typeBit  = 0x01
	typeByte = 0x02

	dataBit   = 0x03 // length in bits
	dataBits  = 0x04 // length in bits
	dataInt   = 0x05 // length in bits
	dataReal  = 0x07 // length in octets
	dataOctet = 0x09 // length in octets
)

var areaCodes = map[string]byte{family.Inputs: 0x81, family.Outputs: 0x82, family.Flags: 0x83}

const codeBlock, codeInstance = 0x84, 0x85

func appendItem(dst []byte, it *Item) []byte {
	area, number := areaCodes[it.Area], 0
	if n, is := family.BlockOf(it.Area); is {
		area, number = codeBlock, n
	}
	kind, at := byte(typeByte), 8*it.Start
	if it.Bit >= 0 {
		kind, at = typeBit, at+uint32(it.Bit)
	}
	return append(dst, 0x12, 10, 0x10, kind, byte(it.Count>>8), byte(it.Count), byte(number>>8), byte(number), area,
		byte(at>>16), byte(at>>8), byte(at))
}

func parseItem(b []byte) (it Item, err error) {
	if len(b) < 12 || b[0] != 0x12 || b[1] != 10 || b[2] != 0x10 {
		return it, errors.New("an item that is not addressed by area and byte")
	}
	at := uint32(b[9])<<16 | uint32(b[10])<<8 | uint32(b[11])
	it = Item{Range: block.Range{Start: at / 8, Count: int(binary.BigEndian.Uint16(b[4:]))}, Bit: -1}
	switch b[3] {
	case typeBit:
		it.Bit = int(at % 8)
	case typeByte, 0x03: // a byte or a character
	case 0x04, 0x05: // a word or a whole number
		it.Count *= 2
	case 0x06, 0x07, 0x08: // a double word, a double number or a real
		it.Count *= 4
	default:
		return it, fmt.Errorf("an item of type %02X, which is not known", b[3])
	}
	switch b[8] {
	case 0x81:
		it.Area = family.Inputs
	case 0x82:
		it.Area = family.Outputs
	case 0x83:
		it.Area = family.Flags
	case codeBlock, codeInstance:
		it.Area = family.Block(int(binary.BigEndian.Uint16(b[6:])))
	default:
		return it, fmt.Errorf("an item of area %02X, which is not known", b[8])
	}
	return it, nil
}

// AppendRead appends a request to read items.
func AppendRead(dst []byte, ref uint16, items []Item) []byte {
	at := len(dst)
	dst = append(appendHead(dst, Job, ref, 0, 0), Read, byte(len(items)))
	for i := range items {
		dst = appendItem(dst, &items[i])
	}
	return closeMessage(dst, at, len(dst))
}

// AppendWrite appends a request to write one item: whole bytes, or a bit, which
// is one octet, 0 or 1.
func AppendWrite(dst []byte, ref uint16, it Item, data []byte) []byte {
	at := len(dst)
	dst = appendItem(append(appendHead(dst, Job, ref, 0, 0), Write, 1), &it)
	from := len(dst)
	dst = appendData(dst, 0, &it, data)
	return closeMessage(dst, at, from)
}

// appendData appends the data of an item: a code, its type, its length and its
// octets.
func appendData(dst []byte, code byte, it *Item, data []byte) []byte {
	kind, length := byte(dataBits), 8*len(data)
	if it.Bit >= 0 {
		kind, length = dataBit, len(data)
	}
	return append(append(dst, code, kind, byte(length>>8), byte(length)), data...)
}

// ParseItems reads the items of a request to read or write, and where the data
// of each lie in the message's data.
func ParseItems(m *Message) (items []Item, data [][]byte, err error) {
	if len(m.Params) < 2 || m.Params[0] != Read && m.Params[0] != Write {
		return nil, nil, errors.New("it is no request to read or write")
	}
	count := int(m.Params[1])
	if len(m.Params) != 2+12*count {
		return nil, nil, fmt.Errorf("it says %d items and has %d octets of them", count, len(m.Params)-2)
	}
	for i := range count {
		it, err := parseItem(m.Params[2+12*i:])
		if err != nil {
			return nil, nil, err
		}
		items = append(items, it)
	}
	if m.Params[0] == Read {
		return items, nil, nil
	}
	rest := m.Data
	for i := range items {
		_, octets, after, err := parseData(rest, i+1 < count)
		if err != nil {
			return nil, nil, err
		}
		data, rest = append(data, octets), after
	}
	return items, data, nil
}

// parseData reads one item of data. fill is set where an odd length is filled
// up before what follows.
func parseData(b []byte, fill bool) (code byte, octets, rest []byte, err error) {
	if len(b) < 4 {
		return 0, nil, nil, errors.New("the data of an item are cut short")
	}
	length := int(binary.BigEndian.Uint16(b[2:]))
	switch b[1] {
	case dataBits, dataInt:
		length = (length + 7) / 8
	case dataBit, dataReal, dataOctet, 0: // octets; a bit takes one
	default:
		return 0, nil, nil, fmt.Errorf("data of type %02X, which is not known", b[1])
	}
	if len(b) < 4+length {
		return 0, nil, nil, fmt.Errorf("an item says %d octets and has %d", length, len(b)-4)
	}
	octets, rest = b[4:4+length], b[4+length:]
	if fill && length%2 == 1 && len(rest) > 0 {
		rest = rest[1:]
	}
	return b[0], octets, rest, nil
}

// Given is what a device gives for one item.
type Given struct {
	Code byte // family.Done where there is data
	Data []byte
}

// AppendReadAnswer appends the answer to a request to read.
func AppendReadAnswer(dst []byte, ref uint16, items []Item, given []Given) []byte {
	at := len(dst)
	dst = append(appendHead(dst, AckData, ref, 0, 0), Read, byte(len(items)))
	from := len(dst)
	for i := range items {
		if given[i].Code != family.Done {
			dst = append(dst, given[i].Code, 0, 0, 0)
			continue
		}
		dst = appendData(dst, family.Done, &items[i], given[i].Data)
		if i+1 < len(items) && len(given[i].Data)%2 == 1 {
			dst = append(dst, 0)
		}
	}
	return closeMessage(dst, at, from)
}

// AppendWriteAnswer appends the answer to a request to write.
func AppendWriteAnswer(dst []byte, ref uint16, codes []byte) []byte {
	at := len(dst)
	dst = append(appendHead(dst, AckData, ref, 0, 0), Write, byte(len(codes)))
	from := len(dst)
	return closeMessage(append(dst, codes...), at, from)
}

// ParseRead reads the answer to a request for some items: the octets of all,
// one after the other, appended to dst, and the code of each that was refused.
// An item that was refused has zeros. Nothing is taken of an answer that is not
// just what was asked for.
func ParseRead(dst []byte, m *Message, items []Item, refused []int) ([]byte, []int, error) {
	if m.Kind != AckData || len(m.Params) < 2 || m.Params[0] != Read {
		return dst, nil, errors.New("it is no answer to a read")
	}
	if int(m.Params[1]) != len(items) {
		return dst, nil, fmt.Errorf("it answers %d items, and %d were asked for", m.Params[1], len(items))
	}
	rest, any := m.Data, false
	refused = refused[:0]
	for i := range items {
		code, octets, after, err := parseData(rest, i+1 < len(items))
		if err != nil {
			return dst, nil, fmt.Errorf("item %d: %w", i+1, err)
		}
		want := items[i].Count
		if code != family.Done {
			any = true
			refused = append(refused, int(code))
			dst = append(dst, make([]byte, want)...)
		} else {
			if len(octets) != want {
				return dst, nil, fmt.Errorf("item %d has %d octets, and %d were asked for", i+1, len(octets), want)
			}
			refused = append(refused, 0)
			dst = append(dst, octets...)
		}
		rest = after
	}
	if len(rest) > 1 {
		return dst, nil, fmt.Errorf("%d octets more came than were asked for", len(rest))
	}
	if !any {
		refused = nil
	}
	return dst, refused, nil
}

// ParseWrite reads the answer to a request to write one item, and returns its
// code.
func ParseWrite(m *Message) (code byte, err error) {
	if m.Kind != AckData || len(m.Params) < 2 || m.Params[0] != Write || m.Params[1] != 1 || len(m.Data) != 1 {
		return 0, errors.New("it is no answer to a write of one item")
	}
	return m.Data[0], nil
}
