package modbus

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
)

// begins are frames of which all but the last octet pass their check as another kind of
// frame: an answer of two registers, and a request for registers from 0x0200 on.
func begins() (answer, request []byte) {
	body := []byte{11, ReadHoldingRegisters, 4, 0x41, 0x0D, 0x99, 0}
	body[6] = byte(CRC(body[:6]))
	answer = RTU.AppendFrame(nil, 0, body[0], body[1:]...)
	for at := byte(0); ; at++ {
		body := []byte{11, ReadHoldingRegisters, 2, at, 0, 0}
		if body[5] = byte(CRC(body[:5])); body[5] > 0 && body[5] <= 125 {
			return answer, RTU.AppendFrame(nil, 0, body[0], body[1:]...)
		}
	}
}

// TestUnfinished: a frame is told by all of it, whatever its beginning passes for.
func TestUnfinished(t *testing.T) {
	answer, request := begins()
	for _, c := range []struct {
		frame []byte
		asked bool
	}{{answer, false}, {request, true}} {
		short := c.frame[:len(c.frame)-1]
		if n, asked := RTU.FrameAt(short); n != len(short) || asked == c.asked || !RTU.Unfinished(short) {
			t.Fatalf("% X: %d octets, asked %v", short, n, asked)
		}
		if n, asked := RTU.FrameAt(c.frame); n != len(c.frame) || asked != c.asked || RTU.Unfinished(c.frame) {
			t.Errorf("% X: %d octets, asked %v", c.frame, n, asked)
		}
	}
	// Whatever two registers hold, their answer is no request.
	for v := range 1 << 16 {
		frame := RTU.AppendFrame(nil, 0, 1, ReadInputRegisters, 4, 0x41, 0x20, byte(v>>8), byte(v))
		if n, asked := RTU.FrameAt(frame); n != 9 || asked {
			t.Fatalf("% X: %d octets, asked %v", frame, n, asked)
		}
	}
}

// TestUnfinishedInRecordings: recorded octet by octet, over a line and over a
// connection, each of them is what it is.
func TestUnfinishedInRecordings(t *testing.T) {
	two := RTU.AppendFrame(nil, 0, 11, ReadPDU(nil, "hr", 0, 2)...)
	answer, odd := begins()
	registers := make([]byte, 2+2*int(odd[5]))
	registers[0], registers[1] = ReadHoldingRegisters, 2*odd[5]
	many := RTU.AppendFrame(nil, 0, 11, registers...)
	for _, oneWay := range []bool{true, false} {
		for _, parts := range []int{1, 2} { // all at once but its last octet; octet by octet
			var got []string
			e := &lineEar{framing: RTU, oneWay: oneWay, heard: func(h *capture.Heard) {
				got = append(got, fmt.Sprintf("%s %s%s % X", h.Outcome, h.Cause, h.Stray, h.Request))
			}}
			at, number := time.UnixMilli(1_700_000_000_000), int64(0)
			say := func(side capture.Side, frame []byte) {
				from := 0
				for to := range len(frame) + 1 {
					if to == len(frame) || parts == 2 && to > 0 || to == len(frame)-1 {
						at, number = at.Add(time.Millisecond), number+1
						e.Said(capture.Piece{Side: side, Octets: frame[from:to], At: at, Number: number})
						from = to
					}
				}
				at = at.Add(20 * time.Millisecond)
			}
			for range 2 {
				say(capture.Asker, two)
				say(capture.Answerer, answer)
				say(capture.Asker, odd)
				say(capture.Answerer, many)
			}
			say(capture.Asker, odd) // and is not answered
			e.Finish(&capture.Conn{}, at.Add(5*time.Second))
			want := []string{fmt.Sprintf("%s  % X", exchange.Answered, two), fmt.Sprintf("%s  % X", exchange.Answered, odd)}
			want = append(append(want, want...), fmt.Sprintf("%s  % X", exchange.NoAnswer, odd))
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Errorf("one way %v, parts %d:\n%q\nwant\n%q", oneWay, parts, got, want)
			}
		}
	}
}

