package recording

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/family/modbus"
	"ferry/internal/core/finding"
	"ferry/internal/core/rehearsal"
	_ "ferry/internal/families"
	"ferry/internal/files"
	wire "ferry/internal/wire/modbus"
)

// The ends of the hatchery's network, as far as the scenes need them.
const (
	controller = "192.0.2.10"
	panel      = "192.0.2.12"
	skid       = "192.0.2.21:502"
	gateway    = "192.0.2.30:502"
)

// actor plays the scenes of one way of a rule.
type actor struct {
	*rehearsal.Stage
	rnd         *rand.Rand
	way         int
	transaction uint16
}

// tcp is a frame over TCP.
func tcp(transaction uint16, unit byte, pdu ...byte) []byte {
	return wire.TCP.AppendFrame(nil, transaction, unit, pdu...)
}

func (a *actor) next() uint16 { a.transaction++; return a.transaction }

// registers is an answer of so many registers.
func (a *actor) registers(n int) []byte {
	pdu := []byte{3, byte(2 * n)}
	for range n {
		pdu = append(pdu, byte(a.rnd.IntN(4)), byte(a.rnd.IntN(256)))
	}
	return pdu
}

// results is a device that counts a result every two seconds, and an asker that gives the
// number back as often as it does so; without that it counts no further.
func (a *actor) results(n, given int) {
	c := a.Dial(controller, skid)
	talk := func(pdu, answer []byte) {
		id := a.next()
		c.Talk(tcp(id, 1, pdu...), tcp(id, 1, answer...), a.think())
		a.Wait(500 * time.Millisecond)
	}
	number := byte(40)
	for i := range n {
		if i <= given {
			number++
		}
		for range 3 {
			talk(a.read(100, 3), []byte{3, 6, 0, number, byte(a.rnd.IntN(4)), byte(a.rnd.IntN(256)), 0, 7})
		}
		if i < given {
			one := wire.WriteRegistersPDU(nil, 200, []byte{0, number})
			talk(one, one)
		}
	}
}

func (a *actor) read(start uint16, n int) []byte {
	return wire.ReadPDU(nil, modbus.HoldingRegisters, start, n)
}

// think is a usual time to an answer.
func (a *actor) think() time.Duration {
	return 3*time.Millisecond + time.Duration(a.rnd.IntN(4000))*time.Microsecond
}

// polls reads a few registers so many times, a second apart.
func (a *actor) polls(c *rehearsal.Conn, unit byte, times int) {
	for range times {
		id, n := a.next(), 4+a.way
		c.Talk(tcp(id, unit, a.read(0, n)...), tcp(id, unit, a.registers(n)...), a.think())
		a.Wait(time.Second)
	}
}

// scene is something that goes wrong, or does not, in at least three ways.
type scene struct {
	name  string
	codes string // of the findings, in their order; empty for a healthy one
	play  func(a *actor)
}

