package blocktcp

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/blocktcp"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/field"
	wire "ferry/internal/wire/blocktcp"
	"ferry/internal/wire/isotcp"
)

// peer is a controller of the test's own: byte n of every block is n, and what it
// answers can be meddled with.
type peer struct {
	t    *testing.T
	size int
	// meddle changes the frames that answer a message; nil leaves them.
	meddle func(n int, m *wire.Message, answer []byte) [][]byte
	writes chan wire.Item
	asked  chan int // items of each read
}

// listen starts the controller and returns where.
func (p *peer) listen() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = l.Close() })
	p.writes, p.asked = make(chan wire.Item, 100), make(chan int, 1000)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(c)
		}
	}()
	return l.Addr().String()
}

func (p *peer) serve(c net.Conn) {
	defer c.Close()
	for n := 0; ; n++ {
		head := make([]byte, 4)
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		frame := append(head, make([]byte, int(binary.BigEndian.Uint16(head[2:]))-4)...)
		if _, err := io.ReadFull(c, frame[4:]); err != nil {
			return
		}
		pdu, err := isotcp.ParseTPDU(frame)
		if err != nil {
			p.t.Error(err)
			return
		}
		answers := [][]byte{isotcp.AppendConfirm(nil, pdu.Calling, pdu.Called, isotcp.Size1024)}
		if pdu.Kind == isotcp.Data {
			m, err := wire.ParseMessage(pdu.Rest)
			if err != nil {
				p.t.Error(err)
				return
			}
			if answers = [][]byte{p.answer(&m)}; p.meddle != nil {
				answers = p.meddle(n, &m, answers[0])
			}
		}
		for _, a := range answers {
			if a == nil {
				return
			}
			if _, err := c.Write(a); err != nil {
				return
			}
			if len(answers) > 1 {
				time.Sleep(2 * time.Millisecond)
			}
		}
	}
}

func (p *peer) answer(m *wire.Message) []byte {
	if m.Params[0] == wire.Setup {
		return wire.AppendSetupAnswer(nil, m.Ref, 1, p.size)
	}
	items, _, err := wire.ParseItems(m)
	if err != nil {
		p.t.Error(err)
		return nil
	}
	if m.Params[0] == wire.Write {
		p.writes <- items[0]
		return wire.AppendWriteAnswer(nil, m.Ref, []byte{family.Done})
	}
	p.asked <- len(items)
	given := make([]wire.Given, len(items))
	for i, it := range items {
		given[i].Code = family.Done
		for k := range it.Count {
			given[i].Data = append(given[i].Data, byte(int(it.Start)+k))
		}
	}
	answer := wire.AppendReadAnswer(nil, m.Ref, items, given)
	if len(answer)-7 > p.size {
		p.t.Errorf("a message of %d octets was asked for, and %d were agreed", len(answer)-7, p.size)
	}
	return answer
}

func dial(t *testing.T, at string, limitMs int) (field.Conn, field.Reply) {
	t.Helper()
	conn, reply := driver{}.Dial(context.Background(),
		field.Target{Dial: at, Settings: protocol.Numbers(map[string]int{"timeoutMs": limitMs})})
	if conn != nil {
		t.Cleanup(func() { _ = conn.Close() })
	}
	return conn, reply
}

func whole(ranges []block.Range) (want []byte) {
	for _, r := range ranges {
		for k := range r.Count {
			want = append(want, byte(int(r.Start)+k))
		}
	}
	return want
}

// TestSmallMessages: whatever size is agreed, everything that is asked for comes,
// in messages that keep to it.
func TestSmallMessages(t *testing.T) {
	var ranges []block.Range
	for i := range 45 {
		ranges = append(ranges, block.Range{Area: "db7", Start: uint32(7 * i), Count: 1 + i%9})
	}
	ranges = append(ranges, block.Range{Area: "db7", Start: 1000, Count: 1500},
		block.Range{Area: "m", Start: 3, Count: 1})
	for _, size := range []int{112, 240, 480} {
		p := &peer{t: t, size: size}
		conn, reply := dial(t, p.listen(), 1000)
		if conn == nil {
			t.Fatalf("%d octets: %+v", size, reply)
		}
		got := field.Ask(conn, ranges)
		if !got.OK() || got.Refused != nil || !slices.Equal(got.Data, whole(ranges)) {
			t.Errorf("%d octets: %s, %d octets came", size, got.Sentence, len(got.Data))
		}
	}
}

