package modbus_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"

	"github.com/creack/pty"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/field"
	wire "ferry/internal/wire/modbus"
)

// stream is the far side of RTU in a TCP stream: script gets each request of
// eight octets and sends what it likes.
func stream(t testing.TB, limitMs int, script func(turn int, request []byte, send func([]byte))) field.Conn {
	t.Helper()
	at := accepts(t, func(c net.Conn) {
		defer c.Close()
		var mu sync.Mutex
		send := func(b []byte) {
			mu.Lock()
			defer mu.Unlock()
			_, _ = c.Write(b)
		}
		for turn := 0; ; turn++ {
			request := make([]byte, 8)
			if _, err := io.ReadFull(c, request); err != nil {
				return
			}
			script(turn, request, send)
		}
	})
	driver, _, err := field.DriverOf(family.RTUTCP.Name)
	if err != nil {
		t.Fatal(err)
	}
	conn, reply := driver.Dial(context.Background(),
		field.Target{Dial: at, Settings: protocol.Numbers(map[string]int{"timeoutMs": limitMs, "unit": 11})})
	if conn == nil {
		t.Fatal(reply.Sentence)
	}
	t.Cleanup(func() { _ = conn.Close() })
	return conn
}

// port is the far side of a pseudo-terminal, as stream is of a TCP stream.
func port(t *testing.T, driverName string, framing wire.Framing, limitMs int,
	script func(turn int, request []byte, send func([]byte))) field.Conn {
	t.Helper()
	master, slave, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = master.Close() })
	path := slave.Name()
	if err := slave.Close(); err != nil {
		t.Fatal(err)
	}
	driver, _, err := field.DriverOf(driverName)
	if err != nil {
		t.Fatal(err)
	}
	conn, reply := driver.Dial(context.Background(),
		field.Target{Dial: path, Format: serial.Format{Baud: 115200, Data: 8, Parity: serial.None, Stop: 1},
			Settings: protocol.Numbers(map[string]int{"timeoutMs": limitMs, "unit": 11})})
	if conn == nil {
		t.Fatal(reply.Sentence)
	}
	t.Cleanup(func() { _ = conn.Close() })
	size := len(framing.AppendFrame(nil, 0, 11, 3, 0, 0, 0, 1))
	go func() {
		for turn := 0; ; turn++ {
			frame := make([]byte, size)
			if _, err := io.ReadFull(master, frame); err != nil {
				return
			}
			unit, pdu, err := framing.Open(frame)
			if err != nil {
				return
			}
			// The script speaks RTU; what it says goes out in the framing.
			script(turn, wire.RTU.AppendFrame(nil, 0, unit, pdu...), func(b []byte) {
				unit, pdu, err := wire.RTU.Open(b)
				if err == nil {
					_, _ = master.Write(framing.AppendFrame(nil, 0, unit, pdu...))
				}
			})
		}
	}()
	return conn
}

// holding answers a read with the number of each register in it.
func holding(request []byte) []byte {
	at, count := binary.BigEndian.Uint16(request[2:]), int(binary.BigEndian.Uint16(request[4:]))
	pdu := []byte{request[1], byte(2 * count)}
	for i := range count {
		pdu = binary.BigEndian.AppendUint16(pdu, at+uint16(i))
	}
	return wire.RTU.AppendFrame(nil, 0, request[0], pdu...)
}

// wrong reports a reply that brings other registers than those asked for, and
// does not doubt it.
func wrong(reply *field.Reply, at uint32) bool {
	return reply.OK() && reply.Doubt == "" && uint32(binary.BigEndian.Uint16(reply.Data)) != at
}

