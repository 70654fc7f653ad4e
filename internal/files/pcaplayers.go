package files

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/ip4defrag"
	"github.com/gopacket/gopacket/ip6defrag"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"ferry/internal/core/capture"
	"ferry/internal/core/serial"
)

// serialLink is the link type of Ferry's own recordings of serial lines: octets as they
// came, of the first type for private use (LINKTYPE_USER0). The interface has the name of
// the line, and says in its description how it was set.
const serialLink layers.LinkType = 147

// serialWords begin the description of such an interface.
const serialWords = "serial line "

// serial takes over octets of a serial line.
func (c *Capture) serial(p *capture.Packet, index int, data []byte) {
	of, err := c.ng.Interface(index)
	set, ok := strings.CutPrefix(of.Description, serialWords)
	if err != nil || !ok {
		c.unread(fmt.Sprintf("link type %d, which is whoever's", serialLink))
		return
	}
	p.Kind, p.Line, p.Payload, p.OneWay = capture.Serial, of.Name, data, true
	if format, err := serial.ParseFormat(set); err == nil {
		p.Format = &format
	}
	if c.flags == nil {
		return
	}
	switch c.flags.Direction {
	case pcapgo.NgEpbFlagDirectionOutbound:
		p.OneWay = false
	case pcapgo.NgEpbFlagDirectionInbound:
		p.OneWay, p.Side = false, capture.Answerer
	}
}

// fill takes over what the layers hold.
func (c *Capture) fill(p *capture.Packet, at time.Time) {
	var from, to netip.Addr
	room := -1 // octets that the IP header says follow it; -1 for as many as there are
	for _, t := range c.decoded {
		switch t {
		case layers.LayerTypeIPv4:
			if !sound(c.ip4.Contents) {
				c.unread("IPv4 headers that fail their checksum")
				return
			}
			from, to = addr(c.ip4.SrcIP), addr(c.ip4.DstIP)
			if c.ip4.Length > 0 {
				room = int(c.ip4.Length) - 4*int(c.ip4.IHL)
			}
			if c.ip4.Flags&layers.IPv4MoreFragments != 0 || c.ip4.FragOffset != 0 {
				c.fragment4(p, from, to, at)
				return
			}
		case layers.LayerTypeIPv6:
			from, to = addr(c.ip6.SrcIP), addr(c.ip6.DstIP)
			room = -1
		case layers.LayerTypeIPv6Fragment:
			c.fragment6(p, from, to)
			return
		case layers.LayerTypeTCP:
			c.segment(p, from, to, room)
		case layers.LayerTypeUDP:
			p.Kind = capture.UDP
			p.From = netip.AddrPortFrom(from, uint16(c.udp.SrcPort))
			p.To = netip.AddrPortFrom(to, uint16(c.udp.DstPort))
			p.Payload = c.udp.Payload
			if n := int(c.udp.Length) - 8 - len(p.Payload); n > 0 {
				p.Cut = n
			}
		case layers.LayerTypeARP:
			c.lookup(p)
		case layers.LayerTypeICMPv4:
			c.message4(p)
		case layers.LayerTypeICMPv6:
			c.message6(p, from)
		}
	}
}

// sound reports whether an IPv4 header passes its checksum (RFC 791, section 3.1), or has
// none yet because the card was to fill it in.
func sound(head []byte) bool {
	if len(head) < 20 || head[10] == 0 && head[11] == 0 {
		return true
	}
	sum := uint32(0)
	for i := 0; i+1 < len(head); i += 2 {
		sum += uint32(head[i])<<8 | uint32(head[i+1])
	}
	for sum > 0xFFFF {
		sum = sum>>16 + sum&0xFFFF
	}
	return sum == 0xFFFF
}

func addr(ip []byte) netip.Addr {
	a, _ := netip.AddrFromSlice(ip)
	return a
}

// segment takes over a segment of TCP, which is to fill so many octets.
func (c *Capture) segment(p *capture.Packet, from, to netip.Addr, room int) {
	p.Kind = capture.TCP
	p.From = netip.AddrPortFrom(from, uint16(c.tcp.SrcPort))
	p.To = netip.AddrPortFrom(to, uint16(c.tcp.DstPort))
	p.Seq, p.Ack, p.Payload, p.Head = c.tcp.Seq, c.tcp.Ack, c.tcp.Payload, c.tcp.Contents
	for _, f := range [...]struct {
		set  bool
		flag capture.Flags
	}{{c.tcp.FIN, capture.FIN}, {c.tcp.SYN, capture.SYN}, {c.tcp.RST, capture.RST}, {c.tcp.PSH, capture.PSH},
		{c.tcp.ACK, capture.ACK}} {
		if f.set {
			p.Flags |= f.flag
		}
	}
	if room >= 0 {
		p.Cut = max(room-4*int(c.tcp.DataOffset)-len(p.Payload), 0)
	}
}

