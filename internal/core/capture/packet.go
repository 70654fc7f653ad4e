// Package capture puts recorded traffic together again: packets become what each
// end of a connection said, and what was said becomes exchanges, by the speech of
// whatever family knows it. It holds no more than it needs, however long the
// recording is.
package capture

import (
	"net/netip"
	"time"

	"ferry/internal/core/serial"
)

// Kind says what a packet is, as far as conclusions are drawn from it.
type Kind uint8

// The kinds of packet.
const (
	Other       Kind = iota // something that Ferry draws no conclusions from
	TCP                     // a segment of TCP (RFC 9293, section 3.1)
	UDP                     // a datagram of UDP (RFC 768)
	Unreachable             // an ICMP message that a packet did not arrive (RFC 792, RFC 4443)
	WhoHas                  // a host asks which station has an address (ARP, RFC 826; RFC 4861)
	IsAt                    // the answer to it
	Serial                  // octets on a serial line
)

// Flags are the control bits of a TCP segment, as in its header.
type Flags uint8

// The control bits.
const (
	FIN Flags = 1 << iota
	SYN
	RST
	PSH
	ACK
)

// Packet is one packet of a recording.
type Packet struct {
	// Number counts the packets of a recording from 1.
	Number int64
	At     time.Time
	Kind   Kind
	// From and To are its ends. Ports are 0 where a kind has none. Of WhoHas, To is
	// the address that is looked for; of Unreachable, they are the ends of the packet
	// that did not arrive.
	From, To netip.AddrPort
	// Flags, Seq and Ack are those of TCP.
	Flags    Flags
	Seq, Ack uint32
	// Why is what the message of Unreachable says, in words.
	Why string
	// Payload is what it carries. It is only there until the next packet is read.
	Payload []byte
	// Head is the header of TCP as it was, for its checksum; there as long as the payload.
	Head []byte
	// Cut is how many octets of the payload the recording did not keep.
	Cut int
	// Line names the serial line of Serial, and Format says how it is set, nil where that
	// is not known. Side is who speaks, unless OneWay says that nobody knows.
	Line   string
	Format *serial.Format
	Side   Side
	OneWay bool
	// Untimed is set where the times of octets are made up.
	Untimed bool
	// Whole is the length of the packet as it was on the wire.
	Whole int
}

// Side is one of the two ends of a connection.
type Side uint8

// The sides.
const (
	Asker Side = iota
	Answerer
)

// Other is the other side.
func (s Side) Other() Side { return 1 - s }
