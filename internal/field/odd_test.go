package field_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"
	"ferry/internal/core/protocol"
	"ferry/internal/field/fieldtest"

	"ferry/internal/core/finding"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// oddity is a way in which a register server that is well behaves otherwise than
// most. Its register n holds 1000 + n.
type oddity struct {
	name string
	// bears says whether a read is answered; others are refused with code.
	bears func(from, count int) bool
	code  byte // 0 for silence
	// functions that are known; nil for 3 and 4. unknown says what becomes of the
	// others: refused, silent, slow, close or reset.
	functions []byte
	unknown   string
	unit      int // under which it answers, -1 for that it is asked by
	zero      bool
	each      bool          // closes after each answer
	quiet     time.Duration // closes after so long
	one       string        // one client at a time; others are refused or queued
	pieces    bool
	first     time.Duration // the first answer takes so long
	area      string        // of the map, hr if empty
	met       string        // word of the try that names it
}

var oddities = []oddity{
	{name: "plain", unknown: "refused", unit: -1},
	{name: "silent on what it does not know", unknown: "silent", unit: -1},
	{name: "slow on what it does not know", unknown: "slow", unit: -1},
	{name: "closes on what it does not know", unknown: "close", unit: -1},
	{name: "resets on what it does not know", unknown: "reset", unit: -1},
	{name: "at most 16", bears: func(_, count int) bool { return count <= 16 }, code: 3, unit: -1, met: "at most 16"},
	{name: "at most 16, code 2", bears: func(_, count int) bool { return count <= 16 }, code: 2, unit: -1,
		met: "at most 16"},
	{name: "at most 16, silent", bears: func(_, count int) bool { return count <= 16 }, unit: -1, met: "at most 16"},
	{name: "a hole between", bears: func(from, count int) bool { return from > 159 || from+count <= 151 }, code: 2,
		unit: -1, met: "touches 40152 to 40160"},
	{name: "a hole of four", bears: func(from, count int) bool { return from > 155 || from+count <= 155 }, code: 4,
		unit: -1, met: "touches"},
	{name: "pairs from odd places only", bears: func(from, count int) bool {
		end := from + count
		return !(from > 131 && from < 151 && from%2 == 0 || end > 131 && end < 151 && end%2 == 0)
	}, code: 2, unit: -1},
	{name: "function 4 only", functions: []byte{4}, unknown: "refused", unit: -1, area: "ir"},
	{name: "function 4 only, silent on 3", functions: []byte{4}, unknown: "silent", unit: -1, area: "ir"},
	{name: "closes after each answer", each: true, unit: -1, met: "after each answer"},
	{name: "closes after each answer, silent on what it does not know", each: true, unknown: "silent", unit: -1,
		met: "after each answer"},
	{name: "closes after quiet seconds", quiet: 1200 * time.Millisecond, unit: -1},
	{name: "one client, others refused", one: "refused", unit: -1},
	{name: "one client, others queued", one: "queued", unit: -1},
	{name: "unit 0", unit: 0, met: "another number"},
	{name: "unit 255", unit: 255, met: "another number"},
	{name: "in pieces", pieces: true, unit: -1, met: "in pieces"},
	{name: "slow first answer", first: 900 * time.Millisecond, unit: -1, met: "first answer"},
	{name: "transaction 0", zero: true, unit: -1, met: "without the transaction"},
	{name: "transaction 0, unit 255, silent on what it does not know", zero: true, unit: 255, unknown: "silent",
		met: "without the transaction"},
	{name: "at most 16, closes after each answer, one client", bears: func(_, count int) bool { return count <= 16 },
		code: 3, each: true, one: "refused", unit: -1, met: "at most 16"},
}

func (o *oddity) serve(t *testing.T) (port int, free func()) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	var inUse sync.Mutex
	var busy atomic.Bool
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				switch o.one {
				case "refused":
					if !busy.CompareAndSwap(false, true) {
						_ = c.(*net.TCPConn).SetLinger(0)
						return
					}
					defer busy.Store(false)
				case "queued":
					inUse.Lock()
					defer inUse.Unlock()
				}
				o.talk(c)
			}()
		}
	}()
	free = func() {
		fieldtest.Wait(t, "the one client to be gone", func() bool { return !busy.Load() })
	}
	return l.Addr().(*net.TCPAddr).Port, free
}

