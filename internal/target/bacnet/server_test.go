package bacnet

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	family "ferry/internal/core/family/bacnet"
	wire "ferry/internal/wire/bacnet"
)

var (
	client = netip.MustParseAddrPort("192.0.2.20:47808")
	other  = netip.MustParseAddrPort("192.0.2.21:47808")
)

// net is a subnet of the tests: what was sent to whom.
type subnet struct {
	t *testing.T
	s *Server
	f *Front

	sent   map[netip.AddrPort][][]byte
	spread [][]byte
	wrote  []string
}

func begin(t *testing.T) *subnet {
	n := &subnet{t: t, sent: map[netip.AddrPort][][]byte{}}
	objects := []*Object{
		{ID: wire.ID(0, 1), Name: "Meter 1 power", Description: "Active power", Unit: 48, Low: math.NaN(),
			High: math.NaN(), Step: 0.5, Value: wire.Real(12.5)},
		{ID: wire.ID(2, 1), Name: "Setpoint", Unit: 62, Low: 4, High: 20, Commanded: true, Value: wire.Real(8)},
		{ID: wire.ID(4, 1), Name: "Pump", States: []string{"off", "on"}, Commanded: true},
		{ID: wire.ID(19, 1), Name: "Mode", States: []string{"hand", "auto", "off"}, Commanded: true, Value: wire.Unsigned(2)},
		{ID: wire.ID(23, 1), Name: "Energy", Unit: 19, Low: math.NaN(), High: math.NaN()},
	}
	for i := range 300 {
		objects = append(objects, &Object{ID: wire.ID(0, uint32(100+i)), Name: fmt.Sprintf("Register %d", i),
			Low: math.NaN(), High: math.NaN(), Unit: 95})
	}
	send := func(to netip.AddrPort, b []byte) { n.sent[to] = append(n.sent[to], b) }
	n.f = NewFront(Carrier{Send: send, Broadcast: func(b []byte) { n.spread = append(n.spread, b) }})
	n.s = New(Config{Send: send,
		Write: func(_ netip.AddrPort, o wire.ObjectID, v wire.Value) *wire.Failure {
			if v.Float == 13 {
				return writeDenied
			}
			n.wrote = append(n.wrote, fmt.Sprint(o.Type(), ":", o.Instance(), " ", v.Float, v.Uint))
			return nil
		}}, Device{Instance: 4050, Name: "Meters", Vendor: "Ferry", VendorID: 999, Model: "Ferry"}, objects)
	n.f.Put(n.s)
	t.Cleanup(n.s.Close)
	return n
}

// says sends a message in, and returns what came back to its sender.
func (n *subnet) says(from netip.AddrPort, link wire.LinkFunction, m wire.Message) []wire.Message {
	n.t.Helper()
	n.s.mu.Lock()
	n.sent[from] = nil
	n.s.mu.Unlock()
	if m.Kind == wire.Confirmed && m.MostOctets == 0 {
		m.MostOctets = wire.MostOctets
	}
	network := wire.Network{Carries: true, Expects: m.Kind == wire.Confirmed, Body: m.Append(nil)}
	n.f.Hear(from, (&wire.Link{Function: link, NPDU: network.Append(nil)}).Append(nil))
	return n.came(from)
}

func (n *subnet) came(to netip.AddrPort) (list []wire.Message) {
	n.t.Helper()
	n.s.mu.Lock()
	defer n.s.mu.Unlock()
	for _, b := range n.sent[to] {
		l, err := wire.ParseLink(b)
		if err != nil {
			n.t.Fatal(err)
		}
		if l.NPDU == nil {
			continue
		}
		network, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
		if err != nil {
			n.t.Fatal(err)
		}
		m, err := wire.ParseMessage(network.Body, network.BodyAt)
		if err != nil {
			n.t.Fatal(err)
		}
		list = append(list, m)
	}
	return list
}

// read reads a property and prints it, or why not.
func (n *subnet) read(place string) string {
	n.t.Helper()
	p, err := family.ParsePlace(place)
	if err != nil {
		n.t.Fatal(err)
	}
	ref := wire.Reference{Object: wire.ID(uint16(p.Type), p.Instance), Property: uint32(p.Property), Index: p.Index}
	return n.told(n.says(client, wire.Unicast, wire.Message{Kind: wire.Confirmed, Invoke: 1, Service: wire.ReadProperty,
		Body: wire.AppendReadProperty(nil, ref)}))
}