// TestOddPeers: what is odd is an outcome with a sentence, and never a value of
// another place.
func TestOddPeers(t *testing.T) {
	asked := []block.Range{{Area: "db7", Start: 4, Count: 2}, {Area: "db7", Start: 40, Count: 4}}
	parts := func(frame []byte) (frames [][]byte) { // the message in TPDUs of five octets
		for body := frame[7:]; len(body) > 0; body = body[min(5, len(body)):] {
			piece := body[:min(5, len(body))]
			last := byte(0x80)
			if len(piece) < len(body) {
				last = 0
			}
			f := append([]byte{3, 0, 0, byte(7 + len(piece)), 2, isotcp.Data, last}, piece...)
			frames = append(frames, f)
		}
		return frames
	}
	read := func(m *wire.Message) bool { return m.Kind == wire.Job && m.Params[0] == wire.Read }
	for _, c := range []struct {
		name   string
		meddle func(n int, m *wire.Message, a []byte) [][]byte
		want   exchange.Outcome
		says   string
	}{
		{"well", nil, exchange.Answered, ""},
		{"in parts", func(_ int, _ *wire.Message, a []byte) [][]byte { return parts(a) }, exchange.Answered, ""},
		{"octet by octet", func(_ int, _ *wire.Message, a []byte) (list [][]byte) {
			for _, b := range a {
				list = append(list, []byte{b})
			}
			return list
		}, exchange.Answered, ""},
		{"an older answer first", func(_ int, m *wire.Message, a []byte) [][]byte {
			old := slices.Clone(a)
			binary.BigEndian.PutUint16(old[11:], m.Ref-1)
			old[len(old)-1] ^= 0xFF
			return [][]byte{append(old, a...)}
		}, exchange.Answered, ""},
		{"another reference", func(_ int, m *wire.Message, a []byte) [][]byte {
			binary.BigEndian.PutUint16(a[11:], m.Ref+3)
			return [][]byte{a}
		}, exchange.Garbled, "was not asked"},
		{"one item too few", func(_ int, m *wire.Message, a []byte) [][]byte {
			items, _, _ := wire.ParseItems(m)
			return [][]byte{wire.AppendReadAnswer(nil, m.Ref, items[:1],
				[]wire.Given{{Code: family.Done, Data: []byte{4, 5}}})}
		}, exchange.Garbled, "answers 1 items"},
		{"another length", func(_ int, m *wire.Message, a []byte) [][]byte {
			items, _, _ := wire.ParseItems(m)
			return [][]byte{wire.AppendReadAnswer(nil, m.Ref, items,
				[]wire.Given{{Code: family.Done, Data: []byte{4, 5, 6}}, {Code: family.Done, Data: []byte{40}}})}
		}, exchange.Garbled, "has 3 octets"},
		{"cut short", func(_ int, _ *wire.Message, a []byte) [][]byte { return [][]byte{a[:len(a)-3]} },
			exchange.Garbled, "the rest of the frame did not"},
		{"parts without end", func(_ int, _ *wire.Message, a []byte) (list [][]byte) {
			a[6] = 0
			for range 20 { // ten at a time: they come well within the limit
				list = append(list, bytes.Repeat(a, 10))
			}
			return list
		}, exchange.Garbled, "does not end"},
		{"no RFC 1006", func(_ int, _ *wire.Message, a []byte) [][]byte {
			return [][]byte{[]byte("HTTP/1.1 400 Bad Request\r\n\r\n")}
		}, exchange.Garbled, "version 3"},
		{"a frame of 65 000 octets",
			func(_ int, _ *wire.Message, a []byte) [][]byte { return [][]byte{{3, 0, 0xFD, 0xE8, 2, 0xF0, 0x80}} },
			exchange.Garbled, "65000 octets"},
		{"hangs up", func(_ int, _ *wire.Message, a []byte) [][]byte { return [][]byte{nil} }, exchange.Closed, ""},
		{"ends the connection in order",
			func(_ int, _ *wire.Message, a []byte) [][]byte { return [][]byte{isotcp.AppendDisconnect(nil, 128)} },
			exchange.Garbled, "reason 128"},
		{"silent", func(_ int, _ *wire.Message, a []byte) [][]byte { return [][]byte{{}} }, exchange.NoAnswer,
			"no answer came within 150 ms"},
		{"refuses", func(_ int, m *wire.Message, a []byte) [][]byte {
			return [][]byte{wire.AppendRefusal(nil, m.Ref, 0x81, 0x04)}
		}, exchange.Declined, "not permitted"},
		{"a write in place of an answer", func(_ int, m *wire.Message, a []byte) [][]byte {
			return [][]byte{wire.AppendWriteAnswer(nil, m.Ref, []byte{0xFF, 0xFF})}
		}, exchange.Garbled, "no answer to a read"},
		{"a chatterer", func(_ int, m *wire.Message, a []byte) (list [][]byte) {
			binary.BigEndian.PutUint16(a[11:], m.Ref-1)
			for range 5000 {
				list = append(list, a)
			}
			return list
		}, exchange.NoAnswer, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := &peer{t: t, size: 240}
			if c.meddle != nil {
				p.meddle = func(n int, m *wire.Message, a []byte) [][]byte {
					if !read(m) {
						return [][]byte{a}
					}
					return c.meddle(n, m, a)
				}
			}
			conn, reply := dial(t, p.listen(), 150)
			if conn == nil {
				t.Fatalf("%+v", reply)
			}
			began := time.Now()
			got := field.Ask(conn, asked)
			if got.Outcome != c.want || !strings.Contains(got.Sentence, c.says) || time.Since(began) > 2*time.Second {
				t.Errorf("%s, %q after %v", got.Outcome, got.Sentence, time.Since(began))
			}
			if got.OK() && !slices.Equal(got.Data, whole(asked)) {
				t.Errorf("it reads % X", got.Data)
			}
		})
	}
}

