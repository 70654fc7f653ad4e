package modbus

import (
	"bytes"
	"time"

	"ferry/internal/core/capture"
)

// heardOctets wait to become a frame.
type heardOctets struct {
	octets []byte
	came   []arrival // of their pieces, in their order
}

// arrival is when the octets from one on came.
type arrival struct {
	from   int
	at     time.Time
	number int64 // of the packet
}

func (in *heardOctets) add(p capture.Piece) {
	in.came = append(in.came, arrival{len(in.octets), p.At, p.Number})
	in.octets = append(in.octets, p.Octets...)
}

// of is the arrival of an octet.
func (in *heardOctets) of(i int) capture.Piece {
	k := len(in.came) - 1
	for k > 0 && in.came[k].from > i {
		k--
	}
	return capture.Piece{At: in.came[k].at, Number: in.came[k].number}
}

// paused is the longest pause between the pieces of the first n octets.
func (in *heardOctets) paused(n int) (longest time.Duration) {
	for k := 1; k < len(in.came) && in.came[k].from < n; k++ {
		longest = max(longest, in.came[k].at.Sub(in.came[k-1].at))
	}
	return longest
}

// drop takes the first n octets off.
func (in *heardOctets) drop(n int) {
	in.octets = in.octets[:copy(in.octets, in.octets[n:])]
	gone := 0
	for k := range in.came {
		if in.came[k].from -= n; in.came[k].from <= 0 {
			in.came[k].from, gone = 0, k
		}
	}
	if len(in.octets) == 0 {
		gone = len(in.came)
	}
	in.came = in.came[:copy(in.came, in.came[gone:])]
}

// find returns where the first frame in b begins, its length, 0 for none yet, and
// whether it is a question; over says that nothing more comes.
func (e *lineEar) find(b []byte, side capture.Side, over bool) (from, n int, asks bool) {
	for from := range b {
		rest := b[from:]
		if e.framing == ASCII && rest[0] != ':' {
			continue
		}
		if !over && e.awaits(rest, side) {
			if at, n := e.asksAnew(rest); n > 0 {
				if first := e.sensible(rest); first > 0 { // it only began like that answer
					at, n = 0, first
				}
				return from + at, n, true
			}
			return from, 0, false
		}
		asked, _ := e.framing.RequestLen(rest)
		told, _ := e.framing.AnswerLen(rest)
		fits := func(n int) bool {
			if n == 0 || n > len(rest) {
				return false
			}
			_, _, err := e.framing.Open(rest[:n])
			return err == nil
		}
		asks, tells := fits(asked), fits(told)
		if e.framing == ASCII && asks {
			asks, tells = e.asciiSide(rest[:asked])
		}
		if asks && tells && asked != told { // the shorter is the other without its last octet
			asks = !e.oneWay && side == capture.Asker || e.oneWay && asked > told
			tells = !asks
		}
		if !over && e.framing.Unfinished(rest) && (asks || tells) && e.expects(rest, side) != asks {
			return from, 0, false
		}
		switch {
		case asks && tells && !e.oneWay:
			return from, asked, side == capture.Asker
		case asks && tells:
			// It may be both: an answer if it is one to what was asked just before.
			_, err := e.framing.Check(e.asked.frame, rest[:told])
			return from, told, len(e.asked.frame) == 0 || err != nil
		case asks && (e.oneWay || side == capture.Asker || bytes.Equal(rest[:asked], e.asked.frame)):
			return from, asked, true
		case tells:
			return from, told, false
		}
		if whole, unit := e.unknown(rest, from); whole {
			return from, len(rest), e.asked.frame == nil || !e.oneWay && side == capture.Asker ||
				e.oneWay && unit != e.unit()
		}
		// Where a frame may begin that is not all here yet, the rest is waited for.
		if from == 0 && (max(asked, told) > len(rest) || asked == 0 && told == 0 && len(rest) < 4) {
			if len(e.asked.frame) == 0 || rest[0] == e.unit() || len(rest) < 8 {
				if later, _, _ := e.later(b, side); later == 0 {
					return 0, 0, false
				}
			}
		}
	}
	return 0, 0, false
}

// awaits reports whether b begins like the answer that is waited for, and is not all of
// it.
func (e *lineEar) awaits(b []byte, side capture.Side) bool {
	return (e.oneWay || side == capture.Answerer) && e.framing.Begins(e.asked.frame, b) && !bytes.Equal(b, e.asked.frame)
}

// asksAnew finds the question behind an answer that broke off, on a line where nobody
// says who speaks.
func (e *lineEar) asksAnew(b []byte) (from, n int) {
	for from := 1; e.oneWay && from < len(b); from++ {
		if n := e.sensible(b[from:]); n > 0 {
			return from, n
		}
	}
	return 0, 0
}

// sensible returns the length of the question that b begins with, 0 for none. In the
// middle of a long answer much passes its check by chance: it is one only if it makes
// sense as well, and its unit has been asked before.
func (e *lineEar) sensible(b []byte) int {
	n, _ := e.framing.RequestLen(b)
	if n < 8 || n > len(b) || !e.units[b[0]] {
		return 0
	}
	count, sense := int(b[4])<<8|int(b[5]), false
	switch b[1] {
	case ReadCoils, ReadDiscreteInputs, ReadHoldingRegisters, ReadInputRegisters:
		sense = count > 0 && count <= mostRead[b[1]]
	case WriteSingleCoil:
		sense = count == 0 || count == 0xFF00
	case WriteRegisters:
		sense = int(b[6]) == 2*count
	case WriteCoils:
		sense = int(b[6]) == (count+7)/8
	case WriteSingleRegister:
		sense = n == len(b) // whatever it says makes sense
	}
	if _, _, err := e.framing.Open(b[:n]); !sense || err != nil {
		return 0
	}
	return n
}

// expects reports whether a question is what comes next, and not the answer to the one
// that waits, which b begins like.
func (e *lineEar) expects(b []byte, side capture.Side) bool {
	if !e.oneWay {
		return side == capture.Asker
	}
	unit, pdu, err := e.framing.Open(e.asked.frame)
	return err != nil || len(pdu) == 0 || b[0] != unit || b[1] != pdu[0]
}

// later looks for a frame behind the first octet.
func (e *lineEar) later(b []byte, side capture.Side) (from, n int, asks bool) {
	for from := 1; from < len(b); from++ {
		if n, asks := e.framing.FrameAt(b[from:]); n > 0 {
			return from, n, asks
		}
	}
	return 0, 0, false
}

// unknown reports whether all that came is one frame of a function that this package
// does not know.
func (e *lineEar) unknown(b []byte, from int) (whole bool, unit byte) {
	if e.framing != RTU || from > 0 || len(b) < 4 {
		return false, 0
	}
	if _, known := functionWords[b[1]&^exceptionFlag]; known {
		return false, 0
	}
	unit, _, err := e.framing.Open(b)
	return err == nil, unit
}

// asciiSide tells questions from answers where frames end alike, by their length.
func (e *lineEar) asciiSide(frame []byte) (asks, tells bool) {
	_, pdu, err := ASCII.Open(frame)
	if err != nil || len(pdu) == 0 {
		return false, false
	}
	return requestLen(pdu) == len(pdu), answerLen(pdu) == len(pdu)
}

func (e *lineEar) unit() byte {
	unit, _, _ := e.framing.Open(e.asked.frame)
	return unit
}
