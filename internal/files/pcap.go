package files

import (
	"bufio"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/ip4defrag"
	"github.com/gopacket/gopacket/ip6defrag"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"ferry/internal/core/capture"
)

// packetSource reads packets, whatever the format. Its octets are there until the next.
type packetSource func() ([]byte, gopacket.CaptureInfo, error)

// Capture reads a recording of packets, one by one: pcap and pcapng, with times in
// microseconds or nanoseconds, compressed with gzip or not, of Ethernet (with or
// without VLAN tags), Linux cooked, loopback and raw IP. It holds no more than the
// packet at hand and the fragments that wait.
type Capture struct {
	// Unread counts packets of which nothing could be made, and Why says of which
	// kinds they were, by the number of each.
	Unread int64
	Why    map[string]int64

	source  packetSource
	ng      *pcapgo.NgReader   // nil for pcap
	flags   *pcapgo.NgEpbFlags // of the packet at hand
	link    func(gopacket.CaptureInfo) layers.LinkType
	number  int64
	parsers map[layers.LinkType]*gopacket.DecodingLayerParser
	decoded []gopacket.LayerType

	eth   layers.Ethernet
	tag   layers.Dot1Q
	sll   layers.LinuxSLL
	sll2  layers.LinuxSLL2
	loop  layers.Loopback
	ip4   layers.IPv4
	ip6   layers.IPv6
	skip  layers.IPv6ExtensionSkipper
	part6 layers.IPv6Fragment
	tcp   layers.TCP
	udp   layers.UDP
	arp   layers.ARP
	icmp4 layers.ICMPv4
	icmp6 layers.ICMPv6
	rest  gopacket.Payload

	frag4     *ip4defrag.IPv4Defragmenter
	frag6     *ip6defrag.IPv6Defragmenter
	fragments int
}

// Bounds of what a recording is read to.
const (
	mostUnpacked  = 64 << 30 // octets that come out of a compressed one
	mostFragments = 20_000   // that wait for the rest of theirs
	mostReasons   = 64
)

// limited ends a stream of too many octets.
type limited struct {
	r    io.Reader
	left int64
}

var errTooLong = errors.New("it unpacks to more than 64 GiB, and is read so far")

func (l *limited) Read(b []byte) (int, error) {
	if l.left <= 0 {
		return 0, errTooLong
	}
	n, err := l.r.Read(b[:min(int64(len(b)), l.left)])
	l.left -= int64(n)
	return n, err
}

// LooksPackets reports whether a file begins as a recording of packets does.
func LooksPackets(head []byte) bool {
	if len(head) < 4 {
		return false
	}
	if head[0] == 0x1f && head[1] == 0x8b {
		return true
	}
	switch binary.BigEndian.Uint32(head) {
	case 0x0a0d0d0a, 0xa1b2c3d4, 0xd4c3b2a1, 0xa1b23c4d, 0x4d3cb2a1:
		return true
	}
	return false
}

// OpenCapture begins to read a recording.
func OpenCapture(r io.Reader) (*Capture, error) {
	in := bufio.NewReaderSize(r, 1<<18)
	if magic, _ := in.Peek(2); len(magic) == 2 && magic[0] == 0x1f && magic[1] == 0x8b {
		unpacked, err := gzip.NewReader(in)
		if err != nil {
			return nil, fmt.Errorf("it begins as if compressed with gzip, and is not: %w", err)
		}
		in = bufio.NewReaderSize(&limited{unpacked, mostUnpacked}, 1<<18)
	}
	magic, err := in.Peek(4)
	if err != nil {
		return nil, errors.New("it is empty, or too short for a recording")
	}
	c := &Capture{Why: map[string]int64{}, parsers: map[layers.LinkType]*gopacket.DecodingLayerParser{},
		frag4: ip4defrag.NewIPv4Defragmenter(), frag6: ip6defrag.NewIPv6Defragmenter()}
	if binary.BigEndian.Uint32(magic) == 0x0a0d0d0a {
		ng, err := pcapgo.NewNgReader(in, pcapgo.NgReaderOptions{WantMixedLinkType: true, SkipUnknownVersion: true})
		if err != nil {
			return nil, fmt.Errorf("it begins as pcapng, and breaks off: %w", err)
		}
		c.ng = ng
		c.source = func() ([]byte, gopacket.CaptureInfo, error) {
			data, ci, options, err := ng.ZeroCopyReadPacketDataWithOptions()
			c.flags = options.Flags
			return data, ci, err
		}
		c.link = func(ci gopacket.CaptureInfo) layers.LinkType {
			if len(ci.AncillaryData) > 0 {
				if t, ok := ci.AncillaryData[0].(layers.LinkType); ok {
					return t
				}
			}
			return layers.LinkTypeEthernet
		}
		return c, nil
	}
	old, err := pcapgo.NewReader(in)
	if err != nil {
		return nil, fmt.Errorf("it is neither pcap nor pcapng, nor one of them compressed with gzip: %w", err)
	}
	c.source = old.ZeroCopyReadPacketData
	c.link = func(gopacket.CaptureInfo) layers.LinkType { return old.LinkType() }
	return c, nil
}