func (n *subnet) told(list []wire.Message) string {
	n.t.Helper()
	if len(list) != 1 {
		return fmt.Sprint(len(list), " messages")
	}
	switch m := list[0]; m.Kind {
	case wire.ErrorAnswer:
		f, err := wire.ParseFailure(m.Body, m.BodyAt)
		return fmt.Sprint("error ", f.Class, " ", f.Code, " ", err == nil)
	case wire.Reject, wire.Abort:
		return fmt.Sprint("kind ", m.Kind, " ", m.Reason)
	case wire.SimpleAck:
		return "done"
	case wire.ComplexAck:
		_, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt)
		if err != nil {
			return err.Error()
		}
		return printed(values)
	}
	return "nothing of the kind"
}

func printed(values []wire.Value) string {
	var text []string
	for _, v := range values {
		switch v.Tag {
		case wire.TagNull:
			text = append(text, "null")
		case wire.TagReal, wire.TagDouble:
			text = append(text, fmt.Sprint(v.Float))
		case wire.TagText:
			text = append(text, v.Text)
		case wire.TagObject:
			text = append(text, fmt.Sprint(v.Object.Type(), ":", v.Object.Instance()))
		default:
			text = append(text, fmt.Sprint(v.Uint))
		}
	}
	return strings.Join(text, " ")
}

// TestRead: properties are read, whole and by elements, and what is not there is refused as the standard says.
func TestRead(t *testing.T) {
	n := begin(t)
	for place, want := range map[string]string{"AI1": "12.5", "AI1.units": "48", "AI1.object-name": "Meter 1 power",
		"device:4050.object-name":    "Meters",
		"device:4050.object-list[0]": "306", "device:4050.object-list[2]": "0:1", "AI9": "error 1 31 true",
		"AI1.priority-array": "error 2 32 true",
		"AI1.units[1]":       "error 2 50 true", "AV1.priority-array[17]": "error 2 42 true", "AV1.priority-array[0]": "16",
		"AV1.priority-array[8]":  "null",
		"AV1.relinquish-default": "8", "BO1": "0", "BO1.active-text": "on", "MV1": "2", "MV1.state-text[3]": "off",
		"MV1.number-of-states": "3",
		"ACC1":                 "0", "AI1.cov-increment": "0.5", "device:4050.max-apdu-length-accepted": "1476", "AI1.min-pres-value": "error 2 32 true"} {
		if got := n.read(place); got != want {
			t.Errorf("%s: %s, want %s", place, got, want)
		}
	}
	body := wire.AppendReadMultiple(nil,
		[]wire.Reference{{Object: wire.ID(0, 1), Property: uint32(family.AllProperties), Index: wire.Whole},
			{Object: wire.ID(0, 77), Property: 85, Index: wire.Whole}})
	list := n.says(client, wire.Unicast, wire.Message{Kind: wire.Confirmed, Invoke: 2,
		Service: wire.ReadPropertyMultiple, Body: body})
	results, err := wire.ParseMultipleAnswer(list[0].Body, 0)
	if err != nil || len(results) != 12 || results[11].Failed == nil || results[3].Values[0].Float != 12.5 {
		t.Errorf("%+v, %v", results, err)
	}
	for name, m := range map[string]wire.Message{"kind 6 9": {Kind: wire.Confirmed, Service: 99},
		"kind 6 4": {Kind: wire.Confirmed, Service: wire.ReadProperty,
			Body: []byte{1, 2}}, "kind 7 4": {Kind: wire.Confirmed, Service: wire.ReadProperty, Segmented: true}} {
		if got := n.told(n.says(client, wire.Unicast, m)); got != name {
			t.Errorf("%s: %s", name, got)
		}
	}
}