// TestLateAnswersOnALine: a device that answers after its time limit, always or
// now and then, never has one register shown as another; that it is late, and
// by how much, is said.
func TestLateAnswersOnALine(t *testing.T) {
	const limit = 60
	overStream := func(t *testing.T,
		script func(int, []byte, func([]byte))) field.Conn {
		return stream(t, limit, script)
	}
	over := func(name string, framing wire.Framing) func(*testing.T, func(int, []byte, func([]byte))) field.Conn {
		return func(t *testing.T, script func(int, []byte, func([]byte))) field.Conn {
			return port(t, name, framing, limit, script)
		}
	}
	nowAndThen := func(turn int) time.Duration { return time.Duration(turn%3) * 45 * time.Millisecond }
	for _, c := range []struct {
		name  string
		open  func(*testing.T, func(int, []byte, func([]byte))) field.Conn
		delay func(turn int) time.Duration
	}{
		{"on a serial port", over("modbus-rtu", wire.RTU), nowAndThen},
		{"in ASCII", over("modbus-ascii", wire.ASCII), nowAndThen},
		{"always", overStream, func(int) time.Duration { return 90 * time.Millisecond }},
		{"now and then", overStream, nowAndThen},
		{"more and more", overStream,
			func(turn int) time.Duration { return time.Duration(20+6*turn) * time.Millisecond }},
		{"by six times the limit", overStream,
			func(turn int) time.Duration { return time.Duration(360*(turn%2)) * time.Millisecond }},
		{"by twice the limit", overStream,
			func(turn int) time.Duration { return time.Duration(40+turn%2*90) * time.Millisecond }},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			// It answers one question after the other, as a device does.
			queue := make(chan func(), 100)
			go func() { // ends with the program
				for answer := range queue {
					answer()
				}
			}()
			conn := c.open(t, func(turn int, request []byte, send func([]byte)) {
				came := time.Now()
				queue <- func() {
					time.Sleep(time.Until(came.Add(c.delay(turn))))
					send(holding(request))
				}
			})
			late, good, doubted := 0.0, 0, 0
			for i := range 24 {
				at := uint32(1 + 8*(i%2))
				reply := field.Ask(conn, []block.Range{{Area: family.HoldingRegisters, Start: at, Count: 1}})
				for tries := 0; reply.Outcome == exchange.NoAnswer && tries < i/8; tries++ { // none, one, two more
					reply = field.Ask(conn, []block.Range{{Area: family.HoldingRegisters, Start: at, Count: 1}})
				}
				if wrong(&reply, at) {
					t.Errorf("turn %d: register %d reads %d, and good", i, at, binary.BigEndian.Uint16(reply.Data))
				}
				if late = max(late, reply.LateMs); reply.OK() && reply.Doubt == "" {
					good++
				} else if reply.OK() {
					doubted++
				}
				time.Sleep(time.Duration(i%4) * 25 * time.Millisecond)
			}
			if late < limit && doubted == 0 { // what is doubted is said to be late, or may be
				t.Errorf("it is late by up to %.0f ms, the limit is %d ms", late, limit)
			}
			t.Logf("%d good, %d doubted, late by %.0f ms", good, doubted, late)
			if good+doubted < 8 {
				t.Errorf("only %d of 24 are good, %d doubted", good, doubted)
			}
		})
	}
}

// TestSecondAskerOnALine: where somebody else asks the same unit, no value is
// good, and the reason is named.
func TestSecondAskerOnALine(t *testing.T) {
	foreign := wire.RTU.AppendFrame(nil, 0, 11, wire.ReadPDU(nil, family.HoldingRegisters, 700, 1)...)
	conn := stream(t, 200, func(turn int, request []byte, send func([]byte)) {
		if turn < 2 {
			send(holding(request))
			return
		}
		// The other asks at the same moment: what comes first is its answer.
		send(foreign)
		send(holding(foreign))
		send(holding(request))
	})
	for i := range 2 {
		if reply := field.Ask(conn, []block.Range{{Area: family.HoldingRegisters, Start: 5, Count: 1}}); !reply.OK() ||
			reply.Doubt != "" {
			t.Errorf("read %d alone: %+v", i, reply)
		}
	}
	for i := range 5 {
		reply := field.Ask(conn, []block.Range{{Area: family.HoldingRegisters, Start: 5, Count: 1}})
		if wrong(&reply, 5) || reply.OK() && reply.Doubt == "" || reply.Cause != exchange.Others {
			t.Errorf("read %d beside another: %+v", i, reply)
		}
	}
}

