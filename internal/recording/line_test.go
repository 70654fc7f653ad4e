package recording

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/serial"
	wire "ferry/internal/wire/modbus"
)

// lineActor plays on a serial line, in one of the ways in which such a line is recorded:
// as lines that say who speaks, as lines that do not, or as a stream of TCP.
type lineActor struct {
	actor
	framing wire.Framing
	text    *strings.Builder // nil for a stream
	says    bool
	stream  *rehearsal.Conn
}

func (l *lineActor) say(side capture.Side, octets []byte) {
	if l.text == nil {
		l.stream.Say(side, octets)
		return
	}
	who := ""
	if l.says {
		who = []string{"tx ", "rx "}[side]
	}
	fmt.Fprintf(l.text, "%s %s% X\n", l.Now.Format("15:04:05.000000"), who, octets)
	l.Wait(time.Duration(float64(len(octets)) * serial.Usual.CharMs() * float64(time.Millisecond)))
}

func (l *lineActor) frame(unit byte, pdu ...byte) []byte {
	return l.framing.AppendFrame(nil, 0, unit, pdu...)
}

// asks has the asker ask a unit for registers, and the answer come, which is what spoil
// makes of it; nil is none.
func (l *lineActor) asks(unit byte, n int, spoil func([]byte) []byte) {
	l.say(capture.Asker, l.frame(unit, l.read(0, n)...))
	l.Wait(l.think())
	answer := l.frame(unit, l.registers(n)...)
	if spoil != nil {
		answer = spoil(answer)
	}
	if answer != nil {
		l.say(capture.Answerer, answer)
	}
	l.Wait(300 * time.Millisecond)
}

func nothing([]byte) []byte { return nil }

type lineScene struct {
	name  string
	codes string
	play  func(l *lineActor)
}