// TestPresence: who is asked for answers, and nobody else; an object is found by its name.
func TestPresence(t *testing.T) {
	n := begin(t)
	for _, c := range []struct {
		of   wire.Range
		want int
	}{{wire.Everybody, 1}, {wire.Range{First: 4000, Last: 4100}, 1}, {wire.Range{First: 0, Last: 4049}, 0}} {
		if list := n.says(client, wire.Broadcast, wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs,
			Body: wire.AppendWhoIs(nil, c.of)}); len(list) != c.want {
			t.Errorf("%+v: %d answers", c.of, len(list))
		}
	}
	sought := wire.Sought{Range: wire.Everybody, Name: "Energy", ByName: true}
	list := n.says(client, wire.Broadcast, wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoHas,
		Body: sought.Append(nil)})
	if f, err := wire.ParseIHave(list[0].Body, 0); err != nil || f.Object != wire.ID(23, 1) ||
		f.Device != wire.ID(8, 4050) {
		t.Errorf("%+v, %v", f, err)
	}
	ask := wire.Message{Kind: wire.Confirmed, Service: wire.ReadProperty,
		Body: wire.AppendReadProperty(nil, wire.Reference{Object: wire.ID(0, 1), Property: 85, Index: -1})}
	if list := n.says(client, wire.Broadcast, ask); len(list) != 0 {
		t.Errorf("a question to all was answered: %+v", list)
	}
}

// TestPriorities: the strongest command counts, and what is relinquished goes back to the next; what the
// value comes to is written, and nothing else.
func TestPriorities(t *testing.T) {
	n := begin(t)
	write := func(place string, v wire.Value, priority uint8) string {
		p, _ := family.ParsePlace(place)
		w := wire.Written{Reference: wire.Reference{Object: wire.ID(uint16(p.Type), p.Instance),
			Property: uint32(p.Property), Index: p.Index}, Values: []wire.Value{v}, Priority: priority}
		return n.told(n.says(client, wire.Unicast, wire.Message{Kind: wire.Confirmed, Invoke: 3,
			Service: wire.WriteProperty, Body: wire.AppendWrite(nil, &w)}))
	}
	for i, c := range []struct {
		place    string
		v        wire.Value
		priority uint8
		want, is string
	}{
		{"AV1", wire.Real(10), 0, "done", "10"}, {"AV1", wire.Real(12), 8, "done", "12"},
		{"AV1", wire.Real(9), 10, "done", "12"},
		{"AV1", wire.Null(), 8, "done", "9"}, {"AV1", wire.Null(), 10, "done", "10"}, {"AV1", wire.Null(), 16, "done", "8"},
		{"AV1", wire.Real(30), 8, "error 2 37 true", "8"}, {"AV1", wire.Real(13), 8, "error 2 40 true", "8"},
		{"AV1", wire.Text("x"), 8, "error 2 9 true", "8"},
		{"AV1", wire.Real(10), 6, "error 2 40 true", "8"}, {"AI1", wire.Real(1), 8, "error 2 40 true", "12.5"},
		{"BO1", wire.Enumerated(1), 8, "done", "1"},
		{"BO1", wire.Enumerated(2), 8, "error 2 37 true", "1"}, {"MV1", wire.Unsigned(0), 8, "error 2 37 true", "2"},
		{"MV1", wire.Unsigned(3), 8, "done", "3"},
		{"AV1.units", wire.Enumerated(1), 8, "error 2 40 true", "62"}, {"AV7", wire.Real(1), 8, "error 1 31 true",
			"error 1 31 true"},
	} {
		if got := write(c.place, c.v, c.priority); got != c.want {
			t.Errorf("%d: %s, want %s", i, got, c.want)
		}
		if is := n.read(c.place); is != c.is {
			t.Errorf("%d: %s is %s, want %s", i, c.place, is, c.is)
		}
	}
	if want := []string{"2:1 10 0", "2:1 12 0", "2:1 9 0", "2:1 10 0", "2:1 8 0", "4:1 0 1",
		"19:1 0 3"}; !slices.Equal(n.wrote, want) {
		t.Errorf("written %q", n.wrote)
	}
}

