package recording

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/protocol"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/wire/blocktcp"
)

// skidSite is the plan: the controller asks the oxygen skid for four points.
func skidSite(t testing.TB) *site.Site {
	t.Helper()
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant network", Medium: "ethernet"}}
	low, high := 0.0, 25.0
	unit := protocol.Numbers(map[string]int{"unit": 1})
	point := func(id string, at uint32, of value.Type) site.Point {
		return site.Point{ID: id, Name: id, Address: block.At("hr", at), Type: of, PaceMs: 1000, Access: site.ReadOnly}
	}
	oxygen, flow := point("Oxygen", 0, value.TypeFloat32), point("Flow", 2, value.TypeFloat32)
	oxygen.Low, oxygen.High, oxygen.Unit = &low, &high, "mg/L"
	s.Devices = []site.Device{
		{ID: "lss", Name: "Controller", Ports: []site.Port{{Line: "net", Host: controller}}, Points: []site.Point{}},
		{ID: "skid", Name: "Oxygen skid", Map: "modbus-tcp",
			Ports:  []site.Port{{Line: "net", Protocol: "modbus-tcp", Host: "192.0.2.21", Settings: unit}},
			Points: []site.Point{oxygen, flow, point("Level", 4, value.TypeUint16), point("Status", 5, value.TypeUint16)}}}
	s.Links = []site.Link{{ID: "lss-skid", Asking: "lss", Answering: "skid", Line: "net", Protocol: "modbus-tcp",
		Settings: unit}}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	return s
}

// values is an answer with what the skid's points read.
func values(oxygen, flow float64, level, status uint16) []byte {
	pdu := []byte{3, 12}
	pdu = binary.BigEndian.AppendUint32(pdu, math.Float32bits(float32(oxygen)))
	pdu = binary.BigEndian.AppendUint32(pdu, math.Float32bits(float32(flow)))
	return binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(pdu, level), status)
}

// reads has the skid read each second, with the answers of say.
func (a *actor) reads(times int, say func(i int) []byte) {
	c := a.Dial(controller, skid)
	for i := range times {
		id := a.next()
		c.Talk(tcp(id, 1, a.read(0, 6)...), tcp(id, 1, say(i)...), a.think())
		a.Wait(time.Second)
	}
}

// steady are readings as they ought to be.
func (a *actor) steady(i int) (oxygen, flow float64) {
	return 8 + 0.01*float64(a.rnd.IntN(40)), 40 + 5*math.Sin(float64(i)/9) + 0.1*a.rnd.Float64()
}

func swapped(pdu []byte, from int) []byte {
	pdu[from], pdu[from+1], pdu[from+2], pdu[from+3] = pdu[from+2], pdu[from+3], pdu[from], pdu[from+1]
	return pdu
}

