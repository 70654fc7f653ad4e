package recording

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/value"
	"ferry/internal/wire/blocktcp"
	"ferry/internal/wire/enip"
	"ferry/internal/wire/isotcp"
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
			c.Talk(isotcp.AppendConnect(nil, 0x0100, 0x0102, isotcp.Size1024), isotcp.AppendDisconnect(nil, 3), a.think())
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
	{"a subscription that is over", "", func(a *actor) {
		c := a.subscribed("skerry/#")
		a.Wait(time.Second)
		switch a.way {
		case 0:
			c.Talk([]byte{0xA2, 12, 0, 8, 0, 8, 's', 'k', 'e', 'r', 'r', 'y', '/', '#'}, []byte{0xB0, 2, 0, 8}, a.think())
		case 1: // with a farewell
			c.Say(capture.Asker, []byte{0xE0, 0})
			c.Close(capture.Asker)
		case 2:
			c.Close(capture.Asker)
		}
		d := a.Dial(panel, broker)
		d.Talk(mqttConnect("probe"), []byte{0x20, 2, 0, 0}, a.think())
		for range 10 {
			d.Say(capture.Asker, mqttPublish("skerry/do11/oxygen", 0, 0))
			a.Wait(time.Second)
			if a.way == 0 {
				c.Talk([]byte{0xC0, 0}, []byte{0xD0, 0}, a.think())
			}
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
	{"a session that the broker ends", "connection-dropped", func(a *actor) {
		for range 3 + a.way { // in the quiet, however long
			c := a.subscribed("skerry/#")
			for range 3 {
				c.Say(capture.Answerer, mqttPublish("skerry/setpoint", 0, 0))
				a.Wait(time.Duration(1+3*a.way) * time.Second)
			}
			c.Close(capture.Answerer)
			a.Wait(2 * time.Second)
		}
	}},
	{"retained-only", "retained-only", func(a *actor) {
		c := a.subscribed([]string{"skerry/#", "skerry/setpoint", "skerry/+"}[a.way])
		for range 1 + a.way {
			kept := mqttPublish("skerry/setpoint", 0, 0)
			kept[0] |= 1
			c.Say(capture.Answerer, kept)
		}
		for range 12 {
			a.Wait(time.Second)
			c.Talk([]byte{0xC0, 0}, []byte{0xD0, 0}, a.think())
		}
	}},
	{"what was kept, and then is told on", "", func(a *actor) {
		c := a.subscribed("skerry/#")
		kept := mqttPublish("skerry/setpoint", 0, 0)
		kept[0] |= 1
		c.Say(capture.Answerer, kept)
		for range 12 {
			a.Wait(time.Duration(1+a.way) * time.Second)
			c.Say(capture.Answerer, mqttPublish("skerry/setpoint", 0, 0))
		}
	}},
	{"sender-gone", "sender-gone", func(a *actor) {
		c := a.subscribed("spBv1.0/#")
		a.told(c, "NBIRTH", 0, 0)
		for i := range 3 + a.way {
			a.told(c, "NDATA", i+1, 0)
		}
		a.told(c, "NDEATH", -1, 0)
		a.Wait(time.Minute)
	}},
	{"a node that dies and is born again", "", func(a *actor) {
		c := a.subscribed("spBv1.0/#")
		for range 2 + a.way {
			a.told(c, "NBIRTH", 0, 0)
			a.told(c, "NDATA", 1, 0)
			a.told(c, "NDEATH", -1, 0)
		}
		a.told(c, "NBIRTH", 0, 0)
	}},
	{"data-before-birth", "data-before-birth", func(a *actor) {
		c := a.subscribed("spBv1.0/#")
		a.told(c, "NDATA", 7, 0)
		c.Say(capture.Asker, sparkplug("NCMD", &wiremqtt.Payload{Metrics: []wiremqtt.Metric{{Name: "Node Control/Rebirth",
			Type: wiremqtt.Boolean, Value: value.OfBool(true), Quality: -1}}}))
		for i := range 8 + a.way {
			a.told(c, []string{"NDATA", "NDATA", "DDATA"}[a.way], 8+i, 0)
		}
	}},
	{"clocks-apart", "clocks-apart", func(a *actor) {
		c := a.subscribed("spBv1.0/#")
		a.told(c, "NBIRTH", 0, 0)
		for i := range 6 {
			a.told(c, "NDATA", i+1, []time.Duration{2 * time.Hour, -30 * time.Minute, 3 * time.Minute}[a.way])
		}
	}},
	{"host-absent", "host-absent", func(a *actor) {
		c := a.subscribed("spBv1.0/STATE/scada")
		if a.way > 0 {
			c.Say(capture.Answerer, state("scada", a.way == 2))
			a.Wait(time.Second)
		}
		if a.way == 2 {
			c.Say(capture.Answerer, state("scada", false))
		}
		for range 10 {
			a.Wait(time.Second)
			c.Talk([]byte{0xC0, 0}, []byte{0xD0, 0}, a.think())
		}
	}},
	{"a host that is there", "", func(a *actor) {
		c := a.subscribed("spBv1.0/STATE/scada")
		c.Say(capture.Answerer, state("scada", true))
		for range 10 {
			a.Wait(time.Second)
			c.Talk([]byte{0xC0, 0}, []byte{0xD0, 0}, a.think())
		}
	}},
	{"unreadable-report", "unreadable-report", func(a *actor) {
		c := a.subscribed("spBv1.0/#")
		for range 3 + a.way {
			topic := "spBv1.0/skerry/NDATA/rowa"
			rest := append(append([]byte{0, byte(len(topic))}, topic...),
				[][]byte{[]byte("n/a"), {0x0A, 0xFF}, {0x12, 0x05, 1}}[a.way]...)
			c.Say(capture.Answerer, append([]byte{0x30, byte(len(rest))}, rest...))
			a.Wait(time.Second)
		}
	}},
	{"tls-failed", "tls-failed", func(a *actor) {
		for range 3 {
			c := a.Dial(controller, "192.0.2.80:8883")
			c.Talk(record(22, 1, 200), record(22, 2, 90), a.think())
			switch a.way {
			case 0: // in clear, as before version 1.3
				c.Say(capture.Asker, []byte{21, 3, 3, 0, 2, 2, 48})
				c.Close(capture.Asker)
			case 1: // sealed, by who asks
				c.Say(capture.Answerer, record(23, 0, 900))
				c.Say(capture.Asker, record(23, 0, 19))
				c.Close(capture.Asker)
			case 2: // and by who answers, once the other has shown what it has
				c.Say(capture.Answerer, record(23, 0, 900))
				c.Say(capture.Asker, record(23, 0, 53))
				c.Say(capture.Answerer, record(23, 0, 19))
				c.Close(capture.Answerer)
			}
			a.Wait(2 * time.Second)
		}
	}},
	{"TLS over which something is said", "", func(a *actor) {
		c := a.Dial(controller, "192.0.2.80:8883")
		c.Talk(record(22, 1, 200), record(22, 2, 90), a.think())
		c.Say(capture.Answerer, record(23, 0, 900))
		c.Say(capture.Asker, record(23, 0, 53))
		for range 5 {
			c.Talk(record(23, 0, 80+a.way), record(23, 0, 40), a.think())
			a.Wait(time.Second)
		}
		c.Say(capture.Asker, record(23, 0, 19))
		c.Close(capture.Asker)
	}},
	{"messages to objects and tags", "", func(a *actor) {
		c := a.session()
		for i := range 20 {
			a.message(c, uint64(i+2), []enip.Request{{Service: enip.ReadTag, Path: enip.Path{Class: -1, Instance: -1,
				Attribute: -1,
				Names:     []enip.Name{{Text: "Level"}}}, Data: []byte{1, 0}},
				{Service: enip.GetSingle, Path: enip.PathTo(4, 100, 3)},
				{Service: enip.GetAll, Path: enip.PathTo(1, 1, -1)}}[a.way], 0)
		}
	}},
	{"an attribute that is not there", "exception-address", func(a *actor) {
		c := a.session()
		for i := range 10 {
			a.message(c, uint64(i+2), enip.Request{Service: enip.GetSingle, Path: enip.PathTo(100, 1, 7)},
				[]byte{0x14, 0x16, 0x14}[a.way])
		}
	}},
	{"an object that answers nothing", "no-answer", func(a *actor) {
		c := a.session()
		for i := range 10 {
			a.message(c, uint64(2*i+2), enip.Request{Service: enip.GetSingle, Path: enip.PathTo(1, 1, 1)}, 0)
			r := enip.Request{Service: enip.GetSingle, Path: enip.PathTo(100+a.way, 1, 7)}
			c.Say(capture.Asker, a.framed(uint64(2*i+3), enip.AppendUnconnected(nil, r.Append(nil))))
			a.Wait(time.Second)
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

// session begins one of EtherNet/IP.
func (a *actor) session() *rehearsal.Conn {
	c := a.Dial(controller, "192.0.2.71:44818")
	f := enip.Frame{Command: enip.Register, Context: [8]byte{1}, Data: enip.RegisterData()}
	granted := f
	granted.Session = 7
	c.Talk(f.Append(nil), granted.Append(nil), a.think())
	return c
}

func (a *actor) framed(number uint64, data []byte) []byte {
	f := enip.Frame{Command: enip.SendRRData, Session: 7, Data: data}
	for i := range f.Context {
		f.Context[i] = byte(number >> (8 * i))
	}
	return f.Append(nil)
}

// message asks, and is answered with a status.
func (a *actor) message(c *rehearsal.Conn, number uint64, r enip.Request, status byte) {
	answer := enip.Answer{Service: r.Service, Status: status, Data: []byte{0xC3, 0, 1, 2}}
	c.Talk(a.framed(number, enip.AppendUnconnected(nil, r.Append(nil))),
		a.framed(number, enip.AppendUnconnected(nil, answer.Append(nil))), a.think())
	a.Wait(time.Second)
}

// record is one of TLS, with the first octet of what it holds.
func record(kind, first byte, n int) []byte {
	return append([]byte{kind, 3, 3, byte(n >> 8), byte(n), first}, make([]byte, n-1)...)
}

// told is a message of a node, to whoever has subscribed; its clock is ahead.
func (a *actor) told(c *rehearsal.Conn, kind string, seq int, ahead time.Duration) {
	p := wiremqtt.Payload{Time: uint64(a.Now.Add(ahead).UnixMilli()), Seq: uint64(max(0, seq)), HasSeq: seq >= 0}
	c.Say(capture.Answerer, sparkplug(kind, &p))
	a.Wait(time.Second)
}

func sparkplug(kind string, p *wiremqtt.Payload) []byte {
	topic := "spBv1.0/skerry/" + kind + "/rowa"
	if kind[0] == 'D' {
		topic += "/do11"
	}
	rest := append(append([]byte{0, byte(len(topic))}, topic...), wiremqtt.AppendPayload(nil, p)...)
	return append([]byte{0x30, byte(len(rest))}, rest...)
}

// state is what a host tells of itself, kept.
func state(host string, online bool) []byte {
	topic := "spBv1.0/STATE/" + host
	rest := fmt.Appendf(append([]byte{0, byte(len(topic))}, topic...), `{"online":%v,"timestamp":1}`, online)
	return append([]byte{0x31, byte(len(rest))}, rest...)
}

// blocks opens a connection of block access.
func (a *actor) blocks() *rehearsal.Conn {
	c := a.Dial(controller, plc)
	c.Talk(isotcp.AppendConnect(nil, 0x0100, 0x0101, isotcp.Size1024), isotcp.AppendConfirm(nil, 0x0100, 0x0101,
		isotcp.Size1024), a.think())
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

// FuzzSpeeches: whatever two ends say to each other, no reader of a family fails, and all
// octets are counted.
func FuzzSpeeches(f *testing.F) {
	for i := range others {
		a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(7, 0))}
		others[i].play(a)
		var said []byte
		for _, p := range a.Packets[:min(len(a.Packets), 60)] {
			if n := len(p.Payload); n > 0 && n < 1<<15 {
				head := uint16(n) << 1
				if p.From.Port() < 49152 { // who answers
					head |= 1
				}
				said = append(binary.BigEndian.AppendUint16(said, head), p.Payload...)
			}
		}
		f.Add(said[:min(len(said), 4000)])
	}
	f.Fuzz(func(t *testing.T, said []byte) {
		stage := rehearsal.New()
		c := stage.Dial(controller, broker)
		total := int64(0)
		for len(said) >= 2 {
			head := binary.BigEndian.Uint16(said)
			n := min(int(head>>1), len(said)-2)
			c.Say(capture.Side(head&1), said[2:2+n])
			stage.Wait(time.Duration(head%7) * 20 * time.Millisecond)
			total += int64(n)
			said = said[2+n:]
		}
		c.Close(capture.Side(total % 2))
		r := New(nil)
		for i := range stage.Packets {
			r.assembler.Packet(&stage.Packets[i])
		}
		r.Finish()
	})
}
