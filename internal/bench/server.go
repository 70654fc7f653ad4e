// Package bench holds simulated devices that stand in for real ones: servers
// on loopback with values that live, and faults that can be switched on.
package bench

import (
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"time"

	"ferry/internal/core/address"
	wire "ferry/internal/wire/modbus"
)

// Fault is what is wrong with a simulated device.
type Fault struct {
	// Kind is one of Faults, "" for a healthy device.
	Kind string `json:"kind"`
	// Value is the delay in milliseconds or the exception code.
	Value int `json:"value,omitempty"`
}

// FaultKind describes one fault.
type FaultKind struct {
	Kind    string `json:"kind"`
	Title   string `json:"title"`
	Unit    string `json:"unit,omitempty"`
	Default int    `json:"default,omitempty"`
}

// Faults lists every fault that a device can have.
func Faults() []FaultKind {
	return []FaultKind{
		{Kind: "", Title: "healthy"},
		{Kind: "off", Title: "switched off: nothing comes back"},
		{Kind: "stop", Title: "server stopped: connections are refused"},
		{Kind: "refuse", Title: "takes no connection: tears each down"},
		{Kind: "silent", Title: "takes connections and stays silent"},
		{Kind: "delay", Title: "answers late", Unit: "ms", Default: 800},
		{Kind: "exception", Title: "answers with an exception", Unit: "code", Default: 2},
		{Kind: "freeze", Title: "answers, but its values stand still"},
		{Kind: "drop", Title: "drops the connection now and then"},
		{Kind: "garbage", Title: "answers with garbage"},
		{Kind: "short", Title: "answers too short"},
		{Kind: "long", Title: "answers too long"},
		{Kind: "transaction", Title: "answers for another transaction"},
	}
}

// Server is one simulated Modbus TCP device.
type Server struct {
	unit     byte
	identity string
	think    time.Duration
	memory   *memory

	mu       sync.Mutex
	port     int
	listener net.Listener
	blocker  io.Closer // keeps the port without answering, while switched off
	conns    map[net.Conn]struct{}
	fault    Fault
	answers  int
	closed   bool
}

// newServer starts a device on a free loopback port, or on want if it is not 0.
func newServer(want int, unit byte, identity string, think time.Duration, m *memory) (*Server, error) {
	s := &Server{unit: unit, identity: identity, think: think, memory: m, conns: map[net.Conn]struct{}{}, port: want}
	if err := s.listen(); err != nil {
		return nil, err
	}
	return s, nil
}

// Addr returns where the device listens, or would.
func (s *Server) Addr() string { return loopback(s.port) }

func (s *Server) listen() error {
	l, err := net.Listen("tcp", loopback(s.port))
	if err != nil {
		return err
	}
	s.listener, s.port = l, l.Addr().(*net.TCPAddr).Port
	go s.accept(l)
	return nil
}

// SetFault switches a fault on, or off with the zero Fault. Open connections
// are dropped when the fault concerns connecting.
func (s *Server) SetFault(f Fault) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return net.ErrClosed
	}
	s.fault, s.answers = f, 0
	s.memory.freeze(f.Kind == "freeze")
	down := f.Kind == "stop" || f.Kind == "off"
	if down || f.Kind == "refuse" {
		for c := range s.conns {
			abort(c)
		}
	}
	if s.blocker != nil {
		if err := s.blocker.Close(); err != nil {
			return err
		}
		s.blocker = nil
	}
	if down && s.listener != nil {
		if err := s.listener.Close(); err != nil {
			return err
		}
		s.listener = nil
	}
	if f.Kind == "off" {
		b, err := blackHole(s.port)
		if err != nil {
			return err
		}
		s.blocker = b
	}
	if !down && s.listener == nil {
		return s.listen()
	}
	return nil
}

// Fault returns the fault that is on.
func (s *Server) Fault() Fault {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fault
}

// Close stops the device for good.
func (s *Server) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	for c := range s.conns {
		abort(c)
	}
	var errs []error
	if s.listener != nil {
		errs = append(errs, s.listener.Close())
	}
	if s.blocker != nil {
		errs = append(errs, s.blocker.Close())
	}
	return errors.Join(errs...)
}

// abort ends a connection with a reset rather than in order.
func abort(c net.Conn) {
	if tcp, ok := c.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0) // a connection that is gone already needs no reset
	}
	_ = c.Close()
}

func (s *Server) accept(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		if s.closed || s.fault.Kind == "refuse" || s.listener != l {
			s.mu.Unlock()
			abort(c)
			continue
		}
		s.conns[c] = struct{}{}
		s.mu.Unlock()
		go s.serve(c)
	}
}

