package files

import (
	"fmt"
	"io"
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"ferry/internal/core/capture"
)

// CaptureWriter writes a recording as pcapng, of Ethernet frames with times in
// nanoseconds. What Ferry recorded of streams gets headers that say who spoke to whom;
// hardware addresses are made from the network addresses.
type CaptureWriter struct {
	w     *pcapgo.NgWriter
	buf   gopacket.SerializeBuffer
	lines map[string]int // interfaces of serial lines
}

// NewCaptureWriter begins a recording. Flush ends it.
func NewCaptureWriter(w io.Writer) (*CaptureWriter, error) {
	ng, err := pcapgo.NewNgWriterInterface(w, pcapgo.NgInterface{Name: "ferry", LinkType: layers.LinkTypeEthernet,
		TimestampResolution: 9, SnapLength: 1 << 18}, pcapgo.NgWriterOptions{SectionInfo: pcapgo.NgSectionInfo{
		Application: "Ferry"}})
	if err != nil {
		return nil, err
	}
	return &CaptureWriter{ng, gopacket.NewSerializeBuffer(), map[string]int{}}, nil
}

// WriteCapture writes a whole recording.
func WriteCapture(to io.Writer, packets []capture.Packet) error {
	w, err := NewCaptureWriter(to)
	if err != nil {
		return err
	}
	for i := range packets {
		if err := w.Write(&packets[i]); err != nil {
			return err
		}
	}
	return w.Flush()
}

// Flush writes what is left.
func (w *CaptureWriter) Flush() error { return w.w.Flush() }

// hardware is an address of the locally administered kind, out of a network address.
func hardware(a netip.Addr) []byte {
	b := a.As16()
	return []byte{2, 0, b[12], b[13], b[14], b[15]}
}

// Write writes one packet.
func (w *CaptureWriter) Write(p *capture.Packet) error {
	if p.Kind == capture.Serial {
		return w.serial(p)
	}
	from, to := p.From.Addr(), p.To.Addr()
	eth := &layers.Ethernet{SrcMAC: hardware(from), DstMAC: hardware(to), EthernetType: layers.EthernetTypeIPv4}
	var list []gopacket.SerializableLayer
	switch p.Kind {
	case capture.WhoHas, capture.IsAt:
		if !from.Is4() {
			return fmt.Errorf("packet %d: who has an IPv6 address is not written", p.Number)
		}
		eth.EthernetType = layers.EthernetTypeARP
		arp := &layers.ARP{AddrType: layers.LinkTypeEthernet, Protocol: layers.EthernetTypeIPv4, HwAddressSize: 6,
			ProtAddressSize: 4, Operation: layers.ARPRequest, SourceHwAddress: hardware(from),
			SourceProtAddress: from.AsSlice(), DstHwAddress: make([]byte, 6), DstProtAddress: to.AsSlice()}
		if p.Kind == capture.IsAt {
			arp.Operation = layers.ARPReply
		}
		list = []gopacket.SerializableLayer{eth, arp}
	case capture.TCP, capture.UDP:
		var network gopacket.NetworkLayer
		protocol := layers.IPProtocolTCP
		if p.Kind == capture.UDP {
			protocol = layers.IPProtocolUDP
		}
		if from.Is4() {
			ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: protocol, SrcIP: from.AsSlice(), DstIP: to.AsSlice(),
				Id: uint16(p.Number), Flags: layers.IPv4DontFragment}
			list, network = []gopacket.SerializableLayer{eth, ip}, ip
		} else {
			eth.EthernetType = layers.EthernetTypeIPv6
			ip := &layers.IPv6{Version: 6, HopLimit: 64, NextHeader: protocol, SrcIP: from.AsSlice(), DstIP: to.AsSlice()}
			list, network = []gopacket.SerializableLayer{eth, ip}, ip
		}
		transport, err := w.transport(p, network)
		if err != nil {
			return err
		}
		list = append(list, transport, gopacket.Payload(p.Payload))
	default:
		return fmt.Errorf("packet %d is of no kind that can be written", p.Number)
	}
	options := gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}
	if err := gopacket.SerializeLayers(w.buf, options, list...); err != nil {
		return err
	}
	data := w.buf.Bytes()
	return w.w.WritePacket(gopacket.CaptureInfo{Timestamp: p.At, CaptureLength: len(data), Length: len(data)}, data)
}

// serial writes octets of a serial line, which has an interface of its own.
func (w *CaptureWriter) serial(p *capture.Packet) error {
	at, ok := w.lines[p.Line]
	if !ok {
		set := ""
		if p.Format != nil {
			set = fmt.Sprintf("%d:%s", p.Format.Baud, p.Format.Frame())
		}
		var err error
		if at, err = w.w.AddInterface(pcapgo.NgInterface{Name: p.Line, Description: serialWords + set,
			LinkType: serialLink, TimestampResolution: 9, SnapLength: 1 << 18}); err != nil {
			return err
		}
		w.lines[p.Line] = at
	}
	flags := &pcapgo.NgEpbFlags{Direction: pcapgo.NgEpbFlagDirectionOutbound}
	switch {
	case p.OneWay:
		flags.Direction = pcapgo.NgEpbFlagDirectionUnknown
	case p.Side == capture.Answerer:
		flags.Direction = pcapgo.NgEpbFlagDirectionInbound
	}
	return w.w.WritePacketWithOptions(gopacket.CaptureInfo{Timestamp: p.At, CaptureLength: len(p.Payload),
		Length: len(p.Payload), InterfaceIndex: at}, p.Payload, pcapgo.NgPacketOptions{Flags: flags})
}

func (w *CaptureWriter) transport(p *capture.Packet,
	network gopacket.NetworkLayer) (gopacket.SerializableLayer, error) {
	if p.Kind == capture.UDP {
		udp := &layers.UDP{SrcPort: layers.UDPPort(p.From.Port()), DstPort: layers.UDPPort(p.To.Port())}
		return udp, udp.SetNetworkLayerForChecksum(network)
	}
	tcp := &layers.TCP{SrcPort: layers.TCPPort(p.From.Port()), DstPort: layers.TCPPort(p.To.Port()), Seq: p.Seq,
		Ack: p.Ack, Window: 64240, FIN: p.Flags&capture.FIN != 0, SYN: p.Flags&capture.SYN != 0,
		RST: p.Flags&capture.RST != 0, PSH: p.Flags&capture.PSH != 0, ACK: p.Flags&capture.ACK != 0}
	return tcp, tcp.SetNetworkLayerForChecksum(network)
}