// planned are scenes that are compared with the plan.
var planned = []scene{
	{"as planned", "", func(a *actor) {
		a.reads(60, func(i int) []byte {
			oxygen, flow := a.steady(i)
			return values(oxygen, flow, uint16(i%7), 1)
		})
	}},
	{"as planned, by an asker that was away twice", "", func(a *actor) {
		for range 3 {
			a.reads(15, func(i int) []byte {
				oxygen, flow := a.steady(i)
				return values(oxygen, flow, uint16(i%7), 1)
			})
			a.Wait(time.Duration(20+20*a.way) * time.Second)
		}
	}},
	{"absurd-value", "absurd-value", func(a *actor) {
		a.reads(60, func(i int) []byte {
			oxygen, _ := a.steady(i)
			return values(oxygen, []float64{2.4e-27, math.NaN(), 3e30}[a.way]*(1+0.1*a.rnd.Float64()), 3, 1)
		})
	}},
	{"order-suspect", "order-suspect", func(a *actor) {
		a.reads(60, func(i int) []byte {
			oxygen, _ := a.steady(i)
			return swapped(values(oxygen, []float64{1, 1000, 0.01}[a.way]*(1+math.Ldexp(float64(a.rnd.IntN(8)), -4)), 3, 1), 6)
		})
	}},
	{"out-of-range", "out-of-range", func(a *actor) {
		a.reads(60, func(i int) []byte {
			oxygen, flow := a.steady(i)
			if i%10 == 4+a.way {
				oxygen = []float64{-3, 60, 400}[a.way]
			}
			return values(oxygen, flow, 3, 1)
		})
	}},
	{"frozen-value", "frozen-value", func(a *actor) {
		var held [2]float64
		a.reads(140, func(i int) []byte {
			oxygen, flow := a.steady(i)
			if i > 50+10*a.way {
				oxygen = held[0]
			}
			held = [2]float64{oxygen, flow}
			return values(oxygen, flow, uint16(i), 1)
		})
	}},
	{"alternating-source", "alternating-source", func(a *actor) {
		a.reads(60, func(i int) []byte {
			_, flow := a.steady(i)
			return values(8+float64(i%2)*float64(2+a.way)+0.005*a.rnd.Float64(), flow, 3, 1)
		})
	}},
	{"unknown-asker", "unknown-asker", func(a *actor) {
		a.reads(60, func(i int) []byte { return values(8+0.1*float64(i%5), 40+float64(i%3), 3, 1) })
		c := a.Dial(fmt.Sprintf("192.0.2.%d", 77+a.way), skid)
		for range 5 {
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 6)...), tcp(id, 1, values(8, 40, 3, 1)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"unknown-unit", "unknown-unit", func(a *actor) {
		a.reads(60, func(i int) []byte { return values(8+0.1*float64(i%5), 40+float64(i%3), 3, 1) })
		c := a.Dial(controller, skid)
		for range 5 {
			id := a.next()
			c.Talk(tcp(id, byte(5+a.way), a.read(0, 6)...), tcp(id, byte(5+a.way), values(8, 40, 3, 1)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"unplanned-request", "unplanned-request", func(a *actor) {
		a.reads(60, func(i int) []byte { return values(8+0.1*float64(i%5), 40+float64(i%3), 3, 1) })
		c := a.Dial(controller, skid)
		for range 5 {
			id := a.next()
			c.Talk(tcp(id, 1, a.read(100, 2+a.way)...), tcp(id, 1, a.registers(2+a.way)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"missing-request", "missing-request", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 60 {
			id := a.next()
			n := 2 + 2*(a.way%2)
			c.Talk(tcp(id, 1, a.read(0, n)...), tcp(id, 1, append([]byte{3, byte(2 * n)},
				values(8+0.1*float64(i%5), 40+float64(i%3), 3, 1)[2:2+2*n]...)...), a.think())
			a.Wait(time.Second)
		}
	}},
	{"pace-not-held", "pace-not-held", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 60 {
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 6)...), tcp(id, 1, values(8+0.1*float64(i%5), 40+float64(i%3), 3, 1)...), a.think())
			a.Wait(time.Duration(2+a.way) * time.Second)
		}
	}},
	{"map-differs", "map-differs", func(a *actor) {
		c := a.Dial(controller, skid)
		for i := range 60 {
			id := a.next()
			c.Talk(tcp(id, 1, a.read(0, 4)...), tcp(id, 1, append([]byte{3, 8},
				values(8+0.1*float64(i%5), 40+float64(i%3), 3, 1)[2:10]...)...), a.think())
			for n := range 1 + a.way%2 {
				id := a.next()
				c.Talk(tcp(id, 1, a.read(uint16(4+n), 2-a.way%2)...), tcp(id, 1, 0x83, 2), a.think())
			}
			a.Wait(time.Second)
		}
	}},
	{"another who is no asker of it", "", func(a *actor) {
		a.reads(60, func(i int) []byte { return values(8+0.1*float64(i%5), 40+float64(i%3), 3, 1) })
		c := a.Dial(panel, "192.0.2.99:502")
		a.polls(c, 1, 5)
		c.Close(capture.Asker)
	}},
}

// TestAgainstPlan: what differs from the plan of a site is found by its name, and
// nothing else is.
func TestAgainstPlan(t *testing.T) {
	s := skidSite(t)
	for i := range planned {
		sc := &planned[i]
		for way := range ways {
			t.Run(fmt.Sprintf("%s/%d", sc.name, way+1), func(t *testing.T) {
				a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(7, uint64(way))), way: way}
				sc.play(a)
				r := New(s)
				if err := r.Read(context.Background(), Source{Name: "x", From: bytes.NewReader(written(t, a.Stage))}); err != nil {
					t.Fatal(err)
				}
				if got := r.Finish(); codes(got.Findings) != sc.codes {
					t.Errorf("%s\nwant %s", told(got.Findings), sc.codes)
				}
			})
		}
	}
}

// TestAskedAsPlanned: what is read and written at the same place, and what is asked for in
// several items of one question, is asked for; and what others write may stand still.
func TestAskedAsPlanned(t *testing.T) {
	skid := skidSite(t)
	point := func(id string, at address.Address) site.Point {
		return site.Point{ID: id, Name: id, Address: at, Type: value.TypeUint16, PaceMs: 1000, Access: site.ReadWrite}
	}
	skid.Devices[1].Points = append(skid.Devices[1].Points, point("Setpoint", block.At("hr", 10)))
	hall := skidSite(t)
	hall.Devices[1].Map = "block-tcp"
	hall.Devices[1].Ports[0] = site.Port{Line: "net", Protocol: "block-tcp", Host: "192.0.2.70"}
	hall.Devices[1].Points = []site.Point{point("One", block.At("db1", 0)), point("Two", block.At("db2", 4)),
		point("Three", block.At("m", 8))}
	hall.Links[0].Protocol, hall.Links[0].Settings = "block-tcp", nil
	for _, c := range []struct {
		name string
		plan *site.Site
		play func(a *actor)
	}{
		{"read and written", skid, func(a *actor) {
			c := a.Dial(controller, "192.0.2.21:502")
			v := uint16(0)
			for i := range 60 {
				if i < 20 || i == 40 {
					v++
					a.writes(c, 10, v)
				}
				id := a.next()
				oxygen, flow := a.steady(i)
				c.Talk(tcp(id, 1, a.read(0, 6)...), tcp(id, 1, values(oxygen, flow, uint16(i%7), 1)...), a.think())
				id = a.next()
				c.Talk(tcp(id, 1, a.read(10, 1)...), tcp(id, 1, 3, 2, byte(v>>8), byte(v)), a.think())
				a.Wait(time.Second)
			}
		}},
		{"several items", hall, func(a *actor) {
			c := a.blocks()
			items := []blocktcp.Item{{Range: block.Range{Area: "db1", Start: 0, Count: 2}, Bit: -1},
				{Range: block.Range{Area: "db2", Start: 4, Count: 2}, Bit: -1}, {Range: block.Range{Area: "m", Start: 8, Count: 2},
					Bit: -1}}
			for i := range 60 {
				given := []blocktcp.Given{{Code: 0xFF, Data: []byte{0, byte(i)}}, {Code: 0xFF, Data: []byte{1, byte(i)}},
					{Code: 0xFF, Data: []byte{2, byte(i)}}}
				c.Talk(blocktcp.AppendRead(nil, uint16(i+2), items), blocktcp.AppendReadAnswer(nil, uint16(i+2), items, given),
					a.think())
				a.Wait(time.Second)
			}
		}},
	} {
		if err := c.plan.Validate(); err != nil {
			t.Fatal(err)
		}
		a := &actor{Stage: rehearsal.New(), rnd: rand.New(rand.NewPCG(7, 1))}
		c.play(a)
		r := New(c.plan)
		if err := r.Read(context.Background(), Source{Name: "x", From: bytes.NewReader(written(t, a.Stage))}); err != nil {
			t.Fatal(err)
		}
		if got := r.Finish(); codes(got.Findings) != "" || got.Exchanges < 60 {
			t.Errorf("%s: %d exchanges\n%s", c.name, got.Exchanges, told(got.Findings))
		}
	}
}
