package mqtt_test

import (
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	four "github.com/eclipse/paho.mqtt.golang"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	family "ferry/internal/core/family/mqtt"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	wire "ferry/internal/wire/mqtt"
)

// hatchery is a gateway that is an edge node, and listens to the node of the night
// watch.
func hatchery(t *testing.T) *site.Site {
	t.Helper()
	metric := func(text string) address.Address {
		a, err := family.Sparkplug.Scheme.Parse(text, "")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant network", Medium: site.Ethernet}},
		Devices: []site.Device{{ID: "gate", Name: "Cloud gateway", Ports: []site.Port{{Line: "net", Host: "192.0.2.1"}}},
			{ID: "broker", Name: "Cloud broker", Map: "sparkplug", Ports: []site.Port{{Line: "net", Host: "192.0.2.80",
				Protocol: "sparkplug"}}, Points: []site.Point{
				{ID: "watch", Name: "Watch", Address: metric("skerry/night/tank:Watch"), Type: "float32", Access: site.ReadOnly},
				{ID: "out", Name: "Out", Address: metric("skerry/gateway/do11:Oxygen"), Type: "float32", Access: site.ReadWrite,
					PaceMs: 1000},
				{ID: "mode", Name: "Mode", Address: metric("skerry/gateway:Mode"), Type: "uint16", Access: site.ReadWrite,
					PaceMs: 1000},
				{ID: "shown", Name: "Shown mode", Address: metric("skerry/gateway:Shown"), Type: "uint16",
					Access: site.ReadWrite, PaceMs: 1000}}}},
		Links: []site.Link{{ID: "up", Asking: "gate", Answering: "broker", Line: "net", Protocol: "sparkplug",
			Settings: protocol.Settings{"group": protocol.OfText("skerry"), "node": protocol.OfText("gateway")}}},
		Crossings: []site.Crossing{{ID: "x", From: "watch", To: "out", Factor: 2, Tells: site.TellsQuality},
			{ID: "y", From: "mode", To: "shown"}},
	}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

// told is a message that a host of another hand heard.
type told struct {
	topic   string
	payload wire.Payload
}

// host listens to everything on the broker.
type host struct {
	client four.Client
	mu     sync.Mutex
	heard  []told
}

func listen(t *testing.T, at string) *host {
	t.Helper()
	h := &host{}
	h.client = four.NewClient(four.NewClientOptions().AddBroker("tcp://" + at).SetClientID("host"))
	if token := h.client.Connect(); !token.WaitTimeout(5*time.Second) || token.Error() != nil {
		t.Fatal(token.Error())
	}
	token := h.client.Subscribe("spBv1.0/#", 0, func(_ four.Client, m four.Message) {
		p, err := wire.ParsePayload(m.Payload())
		if err != nil {
			return // the test's own nonsense
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		h.heard = append(h.heard, told{m.Topic(), p})
	})
	if !token.WaitTimeout(5*time.Second) || token.Error() != nil {
		t.Fatal(token.Error())
	}
	t.Cleanup(func() { h.client.Disconnect(50) })
	return h
}

// of returns what was heard of the gateway, from a message on.
func (h *host) of(from int) (list []told) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, m := range h.heard {
		if strings.Contains(m.topic, "/gateway") && !strings.Contains(m.topic, "CMD") {
			list = append(list, m)
		}
	}
	return list[min(from, len(list)):]
}

func names(p *wire.Payload) (list []string) {
	for _, m := range p.Metrics {
		list = append(list, m.Name)
	}
	return list
}

// TestEdgeNode: births come first, with all names; data follow by their aliases, without
// a gap in their numbers; a host has the node born again and sends a command; an orderly
// end is a death of the same birth.
func TestEdgeNode(t *testing.T) {
	s := hatchery(t)
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	h := listen(t, b.List(s)[0].Addr)
	e := field.NewEngine(s, b)
	defer e.Close()
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	fieldtest.Wait(t, "the value of another node", func() bool { return live("watch").Quality == value.Good })
	fieldtest.Wait(t, "its double, back from the broker", func() bool {
		return live("out").Quality == value.Good && live("out").Value.Float() != 0 && live("out").SourceMs != 0
	})
	fieldtest.Wait(t, "some data", func() bool { return len(h.of(0)) >= 5 })
	list := h.of(0)
	if first := list[0]; first.topic != "spBv1.0/skerry/NBIRTH/gateway" || first.payload.Seq != 0 ||
		strings.Join(names(&first.payload), ",") != "bdSeq,Node Control/Rebirth,Mode,Shown" {
		t.Errorf("first comes %s %v", first.topic, names(&first.payload))
	}
	if second := list[1]; second.topic != "spBv1.0/skerry/DBIRTH/gateway/do11" ||
		strings.Join(names(&second.payload), ",") != "Oxygen" {
		t.Errorf("then comes %s %v", second.topic, names(&second.payload))
	}
	bdSeq := list[0].payload.Metrics[0].Value
	for i, m := range list {
		if m.payload.Seq != uint64(i) || !m.payload.HasSeq {
			t.Errorf("message %d, %s, has the number %d", i, m.topic, m.payload.Seq)
		}
		if i > 1 && (m.payload.Metrics[0].Name != "" || m.payload.Metrics[0].Alias != list[1].payload.Metrics[0].Alias) {
			t.Errorf("%s: %+v", m.topic, m.payload.Metrics[0])
		}
	}

	// A host wants it born again, and then sets a metric.
	send := func(topic string, m wire.Metric) {
		m.Quality = -1
		h.client.Publish(topic, 0, false, wire.AppendPayload(nil, &wire.Payload{Time: 1, Metrics: []wire.Metric{m}})).Wait()
	}
	before := len(h.of(0))
	send("spBv1.0/skerry/NCMD/gateway", wire.Metric{Name: "Node Control/Rebirth", Type: wire.Boolean,
		Value: value.OfBool(true)})
	fieldtest.Wait(t, "it to be born again", func() bool {
		for _, m := range h.of(before) {
			if strings.Contains(m.topic, "NBIRTH") && m.payload.Seq == 0 {
				return true
			}
		}
		return false
	})
	send("spBv1.0/skerry/NCMD/gateway", wire.Metric{Name: "Mode", Type: wire.UInt16, Value: value.OfUint(3)})
	fieldtest.Wait(t, "the command to arrive, and to be told", func() bool {
		if live("mode").Quality != value.Good || live("mode").Value.Int() != 3 {
			return false
		}
		for _, m := range h.of(before) {
			if strings.Contains(m.topic, "NDATA") && m.payload.Metrics[0].Value.Float() == 3 {
				return true
			}
		}
		return false
	})
	fieldtest.Wait(t, "what carries it on", func() bool {
		return live("shown").Quality == value.Good &&
			live("shown").Value.Int() == 3
	})

	// A command for what nothing carries on comes to nothing, and neither does nonsense.
	send("spBv1.0/skerry/DCMD/gateway/do11", wire.Metric{Name: "Oxygen", Type: wire.Float, Value: value.OfFloat(777)})
	for _, topic := range []string{"spBv1.0/skerry//gateway", "spBv1.0////", "spBv1.0/skerry/NDATA/gateway/do11",
		"spBv1.0"} {
		h.client.Publish(topic, 0, false, []byte{0x12, 0xFF}).Wait()
		send(topic, wire.Metric{Name: "Oxygen", Type: wire.Float, Value: value.OfFloat(777)})
	}
	time.Sleep(1200 * time.Millisecond)
	for _, m := range h.of(0) {
		if strings.Contains(m.topic, "DDATA") && m.payload.Metrics[0].Value.Float() == 777 {
			t.Error("a command is told as the value of what nobody set")
		}
	}
	if live("out").Value.Float() == 777 {
		t.Error("a command is shown as the value")
	}
	before = len(h.of(0))
	e.Stop(nil)
	fieldtest.Wait(t, "its death", func() bool {
		for _, m := range h.of(before) {
			if strings.Contains(m.topic, "NDEATH") && m.payload.Metrics[0].Value == bdSeq {
				return true
			}
		}
		return false
	})
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "another birth", func() bool {
		for _, m := range h.of(before) {
			if strings.Contains(m.topic, "NBIRTH") && m.payload.Metrics[0].Value != bdSeq {
				return true
			}
		}
		return false
	})
}

