package modbus

import (
	"ferry/internal/core/image"
	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

// Speech begins what Ferry says to one client as an answering end.
func (d dissector) Speech(p *field.Post, c *field.Client) field.Speech {
	return &speech{framing: d.framing, post: p, client: c}
}

// speech answers the requests of one client. A unit at which nobody answers is
// answered as a gateway does whose device is silent (application protocol
// specification, clause 7, code 11), so that the client need not wait.
type speech struct {
	framing wire.Framing
	post    *field.Post
	client  *field.Client
	end     *field.Served
}

func (s *speech) Length(came []byte) (int, error) {
	size, err := s.framing.RequestLen(came)
	if size > len(came) {
		size = 0
	}
	return size, err
}

func (s *speech) Answer(dst, request []byte) []byte {
	transaction := uint16(0)
	if s.framing == wire.TCP {
		transaction = wire.Transaction(request)
	}
	unit, pdu, err := s.framing.Open(request)
	if err != nil || len(pdu) == 0 {
		return dst
	}
	answer := []byte{pdu[0] | 0x80, wire.TargetNotReached}
	if s.end = s.post.End(int(unit)); s.end != nil {
		var room [260]byte
		answer = wire.AppendAnswer(room[:0], pdu, s)
	}
	if answer[0]&0x80 != 0 {
		s.client.Refuse()
	}
	return s.framing.AppendFrame(dst, transaction, unit, answer...)
}

func (s *speech) Read(dst []byte, area string, start, count int) ([]byte, byte) {
	data, refusal := s.end.Read(s.client, dst, area, start, count)
	return data, codeOf[refusal]
}

func (s *speech) Change(area string, start, count int, change func([]byte)) byte {
	refusal := s.end.Change(s.client, area, start, count, change)
	if refusal == image.ReadOnly && !s.end.Writes(area) {
		return wire.IllegalFunction // nothing of it is ever written
	}
	return codeOf[refusal]
}

func (s *speech) Identity() string { return s.end.Name() }

// codeOf are the exceptions by which requests are refused.
var codeOf = map[image.Refusal]byte{image.NoPlace: wire.IllegalAddress, image.ReadOnly: wire.IllegalAddress,
	image.NoValue: wire.TargetNotReached, image.BadValue: wire.IllegalValue}
