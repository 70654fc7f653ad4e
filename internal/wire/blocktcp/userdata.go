package blocktcp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"strings"
)

// Questions about the device itself: parameters 00 01 12, how many more octets
// follow, 11 for a question and 12 for an answer or its continuation, kind and
// group, function, sequence.
const (
	groupBlocks = 3
	groupLists  = 4

	listOfKind = 2 // of groupBlocks
	readList   = 1 // of groupLists
)

// identityList is the list of texts by which a device describes itself, 1 the
// name of the station, 2 that of the module, 5 its number, 7 its type; asked for
// by the entry.
const identityList = 0x011C

// Entries of the identity.
const (
	IdentityName = 2
	IdentityType = 7
)

// AppendIdentify appends the question for one entry of the identity.
func AppendIdentify(dst []byte, ref uint16, entry int) []byte {
	return appendQuestion(dst, ref, groupLists, readList,
		[]byte{identityList >> 8, identityList & 0xFF, 0, byte(entry)})
}

// AppendBlocks appends the question for the numbers of the data blocks.
func AppendBlocks(dst []byte, ref uint16) []byte {
	return appendQuestion(dst, ref, groupBlocks, listOfKind, []byte("0A"))
}

func appendQuestion(dst []byte, ref uint16, group, function byte, data []byte) []byte {
	at := len(dst)
	dst = append(appendHead(dst, UserData, ref, 0, 0), 0, 1, 0x12, 4, 0x11, 0x40|group, function, 0)
	from := len(dst)
	dst = append(dst, 0xFF, dataOctet, byte(len(data)>>8), byte(len(data)))
	return closeMessage(append(dst, data...), at, from)
}

// AppendMore appends the question for the rest of an answer.
func AppendMore(dst []byte, ref uint16, p *Part) []byte {
	at := len(dst)
	dst = append(appendHead(dst, UserData, ref, 0, 0), 0, 1, 0x12, 8, 0x12, 0x40|p.Group, p.Function, p.Sequence, 0, 0,
		0, 0)
	from := len(dst)
	return closeMessage(append(dst, 0x0A, 0, 0, 0), at, from)
}

// Part is a question about the device, an answer to one, or a part of it.
type Part struct {
	Group, Function, Sequence byte
	Asks                      bool
	More                      bool   // the rest has to be asked for
	Error                     uint16 // 0 for none
	Data                      []byte
}

// ParsePart reads a message about the device.
func ParsePart(m *Message) (p Part, err error) {
	if m.Kind != UserData || len(m.Params) < 8 || !bytes.Equal(m.Params[:3], []byte{0, 1, 0x12}) {
		return p, errors.New("it is no message about the device")
	}
	p = Part{Group: m.Params[5] & 0x0F, Function: m.Params[6], Sequence: m.Params[7], Asks: m.Params[4] == 0x11}
	if len(m.Params) >= 12 {
		p.More, p.Error = m.Params[9] != 0, binary.BigEndian.Uint16(m.Params[10:])
	}
	if len(m.Data) < 4 {
		return p, errors.New("the data of a message about the device are cut short")
	}
	n := int(binary.BigEndian.Uint16(m.Data[2:]))
	if n > len(m.Data)-4 {
		return p, errors.New("a message about the device says more octets than it has")
	}
	if p.Data = m.Data[4 : 4+n]; m.Data[0] != 0xFF && p.Error == 0 && !p.Asks {
		p.Error = uint16(m.Data[0])
	}
	return p, nil
}

// AppendPartAnswer appends the answer to a question about the device.
func AppendPartAnswer(dst []byte, ref uint16, asked *Part, refused uint16, data []byte) []byte {
	at := len(dst)
	dst = append(appendHead(dst, UserData, ref, 0, 0), 0, 1, 0x12, 8, 0x12, 0x80|asked.Group, asked.Function, 1, 0, 0,
		byte(refused>>8), byte(refused))
	from := len(dst)
	if refused != 0 {
		return closeMessage(append(dst, 0x0A, 0, 0, 0), at, from)
	}
	dst = append(dst, 0xFF, dataOctet, byte(len(data)>>8), byte(len(data)))
	return closeMessage(append(dst, data...), at, from)
}

// AsksIdentity reports which entry of the identity is asked for.
func (p *Part) AsksIdentity() (entry int, ok bool) {
	if p.Group != groupLists || p.Function != readList || len(p.Data) != 4 ||
		binary.BigEndian.Uint16(p.Data) != identityList {
		return 0, false
	}
	return int(binary.BigEndian.Uint16(p.Data[2:])), true
}

// AsksBlocks reports whether the numbers of the data blocks are asked for.
func (p *Part) AsksBlocks() bool {
	return p.Group == groupBlocks && p.Function == listOfKind && string(p.Data) == "0A"
}

// IdentityData is the answer to a question for an entry of the identity.
func IdentityData(entry int, text string) []byte {
	data := []byte{identityList >> 8, identityList & 0xFF, 0, byte(entry), 0, 34, 0, 1, 0, byte(entry)}
	return append(append(data, text[:min(len(text), 32)]...), make([]byte, 32-min(len(text), 32))...)
}

// ParseIdentity reads it.
func ParseIdentity(data []byte) (text string, ok bool) {
	if len(data) < 10 || binary.BigEndian.Uint16(data) != identityList {
		return "", false
	}
	size, count := int(binary.BigEndian.Uint16(data[4:])), int(binary.BigEndian.Uint16(data[6:]))
	if count < 1 || size < 3 || len(data) < 8+size {
		return "", false
	}
	raw, _, _ := bytes.Cut(data[10:8+size], []byte{0})
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return -1
		}
		return r
	}, string(raw))
	return strings.TrimSpace(text), strings.TrimSpace(text) != ""
}

// BlocksData is the answer to a question for the numbers of the data blocks:
// four octets each, the number first.
func BlocksData(numbers []int) []byte {
	var data []byte
	for _, n := range numbers {
		data = append(data, byte(n>>8), byte(n), 0x22, 0)
	}
	return data
}

// ParseBlocks reads a part of it.
func ParseBlocks(data []byte) (numbers []int) {
	for ; len(data) >= 4; data = data[4:] {
		numbers = append(numbers, int(binary.BigEndian.Uint16(data)))
	}
	return numbers
}