func (o *oddity) talk(c net.Conn) {
	head := make([]byte, 7)
	for turn := 0; ; turn++ {
		if o.quiet > 0 {
			_ = c.SetReadDeadline(time.Now().Add(o.quiet))
		}
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		pdu := make([]byte, binary.BigEndian.Uint16(head[4:])-1)
		if _, err := io.ReadFull(c, pdu); err != nil {
			return
		}
		answer := o.answer(c, pdu)
		if answer == nil {
			continue
		}
		if len(answer) == 0 {
			return
		}
		if turn == 0 && o.first > 0 {
			time.Sleep(o.first)
		}
		frame := append([]byte(nil), head[:4]...)
		if o.zero {
			frame[0], frame[1] = 0, 0
		}
		frame = binary.BigEndian.AppendUint16(frame, uint16(1+len(answer)))
		unit := head[6]
		if o.unit >= 0 {
			unit = byte(o.unit)
		}
		frame = append(append(frame, unit), answer...)
		if o.pieces {
			_, _ = c.Write(frame[:5])
			time.Sleep(60 * time.Millisecond)
			frame = frame[5:]
		}
		if _, err := c.Write(frame); err != nil || o.each {
			return
		}
	}
}

// answer is nil for none, and empty where the connection ends.
func (o *oddity) answer(c net.Conn, pdu []byte) []byte {
	known := o.functions
	if known == nil {
		known = []byte{3, 4}
	}
	if !slices.Contains(known, pdu[0]) {
		switch o.unknown {
		case "silent":
			return nil
		case "slow":
			time.Sleep(700 * time.Millisecond)
		case "close":
			return []byte{}
		case "reset":
			_ = c.(*net.TCPConn).SetLinger(0)
			return []byte{}
		}
		return []byte{pdu[0] | 0x80, 1}
	}
	from, count := int(binary.BigEndian.Uint16(pdu[1:])), int(binary.BigEndian.Uint16(pdu[3:]))
	if o.bears != nil && !o.bears(from, count) {
		if o.code == 0 {
			return nil
		}
		return []byte{pdu[0] | 0x80, o.code}
	}
	out := []byte{pdu[0], byte(2 * count)}
	for i := range count {
		out = binary.BigEndian.AppendUint16(out, uint16(1000+from+i))
	}
	return out
}

// oddSite is a site with one such device: 30 registers from 100, ten pairs from
// 131 and 20 registers from 160.
func (o *oddity) site(port int) *site.Site {
	area := o.area
	if area == "" {
		area = family.HoldingRegisters
	}
	s := &site.Site{Lines: []site.Line{{ID: "net", Name: "Net", Medium: site.Ethernet}},
		Links: []site.Link{{ID: "k", Asking: "lap", Answering: "d", Line: "net", Protocol: "modbus-tcp",
			Settings: protocol.Numbers(map[string]int{"port": port, "timeoutMs": 500})}},
		Devices: []site.Device{{ID: "lap", Name: "Laptop",
			Ports: []site.Port{{Line: "net", Host: "127.0.0.2", Protocol: "modbus-tcp"}}},
			{ID: "d", Name: "Probe", Map: "modbus-tcp",
				Ports: []site.Port{{Line: "net", Host: "127.0.0.1", Protocol: "modbus-tcp"}}}}}
	add := func(from int, kind value.Type) {
		s.Devices[1].Points = append(s.Devices[1].Points,
			site.Point{ID: strconv.Itoa(from), Name: "P" + strconv.Itoa(from), Address: block.At(area, uint32(from)),
				Type: kind, PaceMs: 200, Access: site.ReadOnly})
	}
	for i := range 30 {
		add(100+i, value.TypeUint16)
	}
	for i := range 10 {
		add(131+2*i, value.TypeUint32)
	}
	for i := range 20 {
		add(160+i, value.TypeUint16)
	}
	return s
}

// wrong says which points are not good and right.
func wrong(points []site.Point, live func(i int) field.Live) (list []string) {
	for i := range points {
		p, got := &points[i], live(i)
		want := uint64(1000 + p.Place().Offset)
		if p.Type == value.TypeUint32 {
			want = want<<16 | (want + 1)
		}
		if got.Quality != value.Good || got.Value.String() != fmt.Sprint(want) {
			list = append(list, fmt.Sprintf("%s %s %s %s", p.Name, got.Quality, got.Value.String(), got.Reason))
		}
	}
	return list
}

