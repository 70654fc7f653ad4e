// Package enip turns EtherNet/IP into octets and back: encapsulation (CIP volume 2, chapter
// 2), messages of the message router (volume 1, chapter 2) and the paths in them (volume 1,
// appendix C). Numbers go with their least significant octet first, but those of socket
// addresses.
//
// Over TCP, and in lists over UDP, a frame is
//
//	command 2, length 2, session 4, status 4, context 8, options 4
//	data of so many octets
//
// and over UDP of a cyclic connection it is items alone:
//
//	count 2, and each: type 2, length 2, octets
//
// The readers take whatever comes: what is broken is an error that says so.
package enip

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
)

// Commands of the encapsulation (volume 2, clause 2-3.2).
const (
	Nop            = 0x0000
	ListServices   = 0x0004
	ListIdentity   = 0x0063
	ListInterfaces = 0x0064
	Register       = 0x0065
	Unregister     = 0x0066
	SendRRData     = 0x006F
	SendUnitData   = 0x0070
)

// HeadLen is the length of the head of a frame, MostData that of the most data behind it
// that is looked at.
const (
	HeadLen  = 24
	MostData = 1<<16 - 1 - HeadLen
)

var le = binary.LittleEndian

// Frame is one frame of the encapsulation.
type Frame struct {
	Command uint16
	Session uint32
	Status  uint32
	Context [8]byte
	Options uint32
	Data    []byte
}

// FrameLen returns the length of the frame that begins with b, 0 if not enough has come to
// tell, and an error where none begins there.
func FrameLen(b []byte) (int, error) {
	if len(b) >= 2 {
		switch command := le.Uint16(b); command {
		case Nop, ListServices, ListIdentity, ListInterfaces, Register, Unregister, SendRRData, SendUnitData:
		default:
			return 0, fmt.Errorf("no frame begins with command %04X", command)
		}
	}
	if len(b) < 4 {
		return 0, nil
	}
	n := HeadLen + int(le.Uint16(b[2:]))
	if n > HeadLen+MostData {
		return 0, fmt.Errorf("a frame of %d octets: %d are the most", n, HeadLen+MostData)
	}
	return n, nil
}

// ParseFrame takes a whole frame apart.
func ParseFrame(b []byte) (f Frame, err error) {
	n, err := FrameLen(b)
	if err != nil {
		return f, err
	}
	if n == 0 || len(b) < n {
		return f, fmt.Errorf("the frame is cut short: %d octets of %d", len(b), max(n, HeadLen))
	}
	f = Frame{Command: le.Uint16(b), Session: le.Uint32(b[4:]), Status: le.Uint32(b[8:]), Context: [8]byte(b[12:20]),
		Options: le.Uint32(b[20:]), Data: b[HeadLen:n]}
	return f, nil
}

// Append appends the octets of a frame.
func (f *Frame) Append(dst []byte) []byte {
	dst = le.AppendUint16(dst, f.Command)
	dst = le.AppendUint16(dst, uint16(len(f.Data)))
	dst = le.AppendUint32(dst, f.Session)
	dst = le.AppendUint32(dst, f.Status)
	dst = append(dst, f.Context[:]...)
	dst = le.AppendUint32(dst, f.Options)
	return append(dst, f.Data...)
}

// RegisterData is what asks for a session: version 1 of the protocol, no options.
func RegisterData() []byte { return []byte{1, 0, 0, 0} }

// Types of items (volume 2, clause 2-6).
const (
	ItemNull             = 0x0000
	ItemIdentity         = 0x000C
	ItemConnected        = 0x00A1 // the address of a connection: its identifier of 32 bits
	ItemConnectedData    = 0x00B1
	ItemUnconnected      = 0x00B2
	ItemSocketOT         = 0x8000
	ItemSocketTO         = 0x8001
	ItemSequencedAddress = 0x8002 // identifier and sequence number, of 32 bits each
)

// Item is one of the items in a frame.
type Item struct {
	Type uint16
	Data []byte
}

// mostItems bounds those of one frame.
const mostItems = 16

// AppendItems appends items with their count.
func AppendItems(dst []byte, items ...Item) []byte {
	dst = le.AppendUint16(dst, uint16(len(items)))
	for _, it := range items {
		dst = le.AppendUint16(dst, it.Type)
		dst = le.AppendUint16(dst, uint16(len(it.Data)))
		dst = append(dst, it.Data...)
	}
	return dst
}