// TestLateAnswer: one that comes after its time is left aside by the next
// question, which says how late it was.
func TestLateAnswer(t *testing.T) {
	var once sync.Once
	p := &peer{t: t, size: 240}
	p.meddle = func(_ int, m *wire.Message, a []byte) [][]byte {
		if m.Params[0] == wire.Read {
			once.Do(func() { time.Sleep(200 * time.Millisecond) })
		}
		return [][]byte{a}
	}
	conn, _ := dial(t, p.listen(), 100)
	if first := field.Ask(conn, []block.Range{{Area: "db7", Start: 9, Count: 2}}); first.Outcome != exchange.NoAnswer ||
		!conn.Usable() {
		t.Fatalf("%+v", first)
	}
	time.Sleep(150 * time.Millisecond)
	next := field.Ask(conn, []block.Range{{Area: "db7", Start: 20, Count: 2}})
	if !next.OK() || !slices.Equal(next.Data, []byte{20, 21}) || next.LateMs < 150 {
		t.Errorf("%+v", next)
	}
}

// TestSession: what comes of connecting is told apart, at the stop Session.
func TestSession(t *testing.T) {
	for _, c := range []struct {
		name   string
		meddle func(n int, m *wire.Message, a []byte) [][]byte
		size   int
		want   exchange.Outcome
		code   int
	}{
		{"no answer to setting up", func(int, *wire.Message, []byte) [][]byte { return [][]byte{{}} }, 240,
			exchange.Declined, family.NoSession},
		{"hangs up", func(int, *wire.Message, []byte) [][]byte { return [][]byte{nil} }, 240, exchange.Declined,
			family.HungUp},
		{"refused", func(_ int, m *wire.Message, _ []byte) [][]byte {
			return [][]byte{wire.AppendRefusal(nil, m.Ref, 0x81, 0x04)}
		}, 240, exchange.Declined, family.NotPermitted},
		{"agrees to more than was asked", nil, 4000, exchange.Garbled, 0},
		{"agrees to nothing", nil, 0, exchange.Garbled, 0},
	} {
		p := &peer{t: t, size: c.size, meddle: c.meddle}
		conn, reply := dial(t, p.listen(), 100)
		if conn != nil || reply.Outcome != c.want || reply.Code != c.code || reply.Stop != route.Session {
			t.Errorf("%s: %+v", c.name, reply)
		}
	}
}

// TestWrite: a bit is written alone, and nothing leaves without a pass.
func TestWrite(t *testing.T) {
	p := &peer{t: t, size: 240}
	conn, _ := dial(t, p.listen(), 500)
	at := block.WithBit(block.At("db7", 12), 3)
	if got := conn.(field.Ranged).Write(at, []byte{1}, nil); got.Outcome != exchange.NotAllowed {
		t.Errorf("without a pass: %+v", got)
	}
	if got := conn.(field.Ranged).Write(at, []byte{1},
		func() (func(), error) { return nil, errors.New("locked") }); got.Outcome != exchange.NotAllowed ||
		got.Sentence != "locked" {
		t.Errorf("with one that is refused: %+v", got)
	}
	left := false
	pass := func() (func(), error) { return func() { left = true }, nil }
	if got := conn.(field.Ranged).Write(at, []byte{1}, pass); !got.OK() || !left {
		t.Errorf("%+v, left %v", got, left)
	}
	if it := <-p.writes; it.Bit != 3 || it.Start != 12 || it.Area != "db7" || len(p.writes) > 0 {
		t.Errorf("written %+v, and %d more", it, len(p.writes))
	}
}

// TestBreak: a wait is called off at once, and the connection goes on.
func TestBreak(t *testing.T) {
	var answers atomic.Bool
	p := &peer{t: t, size: 240}
	p.meddle = func(_ int, m *wire.Message, a []byte) [][]byte {
		if m.Params[0] == wire.Read && !answers.Load() {
			return [][]byte{{}}
		}
		return [][]byte{a}
	}
	conn, _ := dial(t, p.listen(), 30000)
	time.AfterFunc(50*time.Millisecond, conn.Break)
	began := time.Now()
	if got := field.Ask(conn, greeting); got.Outcome != exchange.CalledOff || time.Since(began) > time.Second {
		t.Errorf("%+v after %v", got, time.Since(began))
	}
	answers.Store(true)
	if got := field.Ask(conn, greeting); !got.OK() {
		t.Errorf("afterwards: %+v", got)
	}
}