// TestChanges: who subscribed is told at once and of changes that are large enough, also of the status; a
// report that is to be confirmed is followed by the next once it is.
func TestChanges(t *testing.T) {
	n := begin(t)
	subscribe := func(s wire.Subscription) []wire.Message {
		return n.says(client, wire.Unicast, wire.Message{Kind: wire.Confirmed, Invoke: 4, Service: wire.SubscribeCOV,
			Body: s.Append(nil)})
	}
	list := subscribe(wire.Subscription{Process: 7, Object: wire.ID(0, 1), Seconds: 60})
	if len(list) != 2 || list[0].Kind != wire.SimpleAck || list[1].Service != wire.UnconfirmedCOV {
		t.Fatalf("%+v", list)
	}
	c, err := wire.ParseChange(list[1].Body, 0)
	if err != nil || c.Process != 7 || c.Values[0].Values[0].Float != 12.5 || c.Seconds == 0 {
		t.Errorf("%+v, %v", c, err)
	}
	count := func(v float64, flags uint8) int {
		before := len(n.came(client))
		n.s.Set(wire.ID(0, 1), Standing{Value: wire.Real(v), Flags: flags})
		return len(n.came(client)) - before
	}
	for i, step := range []struct {
		v     float64
		flags uint8
		want  int
	}{{12.7, 0, 0}, {13.0, 0, 1}, {13.0, Fault, 1}, {13.2, Fault, 0}, {12.4, 0, 1}} {
		if got := count(step.v, step.flags); got != step.want {
			t.Errorf("%d: %d reports", i, got)
		}
	}
	list = subscribe(wire.Subscription{Process: 8, Object: wire.ID(4, 1), Confirms: true})
	if len(list) != 2 || list[1].Kind != wire.Confirmed {
		t.Fatalf("%+v", list)
	}
	n.s.Set(wire.ID(4, 1), Standing{Value: wire.Enumerated(1)})
	if list := n.came(client); len(list) != 2 {
		t.Errorf("%d messages before the first is confirmed", len(list))
	}
	got := n.says(client, wire.Unicast, wire.Message{Kind: wire.SimpleAck, Invoke: list[1].Invoke,
		Service: wire.ConfirmedCOV})
	if len(got) != 1 {
		t.Fatalf("%+v", got)
	}
	if c, err := wire.ParseChange(got[0].Body, 0); err != nil || c.Values[0].Values[0].Uint != 1 {
		t.Errorf("%+v, %v", c, err)
	}
	if got := n.told(subscribe(wire.Subscription{Process: 8, Object: wire.ID(4, 9)})); got != "error 1 31 true" {
		t.Error(got)
	}
	subscribe(wire.Subscription{Process: 7, Object: wire.ID(0, 1), Cancels: true})
	if got := count(99, 0); got != 0 {
		t.Errorf("%d reports to who cancelled", got)
	}
}

// TestParts: an answer that is longer than its asker takes goes out in parts, as many at a time as are
// taken, and again from where one is missing; who takes no parts is told so.
func TestParts(t *testing.T) {
	n := begin(t)
	ask := wire.Message{Kind: wire.Confirmed, Invoke: 9, Service: wire.ReadProperty, MostOctets: 206,
		TakesSegments: true, MostSegments: 64, Body: wire.AppendReadProperty(nil,
			wire.Reference{Object: wire.ID(8, 4050), Property: uint32(family.ObjectList), Index: wire.Whole})}
	bare := ask
	bare.TakesSegments = false
	if got := n.told(n.says(client, wire.Unicast, bare)); got != "kind 7 4" {
		t.Error(got)
	}
	var body []byte
	next := uint8(0)
	take := func(list []wire.Message) (more bool) {
		for _, m := range list {
			if !m.Segmented || m.Number != next {
				continue
			}
			body = append(body, m.Body...)
			next++
			if !m.Follows {
				return false
			}
		}
		return true
	}
	list := n.says(client, wire.Unicast, ask)
	if len(list) != 1 {
		t.Fatalf("%d parts before the first is acknowledged", len(list))
	}
	ack := func(number uint8, refused bool) []wire.Message {
		return n.says(client, wire.Unicast, wire.Message{Kind: wire.SegmentAck, Invoke: 9, Number: number, Window: 4,
			Refused: refused})
	}
	for turn := 0; take(list) && turn < 30; turn++ {
		if turn == 2 { // the second of four is lost
			list = ack(next-1, false)
			if len(list) != 4 {
				t.Fatalf("%d parts at a time", len(list))
			}
			take(list[:1])
			list = ack(next-1, true)
			continue
		}
		list = ack(next-1, false)
	}
	_, values, err := wire.ParseReadAnswer(body, 0)
	if err != nil || len(values) != 306 {
		t.Errorf("%d objects, %v", len(values), err)
	}
	if list := ack(next-1, false); len(list) != 0 {
		t.Errorf("after the end %d parts more", len(list))
	}
}

