package bench

import (
	"errors"
	"log"
	"net"
	"net/netip"
	"runtime/debug"
	"time"
)

// Datagrammed is a Speech whose devices answer datagrams: there are no connections.
type Datagrammed interface {
	// Mouth begins the device; fault says which fault is on, send sends a datagram.
	Mouth(of *Simulated, fault func() Fault, send func(to netip.AddrPort, b []byte)) (Mouth, error)
}

// Mouth is such a device.
type Mouth interface {
	// Hear takes a datagram.
	Hear(from netip.AddrPort, b []byte)
	Close() error
}

// ownAnswers reports whether the devices of a speech make their answers themselves.
func ownAnswers(s Speech) bool {
	_, hosted := s.(Hosted)
	_, datagrammed := s.(Datagrammed)
	return hosted || datagrammed
}

// mostDatagram bounds what is taken at once.
const mostDatagram = 1 << 11

// listenPackets has the device hear datagrams.
func (s *Server) listenPackets() error {
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: s.port})
	if err != nil {
		return err
	}
	s.packets, s.port = c, c.LocalAddr().(*net.UDPAddr).Port
	go s.hear(c)
	return nil
}

// hear hands over what comes, as the fault that is on lets it.
func (s *Server) hear(c *net.UDPConn) {
	buf := make([]byte, mostDatagram)
	for {
		n, from, err := c.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(time.Millisecond) // an answer of the network to what was sent before
			continue
		}
		if kind := s.Fault().Kind; kind == "silent" || kind == "refuse" || kind == "off" {
			continue
		}
		s.heard(netip.AddrPortFrom(from.Addr().Unmap(), from.Port()), append([]byte(nil), buf[:n]...))
	}
}

func (s *Server) heard(from netip.AddrPort, b []byte) {
	defer func() {
		if p := recover(); p != nil { // of a defect here: whoever asks finds it silent
			log.Printf("stand-in on port %d: %v\n%s", s.port, p, debug.Stack())
		}
	}()
	s.mouth.Hear(from, b)
}

// sendPacket sends a datagram, as the fault that is on lets it.
func (s *Server) sendPacket(to netip.AddrPort, b []byte) {
	s.mu.Lock()
	fault, c := s.fault, s.packets
	s.answers++
	turn := s.answers
	s.mu.Unlock()
	if c == nil || fault.Kind == "silent" || fault.Kind == "off" || fault.Kind == "drop" && turn%4 == 0 {
		return
	}
	if fault.Kind == "garbage" {
		b = Garbage(len(b))
	}
	late := s.Think
	if fault.Kind == "delay" {
		late = time.Duration(fault.Value) * time.Millisecond
	}
	if late > 0 {
		time.AfterFunc(late, func() { _, _ = c.WriteToUDPAddrPort(b, to) }) // what gets lost gets lost
		return
	}
	_, _ = c.WriteToUDPAddrPort(b, to)
}
