// Package bacnet has devices stand in for real ones of BACnet/IP.
package bacnet

import (
	"encoding/binary"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/address"
	family "ferry/internal/core/family/bacnet"
	target "ferry/internal/target/bacnet"
	wire "ferry/internal/wire/bacnet"
)

func init() { bench.Register(family.IP.Name, speech{}) }

type speech struct{}

// Habits of models.
const (
	noMultiple = "no-multiple"
	noParts    = "no-parts"
	allOrNone  = "all-or-none"
	noReports  = "no-reports"
)

// forgets is the fault that it has forgotten its subscriptions, once.
const forgets = "forgets"

func (speech) Faults() []bench.FaultKind {
	udp := []bench.Place{bench.OverTCP}
	return []bench.FaultKind{
		{Kind: noMultiple, Title: "knows no ReadPropertyMultiple", Places: udp, Habit: true},
		{Kind: noParts, Title: "sends no answer in parts", Places: udp, Habit: true},
		{Kind: allOrNone, Title: "refuses a question for one of its properties", Places: udp, Habit: true},
		{Kind: noReports, Title: "tells of no changes", Places: udp, Habit: true},
		{Kind: "faulty", Title: "says that its values have a fault", Places: udp},
		{Kind: "out-of-service", Title: "has its objects out of service", Places: udp},
		{Kind: "guarded", Title: "lets nothing be written", Places: udp},
		{Kind: "other-instance", Title: "has another instance", Unit: "instance", Default: 99, Most: family.MostDevice,
			Places: udp},
		{Kind: forgets, Title: "forgets who subscribed", Places: udp},
		{Kind: "storm", Title: "says who it is again and again", Unit: "a second", Default: 200, Least: 1, Most: 5000,
			Places: udp},
	}
}

// Talk is never asked for: a device answers datagrams.
func (speech) Talk(*bench.Simulated) bench.Talk { return nil }

// every is how often a stand-in looks what has changed.
const every = 100 * time.Millisecond

func (speech) Mouth(of *bench.Simulated, fault func() bench.Fault, send func(netip.AddrPort, []byte)) (bench.Mouth,
	error) {
	m := &mouth{of: of, fault: fault, was: fault(), laid: of.Memory.Laid(), done: make(chan struct{}), send: send,
		commanded: map[wire.ObjectID]bool{}}
	m.front = target.NewFront(target.Carrier{Send: send,
		Broadcast: func([]byte) {}}) // each stand-in has loopback for itself
	var station wire.Station
	if network := family.IP.Int(of.Settings, family.KeyNetwork); network > 0 {
		station = Behind(uint16(network), uint32(family.IP.Int(of.Settings, family.KeyDevice)))
	}
	objects := m.objects()
	m.server = target.New(target.Config{Station: station, Send: send, Write: m.write}, m.device(), objects)
	m.front.Put(m.server)
	m.look()
	m.others.Go(m.watch)
	return m, nil
}

// Behind is the address of a device in a network behind another: its instance in three octets.
func Behind(network uint16, instance uint32) wire.Station {
	octets := binary.BigEndian.AppendUint32(nil, instance)
	return wire.Station{Network: network, Address: string(octets[1:])}
}

// mouth is a stand-in of a device.
type mouth struct {
	of     *bench.Simulated
	fault  func() bench.Fault
	send   func(netip.AddrPort, []byte)
	front  *target.Front
	server *target.Server
	done   chan struct{}
	others sync.WaitGroup
	// laid and was are the map and the fault that it began with.
	laid int
	was  bench.Fault

	mu sync.Mutex
	by map[string]wire.ObjectID // objects of places
	at map[wire.ObjectID]address.Address
	// commanded are the objects that somebody has written.
	commanded map[wire.ObjectID]bool
	asked     netip.AddrPort // who asked last
}

func (m *mouth) Hear(from netip.AddrPort, b []byte) {
	m.mu.Lock()
	m.asked = from
	m.mu.Unlock()
	m.front.Hear(from, b)
}

func (m *mouth) Close() error {
	close(m.done)
	m.others.Wait()
	m.server.Close()
	return nil
}