// TestNodesOfOthers: what is wrong with a node makes its values doubtful or bad, in
// words; the crossing tells its far side so, and all is well again with the next birth.
func TestNodesOfOthers(t *testing.T) {
	e, b := run(t, hatchery(t))
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	live := func(id string) field.Live { l, _ := e.Hub.Point(id); return l }
	well := func() bool { return live("watch").Quality == value.Good && live("out").Quality == value.Good }
	for _, c := range []struct {
		fault   string
		quality value.Quality
		says    string
	}{{"gap", value.Doubtful, "of the node are missing"}, {"death", value.Bad, "the node has died"}} {
		fieldtest.Wait(t, "all to be well", well)
		if err := b.SetFault("broker", bench.Fault{Kind: c.fault}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, c.fault, func() bool {
			l := live("watch")
			return l.Quality == c.quality && strings.Contains(l.Reason, c.says)
		})
		fieldtest.Wait(t, "the far side to be told", func() bool { return live("out").Quality == c.quality })
		if err := b.SetFault("broker", bench.Fault{}); err != nil {
			t.Fatal(err)
		}
	}
	fieldtest.Wait(t, "all to be well again", well)
	if err := b.SetFault("broker", bench.Fault{Kind: "clock"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the clock of the nodes to be told of", func() bool {
		return slices.ContainsFunc(e.Hub.Findings(e.Site(), time.Now()), func(f finding.Finding) bool {
			return f.Code == "clocks-apart" && strings.Contains(f.Sentence, "2h0m0s ahead of")
		})
	})
	if err := b.SetFault("broker", bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	held, _, err := e.Held(t.Context(), "up")
	if err != nil || len(held) != 1 || family.Sparkplug.Scheme.Short(held[0].Address) != "skerry/night/tank:Watch" ||
		held[0].Shape.Type != value.TypeFloat32 {
		t.Errorf("it lists %+v, %v", held, err)
	}
}

// TestPrimaryHost: an edge node that waits for a host is not born before that is there;
// it dies with it, and comes back with another birth.
func TestPrimaryHost(t *testing.T) {
	s := hatchery(t)
	s.Links[0].Settings["primaryHost"] = protocol.OfText("shore")
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	if err := b.SetFault("broker", bench.Fault{Kind: "hostless"}); err != nil {
		t.Fatal(err)
	}
	h := listen(t, b.List(s)[0].Addr)
	e := field.NewEngine(s, b)
	defer e.Close()
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	count := func(kind string) (n int) {
		for _, m := range h.of(0) {
			if strings.Contains(m.topic, "/"+kind+"/") {
				n++
			}
		}
		return n
	}
	fieldtest.Wait(t, "it to say for whom it waits", func() bool {
		return strings.Contains(e.Crossings()[0].Sentence, "the host shore is not there")
	})
	if list := h.of(0); len(list) > 0 {
		t.Errorf("nobody is there, and it says %s", list[0].topic)
	}
	for range 2 {
		births, deaths := count("NBIRTH"), count("NDEATH")
		if err := b.SetFault("broker", bench.Fault{}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, "it to be born, with what it could not say", func() bool {
			list := h.of(0)
			return count("NBIRTH") > births && strings.Contains(list[len(list)-1].topic, "DATA")
		})
		if err := b.SetFault("broker", bench.Fault{Kind: "hostless"}); err != nil {
			t.Fatal(err)
		}
		fieldtest.Wait(t, "it to die", func() bool { return count("NDEATH") > deaths })
		before := len(h.of(0))
		time.Sleep(1500 * time.Millisecond)
		if list := h.of(before); len(list) > 0 {
			t.Errorf("its host is gone, and it says %s", list[0].topic)
		}
	}
}

// TestHostState: a host tells that it is there once it listens, sets right who says that
// it is not, and that it goes when it goes in order.
func TestHostState(t *testing.T) {
	s := hatchery(t)
	s.Crossings, s.Devices[1].Points = nil, s.Devices[1].Points[:1]
	s.Links[0].Settings = protocol.Settings{"hostId": protocol.OfText("ferry-shore")}
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	client := four.NewClient(four.NewClientOptions().AddBroker("tcp://" + b.List(s)[0].Addr).SetClientID("node"))
	if token := client.Connect(); !token.WaitTimeout(5*time.Second) || token.Error() != nil {
		t.Fatal(token.Error())
	}
	defer client.Disconnect(50)
	var mu sync.Mutex
	said := ""
	client.Subscribe("spBv1.0/STATE/+", 1, func(_ four.Client, m four.Message) {
		mu.Lock()
		defer mu.Unlock()
		said += string(m.Payload())
	}).Wait()
	says := func(what string) func() bool {
		return func() bool {
			mu.Lock()
			defer mu.Unlock()
			last := strings.LastIndex(said, `"online"`)
			return last >= 0 && strings.HasPrefix(said[last:], what)
		}
	}
	e := field.NewEngine(s, b)
	defer e.Close()
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "it to be there", says(`"online":true`))
	client.Publish("spBv1.0/STATE/ferry-shore", 1, true, `{"online":false,"timestamp":1}`).Wait()
	fieldtest.Wait(t, "it to be there all the same", func() bool {
		mu.Lock()
		defer mu.Unlock()
		_, after, found := strings.Cut(said, `"timestamp":1}`)
		return found && strings.Contains(after, `"online":true`)
	})
	e.Stop(nil)
	fieldtest.Wait(t, "it to go", says(`"online":false`))
	both := s.Links[0]
	both.Settings = protocol.Settings{"hostId": protocol.OfText("a"), "group": protocol.OfText("g"),
		"node": protocol.OfText("n")}
	s.Links[0] = both
	e2 := field.NewEngine(s, b)
	defer e2.Close()
	if err := e2.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "two roles to be refused", func() bool {
		l, _ := e2.Hub.Point("watch")
		return strings.Contains(l.Reason, "an edge node or a host, not both")
	})
}