// TestQuestionLikeAnAnswer: a question that begins like the answer to the one before, which nobody answered, is one.
func TestQuestionLikeAnAnswer(t *testing.T) {
	read := func(at uint16, count int) []byte {
		return RTU.AppendFrame(nil, 0, 11, ReadPDU(nil, "hr", at, count)...)
	}
	one := RTU.AppendFrame(nil, 0, 11, ReadHoldingRegisters, 2, 0x12, 0x34)
	for _, most := range []int{1, 5, 300} {
		var got []string
		e := &lineEar{framing: RTU, oneWay: true, heard: func(h *capture.Heard) {
			got = append(got, fmt.Sprintf("%s %d %s%s", h.Outcome, h.Range.Start, h.Cause, h.Stray))
		}}
		at := time.UnixMilli(1_700_000_000_000)
		for _, frame := range [][]byte{read(0, 20), read(0x2801, 1), one, read(0x2802, 1), one, read(0x2803, 1), one} {
			for len(frame) > 0 {
				n := min(len(frame), most)
				at = at.Add(time.Millisecond)
				e.Said(capture.Piece{Octets: frame[:n], At: at, Number: 1})
				frame = frame[n:]
			}
			at = at.Add(100 * time.Millisecond)
		}
		e.Finish(&capture.Conn{}, at)
		want := "[no answer 0  answered 10241  answered 10242  answered 10243 ]"
		if fmt.Sprint(got) != want {
			t.Errorf("up to %d octets: %v, want %s", most, got, want)
		}
	}
}

// TestLongAnswersInRecordings: whatever registers hold, and in whichever pieces their answers were recorded, each is
// the answer to its question; where one breaks off, the next question is heard at its time.
func TestLongAnswersInRecordings(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 13))
	for _, oneWay := range []bool{true, false} {
		for _, most := range []int{1, 3, 40} { // octets of a piece
			heard, broken := 0, 0
			var asked time.Time
			e := &lineEar{framing: RTU, oneWay: oneWay, heard: func(h *capture.Heard) {
				heard++
				switch {
				case h.Outcome == exchange.Garbled && h.Stray == "":
					broken++
				case h.Outcome != exchange.Answered || h.Cause != "" || h.Stray != "":
					t.Errorf("one way %v, up to %d: %s %s %s %s, % X: % X", oneWay, most, h.Outcome, h.Cause, h.Stray,
						h.Broken, h.Request, h.Answer)
				case !h.Asked.Equal(asked):
					t.Errorf("one way %v, up to %d: asked at %s, and it says %s", oneWay, most, asked, h.Asked)
				}
			}}
			at, number := time.UnixMilli(1_700_000_000_000), int64(0)
			say := func(side capture.Side, f []byte) {
				for len(f) > 0 {
					n := min(len(f), 1+random.IntN(most))
					at, number = at.Add(time.Millisecond), number+1
					if side == capture.Asker && len(f) == 8 {
						asked = at
					}
					e.Said(capture.Piece{Side: side, Octets: f[:n], At: at, Number: number})
					f = f[n:]
				}
				at = at.Add(20 * time.Millisecond)
			}
			const exchanges = 600
			wantBroken := 0
			for i := range exchanges {
				unit, n := byte(11+i%3), byte(10+random.IntN(116))
				say(capture.Asker, RTU.AppendFrame(nil, 0, unit, ReadPDU(nil, "hr", uint16(random.IntN(65000)), int(n))...))
				pdu := []byte{ReadHoldingRegisters, 2 * n}
				for range 2 * n {
					pdu = append(pdu, byte(random.Uint32()))
				}
				answer := RTU.AppendFrame(nil, 0, unit, pdu...)
				if i > 3 && i%20 == 19 && i < exchanges-1 {
					wantBroken++
					answer = answer[:3+random.IntN(len(answer)-4)]
				}
				say(capture.Answerer, answer)
			}
			if heard != exchanges || broken != wantBroken {
				t.Errorf("one way %v, up to %d: %d exchanges, %d of them broken; want %d and %d", oneWay, most, heard, broken,
					exchanges, wantBroken)
			}
		}
	}
}