// TestThreeOctets: a late answer of three octets is as long as a request, and is
// no sign of another asker.
func TestThreeOctets(t *testing.T) {
	conn := stream(t, 60, func(turn int, request []byte, send func([]byte)) {
		answer := wire.RTU.AppendFrame(nil, 0, request[0], request[1], 3, 1, 2, 3)
		if turn%3 == 1 {
			time.Sleep(80 * time.Millisecond)
		}
		send(answer)
	})
	for i := range 9 {
		reply := field.Ask(conn, []block.Range{{Area: family.Coils, Start: 0, Count: 20}})
		if reply.Cause == exchange.Others || reply.Doubt != "" {
			t.Errorf("read %d: %+v", i, reply)
		}
		time.Sleep(30 * time.Millisecond)
	}
}

// TestAnswerThatBeginsLikeARequest: of some answers the first eight octets are a request by themselves: with two
// registers of one in 256, with more of one in 65 536. Where they come before the rest, and where the answer is late,
// nobody else asks.
func TestAnswerThatBeginsLikeARequest(t *testing.T) {
	for count, body := range map[int][]byte{
		2: {11, wire.ReadHoldingRegisters, 4, 0x41, 0x0D, 0x99, 0},
		3: {11, wire.ReadHoldingRegisters, 6, 0x41, 0x0D, 0x99, 0, 0, 7},
	} {
		t.Run(fmt.Sprint(count, " registers"), func(t *testing.T) {
			t.Parallel()
			crc := wire.CRC(body[:6])
			if body[6] = byte(crc); count > 2 {
				body[7] = byte(crc >> 8)
			}
			answer := wire.RTU.AppendFrame(nil, 0, body[0], body[1:]...)
			if _, _, err := wire.RTU.Open(answer[:8]); err != nil {
				t.Fatal(err)
			}
			conn := stream(t, 60, func(turn int, _ []byte, send func([]byte)) {
				switch turn % 3 {
				case 0:
					send(answer[:8])
					time.Sleep(15 * time.Millisecond)
					send(answer[8:])
				case 1:
					time.Sleep(80 * time.Millisecond)
					send(answer)
				case 2:
					send(answer)
				}
			})
			right := 0
			for i := range 12 {
				reply := field.Ask(conn, []block.Range{{Area: family.HoldingRegisters, Start: 0, Count: count}})
				if reply.Cause == exchange.Others ||
					reply.Outcome != exchange.Answered && reply.Outcome != exchange.NoAnswer {
					t.Errorf("read %d: %+v", i, reply)
				} else if reply.OK() && reply.Doubt == "" {
					right++
				}
				time.Sleep(30 * time.Millisecond)
			}
			if right < 8 {
				t.Errorf("only %d of 12 came right", right)
			}
		})
	}
}

// TestExceptionWithoutCode: code 0 is in no standard, and devices send it.
func TestExceptionWithoutCode(t *testing.T) {
	conn := stream(t, 200, func(_ int, request []byte, send func([]byte)) {
		send(wire.RTU.AppendFrame(nil, 0, request[0], request[1]|0x80, 0))
	})
	for _, area := range []string{family.HoldingRegisters, family.Coils} {
		if reply := field.Ask(conn, []block.Range{{Area: area, Start: 0, Count: 9}}); reply.Outcome != exchange.Declined ||
			reply.Data != nil {
			t.Errorf("%s: %+v", area, reply)
		}
	}
	if reply := conn.(field.Ranged).Write(block.At("hr", 1), []byte{0, 1},
		func() (func(), error) { return func() {}, nil }); reply.OK() {
		t.Errorf("writing: %+v", reply)
	}
}

