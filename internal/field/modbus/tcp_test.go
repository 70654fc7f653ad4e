package modbus_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"net"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"

	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
)

// accepts takes one connection on loopback, and returns where.
func accepts(t testing.TB, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		if c, err := l.Accept(); err == nil {
			serve(c)
		}
	}()
	return l.Addr().String()
}

// scripted is a server that hands each request to a script.
func scripted(t *testing.T, script func(turn int, request []byte, c net.Conn)) field.Conn {
	t.Helper()
	at := accepts(t, func(c net.Conn) {
		defer c.Close()
		request := make([]byte, 12)
		for turn := 0; ; turn++ {
			if _, err := io.ReadFull(c, request); err != nil {
				return
			}
			script(turn, append([]byte(nil), request...), c)
		}
	})
	driver, _, err := field.DriverOf(family.TCP.Name)
	if err != nil {
		t.Fatal(err)
	}
	conn, reply := driver.Dial(context.Background(),
		field.Target{Dial: at, Settings: protocol.Numbers(map[string]int{"timeoutMs": 500})})
	if conn == nil {
		t.Fatal(reply.Sentence)
	}
	t.Cleanup(func() { _ = conn.Close() })
	return conn
}

// registers answers a read with the start address in every register.
func registers(request []byte) []byte {
	count := int(binary.BigEndian.Uint16(request[10:]))
	answer := append([]byte(nil), request[:4]...)
	answer = binary.BigEndian.AppendUint16(answer, uint16(3+2*count))
	answer = append(answer, request[6], request[7], byte(2*count))
	for range count {
		answer = append(answer, request[8], request[9])
	}
	return answer
}

func read(t *testing.T, c field.Conn, start uint32, want exchange.Outcome) field.Reply {
	t.Helper()
	reply := field.Ask(c, []block.Range{{Area: family.HoldingRegisters, Start: start, Count: 2}})
	if reply.Outcome != want {
		t.Fatalf("reading %d ends with %q (%s), want %q", start, reply.Outcome, reply.Sentence, want)
	}
	if reply.OK() && fmt.Sprintf("%X", reply.Data) != strings.Repeat(fmt.Sprintf("%04X", start), 2) {
		t.Fatalf("reading %d brings %X", start, reply.Data)
	}
	return reply
}

// TestLateAnswer: an answer that comes after its time limit is not taken for
// the answer to the next request, and costs no connection.
func TestLateAnswer(t *testing.T) {
	var late []byte
	c := scripted(t, func(turn int, request []byte, c net.Conn) {
		switch turn {
		case 0:
			late = registers(request) // kept back
		case 1:
			_, _ = c.Write(append(late, registers(request)...)) // both at once
		default:
			_, _ = c.Write(registers(request))
		}
	})
	read(t, c, 100, exchange.NoAnswer)
	if !c.Usable() {
		t.Fatal("a missed answer cost the connection")
	}
	read(t, c, 200, exchange.Answered)
	read(t, c, 300, exchange.Answered)
}

// TestPieces: an answer may come in any pieces.
func TestPieces(t *testing.T) {
	c := scripted(t, func(_ int, request []byte, c net.Conn) {
		for _, b := range registers(request) {
			_, _ = c.Write([]byte{b})
			time.Sleep(time.Millisecond)
		}
	})
	read(t, c, 7, exchange.Answered)
	read(t, c, 8, exchange.Answered)
}

// TestBrokenAnswers: none of them brings data, each says what is broken, and
// the connection, whose next frame has no known beginning, is given up.
func TestBrokenAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func([]byte) []byte
		says  string
	}{
		"never the right transaction": {func(b []byte) []byte {
			binary.BigEndian.PutUint16(b, binary.BigEndian.Uint16(b)-1)
			return b
		}, "earlier requests"},
		"a later transaction": {func(b []byte) []byte { b[0] += 0x40; return b }, "transaction"},
		"text": {func([]byte) []byte { return []byte("HTTP/1.1 400 Bad Request\r\n\r\n") },
			"protocol identifier"},
		"cut short":     {func(b []byte) []byte { return b[:len(b)-1] }, "the rest of the frame did not"},
		"one octet":     {func(b []byte) []byte { return b[:1] }, "1 octets came"},
		"a huge length": {func(b []byte) []byte { b[4] = 0xFF; return b }, "2 to 254"},
	} {
		t.Run(name, func(t *testing.T) {
			conn := scripted(t, func(_ int, request []byte,
				sock net.Conn) {
				_, _ = sock.Write(c.spoil(registers(request)))
			})
			reply := read(t, conn, 5, exchange.Garbled)
			if reply.Data != nil || !strings.Contains(reply.Sentence, c.says) || len(reply.Request) != 12 {
				t.Errorf("%+v", reply)
			}
			if conn.Usable() {
				t.Error("the connection is still taken for usable")
			}
		})
	}
}

// TestCancel: ending the context ends a read at once.
func TestCancel(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	driver, _, _ := field.DriverOf(family.TCP.Name)
	ctx, cancel := context.WithCancel(context.Background())
	conn, reply := driver.Dial(ctx,
		field.Target{Dial: l.Addr().String(), Settings: protocol.Numbers(map[string]int{"timeoutMs": 60000})})
	if conn == nil {
		t.Fatal(reply.Sentence)
	}
	defer conn.Close()
	time.AfterFunc(50*time.Millisecond, cancel)
	began := time.Now()
	if reply := field.Ask(conn, []block.Range{{Area: "hr", Start: 0, Count: 1}}); reply.OK() ||
		time.Since(began) > 5*time.Second {
		t.Errorf("after %v: %+v", time.Since(began), reply)
	}
}

// TestManyAtOnce: answers to several requests are told apart by their
// transactions, whatever their order; one that does not come costs the others
// nothing, and is recognised when it comes late.
func TestManyAtOnce(t *testing.T) {
	var held [][]byte
	c := scripted(t, func(turn int, request []byte, c net.Conn) {
		switch {
		case turn == 0: // how it answers is known from then on
			_, _ = c.Write(registers(request))
		case turn < 3:
			held = append(held, registers(request))
		case turn == 3: // the third is answered first, then the first; the second is kept
			_, _ = c.Write(append(registers(request), held[0]...))
		default:
			_, _ = c.Write(append(held[1], registers(request)...))
		}
	})
	read(t, c, 5, exchange.Answered)
	many := c.(field.Pipelined)
	got := map[int]string{}
	many.ReadMany([][]block.Range{{{Area: "hr", Start: 100, Count: 1}}, {{Area: "hr", Start: 200, Count: 2}},
		{{Area: "ir", Start: 300, Count: 1}}}, func(i int, reply field.Reply) {
		got[i] = fmt.Sprintf("%s %X", reply.Outcome, reply.Data)
	})
	if want := map[int]string{0: "answered 0064", 1: "no answer ", 2: "answered 012C"}; !maps.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	read(t, c, 7, exchange.Answered)
}