func (s *Server) serve(c net.Conn) {
	defer func() {
		s.mu.Lock()
		delete(s.conns, c)
		s.mu.Unlock()
		_ = c.Close() // both ends may have closed it already
	}()
	request := make([]byte, wire.MaxADU)
	var answer []byte
	for {
		if _, err := io.ReadFull(c, request[:6]); err != nil {
			return
		}
		n, err := wire.FrameLen(request[:6])
		if err != nil || n < 8 {
			return
		}
		if _, err := io.ReadFull(c, request[6:n]); err != nil {
			return
		}
		if request[6] != s.unit {
			continue // not its own unit: silence
		}
		s.mu.Lock()
		fault := s.fault
		s.answers++
		turn := s.answers
		s.mu.Unlock()
		pause := s.think
		if fault.Kind == "delay" {
			pause = time.Duration(fault.Value) * time.Millisecond
		}
		time.Sleep(pause)
		answer = s.answer(answer[:0], request[:n])
		if answer = spoil(fault, turn, answer); answer == nil {
			if fault.Kind == "drop" {
				return
			}
			continue
		}
		if _, err := c.Write(answer); err != nil {
			return
		}
	}
}

// spoil applies a fault to an answer; nil means that none is sent.
func spoil(fault Fault, turn int, answer []byte) []byte {
	switch fault.Kind {
	case "silent":
		return nil
	case "drop":
		if turn%4 == 0 {
			return nil
		}
	case "exception":
		return exception(answer, byte(fault.Value))
	case "garbage":
		for i := range answer {
			answer[i] = byte(rand.IntN(256))
		}
	case "short":
		if len(answer) > 10 {
			answer = answer[:len(answer)-2]
			binary.BigEndian.PutUint16(answer[4:], uint16(len(answer)-6))
		}
	case "long":
		answer = append(answer, 0xDE, 0xAD)
		binary.BigEndian.PutUint16(answer[4:], uint16(len(answer)-6))
	case "transaction":
		binary.BigEndian.PutUint16(answer, binary.BigEndian.Uint16(answer)+7)
	}
	return answer
}

func exception(answer []byte, code byte) []byte {
	return wire.AppendFrame(nil, binary.BigEndian.Uint16(answer), answer[6], answer[7]|0x80, code)
}

// answer appends the honest answer to a request.
func (s *Server) answer(dst, request []byte) []byte {
	pdu, code := s.carryOut(request[7:])
	if code != 0 {
		pdu = []byte{request[7] | 0x80, code}
	}
	return wire.AppendFrame(dst, wire.Transaction(request), s.unit, pdu...)
}

func (s *Server) carryOut(pdu []byte) (answer []byte, exception byte) {
	const illegalFunction, illegalAddress, illegalValue = 1, 2, 3
	switch pdu[0] {
	case wire.ReadCoils, wire.ReadDiscreteInputs, wire.ReadHoldingRegisters, wire.ReadInputRegisters:
		if len(pdu) != 5 {
			return nil, illegalValue
		}
		area := map[byte]string{1: address.Coils, 2: address.DiscreteInputs, 3: address.HoldingRegisters, 4: address.InputRegisters}[pdu[0]]
		start, count := binary.BigEndian.Uint16(pdu[1:]), int(binary.BigEndian.Uint16(pdu[3:]))
		most := 125
		if pdu[0] <= 2 {
			most = 2000
		}
		if count < 1 || count > most {
			return nil, illegalValue
		}
		data, ok := s.memory.read(area, int(start), count)
		if !ok {
			return nil, illegalAddress
		}
		return append([]byte{pdu[0], byte(len(data))}, data...), 0
	case wire.WriteSingleCoil, wire.WriteSingleRegister, wire.WriteRegisters:
		if len(pdu) < 5 {
			return nil, illegalValue
		}
		area, data := address.HoldingRegisters, pdu[3:5]
		switch pdu[0] {
		case wire.WriteSingleCoil:
			area = address.Coils
			data = []byte{pdu[3] & 1}
		case wire.WriteRegisters:
			if len(pdu) < 6 || len(pdu) != 6+int(pdu[5]) || int(pdu[5]) != 2*int(binary.BigEndian.Uint16(pdu[3:])) {
				return nil, illegalValue
			}
			data = pdu[6:]
		}
		if !s.memory.write(area, int(binary.BigEndian.Uint16(pdu[1:])), data) {
			return nil, illegalAddress
		}
		return pdu[:5], 0
	case wire.EncapsulatedTransfer:
		if s.identity == "" {
			return nil, illegalFunction
		}
		return append([]byte{wire.EncapsulatedTransfer, 14, 1, 1, 0, 0, 1, 0, byte(len(s.identity))}, s.identity...), 0
	case wire.ReportServerID:
		if s.identity == "" {
			return nil, illegalFunction
		}
		return append(append([]byte{wire.ReportServerID, byte(len(s.identity) + 1)}, s.identity...), 0xFF), 0
	}
	return nil, illegalFunction
}
