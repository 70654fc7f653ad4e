package recording

import (
	"bytes"
	"context"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/judge"
	"ferry/internal/core/protocol"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/site"
	"ferry/internal/wire/bacnet"
)

func init() { others = append(others, buildingScenes...) }

// building is a building controller at the energy gateway, in BACnet/IP.
type building struct {
	*actor
	controller, gateway netip.AddrPort
	invoke              uint8
}

func (a *actor) building() *building {
	return &building{actor: a, controller: rehearsal.End("192.0.2.9:47808"), gateway: rehearsal.End("192.0.2.97:47808")}
}

// says sends a message; to nobody is to all.
func (b *building) says(from, to netip.AddrPort, m bacnet.Message) {
	l := bacnet.Link{Function: bacnet.Unicast}
	if !to.IsValid() {
		l.Function, to = bacnet.Broadcast, rehearsal.End("192.0.2.255:47808")
	}
	n := bacnet.Network{Carries: true, Expects: m.Kind == bacnet.Confirmed, Body: m.Append(nil)}
	l.NPDU = n.Append(nil)
	b.Put(capture.Packet{Kind: capture.UDP, From: from, To: to, Payload: l.Append(nil)})
	b.Wait(200 * time.Microsecond)
}

// asks asks the gateway; it answers with a message, or not at all.
func (b *building) asks(service uint8, body []byte, answer *bacnet.Message) {
	b.invoke++
	b.says(b.controller, b.gateway, bacnet.Message{Kind: bacnet.Confirmed, Invoke: b.invoke, Service: service,
		MostOctets: 1476, Body: body})
	b.Wait(b.think())
	if answer != nil {
		answer.Invoke, answer.Service = b.invoke, service
		b.says(b.gateway, b.controller, *answer)
	}
}

func refuses(class, code uint32) *bacnet.Message {
	return &bacnet.Message{Kind: bacnet.ErrorAnswer, Body: bacnet.AppendFailure(nil, bacnet.Failure{Class: class, Code: code})}
}

func meterRef(instance uint32, p family.Property) bacnet.Reference {
	return bacnet.Reference{Object: bacnet.ID(uint16(family.AnalogInput), instance), Property: uint32(p), Index: bacnet.Whole}
}

// polls reads six values with their status so many times, the last of them as it is given.
func (b *building) polls(times int, last func(i int, pair []bacnet.Result)) {
	for i := range times {
		var refs []bacnet.Reference
		var results []bacnet.Result
		for k := range uint32(6) {
			pair := []bacnet.Result{
				{Reference: meterRef(k, family.PresentValue), Values: []bacnet.Value{bacnet.Real(20 + b.rnd.Float64())}},
				{Reference: meterRef(k, family.StatusFlags), Values: []bacnet.Value{bacnet.Bits(0, 4)}}}
			if k == 5 && last != nil {
				last(i, pair)
			}
			refs, results = append(refs, pair[0].Reference, pair[1].Reference), append(results, pair...)
		}
		b.asks(bacnet.ReadPropertyMultiple, bacnet.AppendReadMultiple(nil, refs),
			&bacnet.Message{Kind: bacnet.ComplexAck, Body: bacnet.AppendMultipleAnswer(nil, results)})
		b.Wait(2 * time.Second)
	}
}

// present has a device say that it is there.
func (b *building) present(at netip.AddrPort, instance uint32) {
	p := bacnet.Presence{Device: bacnet.ID(uint16(family.Device), instance), MostOctets: 1476, Vendor: 7}
	b.says(at, netip.AddrPort{}, bacnet.Message{Kind: bacnet.Unconfirmed, Service: bacnet.IAm, Body: p.Append(nil)})
}

// finds looks for the gateway, and lists what it says of itself; it lacks what it need not have.
func (b *building) finds() {
	b.says(b.controller, netip.AddrPort{}, bacnet.Message{Kind: bacnet.Unconfirmed, Service: bacnet.WhoIs})
	b.Wait(b.think())
	b.present(b.gateway, 4050)
	b.asks(bacnet.ReadProperty, bacnet.AppendReadProperty(nil, meterRef(0, family.ObjectName)),
		&bacnet.Message{Kind: bacnet.ComplexAck, Body: bacnet.AppendReadAnswer(nil, meterRef(0, family.ObjectName),
			[]bacnet.Value{bacnet.Text("Meter 1 Power")})})
	b.asks(bacnet.ReadProperty, bacnet.AppendReadProperty(nil, meterRef(0, family.Description)), refuses(2, 32))
}