// ParseItems reads items; rest is what follows them.
func ParseItems(b []byte) (items []Item, rest []byte, err error) {
	if len(b) < 2 {
		return nil, b, errors.New("the count of the items is missing")
	}
	count := int(le.Uint16(b))
	if count > mostItems {
		return nil, b, fmt.Errorf("%d items: %d are the most", count, mostItems)
	}
	b = b[2:]
	for i := range count {
		if len(b) < 4 || len(b) < 4+int(le.Uint16(b[2:])) {
			return items, b, fmt.Errorf("item %d of %d is cut short", i+1, count)
		}
		n := int(le.Uint16(b[2:]))
		items = append(items, Item{le.Uint16(b), b[4 : 4+n]})
		b = b[4+n:]
	}
	return items, b, nil
}

// itemOf is the data of the first item of a type; nil for none.
func itemOf(items []Item, kind uint16) []byte {
	for _, it := range items {
		if it.Type == kind {
			return it.Data
		}
	}
	return nil
}

// carried is what stands before the items of SendRRData and SendUnitData: the interface of
// 32 bits, 0 for CIP, and a time limit of 16 bits.
const carried = 6

// AppendUnconnected appends the data of SendRRData that holds a message, with further
// items behind it.
func AppendUnconnected(dst, message []byte, more ...Item) []byte {
	dst = append(dst, 0, 0, 0, 0, 0, 0)
	return AppendItems(dst, append([]Item{{Type: ItemNull}, {ItemUnconnected, message}}, more...)...)
}

// SocketOf is the socket address that an item of a type holds, where there is one.
func (c *Carried) SocketOf(kind uint16) (at netip.AddrPort, ok bool) {
	at, err := ParseSocket(itemOf(c.Items, kind))
	return at, err == nil
}

// AppendConnected appends the data of SendUnitData that holds a message over a connection,
// with its sequence count of 16 bits.
func AppendConnected(dst []byte, connection uint32, count uint16, message []byte) []byte {
	dst = append(dst, 0, 0, 0, 0, 0, 0)
	data := append(le.AppendUint16(nil, count), message...)
	return AppendItems(dst, Item{ItemConnected, le.AppendUint32(nil, connection)}, Item{ItemConnectedData, data})
}

// Carried is what a frame of SendRRData or SendUnitData carries.
type Carried struct {
	// Message is of the message router.
	Message []byte
	// Connection and Count are those of a connected message.
	Connected  bool
	Connection uint32
	Count      uint16
	// Items are all of them.
	Items []Item
}

// ParseCarried reads the data of SendRRData or SendUnitData.
func ParseCarried(data []byte) (c Carried, err error) {
	if len(data) < carried {
		return c, errors.New("it ends before its items")
	}
	if c.Items, _, err = ParseItems(data[carried:]); err != nil {
		return c, err
	}
	if m := itemOf(c.Items, ItemUnconnected); m != nil {
		c.Message = m
		return c, nil
	}
	m, at := itemOf(c.Items, ItemConnectedData), itemOf(c.Items, ItemConnected)
	if len(m) < 2 || len(at) != 4 {
		return c, errors.New("it holds no message")
	}
	c.Connected, c.Connection, c.Count, c.Message = true, le.Uint32(at), le.Uint16(m), m[2:]
	return c, nil
}

// Cyclic is a packet of a cyclic connection.
type Cyclic struct {
	Connection uint32
	Sequence   uint32 // of all packets of the connection
	Data       []byte // with the sequence count of class 1 and the header, if it has them
}

// AppendCyclic appends a packet of a cyclic connection.
func AppendCyclic(dst []byte, c *Cyclic) []byte {
	dst = append(dst, 2, 0)
	dst = append(dst, ItemSequencedAddress&0xFF, ItemSequencedAddress>>8, 8, 0)
	dst = le.AppendUint32(dst, c.Connection)
	dst = le.AppendUint32(dst, c.Sequence)
	dst = append(dst, ItemConnectedData, 0)
	dst = le.AppendUint16(dst, uint16(len(c.Data)))
	return append(dst, c.Data...)
}