var lineScenes = []lineScene{
	{"a healthy line", "", func(l *lineActor) {
		for i := range 30 {
			l.asks(byte(11+i%3), 4+i%5, nil)
		}
	}},
	{"writes, one and several and to all", "", func(l *lineActor) {
		for i := range 20 {
			l.asks(11, 2, nil)
			one := l.frame(11, wire.WriteRegistersPDU(nil, 4, []byte{1, byte(i)})...)
			l.say(capture.Asker, one)
			l.Wait(40 * time.Millisecond)
			l.say(capture.Answerer, one)
			l.Wait(300 * time.Millisecond)
			l.say(capture.Asker, l.frame(11, wire.WriteRegistersPDU(nil, 4, []byte{1, byte(i), 0, 3})...))
			l.Wait(5 * time.Millisecond)
			l.say(capture.Answerer, l.frame(11, 16, 0, 4, 0, 2))
			l.Wait(300 * time.Millisecond)
			l.say(capture.Asker, l.frame(0, wire.WriteRegistersPDU(nil, 4, []byte{1, byte(i)})...))
			l.Wait(300 * time.Millisecond)
		}
	}},
	{"frames in pieces", "", func(l *lineActor) {
		for range 20 {
			l.say(capture.Asker, l.frame(11, l.read(0, 9)...))
			l.Wait(l.think())
			answer := l.frame(11, l.registers(9)...)
			l.say(capture.Answerer, answer[:9])
			l.Wait(16 * time.Millisecond)
			l.say(capture.Answerer, answer[9:])
			l.Wait(300 * time.Millisecond)
		}
	}},
	{"check-failed", "check-failed", func(l *lineActor) {
		for i := range 24 {
			l.asks(11, 4, func(b []byte) []byte {
				if i%6 == 5 {
					b[len(b)-6] ^= 1
				}
				return b
			})
		}
	}},
	{"noise", "noise", func(l *lineActor) {
		for i := range 24 {
			l.asks(11, 4, func(b []byte) []byte {
				if i%4 == 3 {
					for k := range b {
						b[k] = byte(0x81 + l.rnd.IntN(80))
					}
				}
				return b
			})
		}
	}},
	{"frame-torn", "frame-torn", func(l *lineActor) {
		for i := range 24 {
			l.asks(11, 6, func(b []byte) []byte {
				if i%6 == 5 {
					return b[:len(b)-4]
				}
				return b
			})
		}
	}},
	{"wrong-serial-settings", "wrong-serial-settings", func(l *lineActor) {
		for range 12 {
			l.asks(11, 4, func(b []byte) []byte {
				for k := range b {
					b[k] |= 0x80 // another parity, to a receiver that takes it for data
				}
				b[0] = 0x8B
				return b
			})
		}
	}},
	{"no-answer of a unit", "no-answer", func(l *lineActor) {
		for range 8 {
			l.asks(11, 4, nil)
			l.asks(13, 4, nothing)
		}
	}},
	{"duplicate-unit", "duplicate-unit", func(l *lineActor) {
		for range 8 {
			l.asks(11, 4, func(b []byte) []byte {
				l.say(capture.Answerer, b)
				l.Wait(6 * time.Millisecond)
				return l.frame(11, l.registers(4)...)
			})
		}
	}},
	{"another unit answers", "answer-mismatch", func(l *lineActor) {
		for range 8 {
			l.asks(11, 4, func([]byte) []byte { return l.frame(14, l.registers(4)...) })
		}
	}},
	{"late-answer", "late-answer", func(l *lineActor) {
		for range 5 {
			for range 4 {
				l.asks(11, 4, nil)
			}
			l.say(capture.Asker, l.frame(11, l.read(0, 4)...))
			l.Wait(300 * time.Millisecond)
			l.say(capture.Asker, l.frame(12, l.read(0, 2)...))
			l.Wait(5 * time.Millisecond)
			l.say(capture.Answerer, l.frame(11, l.registers(4)...))
			l.Wait(5 * time.Millisecond)
			l.say(capture.Answerer, l.frame(12, l.registers(2)...))
			l.Wait(300 * time.Millisecond)
		}
	}},
	{"exception-address", "exception-address", func(l *lineActor) {
		for range 6 {
			l.asks(11, 4, nil)
			l.asks(11, 30, func([]byte) []byte { return l.frame(11, 0x83, 2) })
		}
	}},
	{"broadcast-read", "broadcast-read", func(l *lineActor) {
		for range 6 {
			l.asks(11, 4, nil)
			l.asks(0, 4, nothing)
		}
	}},
	{"echo", "echo", func(l *lineActor) {
		for range 12 {
			request := l.frame(11, l.read(0, 4)...)
			l.say(capture.Asker, request)
			l.Wait(time.Millisecond)
			l.say(capture.Answerer, request)
			l.Wait(l.think())
			l.say(capture.Answerer, l.frame(11, l.registers(4)...))
			l.Wait(300 * time.Millisecond)
		}
	}},
	{"collision", "collision", func(l *lineActor) {
		for i := range 16 {
			l.asks(11, 4, func(b []byte) []byte {
				if i%4 == 3 {
					return append([]byte{0xF3, 0x81, 0xC0}, b...)
				}
				return b
			})
		}
	}},
	{"a function that is not known", "", func(l *lineActor) {
		for range 6 {
			l.asks(11, 4, nil)
			l.say(capture.Asker, l.frame(11, 100, 1, 2, 3))
			l.Wait(5 * time.Millisecond)
			l.say(capture.Answerer, l.frame(11, 100, 9, 8, 7, 6, 5))
			l.Wait(300 * time.Millisecond)
		}
	}},
}

// TestLines: what is played on a serial line is found by its name and nothing else is,
// whether the recording says who speaks or not, and inside a stream of TCP.
func TestLines(t *testing.T) {
	kinds := []string{"lines that say who speaks", "lines that do not", "a stream"}
	for _, s := range lineScenes {
		for way, kind := range kinds {
			t.Run(s.name+"/"+kind, func(t *testing.T) { s.judged(t, wire.RTU, way) })
		}
	}
	// Frames of hexadecimal digits end where they say so: what has no frames of its own
	// there is not played.
	for _, s := range lineScenes {
		if strings.Contains(s.name, "settings") || s.name == "noise" || s.name == "frame-torn" || s.name == "check-failed" ||
			s.name == "collision" || strings.Contains(s.name, "not known") {
			continue
		}
		t.Run(s.name+"/in digits", func(t *testing.T) { s.judged(t, wire.ASCII, 0) })
	}
}