// TestForeign: a device of another subnet that registers has broadcasts brought, and may spread its own.
func TestForeign(t *testing.T) {
	n := begin(t)
	who := wire.Network{Carries: true, Body: (&wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs}).Append(nil)}
	n.f.Hear(other, (&wire.Link{Function: wire.Distribute, NPDU: who.Append(nil)}).Append(nil))
	if l, err := wire.ParseLink(n.sent[other][0]); err != nil || l.Result != wire.DistributeRefused {
		t.Errorf("%+v, %v", l, err)
	}
	n.f.Hear(other, (&wire.Link{Function: wire.RegisterForeign, Seconds: 60}).Append(nil))
	if l, err := wire.ParseLink(n.sent[other][1]); err != nil || l.Result != wire.LinkDone {
		t.Errorf("%+v, %v", l, err)
	}
	n.f.Hear(client, (&wire.Link{Function: wire.Broadcast, NPDU: who.Append(nil)}).Append(nil))
	if l, err := wire.ParseLink(n.sent[other][2]); err != nil || l.Function != wire.Forwarded || l.From != client {
		t.Errorf("%+v, %v", l, err)
	}
	n.f.Hear(other, (&wire.Link{Function: wire.Distribute, NPDU: who.Append(nil)}).Append(nil))
	if len(n.spread) != 1 || len(n.came(other)) != 2 { // what was brought, and the answer
		t.Errorf("%d spread, %d came", len(n.spread), len(n.came(other)))
	}
	n.f.Hear(other, (&wire.Link{Function: wire.ReadForeign}).Append(nil))
	l, err := wire.ParseLink(n.sent[other][len(n.sent[other])-1])
	if err != nil || len(l.Table) != 1 || l.Table[0].Seconds != 60 || l.Table[0].Left < 80 {
		t.Errorf("%+v, %v", l, err)
	}
	n.f.foreign[other] = foreigner{60, time.Now().Add(-time.Second)}
	if n.f.knows(other) {
		t.Error("it is registered still")
	}
}

// TestSubnets: a broadcast is brought to who does the same in another subnet, and one from there to this subnet and
// to the foreign devices, but not back; from anybody else it is taken, and not brought on.
func TestSubnets(t *testing.T) {
	n := begin(t)
	peer, foreign := netip.MustParseAddrPort("198.51.100.1:47808"), netip.MustParseAddrPort("203.0.113.7:50000")
	n.f.Join([]netip.AddrPort{peer})
	n.f.Hear(foreign, (&wire.Link{Function: wire.RegisterForeign, Seconds: 60}).Append(nil))
	who := wire.Network{Carries: true, Body: (&wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs}).Append(nil)}
	sent := func(to netip.AddrPort) (list []wire.LinkFunction) {
		for _, b := range n.sent[to] {
			l, err := wire.ParseLink(b)
			if err != nil {
				t.Fatal(err)
			}
			list = append(list, l.Function)
		}
		n.sent[to] = nil
		return list
	}
	sent(foreign)
	n.f.Hear(client, (&wire.Link{Function: wire.Broadcast, NPDU: who.Append(nil)}).Append(nil))
	if p, f := sent(peer), sent(foreign); len(p) != 1 || p[0] != wire.Forwarded || len(f) != 1 || f[0] != wire.Forwarded {
		t.Errorf("%v, %v", p, f)
	}
	forwarded := (&wire.Link{Function: wire.Forwarded, From: other, NPDU: who.Append(nil)}).Append(nil)
	spread := len(n.spread)
	n.f.Hear(peer, forwarded)
	if p, f, o := sent(peer), sent(foreign), sent(other); len(p) != 0 || len(f) != 1 || len(o) != 1 ||
		len(n.spread) != spread+1 {
		t.Errorf("%v, %v, %v, %d", p, f, o, len(n.spread)-spread)
	}
	n.f.Hear(client, forwarded)
	if p, f, o := sent(peer), sent(foreign), sent(other); len(p) != 0 || len(f) != 0 || len(o) != 1 ||
		len(n.spread) != spread+1 {
		t.Errorf("%v, %v, %v, %d", p, f, o, len(n.spread)-spread)
	}
	n.f.Hear(client, (&wire.Link{Function: wire.ReadTable}).Append(nil))
	if l, err := wire.ParseLink(n.sent[client][len(n.sent[client])-1]); err != nil || len(l.Table) != 1 ||
		l.Table[0].At != peer {
		t.Errorf("%+v, %v", l, err)
	}
}