var scenes = []scene{
	{"polling", "", func(a *actor) {
		c := a.Dial(controller, skid)
		a.polls(c, 1, 20)
		c.Close(capture.Asker)
	}},
	{"recorded from the middle on", "", func(a *actor) {
		c := a.Dial(controller, skid)
		a.Packets = nil
		id := a.next()
		c.Say(capture.Answerer, tcp(id, 1, a.registers(4)...)) // its question came before
		a.polls(c, 1, 20)
	}},
	{"a client that asks who it is, where the device does not know that", "", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 3 {
			c.Talk(tcp(a.next(), 1, 0x2B, 0x0E, 1, 0), tcp(a.transaction, 1, 0xAB, 1), a.think())
			a.polls(c, 1, 3+i)
		}
	}},
	{"several at once", "", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 10 {
			var ids []uint16
			for range 2 + a.way {
				id := a.next()
				ids = append(ids, id)
				c.Say(capture.Asker, tcp(id, 1, a.read(0, 4)...))
				a.Wait(time.Millisecond)
			}
			for _, id := range ids {
				a.Wait(a.think())
				c.Say(capture.Answerer, tcp(id, 1, a.registers(4)...))
			}
			a.Wait(time.Second)
		}
	}},
	{"recorded twice at a switch", "", func(a *actor) {
		c := a.Dial(controller, skid)
		a.polls(c, 1, 10)
		var twice []capture.Packet
		for _, p := range a.Packets {
			twice = append(twice, p)
			p.At = p.At.Add(time.Duration(5+a.way) * time.Microsecond)
			twice = append(twice, p)
		}
		for i := range twice {
			twice[i].Number = int64(i + 1)
		}
		a.Packets = twice
	}},
	{"packets that the recorder missed", "", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 30 {
			id, n := a.next(), 4
			request, answer := tcp(id, 1, a.read(0, n)...), tcp(id, 1, a.registers(n)...)
			if i%(7+a.way) == 3 {
				c.Miss(capture.Asker, request)
			} else {
				c.Say(capture.Asker, request)
			}
			a.Wait(a.think())
			if i%(5+a.way) == 2 {
				c.Miss(capture.Answerer, answer)
			} else {
				c.Say(capture.Answerer, answer)
			}
			a.Wait(time.Second)
		}
	}},
	{"segments that overtake each other", "", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 10 {
			id := a.next()
			c.Say(capture.Asker, tcp(id, 1, a.read(0, 100)...))
			a.Wait(a.think())
			answer := tcp(id, 1, a.registers(100)...)
			half := 20 + 30*a.way
			c.At(capture.Answerer, capture.PSH, c.Seq(capture.Answerer)+uint32(half), answer[half:])
			a.Wait(100 * time.Microsecond)
			c.At(capture.Answerer, capture.PSH, c.Seq(capture.Answerer), answer[:half])
			c.Miss(capture.Answerer, answer)
			a.Wait(time.Second)
		}
	}},
	{"keep-alives", "", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 5 {
			a.polls(c, 1, 1)
			for range a.way + 1 {
				a.Wait(5 * time.Second)
				c.At(capture.Asker, 0, c.Seq(capture.Asker)-1, []byte{0}[:a.way%2])
				c.Segment(capture.Answerer, 0, nil)
			}
		}
	}},
	{"host-silent", "host-silent", func(a *actor) {
		if a.way == 2 {
			for range 4 {
				a.Ask(controller, "192.0.2.21")
				a.Wait(time.Second)
			}
		}
		for range 1 + a.way {
			c := a.Begin(controller, skid)
			for _, after := range []time.Duration{1, 2, 4} {
				a.Wait(after * time.Second)
				c.Again()
			}
			a.Wait(8 * time.Second)
		}
	}},
	{"port-silent", "port-silent", func(a *actor) {
		other := a.Dial(panel, "192.0.2.21:80")
		other.Talk([]byte("GET / HTTP/1.1\r\n\r\n"), []byte("HTTP/1.1 204 No Content\r\n\r\n"), a.think())
		other.Close(capture.Asker)
		for range 1 + a.way {
			c := a.Begin(controller, skid)
			a.Wait(time.Second)
			c.Again()
			a.Wait(2 * time.Second)
			c.Again()
			a.Wait(3 * time.Second)
		}
	}},
	{"port-refused", "port-refused", func(a *actor) {
		for range 1 + 2*a.way {
			c := a.Begin(controller, skid)
			a.Wait(time.Millisecond)
			c.Reset(capture.Answerer)
			a.Wait(time.Second)
		}
	}},
	{"connection-dropped", "connection-dropped", func(a *actor) {
		for range 2 {
			c := a.Dial(controller, skid)
			a.polls(c, 1, 4)
			c.Say(capture.Asker, tcp(a.next(), 1, a.read(0, 4)...))
			a.Wait(time.Duration(20+400*a.way) * time.Millisecond)
			if a.way == 1 {
				c.Close(capture.Answerer)
			} else {
				c.Reset(capture.Answerer)
			}
			a.Wait(time.Second)
		}
		c := a.Dial(controller, skid)
		a.polls(c, 1, 4)
	}},
	{"idle-close", "idle-close", func(a *actor) {
		for range 3 + a.way {
			c := a.Dial(controller, skid)
			a.polls(c, 1, 3)
			a.Wait(time.Duration(9+20*a.way) * time.Second)
			if a.way == 2 {
				c.Reset(capture.Answerer)
			} else {
				c.Close(capture.Answerer)
			}
			a.Wait(30 * time.Second)
		}
	}},
	{"hangs-up", "hangs-up", func(a *actor) {
		for range 5 + a.way {
			c := a.Dial(controller, skid)
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 4)...), tcp(id, 1, a.registers(4)...), a.think())
			a.Wait(time.Millisecond)
			c.Close(capture.Answerer)
			a.Wait(time.Second)
		}
	}},
	{"connection-churn", "connection-churn", func(a *actor) {
		for range 12 + 10*a.way {
			c := a.Dial(controller, skid)
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 4)...), tcp(id, 1, a.registers(4)...), a.think())
			c.Close(capture.Asker)
			a.Wait(time.Second)
		}
	}},
	{"connection-limit", "connection-limit", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 4 + a.way {
			a.polls(c, 1, 2)
			if a.way == 2 {
				second := a.Begin(panel, skid)
				a.Wait(time.Millisecond)
				second.Reset(capture.Answerer)
				continue
			}
			second := a.Dial(panel, skid)
			a.Wait(2 * time.Millisecond)
			if a.way == 0 {
				second.Close(capture.Answerer)
			} else {
				second.Reset(capture.Answerer)
			}
		}
	}},
	{"packet-loss", "packet-loss", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 40 {
			id := a.next()
			request, answer := tcp(id, 1, a.read(0, 4)...), tcp(id, 1, a.registers(4)...)
			c.Say(capture.Asker, request)
			if i%(4+a.way) == 1 {
				a.Wait(200 * time.Millisecond)
				c.Repeat(capture.Asker, request)
			}
			a.Wait(a.think())
			c.Say(capture.Answerer, answer)
			a.Wait(time.Second)
		}
	}},
	{"slow-path", "slow-path", func(a *actor) {
		a.Way = time.Duration(150+200*a.way) * time.Millisecond
		c := a.Dial(controller, skid)
		for range 10 {
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 4)...), tcp(id, 1, a.registers(4)...), a.Way+a.think())
			a.Wait(time.Second)
		}
	}},
	{"stalled", "stalled", func(a *actor) {
		c := a.Dial(controller, skid)
		a.polls(c, 1, 10)
		request := tcp(a.next(), 1, a.read(0, 4)...)
		c.Say(capture.Asker, request)
		for i := range 4 + a.way {
			a.Wait(200 * time.Millisecond << i)
			c.Repeat(capture.Asker, request)
		}
	}},
	{"no-answer of one behind a gateway", "no-answer", func(a *actor) {
		c := a.Dial(controller, gateway)
		for range 6 {
			a.polls(c, 13, 1)
			c.Say(capture.Asker, tcp(a.next(), byte(40+a.way), a.read(0, 2)...))
			a.Wait(time.Second)
		}
	}},
	{"no-answer at all", "no-answer", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 4 + 20*a.way {
			c.Say(capture.Asker, tcp(a.next(), 1, a.read(0, 2)...))
			a.Wait(time.Second)
		}
	}},
	{"no-answer now and then", "no-answer", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 20 {
			a.polls(c, 1, 2+a.way)
			c.Say(capture.Asker, tcp(a.next(), 1, a.read(0, 2)...))
			a.Wait(time.Second)
		}
	}},
	{"a search that nobody answers", "no-answer", func(a *actor) {
		c := a.Dial(controller, gateway)
		a.polls(c, 13, 5)
		for unit := range 20 + 10*a.way {
			c.Say(capture.Asker, tcp(a.next(), byte(unit+100), a.read(0, 1)...))
			a.Wait(300 * time.Millisecond)
		}
	}},
	{"silent-function", "silent-function", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 4 {
			a.polls(c, 1, 4)
			switch a.way {
			case 0:
				c.Say(capture.Asker, tcp(a.next(), 1, wire.IdentifyPDU(nil)...))
			case 1:
				c.Say(capture.Asker, tcp(a.next(), 1, wire.ReportIDPDU(nil)...))
			default:
				c.Say(capture.Asker, tcp(a.next(), 1, 4, 0, 0, 0, 2))
			}
			a.Wait(time.Second)
		}
	}},
	{"late-answer", "late-answer", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 5 {
			a.polls(c, 1, 5)
			first, second := a.next(), a.next()
			c.Say(capture.Asker, tcp(first, 1, a.read(0, 4)...))
			a.Wait(300 * time.Millisecond)
			c.Say(capture.Asker, tcp(second, 1, a.read(20, 4)...))
			a.Wait(time.Duration(20+60*a.way) * time.Millisecond)
			c.Say(capture.Answerer, tcp(first, 1, a.registers(4)...))
			a.Wait(a.think())
			c.Say(capture.Answerer, tcp(second, 1, a.registers(4)...))
			a.Wait(time.Second)
		}
	}},
	{"answer-mismatch", "answer-mismatch", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 5 {
			a.polls(c, 1, 3)
			id := a.next()
			answer := tcp(id, 1, a.registers(4)...)
			switch a.way {
			case 0:
				answer = tcp(id+500, 1, a.registers(4)...)
			case 1:
				answer = tcp(id, 1, a.registers(3)...)
			default:
				answer[wire.HeaderLen] = 4
			}
			c.Talk(tcp(id, 1, a.read(0, 4)...), answer, a.think())
			a.Wait(time.Second)
		}
	}},
	{"another unit answers", "answer-mismatch", func(a *actor) {
		c := a.Dial(controller, gateway)
		for range 8 {
			id := a.next()
			c.Talk(tcp(id, 13, a.read(0, 4)...), tcp(id, byte(14+a.way), a.registers(4)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"answers-as", "answers-as", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 8 {
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 4)...), tcp(id, []byte{0, 255, 255}[a.way], a.registers(4)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"no-transaction", "no-transaction", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 8 + a.way {
			c.Talk(tcp(a.next(), 1, a.read(0, 4)...), tcp(0, 1, a.registers(4)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"pieces", "pieces", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 8 {
			id := a.next()
			c.Say(capture.Asker, tcp(id, 1, a.read(0, 40)...))
			answer := tcp(id, 1, a.registers(40)...)
			for cut := 10 + 10*a.way; len(answer) > 0; {
				a.Wait(5 * time.Millisecond)
				n := min(cut, len(answer))
				c.Say(capture.Answerer, answer[:n])
				answer = answer[n:]
			}
			a.Wait(time.Second)
		}
	}},
	{"exception-function", "exception-function", exception(4, 1)},
	{"exception-value", "exception-value", exception(3, 3)},
	{"exception-device", "exception-device", exception(3, 4)},
	{"busy", "busy", exception(3, 6)},
	{"gateway-path", "gateway-path", exception(3, 10)},
	{"gateway-target-silent", "gateway-target-silent", exception(3, 11)},
	{"exception-address at the end of the map", "exception-address", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 5 {
			for _, r := range [][2]int{{0, 20}, {20, 5 + a.way}, {25 + a.way, 1}, {20, 30}, {25 + a.way, 24}} {
				id := a.next()
				answer := []byte{0x83, 2}
				if r[0]+r[1] <= 25+a.way {
					answer = a.registers(r[1])
				}
				c.Talk(tcp(id, 1, a.read(uint16(r[0]), r[1])...), tcp(id, 1, answer...), a.think())
				a.Wait(time.Second)
			}
		}
	}},
	{"an asker that finds a hole", "bears-less", func(a *actor) {
		c := a.Dial(controller, skid)
		ask := func(from, n int) {
			id := a.next()
			answer := []byte{0x83, 2}
			if hole := 8 + a.way; from > hole || from+n <= hole {
				answer = a.registers(n)
			}
			c.Talk(tcp(id, 1, a.read(uint16(from), n)...), tcp(id, 1, answer...), a.think())
			a.Wait(time.Second)
		}
		ask(0, 20)
		ask(8+a.way, 1)
		for range 20 {
			ask(0, 8+a.way)
			ask(9+a.way, 20-9-a.way)
		}
	}},
	{"an asker that finds how much at once", "bears-less", func(a *actor) {
		c := a.Dial(controller, skid)
		most := 8 + 4*a.way
		ask := func(from, n int) {
			id := a.next()
			answer := []byte{0x83, 3}
			if n <= most {
				answer = a.registers(n)
			}
			c.Talk(tcp(id, 1, a.read(uint16(from), n)...), tcp(id, 1, answer...), a.think())
			a.Wait(time.Second)
		}
		ask(0, 40)
		ask(0, 20)
		for range 15 {
			ask(0, most)
			ask(most, most-2)
		}
	}},
	{"an asker that does not find it", "exception-value", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 12 + a.way {
			for _, n := range []int{8, 30} {
				id := a.next()
				answer := []byte{0x83, 3}
				if n == 8 {
					answer = a.registers(n)
				}
				c.Talk(tcp(id, 1, a.read(0, n)...), tcp(id, 1, answer...), a.think())
				a.Wait(time.Second)
			}
		}
	}},
	{"results whose numbers come back", "", func(a *actor) { a.results(12+a.way, 12+a.way) }},
	{"waiting-for-handshake", "waiting-for-handshake", func(a *actor) { a.results(12, 5+a.way) }},
	{"slow-first", "slow-first", func(a *actor) {
		for range 3 + a.way {
			c := a.Dial(controller, skid)
			for i := range 8 {
				id, after := a.next(), a.think()
				if i == 0 {
					after = time.Duration(600+300*a.way) * time.Millisecond
				}
				c.Talk(tcp(id, 1, a.read(0, 4)...), tcp(id, 1, a.registers(4)...), after)
				a.Wait(time.Second)
			}
			c.Close(capture.Asker)
			a.Wait(10 * time.Second)
		}
	}},
	{"one client at a time", "connection-limit", func(a *actor) {
		c := a.Dial(controller, skid)
		var waits *rehearsal.Conn
		for i := range 30 {
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 4)...), tcp(id, 1, a.registers(4)...), a.think())
			a.Wait(400 * time.Millisecond)
			if i == 4 {
				waits = a.Dial([]string{panel, controller, "192.0.2.13"}[a.way], skid)
			}
			if i > 4 && i%3 == 0 {
				waits.Say(capture.Asker, tcp(uint16(1000+i), 1, a.read(8, 2)...))
			}
			a.Wait(600 * time.Millisecond)
		}
		c.Close(capture.Asker)
		a.Wait(100 * time.Millisecond)
		for range 10 {
			id := a.next()
			waits.Talk(tcp(id, 1, a.read(8, 2)...), tcp(id, 1, a.registers(2)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"silent on who it is", "silent-function", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 20 {
			id := a.next()
			if i == 3+a.way {
				c.Say(capture.Asker, tcp(id, 1, 0x2B, 0x0E, 1, 0))
				a.Wait(1500 * time.Millisecond)
				continue
			}
			c.Talk(tcp(id, 1, a.read(0, 4)...), tcp(id, 1, a.registers(4)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"off-by-one", "off-by-one", func(a *actor) {
		c := a.Dial(controller, skid)
		n := 10 + a.way
		for range 5 {
			for _, from := range []int{1, 0} {
				id := a.next()
				answer := []byte{0x83, 2}
				if from == 0 {
					answer = a.registers(n)
				}
				c.Talk(tcp(id, 1, a.read(uint16(from), n)...), tcp(id, 1, answer...), a.think())
				a.Wait(time.Second)
			}
		}
	}},
	{"over-limit-request", "exception-value over-limit-request", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 5 {
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 126+a.way)...), tcp(id, 1, 0x83, 3), a.think())
			a.Wait(time.Second)
		}
	}},
	{"duplicate-unit", "duplicate-unit", func(a *actor) {
		c := a.Dial(controller, gateway)
		for range 6 {
			id := a.next()
			c.Talk(tcp(id, 13, a.read(0, 4)...), tcp(id, 13, a.registers(4)...), a.think())
			a.Wait(time.Duration(2+a.way) * time.Millisecond)
			c.Say(capture.Answerer, tcp(id, 13, a.registers(4)...))
			a.Wait(time.Second)
		}
	}},
	{"two-writers", "two-writers", func(a *actor) {
		c, p := a.Dial(controller, skid), a.Dial(panel, skid)
		for i := range 6 {
			a.writes(c, 10, uint16(500+i))
			a.Wait(2 * time.Second)
			a.writes(p, 10, uint16(900+a.way))
			a.Wait(2 * time.Second)
		}
	}},
	{"write-storm", "write-storm", func(a *actor) {
		c := a.Dial(controller, skid)
		for range 60 {
			a.writes(c, 10, 500)
			a.Wait(time.Duration(50+50*a.way) * time.Millisecond)
		}
	}},
	{"writes on change", "", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 60 {
			a.writes(c, 10, uint16(500+i))
			a.Wait(time.Duration(50+50*a.way) * time.Millisecond)
		}
	}},
	{"write-without-effect", "write-without-effect", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 5 + a.way {
			a.writes(c, 10, uint16(500+i))
			a.Wait(2 * time.Second)
			id := a.next()
			c.Talk(tcp(id, 1, a.read(10, 1)...), tcp(id, 1, 3, 2, 0, 0), a.think())
			a.Wait(time.Second)
		}
	}},
}

// writes writes a register.
func (a *actor) writes(c *rehearsal.Conn, at, v uint16) {
	frame := tcp(a.next(), 1, wire.WriteRegistersPDU(nil, at, []byte{byte(v >> 8), byte(v)})...)
	c.Talk(frame, frame, a.think())
}

// exception plays one that is answered to a read now and then.
func exception(function, code byte) func(a *actor) {
	return func(a *actor) {
		c := a.Dial(controller, gateway)
		for range 4 + a.way {
			a.polls(c, 1, 2)
			id := a.next()
			c.Talk(tcp(id, 1, function, 1, 0, 0, 4), tcp(id, 1, function|0x80, code), a.think())
			a.Wait(time.Second)
		}
	}
}

// ways is in how many ways each scene is played.
const ways = 3

func (s *scene) stage(way int) *rehearsal.Stage {
	a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(11, uint64(way))), way: way}
	s.play(a)
	a.Wait(3 * time.Second)
	a.Ask(panel, panel) // the recording goes on for a while
	return a.Stage
}

