package field_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strconv"
	"sync"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// device is a register server that the tests have to themselves: it logs every
// write that reaches it, and can be told to answer otherwise.
type device struct {
	t        *testing.T
	listener net.Listener

	mu     sync.Mutex
	regs   map[uint16]uint16
	writes []string // "register=value" as they came
	asked  int
	// odd, if set, sees each request before it is answered; it returns the
	// answer to send in its place, and whether to.
	odd func(request, answer []byte) (instead []byte, is bool)
}

func newDevice(t *testing.T) *device {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	d := &device{t: t, listener: l, regs: map[uint16]uint16{}}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go d.serve(c)
		}
	}()
	return d
}

func (d *device) serve(c net.Conn) {
	defer c.Close()
	head := make([]byte, 7)
	for {
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		pdu := make([]byte, binary.BigEndian.Uint16(head[4:])-1)
		if _, err := io.ReadFull(c, pdu); err != nil {
			return
		}
		answer := d.answer(pdu)
		request := append(append([]byte(nil), head...), pdu...)
		frame := func(pdu []byte) []byte {
			f := append([]byte(nil), head[:4]...)
			f = binary.BigEndian.AppendUint16(f, uint16(1+len(pdu)))
			return append(append(f, head[6]), pdu...)
		}
		out := frame(answer)
		d.mu.Lock()
		odd := d.odd
		d.mu.Unlock()
		if odd != nil {
			if instead, is := odd(request, out); is {
				out = instead
			}
		}
		if _, err := c.Write(out); err != nil {
			return
		}
	}
}

func (d *device) answer(pdu []byte) []byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked++
	if len(pdu) < 5 {
		return []byte{pdu[0] | 0x80, 1}
	}
	at := binary.BigEndian.Uint16(pdu[1:])
	switch pdu[0] {
	case 3, 4:
		count := binary.BigEndian.Uint16(pdu[3:])
		out := []byte{pdu[0], byte(2 * count)}
		for i := range count {
			out = binary.BigEndian.AppendUint16(out, d.regs[at+i])
		}
		return out
	case 6:
		d.regs[at] = binary.BigEndian.Uint16(pdu[3:])
		d.writes = append(d.writes, fmt.Sprintf("%d=%d", at, d.regs[at]))
		return pdu
	case 16:
		for i := range binary.BigEndian.Uint16(pdu[3:]) {
			d.regs[at+i] = binary.BigEndian.Uint16(pdu[6+2*i:])
			d.writes = append(d.writes, fmt.Sprintf("%d=%d", at+i, d.regs[at+i]))
		}
		return pdu[:5]
	}
	return []byte{pdu[0] | 0x80, 1}
}

func (d *device) set(at, v uint16) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.regs[at] = v
}

func (d *device) get(at uint16) uint16 {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.regs[at]
}

func (d *device) behave(odd func(request, answer []byte) ([]byte, bool)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.odd = odd
}

// written returns every write since it was last asked.
func (d *device) written() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	list := d.writes
	d.writes = nil
	return list
}

func (d *device) port() int {
	_, port, _ := net.SplitHostPort(d.listener.Addr().String())
	n, err := strconv.Atoi(port)
	if err != nil {
		d.t.Fatal(err)
	}
	return n
}

// benchOf dials the device of each link by its number: those of a bench, which
// are others than those of the plant.
type benchOf map[string]*device

func (b benchOf) Post(*site.Port) string { return "" }

func (b benchOf) Dial(_ *site.Site, link *site.Link) string {
	if d := b[link.Answering]; d != nil {
		return d.listener.Addr().String()
	}
	return "127.0.0.1:1"
}

// plant is a site of a probe, a pump drive and a gateway, of which the probe's
// first register crosses to the gateway's, with an engine whose bench and whose
// plant are devices of the test's own.
type plant struct {
	*field.Engine
	site         *site.Site
	seq          int64
	bench, plant benchOf
	journal      *memoryJournal
}