// TestBehind: devices in networks behind an address are found by questions to all networks, answer with where
// they are, and of a network that is not there it is said so.
func TestBehind(t *testing.T) {
	n := begin(t)
	for i, station := range []wire.Station{{Network: 7, Address: "\x00\x10\x01"}, {Network: 7, Address: "\x00\x10\x02"}} {
		s := New(Config{Station: station, Send: func(to netip.AddrPort, b []byte) { n.sent[to] = append(n.sent[to], b) }},
			Device{Instance: uint32(0x1001 + i), Name: fmt.Sprint("Meter ", i)},
			[]*Object{{ID: wire.ID(0, 1), Name: "Power", Value: wire.Real(float64(i))}})
		t.Cleanup(s.Close)
		n.f.Put(s)
	}
	ask := func(to wire.Station, m wire.Message) (said []string) {
		n.sent[client] = nil
		out := wire.Network{To: to, Carries: true, Expects: true, Body: m.Append(nil)}
		n.f.Hear(client, (&wire.Link{Function: wire.Unicast, NPDU: out.Append(nil)}).Append(nil))
		for _, b := range n.sent[client] {
			l, err := wire.ParseLink(b)
			if err != nil {
				t.Fatal(err)
			}
			in, err := wire.ParseNetwork(l.NPDU, l.NPDUAt)
			if err != nil {
				t.Fatal(err)
			}
			kind := wire.Kind(99)
			if in.Carries {
				is, err := wire.ParseMessage(in.Body, in.BodyAt)
				if err != nil {
					t.Fatal(err)
				}
				kind = is.Kind
			}
			said = append(said, fmt.Sprintf("%d %x %d %d", in.From.Network, in.From.Address, kind, in.Message))
		}
		slices.Sort(said)
		return said
	}
	who := wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs}
	read := wire.Message{Kind: wire.Confirmed, Invoke: 1, Service: wire.ReadProperty, MostOctets: wire.MostOctets,
		Body: wire.AppendReadProperty(nil, wire.Reference{Object: wire.ID(0, 1), Property: 85, Index: wire.Whole})}
	for _, c := range []struct {
		to   wire.Station
		m    wire.Message
		want []string
	}{
		{wire.Station{Network: wire.EveryNetwork}, who, []string{"0  1 0", "7 001001 1 0", "7 001002 1 0"}},
		{wire.Station{Network: 7}, who, []string{"7 001001 1 0", "7 001002 1 0"}},
		{wire.Station{}, who, []string{"0  1 0"}},
		{wire.Station{Network: 7, Address: "\x00\x10\x02"}, read, []string{"7 001002 3 0"}},
		{wire.Station{Network: 7}, read, nil},
		{wire.Station{Network: 8, Address: "\x01"}, read, []string{"0  99 3"}},
	} {
		if got := ask(c.to, c.m); !slices.Equal(got, c.want) {
			t.Errorf("to %v: %q, want %q", c.to, got, c.want)
		}
	}
}

// FuzzHear: whatever comes, it goes on to answer.
func FuzzHear(f *testing.F) {
	f.Add([]byte{0x81, 0x0B, 0, 8, 1, 0, 0x10, 8})
	f.Add([]byte{0x81, 0x0A, 0, 17, 1, 4, 0, 5, 1, 12, 12, 0, 0, 0, 1, 0x19, 0x55})
	f.Add([]byte{0x81, 0x0A, 0, 19, 1, 4, 2, 0x75, 9, 14, 12, 2, 0, 15, 0xD2, 0x1E, 9, 8, 0x1F})
	f.Fuzz(func(t *testing.T, b []byte) {
		sent := 0
		send := func(netip.AddrPort, []byte) { sent++ }
		front := NewFront(Carrier{Send: send, Broadcast: func([]byte) {}})
		s := New(Config{Send: send,
			Write: func(netip.AddrPort, wire.ObjectID, wire.Value) *wire.Failure { return nil }},
			Device{Instance: 4050, Name: "Meters"},
			[]*Object{{ID: wire.ID(2, 1), Name: "Setpoint", Commanded: true, Low: math.NaN(), High: math.NaN()}})
		defer s.Close()
		front.Put(s)
		front.Hear(client, b)
		if sent > 20 {
			t.Errorf("%d datagrams for one", sent)
		}
	})
}

