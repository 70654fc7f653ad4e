package modbus

import (
	"bytes"
	"fmt"

	"ferry/internal/core/exchange"
	"ferry/internal/core/serial"
)

// FrameAt returns the length of the frame that b begins with, 0 if there is none, and
// whether it can be a request. On a serial line nothing but its length tells; where both
// readings pass, the longer is it (see Unfinished).
func (f Framing) FrameAt(b []byte) (n int, asked bool) {
	for _, of := range []struct {
		length func([]byte) (int, error)
		asked  bool
	}{{f.RequestLen, true}, {f.AnswerLen, false}} {
		size, err := of.length(b)
		if err != nil || size <= n || size > len(b) {
			continue
		}
		unit, pdu, err := f.Open(b[:size])
		if err != nil {
			continue
		}
		if f == ASCII && of.asked {
			// Its frames end alike: what it is follows from its length.
			if as, err := RTU.RequestLen(append(append([]byte{unit}, pdu...), 0, 0)); err != nil || as != len(pdu)+3 {
				continue
			}
		}
		n, asked = size, of.asked
	}
	return n, asked
}

// Unfinished reports whether a frame that is all of b may be one of an octet more, the
// last of which has not come. A check by CRC leaves nothing behind itself: when of a
// frame without its last octet the two before that are the check of the others, which
// is so in one of 256, the last octet is 0 and the shorter passes as well as the whole.
// Two registers make an answer of nine octets, and a request has eight.
func (f Framing) Unfinished(b []byte) bool {
	if f != RTU {
		return false
	}
	asked, _ := f.RequestLen(b)
	told, _ := f.AnswerLen(b)
	return max(asked, told) == len(b)+1 && min(asked, told) == len(b)
}

// Begins reports whether b may be the beginning of an answer to a request, of which the
// rest has not come: what a part of it passes for, by chance, it is not.
func (f Framing) Begins(request, b []byte) bool {
	if f != RTU || len(request) < 6 || len(b) < 3 || b[0] != request[0] || b[1] != request[1] {
		return false
	}
	told, _ := f.AnswerLen(b)
	count := int(request[4])<<8 | int(request[5])
	switch b[1] {
	case ReadCoils, ReadDiscreteInputs:
		return told > len(b) && told == 5+(count+7)/8
	case ReadHoldingRegisters, ReadInputRegisters:
		return told > len(b) && told == 5+2*count
	}
	return told > len(b)
}

// Cause tells what octets look like that came for a request of a serial frame and are
// no right answer to it: as an outcome's cause, as a format if they look like another
// one than that of the port, and as a sentence. own is nil where it is not known.
func (f Framing) Cause(request, in []byte, own *serial.Format) (cause exchange.Cause, looks, says string) {
	body, _ := f.body(request)
	if len(body) < 2 {
		return exchange.Noise, "", fmt.Sprintf("%d octets came that are no answer", len(in))
	}
	whole, _ := f.AnswerLen(in)
	if whole > 0 && whole <= len(in) {
		if unit, _, err := f.Open(in[:whole]); err == nil {
			if unit != body[0] {
				return exchange.OtherStation, "", fmt.Sprintf("unit %d answers in the place of unit %d", unit, body[0])
			}
			if len(in) > whole {
				return exchange.TwoStations, "",
					fmt.Sprintf("a right answer came and %d octets more: two units answer to number %d",
						len(in)-whole, body[0])
			}
		}
	}
	heads := f.heads(body[0], body[1:])
	head := bytes.HasPrefix(in, heads[0].Octets) || bytes.HasPrefix(in, heads[1].Octets)
	if head && whole > 0 && len(in) > whole {
		if _, _, err := f.Open(in); err == nil { // one frame, with its check behind all of it
			return "", "", fmt.Sprintf("the answer passes its check and has %d octets more than it says", len(in)-whole)
		}
		return exchange.TwoStations, "",
			fmt.Sprintf("the answer begins as it should and %d octets come too many: two units talk at once",
				len(in)-whole)
	}
	if head && whole > len(in) {
		return exchange.CutShort, "",
			fmt.Sprintf("%d octets came and the other %d of the answer did not", len(in), whole-len(in))
	}
	if !head && own != nil {
		if guesses := serial.Explain(in, heads[:], *own); len(guesses) > 0 && guesses[0].Share >= 0.6 {
			return exchange.Format, guesses[0].Format.String(),
				fmt.Sprintf("%d octets came and none pass: they look like %s, and this end is set to %s", len(in),
					guesses[0].Format, *own)
		}
	}
	if _, err := f.Check(request, in); err != nil {
		cause := exchange.Noise
		if head && whole == len(in) {
			cause = exchange.Check
		}
		return cause, "", fmt.Sprintf("%d octets came and do not pass: %s", len(in), err)
	}
	return exchange.Noise, "", fmt.Sprintf("%d octets came that are no answer", len(in))
}

// heads returns how the answer of a unit to a data unit, and a refusal, must begin.
func (f Framing) heads(unit byte, pdu []byte) [2]serial.Head {
	answer, length := []byte{unit, pdu[0]}, 2
	switch {
	case len(pdu) < 5, pdu[0] == EncapsulatedTransfer, pdu[0] == ReportServerID:
		length = 0 // it depends on the device
	case pdu[0] <= ReadDiscreteInputs:
		answer = append(answer, byte((int(pdu[3])<<8+int(pdu[4])+7)/8))
		length = 3 + int(answer[2])
	case pdu[0] <= ReadInputRegisters:
		answer = append(answer, 2*pdu[4])
		length = 3 + int(answer[2])
	default:
		answer = append(answer, pdu[1:4]...)
		length = 6
	}
	refusal := []byte{unit, pdu[0] | exceptionFlag}
	frame := func(head []byte, octets int) serial.Head {
		if octets == 0 {
			return serial.Head{Octets: head}
		}
		if f == ASCII {
			return serial.Head{Octets: fmt.Appendf([]byte{':'}, "%X", head), Length: 2*octets + 5}
		}
		return serial.Head{Octets: head, Length: octets + 2}
	}
	return [2]serial.Head{frame(answer, length), frame(refusal, 3)}
}