// ParseCyclic reads a packet of a cyclic connection.
func ParseCyclic(b []byte) (c Cyclic, err error) {
	items, rest, err := ParseItems(b)
	if err != nil {
		return c, err
	}
	at, data := itemOf(items, ItemSequencedAddress), itemOf(items, ItemConnectedData)
	if len(at) != 8 || data == nil {
		return c, errors.New("it is no packet of a cyclic connection")
	}
	if len(rest) > 0 {
		return c, fmt.Errorf("%d octets follow its items", len(rest))
	}
	return Cyclic{le.Uint32(at), le.Uint32(at[4:]), data}, nil
}

// AppendSocket appends a socket address as items hold it (volume 2, clause 2-6.3.3): family
// 2, port, address, most significant octet first, and 8 octets of 0.
func AppendSocket(dst []byte, at netip.AddrPort) []byte {
	dst = append(dst, 0, 2)
	dst = binary.BigEndian.AppendUint16(dst, at.Port())
	a := [4]byte{}
	if at.Addr().Is4() {
		a = at.Addr().As4()
	}
	dst = append(dst, a[:]...)
	return append(dst, 0, 0, 0, 0, 0, 0, 0, 0)
}

// ParseSocket reads a socket address.
func ParseSocket(b []byte) (netip.AddrPort, error) {
	if len(b) != 16 || b[0] != 0 || b[1] != 2 {
		return netip.AddrPort{}, errors.New("it is no socket address")
	}
	return netip.AddrPortFrom(netip.AddrFrom4([4]byte(b[4:8])), binary.BigEndian.Uint16(b[2:])), nil
}

// Identity is who a device says that it is (volume 2, clause 2-4.2; volume 1, clause 5A-2).
type Identity struct {
	At           netip.AddrPort // where it says that it is; zero where it does not
	Vendor       uint16
	Type         uint16
	Product      uint16
	Major, Minor uint8
	Status       uint16
	Serial       uint32
	Name         string
	State        uint8
}

// AppendIdentity appends the items by which a device answers ListIdentity.
func AppendIdentity(dst []byte, id *Identity) []byte {
	data := AppendSocket([]byte{1, 0}, id.At)
	data = AppendWho(data, id)
	return AppendItems(dst, Item{ItemIdentity, append(data, id.State)})
}

// AppendWho appends the attributes 1 to 7 of the identity object, as Get_Attributes_All brings
// them.
func AppendWho(dst []byte, id *Identity) []byte {
	dst = le.AppendUint16(dst, id.Vendor)
	dst = le.AppendUint16(dst, id.Type)
	dst = le.AppendUint16(dst, id.Product)
	dst = append(dst, id.Major, id.Minor)
	dst = le.AppendUint16(dst, id.Status)
	dst = le.AppendUint32(dst, id.Serial)
	name := id.Name[:min(len(id.Name), 255)]
	dst = append(dst, byte(len(name)))
	return append(dst, name...)
}

// ParseIdentity reads the answer to ListIdentity.
func ParseIdentity(data []byte) (id Identity, err error) {
	items, _, err := ParseItems(data)
	if err != nil {
		return id, err
	}
	b := itemOf(items, ItemIdentity)
	if len(b) < 2+16 {
		return id, errors.New("it holds no identity")
	}
	at, _ := ParseSocket(b[2:18]) // some leave it empty
	id, rest, err := ParseWho(b[18:])
	if id.At = at; err != nil {
		return id, err
	}
	if len(rest) > 0 {
		id.State = rest[0]
	}
	return id, nil
}

// ParseWho reads the attributes 1 to 7 of the identity object, as Get_Attributes_All brings
// them; rest is what follows.
func ParseWho(b []byte) (id Identity, rest []byte, err error) {
	if len(b) < 15 || len(b) < 15+int(b[14]) {
		return id, nil, errors.New("the identity is cut short")
	}
	n := int(b[14])
	return Identity{Vendor: le.Uint16(b), Type: le.Uint16(b[2:]), Product: le.Uint16(b[4:]), Major: b[6], Minor: b[7],
		Status: le.Uint16(b[8:]), Serial: le.Uint32(b[10:]), Name: string(b[15 : 15+n])}, b[15+n:], nil
}
