package iec61850_test

import (
	"math"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	family "ferry/internal/core/family/iec61850"
	wire "ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
)

// client is a substation controller of the tests' own, which counts every value that is reported.
type client struct {
	t      testing.TB
	conn   net.Conn
	held   []byte
	invoke uint32
	answer chan wire.Message

	mu sync.Mutex
	// values are those of each member that were reported because they changed, in order, by the report
	// and the place in it; entry is the last entry of each report, late how long each took.
	values map[string][]int64
	entry  map[string]string
	late   []time.Duration
	ended  chan struct{}
}

// dial begins a conversation.
func dial(t testing.TB, at string) *client {
	t.Helper()
	conn, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	c := &client{t: t, conn: conn, answer: make(chan wire.Message, 1), values: map[string][]int64{},
		entry: map[string]string{}, ended: make(chan struct{})}
	if _, err := conn.Write(isotcp.AppendConnect(nil, 1, 1, isotcp.Size8192)); err != nil {
		t.Fatal(err)
	}
	if f, err := c.frame(); err != nil || f.Kind != isotcp.ConnectConfirm {
		t.Fatalf("%+v, %v", f, err)
	}
	c.send(wire.Associate(wire.DefaultInitiation(), wire.Selectors{}))
	f, err := c.frame()
	if err != nil {
		t.Fatal(err)
	}
	if h, err := wire.Hear(f.Rest); err != nil || !h.Accepts {
		t.Fatalf("%+v, %v", h, err)
	}
	go c.hear()
	return c
}

func (c *client) frame() (isotcp.TPDU, error) {
	buf := make([]byte, 1<<16)
	for {
		n, err := isotcp.Frame(c.held, 1<<16)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		if n > 0 {
			f, err := isotcp.ParseTPDU(append([]byte(nil), c.held[:n]...))
			c.held = append(c.held[:0], c.held[n:]...)
			return f, err
		}
		got, err := c.conn.Read(buf)
		if err != nil {
			return isotcp.TPDU{}, err
		}
		c.held = append(c.held, buf[:got]...)
	}
}

func (c *client) send(message []byte) {
	_, _ = c.conn.Write(isotcp.AppendData(nil, message, isotcp.Size8192)) // what does not arrive has no answer
}

func (c *client) hear() {
	defer close(c.ended)
	var message []byte
	for {
		f, err := c.frame()
		if err != nil {
			return
		}
		if message = append(message, f.Rest...); !f.Last {
			continue
		}
		h, err := wire.Hear(message)
		message = nil
		if err != nil || h.Ends {
			return
		}
		m, err := wire.ParseMessage(h.MMS)
		if err != nil {
			c.t.Errorf("Ferry said what is none: %v", err)
			return
		}
		if m.Kind == wire.Unconfirmed {
			c.reported(&m)
		} else {
			c.answer <- m
		}
	}
}

// reported counts the values of a report with all options but references: each member is data with a
// value, a quality and a time.
func (c *client) reported(m *wire.Message) {
	_, list, err := wire.ReadReport(m.Body, 0)
	if err != nil || len(list) < 9 {
		return
	}
	id, included := list[0].Data.Text, list[8].Data
	at, n := 9, 0
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range included.Size {
		if included.Bit(i) {
			n++
		}
	}
	k := 0
	for i := range included.Size {
		if !included.Bit(i) {
			continue
		}
		value, reason := list[at+k].Data, list[at+n+k].Data
		if k++; reason.Bits&2 == 0 {
			continue // nothing changed
		}
		key := id + " " + string(rune('a'+i/26)) + string(rune('a'+i%26))
		is := value.Parts[0]
		if len(is.Parts) > 0 { // an analogue value
			is = is.Parts[0]
		}
		if is.Kind == family.Floating {
			is.Int = int64(math.Float64bits(is.Float))
		}
		c.values[key] = append(c.values[key], is.Int)
		c.late = append(c.late, now.Sub(value.Parts[2].Time))
	}
	c.entry[id] = list[6].Data.Text
}

func (c *client) ask(s wire.Service, body []byte) wire.Message {
	c.t.Helper()
	c.invoke++
	c.send(wire.Speak(wire.Question(c.invoke, s, body)))
	select {
	case m := <-c.answer:
		return m
	case <-time.After(10 * time.Second):
		c.t.Fatal("no answer within 10 s")
	case <-c.ended:
		c.t.Fatal("the conversation has ended")
	}
	return wire.Message{}
}

func (c *client) names(class int, domain string) (all []string) {
	q := wire.NameList{Class: class, Domain: domain}
	for {
		list, more, err := wire.ReadNames(c.ask(wire.GetNameList, q.Octets()).Body)
		if err != nil {
			c.t.Fatal(err)
		}
		if all = append(all, list...); !more {
			return all
		}
		q.After = all[len(all)-1]
	}
}

func (c *client) put(domain, item string, d wire.Data) bool {
	list, err := wire.ReadWritten(c.ask(wire.Write, wire.WriteOf([]wire.Name{{Domain: domain, Item: item}},
		[]wire.Data{d})).Body)
	return err == nil && len(list) == 1 && list[0] < 0
}

// follow enables the first instance of each buffered report, from an entry on where one is known.
func (c *client) follow(from map[string]string) { c.followAs("01", from) }

// followAs does it with another instance.
func (c *client) followAs(instance string, from map[string]string) {
	for _, domain := range c.names(wire.Domains, "") {
		for _, item := range c.names(wire.Variables, domain) {
			parts := strings.Split(item, "$")
			if len(parts) != 3 || parts[1] != "BR" || !strings.HasSuffix(parts[2], instance) {
				continue
			}
			if entry, known := from[domain+"/"+item]; known {
				c.put(domain, item+"$EntryID", wire.Data{Kind: family.OctetString, Text: entry})
			}
			if !c.put(domain, item+"$RptEna", wire.Data{Kind: family.Boolean, Int: 1}) {
				c.t.Errorf("%s is not enabled", item)
			}
		}
	}
}