// TestUntypedData: data of a node may leave the types to its birth, as the standard has
// it, and numbers below nothing are still that.
func TestUntypedData(t *testing.T) {
	s := hatchery(t)
	s.Crossings, s.Devices[1].Points = nil, []site.Point{
		{ID: "pump", Name: "Trim", Address: s.Devices[1].Points[0].Address, Type: "int16", Access: site.ReadWrite,
			PaceMs: 1000}}
	at, err := family.Sparkplug.Scheme.Parse("skerry/day:Trim", "")
	if err != nil {
		t.Fatal(err)
	}
	s.Devices[1].Points[0].Address = at
	b := bench.New()
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	client := four.NewClient(four.NewClientOptions().AddBroker("tcp://" + b.List(s)[0].Addr).SetClientID("day"))
	if token := client.Connect(); !token.WaitTimeout(5*time.Second) || token.Error() != nil {
		t.Fatal(token.Error())
	}
	defer client.Disconnect(50)
	e := field.NewEngine(s, b)
	defer e.Close()
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	birth := wire.AppendPayload(nil, &wire.Payload{Time: 1, HasSeq: true, Metrics: []wire.Metric{
		{Name: "bdSeq", Type: wire.Int64, Value: value.OfInt(0), Quality: -1},
		{Name: "Trim", Alias: 7, HasAlias: true, Type: wire.Int16, Value: value.OfInt(4), Quality: -1}}})
	// 2: (2: 7, 10: 0xFFFFFFFB); 3: 1
	data := []byte{0x12, 8, 0x10, 7, 0x50, 0xFB, 0xFF, 0xFF, 0xFF, 0x0F, 0x18, 1}
	fieldtest.Wait(t, "the number as it is", func() bool {
		client.Publish("spBv1.0/skerry/NBIRTH/day", 0, false, birth).Wait()
		client.Publish("spBv1.0/skerry/NDATA/day", 0, false, data).Wait()
		time.Sleep(50 * time.Millisecond)
		l, _ := e.Hub.Point("pump")
		if l.Value.Float() > 4 {
			t.Fatalf("it reads %v, %s", l.Value, l.Quality)
		}
		return l.Quality == value.Good && l.Value.Float() == -5
	})
}