func codes(found []finding.Finding) string {
	var list []string
	for _, f := range found {
		if !slices.Contains(list, f.Code) {
			list = append(list, f.Code)
		}
	}
	slices.Sort(list)
	return strings.Join(list, " ")
}

// TestCorpus: what is played is found by its name and nothing else is, in every way,
// from a file as well.
func TestCorpus(t *testing.T) {
	for i := range scenes {
		s := &scenes[i]
		for way := range ways {
			t.Run(fmt.Sprintf("%s/%d", s.name, way+1), func(t *testing.T) {
				stage := s.stage(way)
				file := bytes.NewReader(written(t, stage))
				r := New(nil)
				if err := r.Read(context.Background(), Source{Name: "scene.pcapng.gz", From: file}); err != nil {
					t.Fatal(err)
				}
				got := r.Finish()
				if codes(got.Findings) != s.codes || got.Unread != 0 || got.Packets != int64(len(stage.Packets)) {
					t.Errorf("%d packets of %d, %d not read, %v\n%s\nwant %s", got.Packets, len(stage.Packets),
						got.Unread, got.Said, told(got.Findings), s.codes)
				}
			})
		}
	}
}

// written is a recording as a compressed file.
func written(t testing.TB, stage *rehearsal.Stage) []byte {
	t.Helper()
	var file bytes.Buffer
	zip := gzip.NewWriter(&file)
	if err := files.WriteCapture(zip, stage.Packets); err != nil {
		t.Fatal(err)
	}
	if err := zip.Close(); err != nil {
		t.Fatal(err)
	}
	return file.Bytes()
}

func told(found []finding.Finding) string {
	var b strings.Builder
	for _, f := range found {
		fmt.Fprintf(&b, "%s %s ×%d %s: %s\n\t%s\n", f.Severity, f.Code, f.Count, f.Subject.Name, f.Sentence,
			strings.Join(f.Evidence, "\n\t"))
	}
	return b.String()
}
