package bacnet

import (
	"encoding/binary"
	"fmt"
	"net/netip"
)

// Link is a message of the virtual link layer (annex J.2): its type 0x81, the function, the length of all
// in two octets, and what the function has.
type Link struct {
	Function LinkFunction
	// Result is that of a result (annex J.2.1).
	Result uint16
	// From is who sent what is forwarded.
	From netip.AddrPort
	// Seconds are for how long a foreign device is registered, or has still.
	Seconds uint16
	// Table is a table of broadcast distribution, or of foreign devices.
	Table []Entry
	// NPDU are the octets of the network layer, NPDUAt is where they begin.
	NPDU   []byte
	NPDUAt int
}

// Entry is a row of such a table: an address, with the mask for broadcasts in one of distribution, or with
// for how long it was registered and how long that lasts.
type Entry struct {
	At            netip.AddrPort
	Mask          [4]byte
	Seconds, Left uint16
}

// LinkFunction says what a message of the link layer is for.
type LinkFunction uint8

// The functions (annex J.2).
const (
	LinkResult      LinkFunction = 0x00
	WriteTable      LinkFunction = 0x01
	ReadTable       LinkFunction = 0x02
	ReadTableAck    LinkFunction = 0x03
	Forwarded       LinkFunction = 0x04
	RegisterForeign LinkFunction = 0x05
	ReadForeign     LinkFunction = 0x06
	ReadForeignAck  LinkFunction = 0x07
	DeleteForeign   LinkFunction = 0x08
	Distribute      LinkFunction = 0x09
	Unicast         LinkFunction = 0x0A
	Broadcast       LinkFunction = 0x0B
	linkType                     = 0x81
	linkHead                     = 4
	addressOctets                = 6
	distributionRow              = 10
	foreignRow                   = 10
)

// Results (annex J.2.1).
const (
	LinkDone             = 0x0000
	WriteTableRefused    = 0x0010
	ReadTableRefused     = 0x0020
	RegisterRefused      = 0x0030
	ReadForeignRefused   = 0x0040
	DeleteForeignRefused = 0x0050
	DistributeRefused    = 0x0060
)

// MostDatagram bounds a datagram: the longest message of the application is 1476 octets.
const MostDatagram = 1600

// ParseLink reads a datagram.
func ParseLink(b []byte) (l Link, err error) {
	switch {
	case len(b) < linkHead:
		return l, fmt.Errorf("a datagram of %d octets", len(b))
	case b[0] != linkType:
		return l, fmt.Errorf("it begins with %02X, and BACnet/IP with %02X", b[0], linkType)
	}
	if n := int(binary.BigEndian.Uint16(b[2:])); n != len(b) {
		return l, fmt.Errorf("it says %d octets, and has %d", n, len(b))
	}
	l.Function = LinkFunction(b[1])
	body := b[linkHead:]
	exactly := func(n int) error {
		if len(body) != n {
			return fmt.Errorf("%s has %d octets, and not %d", l.Function, len(body), n)
		}
		return nil
	}
	switch l.Function {
	case Unicast, Broadcast, Distribute:
		l.NPDU, l.NPDUAt = body, linkHead
	case Forwarded:
		if len(body) < addressOctets {
			return l, exactly(addressOctets)
		}
		l.From = addressOf(body)
		l.NPDU, l.NPDUAt = body[addressOctets:], linkHead+addressOctets
	case LinkResult:
		if err := exactly(2); err != nil {
			return l, err
		}
		l.Result = binary.BigEndian.Uint16(body)
	case RegisterForeign:
		if err := exactly(2); err != nil {
			return l, err
		}
		l.Seconds = binary.BigEndian.Uint16(body)
	case ReadTable, ReadForeign:
		return l, exactly(0)
	case DeleteForeign:
		if err := exactly(addressOctets); err != nil {
			return l, err
		}
		l.Table = []Entry{{At: addressOf(body)}}
	case WriteTable, ReadTableAck:
		if len(body)%distributionRow != 0 {
			return l, fmt.Errorf("a table of broadcast distribution of %d octets", len(body))
		}
		for ; len(body) > 0; body = body[distributionRow:] {
			l.Table = append(l.Table, Entry{At: addressOf(body), Mask: [4]byte(body[addressOctets:])})
		}
	case ReadForeignAck:
		if len(body)%foreignRow != 0 {
			return l, fmt.Errorf("a table of foreign devices of %d octets", len(body))
		}
		for ; len(body) > 0; body = body[foreignRow:] {
			l.Table = append(l.Table, Entry{At: addressOf(body), Seconds: binary.BigEndian.Uint16(body[addressOctets:]),
				Left: binary.BigEndian.Uint16(body[addressOctets+2:])})
		}
	default:
		return l, fmt.Errorf("the function %02X of the link layer is not known", b[1])
	}
	return l, nil
}

func addressOf(b []byte) netip.AddrPort {
	return netip.AddrPortFrom(netip.AddrFrom4([4]byte(b)), binary.BigEndian.Uint16(b[4:]))
}

// Append appends the message.
func (l *Link) Append(dst []byte) []byte {
	from := len(dst)
	dst = append(dst, linkType, byte(l.Function), 0, 0)
	switch l.Function {
	case LinkResult:
		dst = binary.BigEndian.AppendUint16(dst, l.Result)
	case RegisterForeign:
		dst = binary.BigEndian.AppendUint16(dst, l.Seconds)
	case Forwarded:
		dst = appendAddress(dst, l.From)
	case DeleteForeign:
		for i := range l.Table {
			dst = appendAddress(dst, l.Table[i].At)
		}
	case WriteTable, ReadTableAck:
		for i := range l.Table {
			dst = append(appendAddress(dst, l.Table[i].At), l.Table[i].Mask[:]...)
		}
	case ReadForeignAck:
		for i := range l.Table {
			dst = binary.BigEndian.AppendUint16(appendAddress(dst, l.Table[i].At), l.Table[i].Seconds)
			dst = binary.BigEndian.AppendUint16(dst, l.Table[i].Left)
		}
	}
	dst = append(dst, l.NPDU...)
	binary.BigEndian.PutUint16(dst[from+2:], uint16(len(dst)-from))
	return dst
}

func appendAddress(dst []byte, at netip.AddrPort) []byte {
	octets := [4]byte{}
	if a := at.Addr().Unmap(); a.Is4() {
		octets = a.As4()
	}
	return binary.BigEndian.AppendUint16(append(dst, octets[:]...), at.Port())
}

// linkNames are the functions in words.
var linkNames = map[LinkFunction]string{LinkResult: "result", WriteTable: "write broadcast distribution table",
	ReadTable: "read broadcast distribution table", ReadTableAck: "broadcast distribution table", Forwarded: "forwarded",
	RegisterForeign: "register foreign device", ReadForeign: "read foreign device table",
	ReadForeignAck: "foreign device table", DeleteForeign: "delete foreign device",
	Distribute: "distribute broadcast to network", Unicast: "unicast", Broadcast: "broadcast"}

func (f LinkFunction) String() string {
	if name, known := linkNames[f]; known {
		return name
	}
	return fmt.Sprintf("function %02X", uint8(f))
}