// TestTransactionsGoOn: an answer to a request over the connection before is
// not taken for one over this.
func TestTransactionsGoOn(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		var owed []byte // a gateway that keeps what it could not deliver
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			request := make([]byte, 12)
			if _, err := io.ReadFull(c, request); err == nil {
				if owed != nil {
					_, _ = c.Write(owed)
					_, _ = c.Write(registers(request))
				}
				owed = registers(request)
				_, _ = io.ReadFull(c, make([]byte, 1)) // until it is closed
			}
			_ = c.Close()
		}
	}()
	driver, _, err := field.DriverOf(family.TCP.Name)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 6 {
		conn, reply := driver.Dial(context.Background(),
			field.Target{Dial: l.Addr().String(), Settings: protocol.Numbers(map[string]int{"timeoutMs": 200})})
		if conn == nil {
			t.Fatal(reply.Sentence)
		}
		at := uint32(100 * (i + 1))
		reply = field.Ask(conn, []block.Range{{Area: family.HoldingRegisters, Start: at, Count: 2}})
		if i > 0 && !reply.OK() || reply.OK() && binary.BigEndian.Uint16(reply.Data) != uint16(at) {
			t.Errorf("connection %d: %+v", i, reply)
		}
		_ = conn.Close()
	}
}

// TestEndsWithItsContext: a read on a line ends with its context, at once.
func TestEndsWithItsContext(t *testing.T) {
	conn := stream(t, 60_000, func(int, []byte, func([]byte)) {})
	time.AfterFunc(50*time.Millisecond, conn.Break)
	began := time.Now()
	if reply := field.Ask(conn, []block.Range{{Area: family.HoldingRegisters, Start: 0,
		Count: 1}}); reply.Outcome != exchange.CalledOff || time.Since(began) > 150*time.Millisecond {
		t.Errorf("after %v: %+v", time.Since(began), reply)
	}
}

// FuzzLine: whatever comes back, in whatever pieces and whenever, no register is
// shown as another one, and good.
func FuzzLine(f *testing.F) {
	f.Add(uint64(1), []byte{0, 1, 2, 3})
	f.Add(uint64(2), []byte{1, 1, 1, 0, 0, 5, 6, 7})
	f.Add(uint64(3), []byte{4, 4, 0, 1, 3, 2, 5, 0, 6})
	f.Fuzz(func(t *testing.T, seed uint64, moves []byte) {
		if len(moves) > 12 {
			t.Skip()
		}
		random := rand.New(rand.NewPCG(seed, 1))
		var held [][]byte
		conn := stream(t, 50, func(turn int, request []byte, send func([]byte)) {
			answer := holding(request)
			switch moves[turn%len(moves)] % 8 {
			case 0:
				send(answer)
			case 1: // late
				time.Sleep(60 * time.Millisecond)
				send(answer)
			case 2: // never
			case 3: // with the next
				held = append(held, answer)
			case 4: // in pieces
				cut := 1 + random.IntN(len(answer)-1)
				send(answer[:cut])
				time.Sleep(3 * time.Millisecond)
				send(answer[cut:])
			case 5: // cut short
				send(answer[:1+random.IntN(len(answer)-1)])
			case 6: // broken
				answer[random.IntN(len(answer))] ^= byte(1 + random.IntN(255))
				send(answer)
			case 7: // another unit
				answer[0] = 12
				send(wire.RTU.AppendFrame(nil, 0, 12, answer[1:len(answer)-2]...))
			}
			if moves[turn%len(moves)]%8 != 3 {
				for _, h := range held {
					send(h)
				}
				held = nil
			}
		})
		if len(moves) == 0 {
			t.Skip()
		}
		for i := 0; i < len(moves) && conn.Usable(); i++ {
			at := uint32(1 + random.IntN(3)*7)
			if reply := field.Ask(conn, []block.Range{{Area: family.HoldingRegisters, Start: at, Count: 1}}); wrong(&reply,
				at) {
				t.Fatalf("turn %d of %v: register %d reads %d, and good", i, moves, at,
					binary.BigEndian.Uint16(reply.Data))
			}
		}
	})
}