// whole goes on with a datagram that was put together from its fragments.
func (c *Capture) whole(p *capture.Packet, from, to netip.Addr, protocol layers.IPProtocol, payload []byte) {
	switch protocol {
	case layers.IPProtocolTCP:
		if c.tcp.DecodeFromBytes(payload, gopacket.NilDecodeFeedback) == nil {
			c.segment(p, from, to, -1)
		}
	case layers.IPProtocolUDP:
		if c.udp.DecodeFromBytes(payload, gopacket.NilDecodeFeedback) == nil {
			p.Kind, p.Payload = capture.UDP, c.udp.Payload
			p.From = netip.AddrPortFrom(from, uint16(c.udp.SrcPort))
			p.To = netip.AddrPortFrom(to, uint16(c.udp.DstPort))
		}
	}
}

// waits counts fragments, and forgets all that wait when they become too many.
func (c *Capture) waits() {
	if c.fragments++; c.fragments > mostFragments {
		c.fragments = 0
		c.frag4, c.frag6 = ip4defrag.NewIPv4Defragmenter(), ip6defrag.NewIPv6Defragmenter()
	}
}

func (c *Capture) fragment4(p *capture.Packet, from, to netip.Addr, at time.Time) {
	c.waits()
	part := c.ip4
	part.Payload = slices.Clone(c.ip4.Payload)
	part.SrcIP, part.DstIP = slices.Clone(c.ip4.SrcIP), slices.Clone(c.ip4.DstIP)
	joined, err := c.frag4.DefragIPv4WithTimestamp(&part, at)
	if err != nil {
		c.unread("fragments that do not fit together")
	} else if joined != nil {
		c.whole(p, from, to, joined.Protocol, joined.Payload)
	}
}

func (c *Capture) fragment6(p *capture.Packet, from, to netip.Addr) {
	c.waits()
	head, part := c.ip6, c.part6
	head.SrcIP, head.DstIP = slices.Clone(c.ip6.SrcIP), slices.Clone(c.ip6.DstIP)
	part.Payload = slices.Clone(c.part6.Payload)
	if joined := c.frag6.DefragIPv6(&head, &part); joined != nil {
		c.whole(p, from, to, joined.NextHeader, joined.Payload)
	}
}

// lookup takes over a question of ARP, or the answer.
func (c *Capture) lookup(p *capture.Packet) {
	from, to := addr(c.arp.SourceProtAddress), addr(c.arp.DstProtAddress)
	if !from.IsValid() || !to.IsValid() {
		return
	}
	p.From, p.To = netip.AddrPortFrom(from, 0), netip.AddrPortFrom(to, 0)
	switch c.arp.Operation {
	case layers.ARPRequest:
		p.Kind = capture.WhoHas
	case layers.ARPReply:
		p.Kind = capture.IsAt
	}
}

// message4 takes over an ICMP message that a packet did not arrive, which quotes its
// beginning (RFC 792).
func (c *Capture) message4(p *capture.Packet) {
	if c.icmp4.TypeCode.Type() != layers.ICMPv4TypeDestinationUnreachable {
		return
	}
	var quoted layers.IPv4
	if quoted.DecodeFromBytes(c.icmp4.Payload, gopacket.NilDecodeFeedback) != nil {
		return
	}
	why := map[uint8]string{0: "the network cannot be reached", 1: "the host cannot be reached",
		3: "nothing listens on the port", 9: "the network is closed to it", 10: "the host is closed to it",
		13: "it may not pass"}[c.icmp4.TypeCode.Code()]
	c.quoted(p, addr(quoted.SrcIP), addr(quoted.DstIP), quoted.Payload, why)
}

// quoted takes over the ends of a packet that did not arrive.
func (c *Capture) quoted(p *capture.Packet, from, to netip.Addr, payload []byte, why string) {
	if why == "" {
		why = "it did not arrive"
	}
	var ports [2]uint16
	if len(payload) >= 4 {
		ports = [2]uint16{binary.BigEndian.Uint16(payload), binary.BigEndian.Uint16(payload[2:])}
	}
	p.Kind, p.Why = capture.Unreachable, why
	p.From, p.To = netip.AddrPortFrom(from, ports[0]), netip.AddrPortFrom(to, ports[1])
}

// message6 takes over an ICMPv6 message: of what did not arrive (RFC 4443, section
// 3.1), or of who has an address (RFC 4861, sections 4.3 and 4.4).
func (c *Capture) message6(p *capture.Packet, from netip.Addr) {
	body := c.icmp6.Payload
	switch c.icmp6.TypeCode.Type() {
	case layers.ICMPv6TypeDestinationUnreachable:
		var quoted layers.IPv6
		if len(body) < 4 || quoted.DecodeFromBytes(body[4:], gopacket.NilDecodeFeedback) != nil {
			return
		}
		why := map[uint8]string{0: "there is no way to it", 1: "it may not pass", 3: "the host cannot be reached",
			4: "nothing listens on the port"}[c.icmp6.TypeCode.Code()]
		c.quoted(p, addr(quoted.SrcIP), addr(quoted.DstIP), quoted.Payload, why)
	case layers.ICMPv6TypeNeighborSolicitation, layers.ICMPv6TypeNeighborAdvertisement:
		if len(body) < 20 {
			return
		}
		p.Kind, p.From, p.To = capture.WhoHas, netip.AddrPortFrom(from, 0), netip.AddrPortFrom(addr(body[4:20]), 0)
		if c.icmp6.TypeCode.Type() == layers.ICMPv6TypeNeighborAdvertisement {
			p.Kind, p.From = capture.IsAt, p.To
		}
	}
}