// Next reads the next packet into p, whose payload is there until the next call. It
// returns io.EOF at the end, and another error where the rest cannot be read.
func (c *Capture) Next(p *capture.Packet) error {
	data, ci, err := c.source()
	if err != nil {
		if errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return io.EOF
		}
		return fmt.Errorf("after packet %d the recording cannot be read: %w", c.number, err)
	}
	c.number++
	*p = capture.Packet{Number: c.number, At: ci.Timestamp, Whole: ci.Length}
	link := c.link(ci)
	if link == serialLink && c.ng != nil {
		c.serial(p, ci.InterfaceIndex, data)
		return nil
	}
	parser := c.parser(link)
	if parser == nil {
		c.unread(fmt.Sprintf("link type %d (%v)", link, link))
		return nil
	}
	c.ip4.Length, c.ip6.Length, c.tcp.Payload = 0, 0, nil
	err = parser.DecodeLayers(data, &c.decoded)
	if err != nil && len(c.decoded) == 0 {
		c.unread("cut short in its first header")
		return nil
	}
	c.fill(p, ci.Timestamp)
	if p.Kind == capture.Other && err != nil {
		c.unread("broken headers")
	}
	return nil
}

func (c *Capture) unread(why string) {
	c.Unread++
	if _, known := c.Why[why]; known || len(c.Why) < mostReasons {
		c.Why[why]++
	}
}

// Reasons says what could not be read, in words.
func (c *Capture) Reasons() []string {
	var said []string
	for why, n := range c.Why {
		said = append(said, fmt.Sprintf("%d packets: %s", n, why))
	}
	slices.SortFunc(said, strings.Compare)
	return said
}

// parser returns what takes packets of a link apart; nil for one that is not known.
func (c *Capture) parser(link layers.LinkType) *gopacket.DecodingLayerParser {
	if p, ok := c.parsers[link]; ok {
		return p
	}
	first, ok := map[layers.LinkType]gopacket.LayerType{layers.LinkTypeEthernet: layers.LayerTypeEthernet,
		layers.LinkTypeLinuxSLL: layers.LayerTypeLinuxSLL, layers.LinkTypeLinuxSLL2: layers.LayerTypeLinuxSLL2,
		layers.LinkTypeNull: layers.LayerTypeLoopback, layers.LinkTypeLoop: layers.LayerTypeLoopback,
		layers.LinkTypeIPv4: layers.LayerTypeIPv4, layers.LinkTypeIPv6: layers.LayerTypeIPv6,
		layers.LinkTypeRaw: rawIP, 12: rawIP, 14: rawIP}[link]
	if !ok {
		c.parsers[link] = nil
		return nil
	}
	p := gopacket.NewDecodingLayerParser(first)
	p.SetDecodingLayerContainer(gopacket.DecodingLayerSparse(nil))
	for _, layer := range []gopacket.DecodingLayer{&c.eth, &c.tag, &c.sll, &c.sll2, &c.loop, &c.ip4, &c.ip6, &c.skip,
		&c.part6, &c.tcp, &c.udp, &c.arp, &c.icmp4, &c.icmp6, &c.rest, &eitherIP{}} {
		p.AddDecodingLayer(layer)
	}
	p.IgnoreUnsupported = true
	c.parsers[link] = p
	return p
}

// rawIP is the layer of a link that carries IP of either version without a header of
// its own (LINKTYPE_RAW).
var rawIP = gopacket.RegisterLayerType(7701, gopacket.LayerTypeMetadata{Name: "raw IP",
	Decoder: gopacket.DecodeUnknown})

// eitherIP looks at the version alone, and takes nothing off.
type eitherIP struct{ data []byte }

func (e *eitherIP) DecodeFromBytes(data []byte, _ gopacket.DecodeFeedback) error {
	if e.data = data; len(data) == 0 {
		return errors.New("an empty packet")
	}
	return nil
}

func (e *eitherIP) CanDecode() gopacket.LayerClass { return rawIP }
func (e *eitherIP) LayerPayload() []byte           { return e.data }

func (e *eitherIP) NextLayerType() gopacket.LayerType {
	if e.data[0]>>4 == 6 {
		return layers.LayerTypeIPv6
	}
	return layers.LayerTypeIPv4
}
