package recording

import (
	"net/netip"
	"time"

	"ferry/internal/core/capture"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/rehearsal"
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