// tells has the gateway tell of changes, and the controller confirm that.
func (b *building) tells(times int) {
	for i := range times {
		c := bacnet.Change{Process: 7, Device: bacnet.ID(uint16(family.Device), 4050), Object: meterRef(1, 0).Object,
			Values: []bacnet.Told{
				{Property: uint32(family.PresentValue), Index: bacnet.Whole, Values: []bacnet.Value{bacnet.Real(float64(i))}},
				{Property: uint32(family.StatusFlags), Index: bacnet.Whole, Values: []bacnet.Value{bacnet.Bits(0, 4)}}}}
		b.says(b.gateway, b.controller, bacnet.Message{Kind: bacnet.Confirmed, Invoke: uint8(i), Service: bacnet.ConfirmedCOV,
			MostOctets: 1476, Body: c.Append(nil)})
		b.Wait(b.think())
		b.says(b.controller, b.gateway, bacnet.Message{Kind: bacnet.SimpleAck, Invoke: uint8(i), Service: bacnet.ConfirmedCOV})
		b.Wait(time.Second)
	}
}

func (b *building) writes(answer *bacnet.Message) {
	w := bacnet.Written{Reference: meterRef(2, family.PresentValue), Values: []bacnet.Value{bacnet.Real(900)}, Priority: 8}
	b.asks(bacnet.WriteProperty, bacnet.AppendWrite(nil, &w), answer)
	b.Wait(3 * time.Second)
}

var buildingScenes = []scene{
	{"a building controller that reads meters, and is told of them", "", func(a *actor) {
		b := a.building()
		b.finds()
		b.polls(6, nil)
		b.tells(5 + a.way)
		b.writes(&bacnet.Message{Kind: bacnet.SimpleAck})
		b.finds()
		b.polls(6, nil)
	}},
	{"a meter that is silent behind its gateway", "source-doubtful", func(a *actor) {
		a.building().polls(8, func(i int, pair []bacnet.Result) {
			if i > 2+a.way {
				pair[1].Values[0] = bacnet.Bits(2, 4) // it has a fault
			}
		})
	}},
	{"an object that is not there, among others", "exception-address", func(a *actor) {
		a.building().polls(6, func(_ int, pair []bacnet.Result) {
			for k := range pair {
				pair[k].Values, pair[k].Failed = nil, &bacnet.Failure{Class: 1, Code: 31}
			}
		})
	}},
	{"an object that is not there, alone", "exception-address", func(a *actor) {
		b := a.building()
		b.polls(3, nil)
		for range 3 + a.way {
			b.asks(bacnet.ReadProperty, bacnet.AppendReadProperty(nil, meterRef(99, family.PresentValue)), refuses(1, 31))
			b.Wait(2 * time.Second)
		}
	}},
	{"a present value that an object lacks", "exception-address", func(a *actor) {
		a.building().polls(5, func(_ int, pair []bacnet.Result) {
			pair[0].Values, pair[0].Failed = nil, &bacnet.Failure{Class: 2, Code: 32}
		})
	}},
	{"a value that only others may write", "refused", func(a *actor) {
		b := a.building()
		b.polls(2, nil)
		b.writes(refuses(2, 40))
	}},
	{"a value out of range", "exception-value", func(a *actor) {
		b := a.building()
		b.polls(2, nil)
		b.writes(refuses(2, 37))
	}},
	{"a device that sends nothing in parts", "refused", func(a *actor) {
		b := a.building()
		b.polls(2, nil)
		for range 3 {
			b.asks(bacnet.ReadProperty, bacnet.AppendReadProperty(nil, bacnet.Reference{
				Object: bacnet.ID(uint16(family.Device), 4050), Property: uint32(family.ObjectList), Index: bacnet.Whole}),
				&bacnet.Message{Kind: bacnet.Abort, Reason: 4, Server: true})
			b.Wait(time.Second)
		}
	}},
	{"a device that sends nothing in parts, and is asked element by element", "bears-less", func(a *actor) {
		b := a.building()
		list := bacnet.Reference{Object: bacnet.ID(uint16(family.Device), 4050), Property: uint32(family.ObjectList),
			Index: bacnet.Whole}
		b.asks(bacnet.ReadProperty, bacnet.AppendReadProperty(nil, list),
			&bacnet.Message{Kind: bacnet.Abort, Reason: 4, Server: true})
		for i := range 20 + a.way {
			one := list
			one.Index = int64(i)
			b.asks(bacnet.ReadProperty, bacnet.AppendReadProperty(nil, one), &bacnet.Message{Kind: bacnet.ComplexAck,
				Body: bacnet.AppendReadAnswer(nil, one, []bacnet.Value{bacnet.Unsigned(20)})})
		}
	}},
	{"a device that is there twice", "station-twice", func(a *actor) {
		b := a.building()
		b.finds()
		b.present(rehearsal.End("192.0.2.99:47808"), 4050)
		b.polls(3, nil)
	}},
	{"who says in circles that it is there", "told-too-often", func(a *actor) {
		b := a.building()
		b.finds()
		for range 300 {
			b.present(rehearsal.End("192.0.2.98:47808"), 4060)
			b.Wait(3 * time.Millisecond)
		}
	}},
	{"a network number that nobody knows a way to", "trouble-told", func(a *actor) {
		b := a.building()
		b.polls(2, nil)
		n := bacnet.Network{Message: bacnet.RejectToNetwork, Body: []byte{1, 0, 12}}
		l := bacnet.Link{Function: bacnet.Unicast, NPDU: n.Append(nil)}
		b.Put(capture.Packet{Kind: capture.UDP, From: b.gateway, To: b.controller, Payload: l.Append(nil)})
	}},
	{"who does not take a machine as a foreign device", "trouble-told", func(a *actor) {
		b := a.building()
		b.polls(2, nil)
		ask, no := bacnet.Link{Function: bacnet.RegisterForeign, Seconds: 60}, bacnet.Link{Function: bacnet.LinkResult,
			Result: bacnet.RegisterRefused}
		b.Put(capture.Packet{Kind: capture.UDP, From: b.controller, To: b.gateway, Payload: ask.Append(nil)})
		b.Wait(b.think())
		b.Put(capture.Packet{Kind: capture.UDP, From: b.gateway, To: b.controller, Payload: no.Append(nil)})
	}},
	{"a gateway that has fallen silent", "no-answer", func(a *actor) {
		b := a.building()
		b.polls(3, nil)
		for range 4 {
			b.asks(bacnet.ReadPropertyMultiple, bacnet.AppendReadMultiple(nil,
				[]bacnet.Reference{meterRef(1, family.PresentValue)}), nil)
			b.Wait(3 * time.Second)
		}
	}},
}