// TestOverridden: an object that is commanded and whose source does not follow says so, until it does, or until it
// is commanded no more.
func TestOverridden(t *testing.T) {
	n := begin(t)
	id := wire.ID(2, 1)
	write := func(v wire.Value) {
		w := wire.Written{Reference: wire.Reference{Object: id, Property: 85, Index: wire.Whole},
			Values: []wire.Value{v}, Priority: 8}
		n.says(client, wire.Unicast, wire.Message{Kind: wire.Confirmed, Invoke: 1, Service: wire.WriteProperty,
			Body: wire.AppendWrite(nil, &w)})
	}
	is := func() (float64, uint8) {
		n.s.mu.Lock()
		defer n.s.mu.Unlock()
		o := n.s.space.by[id]
		return o.present().Float, o.flags()
	}
	for i, c := range []struct {
		do    func()
		value float64
		flags uint8
	}{
		{func() { write(wire.Real(11)) }, 11, 0},
		{func() { n.s.Set(id, Standing{Value: wire.Real(15)}) }, 11, Overridden},
		{func() { n.s.Set(id, Standing{Value: wire.Real(11)}) }, 11, 0},
		{func() { n.s.Set(id, Standing{Value: wire.Real(15)}) }, 11, Overridden},
		{func() { write(wire.Null()) }, 15, 0},
	} {
		c.do()
		if v, flags := is(); v != c.value || flags != c.flags {
			t.Errorf("step %d: %v, flags %d", i, v, flags)
		}
	}
}

// TestBomb: one question for the whole list of objects hundreds of times is broken off, and costs the others nothing.
func TestBomb(t *testing.T) {
	n := begin(t)
	list := wire.Reference{Object: wire.ID(8, 4050), Property: uint32(family.ObjectList), Index: wire.Whole}
	came := n.says(client, wire.Unicast, wire.Message{Kind: wire.Confirmed, Invoke: 9,
		Service: wire.ReadPropertyMultiple, TakesSegments: true, Body: wire.AppendReadMultiple(nil,
			slices.Repeat([]wire.Reference{list}, 600))})
	if len(came) != 1 || came[0].Kind != wire.Abort || came[0].Reason != abortTooLong {
		t.Errorf("%+v", came)
	}
	for index, want := range map[int64]string{0: "306", 1: "device:4050", 2: "analog-input:1", 306: "analog-input:399",
		307: ""} {
		list.Index = index
		came := n.says(client, wire.Unicast, wire.Message{Kind: wire.Confirmed, Invoke: 9, Service: wire.ReadProperty,
			Body: wire.AppendReadProperty(nil, list)})
		if got, values, err := wire.ParseReadAnswer(came[0].Body, 0); (err != nil || got.Index != index ||
			values[0].String() != want) && want != "" {
			t.Errorf("element %d: %v, %v, want %s", index, values, err, want)
		}
	}
}

// TestTwice: who says that it has the instance of a device here is told of, nobody else; and all are asked for it.
func TestTwice(t *testing.T) {
	n := begin(t)
	var told []string
	n.f.carrier.Twice = func(s *Server, from netip.AddrPort, behind wire.Station) {
		told = append(told, fmt.Sprint(s == n.s, from, behind.Network))
	}
	is := func(instance uint32) wire.Message {
		p := wire.Presence{Device: wire.ID(8, instance), MostOctets: 480, Segmentation: wire.SegmentsNot, Vendor: 7}
		return wire.Message{Kind: wire.Unconfirmed, Service: wire.IAm, Body: p.Append(nil)}
	}
	n.says(client, wire.Broadcast, is(4051))
	n.says(client, wire.Broadcast, is(4050))
	n.says(client, wire.Unicast, is(4050))
	if want := fmt.Sprint([]string{fmt.Sprint(true, client, 0), fmt.Sprint(true, client, 0)}); fmt.Sprint(told) != want {
		t.Errorf("%v, want %s", told, want)
	}
	n.spread = nil
	n.f.Seek(n.s)
	if len(n.spread) != 1 {
		t.Fatalf("%d broadcasts", len(n.spread))
	}
	l, _ := wire.ParseLink(n.spread[0])
	network, _ := wire.ParseNetwork(l.NPDU, l.NPDUAt)
	m, err := wire.ParseMessage(network.Body, network.BodyAt)
	if err != nil || l.Function != wire.Broadcast || network.To.Network != wire.EveryNetwork || m.Service != wire.WhoIs {
		t.Fatalf("%v: %+v %+v %+v", err, l, network, m)
	}
	if of, err := wire.ParseWhoIs(m.Body, m.BodyAt); err != nil || of != (wire.Range{First: 4050, Last: 4050}) {
		t.Errorf("%+v, %v", of, err)
	}
}
