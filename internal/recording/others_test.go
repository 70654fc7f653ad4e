package recording

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/wire/blocktcp"
	wiremqtt "ferry/internal/wire/mqtt"
)

const (
	plc    = "192.0.2.70:102"
	broker = "192.0.2.80:1883"
)

// others are scenes of the other families, and of what none of them knows.
var others = []scene{
	{"block access", "", func(a *actor) {
		c := a.blocks()
		for i := range 20 {
			a.block(c, uint16(i+2), 8, 0xFF)
		}
	}},
	{"a block that is not there", "refused", func(a *actor) {
		c := a.blocks()
		for i := range 10 {
			a.block(c, uint16(i+2), 8, []byte{0x0A, 0x05, 0x03}[a.way])
		}
	}},
	{"the wrong slot", "refused", func(a *actor) {
		for range 3 + a.way {
			c := a.Dial(controller, plc)
			c.Talk(blocktcp.AppendConnect(nil, 0x0100, 0x0102), blocktcp.AppendDisconnect(nil, 3), a.think())
			c.Close(capture.Answerer)
			a.Wait(5 * time.Second)
		}
	}},
	{"a controller that leaves jobs unanswered", "no-answer", func(a *actor) {
		c := a.blocks()
		for i := range 10 {
			a.block(c, uint16(2*i+2), 8, 0xFF)
			it := []blocktcp.Item{{Range: block.Range{Area: "db1", Start: 0, Count: 8}, Bit: -1}}
			c.Say(capture.Asker, blocktcp.AppendRead(nil, uint16(2*i+3), it))
			a.Wait(time.Second)
		}
	}},
	{"a client that publishes", "", func(a *actor) {
		c := a.Dial(controller, broker)
		c.Talk(mqttConnect("gate"), []byte{0x20, 2, 0, 0}, a.think())
		for i := range 20 {
			service, confirmed := byte(a.way%2), []byte(nil)
			if service == 1 {
				confirmed = []byte{0x40, 2, 0, byte(i + 1)}
			}
			c.Talk(mqttPublish("skerry/do11", uint16(i+1), service), confirmed, a.think())
			a.Wait(time.Second)
			c.Talk([]byte{0xC0, 0}, []byte{0xD0, 0}, a.think())
			c.Say(capture.Answerer, mqttPublish("skerry/setpoint", 0, 0))
			a.Wait(time.Second)
		}
		c.Say(capture.Asker, []byte{0xE0, 0})
		c.Close(capture.Asker)
	}},
	{"a subscription that is served", "", func(a *actor) {
		c, d := a.subscribed([]string{"skerry/+/oxygen", "skerry/#", "skerry/do11/oxygen"}[a.way]), a.Dial(panel, broker)
		d.Talk(mqttConnect("probe"), []byte{0x20, 2, 0, 0}, a.think())
		for range 10 {
			d.Say(capture.Asker, mqttPublish("skerry/do11/oxygen", 0, 0))
			a.Wait(3 * time.Millisecond)
			c.Say(capture.Answerer, mqttPublish("skerry/do11/oxygen", 0, 0))
			a.Wait(time.Second)
		}
	}},
	{"silent-subscription", "silent-subscription", func(a *actor) {
		// Not allowed; another case; a stroke too many.
		c := a.subscribed([]string{"skerry/do11/+", "Skerry/DO11/oxygen", "/skerry/do11/oxygen"}[a.way])
		d := a.Dial(panel, broker)
		d.Talk(mqttConnect("probe"), []byte{0x20, 2, 0, 0}, a.think())
		for range 10 {
			d.Say(capture.Asker, mqttPublish("skerry/do11/oxygen", 0, 0))
			a.Wait(time.Second)
			c.Talk([]byte{0xC0, 0}, []byte{0xD0, 0}, a.think())
		}
	}},
	{"unconfirmed-report", "unconfirmed-report", func(a *actor) {
		c := a.subscribed("skerry/#")
		for i := range 6 + a.way {
			c.Say(capture.Answerer, mqttPublish("skerry/setpoint", uint16(i+1), 1))
			a.Wait(20 * time.Millisecond)
			if i < 3+a.way {
				c.Say(capture.Asker, []byte{0x40, 2, 0, byte(i + 1)})
			}
			a.Wait(time.Second)
		}
		for range 10 {
			c.Talk([]byte{0xC0, 0}, []byte{0xD0, 0}, a.think())
			a.Wait(time.Second)
		}
	}},
	{"a node whose numbers follow each other", "", func(a *actor) { a.node(300+a.way, -1) }},
	{"sequence-gap", "sequence-gap", func(a *actor) { a.node(40, 10+8*a.way) }},
	{"a broker that refuses the user", "refused", func(a *actor) {
		for range 3 {
			c := a.Dial(controller, broker)
			c.Talk(mqttConnect("gate"), []byte{0x20, 2, 0, []byte{4, 5, 2}[a.way]}, a.think())
			c.Close(capture.Answerer)
			a.Wait(5 * time.Second)
		}
	}},
	{"connections of what nobody knows, torn down and one after the other", "", func(a *actor) {
		for i := range 20 {
			c := a.Dial(panel, "192.0.2.90:8080")
			c.Talk([]byte("GET / HTTP/1.1\r\n\r\n"), []byte("HTTP/1.1 200 OK\r\n\r\n"), a.think())
			a.Wait(time.Duration(1+i*a.way) * time.Second)
			if a.way == 1 {
				c.Reset(capture.Side(i % 2))
			} else {
				c.Close(capture.Side(i % 2))
			}
		}
	}},
	{"what nobody knows", "", func(a *actor) {
		c := a.Dial(controller, "192.0.2.90:9000")
		for range 20 {
			c.Talk([]byte("HELLO 12\r\n"), []byte("OK 8.4 mg/L\r\n"), a.think())
			a.Wait(time.Second)
		}
		c.Close(capture.Asker)
	}},
}