// TestOwnDatagrams: what Ferry asked with datagrams is a recording of such, and what is planned at an address is known
// by it where nothing that is said tells who is asked.
func TestOwnDatagrams(t *testing.T) {
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: site.Ethernet, Network: "192.0.2.0/24"}}
	instance := protocol.Settings{family.KeyDevice: protocol.OfInt(4050)}
	s.Devices = []site.Device{{ID: "lss", Name: "Life support", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}},
		Points: []site.Point{}}, {ID: "gate", Name: "Energy gateway", Map: family.IP.Name, Points: []site.Point{},
		Ports: []site.Port{{Line: "net", Host: "192.0.2.97", Protocol: family.IP.Name, Settings: instance}}}}
	s.Links = []site.Link{{ID: "l", Asking: "lss", Answering: "gate", Line: "net", Protocol: family.IP.Name,
		Settings: instance}}
	b := (&actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(1, 2))}).building()
	b.polls(5, nil)
	var list []exchange.Exchange
	for i := 0; i < len(b.Packets); i += 2 {
		out, in := b.Packets[i], b.Packets[i+1]
		list = append(list, exchange.Exchange{Link: "l", Device: "gate", Outcome: exchange.Answered, At: out.At,
			LatencyMs: 1, Frames: []exchange.Frame{{Out: true, Octets: out.Payload}, {AfterMs: 1, Octets: in.Payload}}})
	}
	var out bytes.Buffer
	if err := WriteOwn(&out, s, list, nil); err != nil {
		t.Fatal(err)
	}
	r := New(s)
	if err := r.Read(context.Background(), Source{Name: "x", From: &out}); err != nil {
		t.Fatal(err)
	}
	got := r.Finish()
	if got.Exchanges != 5 || len(got.Findings) > 0 {
		t.Errorf("%d exchanges of 5\n%s", got.Exchanges, told(got.Findings))
	}
	for key, talk := range r.judge.Talks {
		if d := judge.DeviceOf(s, key); talk.Protocol != family.IP.Name || d == nil || d.ID != "gate" {
			t.Errorf("%+v speaks %s to %+v", key, talk.Protocol, d)
		}
	}
}