// TestNoSilence: questions that follow at once behind an answer are named, where it is
// known how the line is set and times are times; those behind a silence are not.
func TestNoSilence(t *testing.T) {
	for _, c := range []struct {
		name    string
		says    bool
		wait    time.Duration // behind the answer
		untimed bool
		baud    int
		codes   string
	}{
		{"lines that say who speaks", true, 0, false, 19200, "no-silence-between-frames"},
		{"lines that do not", false, 0, false, 19200, "no-silence-between-frames"},
		{"too short a silence", false, 1500 * time.Microsecond, false, 9600, "no-silence-between-frames"},
		{"long enough", true, 5 * time.Millisecond, false, 9600, ""},
		{"octets without times", false, 0, true, 19200, ""},
	} {
		l := &lineActor{actor: actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(5, 1))}, framing: wire.RTU,
			text: &strings.Builder{}, says: c.says}
		var octets bytes.Buffer
		format := serial.Usual
		format.Baud = c.baud
		for range 20 {
			question, answer := l.frame(11, l.read(0, 4)...), l.frame(11, l.registers(4)...)
			octets.Write(question)
			octets.Write(answer)
			l.say(capture.Asker, question)
			l.Wait(l.think())
			// As a port hears it: the last octet is told when it is there.
			l.say(capture.Answerer, answer[:len(answer)-1])
			fmt.Fprintf(l.text, "%s %s% X\n", l.Now.Format("15:04:05.000000"), map[bool]string{true: "rx "}[c.says],
				answer[len(answer)-1:])
			l.Wait(c.wait)
		}
		source := Source{Name: "row.txt", From: strings.NewReader(l.text.String()), Serial: &format}
		if c.untimed {
			source = Source{Name: "row.bin", From: &octets, Serial: &format}
		}
		r := New(nil)
		if err := r.Read(context.Background(), source); err != nil {
			t.Fatal(err)
		}
		if got := r.Finish(); codes(got.Findings) != c.codes || got.Exchanges < 20 {
			t.Errorf("%s: %d exchanges, %+v", c.name, got.Exchanges, got.Findings)
		}
	}
}

func (s *lineScene) judged(t *testing.T, framing wire.Framing, way int) {
	l := &lineActor{actor: actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(5, uint64(way))), way: way},
		framing: framing}
	r := New(nil)
	if way < 2 {
		l.text, l.says = &strings.Builder{}, way == 0
		s.play(l)
		source := Source{Name: "tank row A.txt", From: strings.NewReader(l.text.String())}
		if framing == wire.ASCII { // packed or not makes no difference
			var packed bytes.Buffer
			z := gzip.NewWriter(&packed)
			if _, err := z.Write([]byte(l.text.String())); err != nil {
				t.Fatal(err)
			}
			if err := z.Close(); err != nil {
				t.Fatal(err)
			}
			source.From = &packed
		}
		if err := r.Read(context.Background(), source); err != nil {
			t.Fatal(err)
		}
	} else {
		l.stream = l.Dial(controller, "192.0.2.40:4001")
		s.play(l)
		l.Wait(3 * time.Second)
		l.stream.Close(capture.Asker)
		source := Source{Name: "x.pcapng", From: bytes.NewReader(written(t, l.Stage))}
		if err := r.Read(context.Background(), source); err != nil {
			t.Fatal(err)
		}
	}
	got := r.Finish()
	if codes(got.Findings) != s.codes || got.Unread != 0 || got.Exchanges == 0 {
		text := ""
		if l.text != nil {
			text = l.text.String()
		}
		t.Errorf("%d exchanges, %d not read, %v\n%s\nwant %s\n%.1500s", got.Exchanges, got.Unread, got.Said,
			told(got.Findings), s.codes, text)
	}
}