// TestOddDevices: devices that are well but odd are read by a run, by a try and
// as the command line reads them, and none of the three accuses them.
func TestOddDevices(t *testing.T) {
	for _, o := range oddities {
		t.Run(o.name, func(t *testing.T) {
			t.Parallel()
			port, free := o.serve(t)
			s := o.site(port)
			link, device := s.Link("k"), s.Device("d")
			target := field.Target{Dial: net.JoinHostPort("127.0.0.1", strconv.Itoa(port))}
			r, err := field.TryTarget(context.Background(), link, device, target)
			if err != nil {
				t.Fatal(err)
			}
			said := judged(t, "a try of its own", r)
			if !strings.Contains(said, o.met) {
				t.Errorf("the try does not name it %q: %s", o.met, said)
			}
			free()
			reader, err := field.NewReader(link, device, target)
			if err != nil {
				t.Fatal(err)
			}
			for range 2 {
				list := reader.Read(context.Background())
				if bad := wrong(device.Points, func(i int) field.Live { return list[i] }); len(bad) > 0 {
					t.Errorf("the command line reads %d wrong: %v", len(bad), bad[0])
				}
				if o.quiet > 0 {
					time.Sleep(o.quiet + 300*time.Millisecond)
				}
			}
			reader.Close()
			free()
			o.run(t, s)
		})
	}
}

func judged(t *testing.T, what string, r *route.Route) (said string) {
	t.Helper()
	for _, stop := range r.Stops {
		said += string(stop.Stop) + ": " + stop.Saw + "\n"
	}
	if r.StopsAt != nil {
		t.Errorf("%s stops at %s:\n%s", what, *r.StopsAt, said)
	}
	return said
}

func (o *oddity) run(t *testing.T, s *site.Site) {
	e := field.NewEngine(s, nil)
	defer e.Close()
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	points := s.Device("d").Points
	var bad []string
	for deadline := time.Now().Add(12 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if bad = wrong(points,
			func(i int) field.Live { live, _ := e.Hub.Point(points[i].ID); return live }); len(bad) == 0 {
			break
		}
	}
	if len(bad) > 0 {
		t.Errorf("the run reads %d wrong: %v", len(bad), bad[0])
		return
	}
	// From now on it stays so.
	for range 10 {
		time.Sleep(100 * time.Millisecond)
		if bad = wrong(points,
			func(i int) field.Live { live, _ := e.Hub.Point(points[i].ID); return live }); len(bad) > 0 {
			t.Errorf("the run reads %d wrong after a while: %v", len(bad), bad[0])
			break
		}
	}
	r, err := e.Try(context.Background(), "k")
	if err != nil {
		t.Fatal(err)
	}
	judged(t, "a try while it runs", r)
	for _, f := range e.Hub.Findings(s, time.Now()) {
		if f.Severity != finding.Note {
			t.Errorf("%s %s: %s %v", f.Severity, f.Title, f.Sentence, f.Evidence)
		}
	}
}

// TestOneConnection: where a device serves one connection at a time, all links
// to it come to share one, whether it refuses a second or lets it wait.
func TestOneConnection(t *testing.T) {
	for _, how := range []string{"refused", "queued"} {
		t.Run(how, func(t *testing.T) {
			o := oddity{one: how, unit: -1}
			port, _ := o.serve(t)
			s := o.site(port)
			s.Links = append(s.Links, s.Links[0])
			s.Devices = append(s.Devices, s.Devices[1])
			second := &s.Devices[2]
			second.ID, second.Name, second.Points = "d2", "Second", slices.Clone(second.Points)
			for i := range second.Points {
				second.Points[i].ID = "second-" + second.Points[i].ID
			}
			s.Links[1].ID, s.Links[1].Answering = "k2", "d2"
			s.Links[1].Settings = protocol.Numbers(map[string]int{"port": s.Links[0].Settings["port"].Int(), "unit": 2,
				"timeoutMs": 300})
			e := field.NewEngine(s, nil)
			defer e.Close()
			if err := e.SetMode(field.Plant); err != nil {
				t.Fatal(err)
			}
			if err := e.Start(nil); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, "both are read", func() bool {
				for i := range s.Devices[1:] {
					points := s.Devices[1+i].Points
					if len(wrong(points,
						func(i int) field.Live { live, _ := e.Hub.Point(points[i].ID); return live })) > 0 {
						return false
					}
				}
				return true
			})
			said := ""
			for _, f := range e.Hub.Findings(s, time.Now()) {
				said += f.Title + ": " + f.Sentence + "\n"
			}
			if !strings.Contains(said, "one connection at a time") {
				t.Errorf("it is not said: %s", said)
			}
		})
	}
}