func newPlant(t *testing.T) *plant {
	t.Helper()
	p := &plant{bench: benchOf{}, plant: benchOf{}, journal: &memoryJournal{}}
	s := &site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant network", Medium: site.Ethernet}},
		Devices: []site.Device{{ID: "lss", Name: "Life support", Ports: []site.Port{{Line: "net", Host: "127.0.0.1"}},
			Points: []site.Point{}}}}
	for _, id := range []string{"probe", "pump", "gate"} {
		p.bench[id], p.plant[id] = newDevice(t), newDevice(t)
		settings := protocol.Numbers(map[string]int{"port": p.plant[id].port(), "unit": 1, "timeoutMs": 400,
			"retries": 0})
		d := site.Device{ID: id, Name: id, Map: "modbus-tcp",
			Ports: []site.Port{{Line: "net", Host: "127.0.0.1", Protocol: "modbus-tcp",
				Settings: protocol.Settings{"port": settings["port"]}}}}
		for i := range 4 {
			d.Points = append(d.Points, site.Point{ID: fmt.Sprintf("%s-%d", id, i), Name: fmt.Sprintf("V%d", i),
				Address: block.At("hr", uint32(i)), Type: value.TypeUint16, PaceMs: 20, Access: site.ReadWrite})
		}
		s.Devices = append(s.Devices, d)
		s.Links = append(s.Links,
			site.Link{ID: "to-" + id, Asking: "lss", Answering: id, Line: "net", Protocol: "modbus-tcp",
				Settings: settings})
	}
	s.Crossings = []site.Crossing{{ID: "x", From: "probe-0", To: "gate-0"}}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	p.site = s
	p.Engine = field.NewEngine(s, p.bench)
	p.Journal = p.journal
	t.Cleanup(p.Close)
	return p
}

// edit changes the site as the store would.
func (p *plant) edit(t *testing.T, edits ...site.Edit) {
	t.Helper()
	next, _, err := p.site.Apply(edits)
	if err != nil {
		t.Fatal(err)
	}
	p.site = next
	p.seq++
	p.Update(next, p.seq)
}

// change edits one point.
func (p *plant) change(t *testing.T, id string, change func(*site.Point)) {
	t.Helper()
	d, old := p.site.Point(id)
	point := *old
	change(&point)
	p.edit(t, site.Put(site.KindPoint, id, d.ID, point))
}

func (p *plant) begin(t *testing.T, mode field.Mode, links ...string) {
	t.Helper()
	if err := p.SetMode(mode); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(links); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "values", func() bool { live, _ := p.Hub.Point("probe-0"); return live.Quality == value.Good })
}

// memoryJournal is a journal of writes that can be looked at.
type memoryJournal struct {
	mu      sync.Mutex
	records map[int64]field.Record
	next    int64
	fail    error
}

func (j *memoryJournal) Intend(_ context.Context, r *field.Record) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.fail != nil {
		return j.fail
	}
	j.next++
	r.ID = j.next
	if j.records == nil {
		j.records = map[int64]field.Record{}
	}
	j.records[r.ID] = *r
	return nil
}

func (j *memoryJournal) Outcome(_ context.Context, records ...*field.Record) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, r := range records {
		j.records[r.ID] = *r
	}
	return nil
}

func (j *memoryJournal) list() (list []field.Record) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for id := int64(1); id <= j.next; id++ {
		list = append(list, j.records[id])
	}
	return list
}

// promptly fails where a press waits for a device, which takes a minute. What it
// takes is milliseconds; the rest is for a machine that is short of time itself.
func promptly(t *testing.T, what string, press func()) {
	t.Helper()
	began := time.Now()
	press()
	took := time.Since(began)
	t.Logf("%s: %v", what, took.Round(time.Microsecond))
	if took > time.Second {
		t.Errorf("%s takes %v", what, took)
	}
}
