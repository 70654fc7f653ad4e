package modbus

import (
	"bytes"
	"context"
	"fmt"
	"time"

	family "ferry/internal/core/family/modbus"
	"ferry/internal/core/serial"
	"ferry/internal/field"
	"ferry/internal/field/ports"
	wire "ferry/internal/wire/modbus"
)

// AnswerLine answers as stations of a serial line. It hears everything that is said
// there: what is for other stations, and what these say, is left alone, and a
// broadcast is carried out and not answered (serial line guide, clause 2.1).
func (d serialDriver) AnswerLine(ctx context.Context, path string, f serial.Format, p *field.Post,
	c *field.Client) error {
	if f.Baud == 0 {
		f = serial.Usual
	}
	port, err := ports.Open(ctx, path, f)
	if err != nil {
		return fmt.Errorf("the port cannot be had: %w", err)
	}
	defer port.Close()
	s := station{speech: speech{framing: d.framing, post: p, client: c}, port: port, char: f.CharMs()}
	if s.silence = 3.5 * s.char; d.framing == wire.RTU {
		s.silence = family.SilenceMs(f)
	}
	in := make([]byte, 4*wire.MaxASCII)
	for ctx.Err() == nil {
		n, err := port.Read(in, time.Now().Add(lull))
		if err != nil {
			return fmt.Errorf("the port ended: %w", err)
		}
		if n == 0 {
			if err := s.unknown(); err != nil {
				return err
			}
			continue
		}
		if s.heard = append(s.heard, in[:n]...); len(s.heard) > len(in) {
			s.heard = s.heard[:0]
			continue
		}
		if err := s.hear(); err != nil {
			return err
		}
	}
	return nil
}

// lull is after which silence what has come of a frame is given up: adapters hand
// octets over in lumps, up to 16 ms apart.
const lull = 40 * time.Millisecond

// station is Ferry on a line.
type station struct {
	speech
	port          *ports.Port
	char, silence float64 // ms
	heard         []byte
	// sent is what was said last, while an adapter that hears itself may bring it back,
	// until when; hears is set once one was found to do so, and deaf once not.
	sent        []byte
	until       time.Time
	hears, deaf bool
}

// hear takes the whole frames out of what was heard, and answers those that are for
// here.
func (s *station) hear() error {
	for len(s.heard) > 0 {
		if s.echoed() {
			return nil // the rest of it is on its way
		}
		if len(s.heard) == 0 {
			return nil
		}
		size, asked := s.framing.FrameAt(s.heard)
		if size == 0 || !asked && s.framing.Unfinished(s.heard) {
			return nil
		}
		frame := bytes.Clone(s.heard[:size])
		s.heard = s.heard[:copy(s.heard, s.heard[size:])]
		if !asked {
			continue
		}
		if err := s.asked(frame); err != nil {
			return err
		}
	}
	return nil
}

// unknown gives up what has come of a frame: it is not whole by now and will not be, or
// its function is none that tells its length, which is refused.
func (s *station) unknown() error {
	frame := bytes.Clone(s.heard)
	s.heard = s.heard[:0]
	if len(frame) == 0 || len(s.sent) > 0 && bytes.HasPrefix(s.sent, frame) {
		return nil
	}
	if n, asked := s.framing.FrameAt(frame); n > 0 && !asked {
		return nil // another station's answer
	}
	if unit, pdu, err := s.framing.Open(frame); err != nil || len(pdu) == 0 || pdu[0]&0x80 != 0 ||
		s.post.End(int(unit)) == nil {
		return nil
	}
	return s.asked(frame)
}

// echoed takes out what comes back of what was said. It reports whether more of that
// may follow. An answer to a write reads as the write does: until it is known whether
// the adapter hears itself, what looks like one right behind it is taken for it.
func (s *station) echoed() (more bool) {
	if len(s.sent) == 0 {
		return false
	}
	switch {
	case !s.hears && s.deaf, time.Now().After(s.until):
		s.sent = nil
	case bytes.HasPrefix(s.heard, s.sent):
		s.heard = s.heard[:copy(s.heard, s.heard[len(s.sent):])]
		s.hears, s.sent = true, nil
	case bytes.HasPrefix(s.sent, s.heard):
		return true
	default:
		s.deaf, s.sent = !s.hears, nil
	}
	return false
}

// asked carries out a request, and answers it if it is for one of the stations here.
func (s *station) asked(request []byte) error {
	unit, pdu, err := s.framing.Open(request)
	if err != nil || len(pdu) == 0 {
		return nil
	}
	if unit == 0 {
		s.client.Asked()
		for _, each := range s.post.Stations() {
			if s.end = s.post.End(each); s.end != nil && pdu[0] > wire.ReadInputRegisters {
				wire.AppendAnswer(nil, pdu, s)
			}
		}
		return nil
	}
	if s.post.End(int(unit)) == nil {
		return nil // another station's
	}
	s.client.Asked()
	answer := s.Answer(nil, request)
	if len(answer) == 0 {
		return nil
	}
	time.Sleep(ms(s.silence)) // whoever asked has to have let go of the line
	s.sent, s.until = answer, time.Now().Add(ms(s.char*float64(len(answer)))+2*lull)
	if err := s.port.Write(answer, time.Now().Add(field.Sending+ms(s.char*float64(len(answer))))); err != nil {
		return fmt.Errorf("an answer does not leave: %w", err)
	}
	return nil
}