// blocks opens a connection of block access.
func (a *actor) blocks() *rehearsal.Conn {
	c := a.Dial(controller, plc)
	c.Talk(blocktcp.AppendConnect(nil, 0x0100, 0x0101), blocktcp.AppendConfirm(nil, 0x0100, 0x0101), a.think())
	c.Talk(blocktcp.AppendSetup(nil, 1, 1, 480), blocktcp.AppendSetupAnswer(nil, 1, 1, 480), a.think())
	return c
}

// block reads some bytes of a block, which are answered with a code.
func (a *actor) block(c *rehearsal.Conn, ref uint16, n int, code byte) {
	items := []blocktcp.Item{{Range: block.Range{Area: "db1", Start: 0, Count: n}, Bit: -1}}
	given := []blocktcp.Given{{Code: code}}
	if code == 0xFF {
		given[0].Data = make([]byte, n)
	}
	c.Talk(blocktcp.AppendRead(nil, ref, items), blocktcp.AppendReadAnswer(nil, ref, items, given), a.think())
	a.Wait(time.Second)
}

// subscribed is a client that has subscribed to something.
func (a *actor) subscribed(filter string) *rehearsal.Conn {
	c := a.Dial(controller, broker)
	c.Talk(mqttConnect("gate"), []byte{0x20, 2, 0, 0}, a.think())
	rest := append([]byte{0, 7, 0, byte(len(filter))}, filter...)
	c.Talk(append([]byte{0x82, byte(len(rest) + 1)}, append(rest, 1)...), []byte{0x90, 3, 0, 7, 1}, a.think())
	return c
}

// node is one of Sparkplug B that tells n times, and leaves a number out.
func (a *actor) node(n, without int) {
	c := a.Dial(controller, broker)
	c.Talk(mqttConnect("node"), []byte{0x20, 2, 0, 0}, a.think())
	say := func(kind string, seq int) {
		topic := "spBv1.0/skerry/" + kind + "/rowa"
		payload := wiremqtt.AppendPayload(nil, &wiremqtt.Payload{Seq: uint64(seq), HasSeq: true})
		rest := append(append([]byte{0, byte(len(topic))}, topic...), payload...)
		c.Say(capture.Asker, append([]byte{0x30, byte(len(rest))}, rest...))
		a.Wait(time.Second)
	}
	say("NBIRTH", 0)
	for i := 1; i < n; i++ {
		if i != without {
			say("NDATA", i%256)
		}
	}
}

func mqttConnect(id string) []byte {
	rest := append([]byte{0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 60, 0, byte(len(id))}, id...)
	return append([]byte{0x10, byte(len(rest))}, rest...)
}

func mqttPublish(topic string, number uint16, service byte) []byte {
	rest := append([]byte{0, byte(len(topic))}, topic...)
	if service > 0 {
		rest = append(rest, byte(number>>8), byte(number))
	}
	rest = append(rest, "8.42"...)
	return append([]byte{0x30 | service<<1, byte(len(rest))}, rest...)
}

// TestOtherFamilies: what every family says is heard by its own reader, and judged; what
// none knows is counted.
func TestOtherFamilies(t *testing.T) {
	for i := range others {
		s := &others[i]
		for way := range ways {
			t.Run(fmt.Sprintf("%s/%d", s.name, way+1), func(t *testing.T) {
				a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(7, uint64(way))), way: way}
				s.play(a)
				a.Wait(3 * time.Second)
				a.Ask(panel, panel)
				r := New(nil)
				if err := r.Read(context.Background(), Source{Name: "x", From: bytes.NewReader(written(t, a.Stage))}); err != nil {
					t.Fatal(err)
				}
				got := r.Finish()
				if codes(got.Findings) != s.codes || (got.Exchanges == 0) != strings.Contains(s.name, "what nobody knows") {
					t.Errorf("%d exchanges %v\n%s\nwant %s", got.Exchanges, got.Said, told(got.Findings), s.codes)
				}
			})
		}
	}
}