// device is what it says of itself, under the fault that is on.
func (m *mouth) device() target.Device {
	fault := m.fault()
	has := func(habit string) bool { return fault.Kind == habit || slices.Contains(m.of.Habits, habit) }
	name := family.IP.Value(m.of.Settings, family.KeyName).Text()
	if name == "" {
		name = m.of.Name
	}
	d := target.Device{Instance: uint32(family.IP.Int(m.of.Settings, family.KeyDevice)), Name: name,
		Vendor: "Skerry Point", Model: m.of.Identity, Version: "1.0", NoMultiple: has(noMultiple),
		NoParts: has(noParts), NoReports: has(noReports), AllOrNone: has(allOrNone)}
	for _, habit := range m.of.Habits {
		if n, err := strconv.ParseUint(strings.TrimPrefix(habit, "instance-"), 10, 22); err == nil {
			d.Instance = uint32(n) // it is not set as the plan says
		}
	}
	if fault.Kind == "other-instance" {
		d.Instance = uint32(fault.Value)
	}
	return d
}

// objects are those of the places that the device has.
func (m *mouth) objects() []*target.Object {
	held := m.of.Memory.Held()
	objects, by := target.Made(held)
	at := map[wire.ObjectID]address.Address{}
	for _, h := range held {
		if id, ok := by[h.Address.String()]; ok {
			at[id] = h.Address
		}
	}
	m.mu.Lock()
	m.by, m.at = by, at
	m.mu.Unlock()
	return objects
}

// watch follows what the device has, and what stands there.
func (m *mouth) watch() {
	tick := time.NewTicker(every)
	defer tick.Stop()
	laid, was := m.laid, m.was
	for {
		select {
		case <-m.done:
			return
		case <-tick.C:
		}
		if is, fault := m.of.Memory.Laid(), m.fault(); is != laid || fault != was {
			laid, was = is, fault
			if m.server.Replace(m.device(), m.objects()); fault.Kind == forgets || fault.Kind == noReports {
				m.server.Forget()
			}
		}
		m.look()
		if was.Kind == "storm" {
			m.storm(was.Value / int(time.Second/every))
		}
	}
}

// storm says who it is so many times to whoever asked last.
func (m *mouth) storm(times int) {
	m.mu.Lock()
	to := m.asked
	m.mu.Unlock()
	if !to.IsValid() {
		return
	}
	p := wire.Presence{Device: wire.ID(uint16(family.Device), uint32(family.IP.Int(m.of.Settings, family.KeyDevice))),
		MostOctets: wire.MostOctets, Segmentation: wire.SegmentsSent}
	message := wire.Message{Kind: wire.Unconfirmed, Service: wire.IAm, Body: p.Append(nil)}
	n := wire.Network{Carries: true, Body: message.Append(nil)}
	octets := (&wire.Link{Function: wire.Unicast, NPDU: n.Append(nil)}).Append(nil)
	for range max(1, times) {
		m.send(to, octets)
	}
}

// look tells the server what stands in the memory now.
func (m *mouth) look() {
	flags, reliability := uint8(0), uint32(target.NoFault)
	switch m.fault().Kind {
	case "faulty":
		flags, reliability = target.Fault, target.NoSensor
	case "out-of-service":
		flags = target.OutOfService
	}
	m.mu.Lock()
	at, commanded := m.at, m.commanded
	m.mu.Unlock()
	for id, a := range at {
		v, there := m.of.Memory.Value(a)
		if !there {
			continue
		}
		if out, err := wire.Of(family.Type(id.Type()), "", v); err == nil {
			m.server.Set(id, target.Standing{Value: out, Flags: flags, Reliability: reliability, Commanded: commanded[id]})
		}
	}
}

// write takes a value.
func (m *mouth) write(_ netip.AddrPort, o wire.ObjectID, v wire.Value) *wire.Failure {
	m.mu.Lock()
	at, there := m.at[o]
	m.mu.Unlock()
	m.mu.Lock()
	next := maps.Clone(m.commanded)
	next[o] = true
	m.commanded = next
	m.mu.Unlock()
	is, err := v.Native()
	if m.fault().Kind == "guarded" || err != nil || !there || !m.of.Memory.Set(at, is) {
		return &wire.Failure{Class: classProperty, Code: writeDenied}
	}
	return nil
}

// The error that nothing is written (clause 18.3).
const (
	classProperty = 2
	writeDenied   = 40
)
