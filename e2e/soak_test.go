package e2e

import (
	"bytes"
	"context"
	be "encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	_ "ferry/internal/families"
	"ferry/internal/field"
	"ferry/internal/store"
)

// logged is one write that reached the plant.
type logged struct {
	device   string
	register uint16
	value    uint16
	at       time.Time
}

// soakPlant is the real devices of a soak: register servers that log every
// write, and are late, silent or broken now and then.
type soakPlant struct {
	mu     sync.Mutex
	log    []logged
	regs   map[string]*[64]uint16
	faults map[string]int
}

func (p *soakPlant) listen(t *testing.T, device string) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	p.regs[device] = &[64]uint16{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(c, device)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

func (p *soakPlant) serve(c net.Conn, device string) {
	defer c.Close()
	answers := make(chan func() bool, 1000) // so that what comes is logged when it comes
	defer close(answers)
	go func() {
		defer c.Close()
		for answer := range answers {
			if !answer() {
				return
			}
		}
	}()
	for {
		head := make([]byte, 7)
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		pdu := make([]byte, max(1, int(be.BigEndian.Uint16(head[4:]))-1))
		if _, err := io.ReadFull(c, pdu); err != nil {
			return
		}
		p.mu.Lock()
		fault := p.faults[device]
		answer := []byte{pdu[0] | 0x80, 1}
		if len(pdu) >= 5 && pdu[1] == 0 && pdu[2] < 32 {
			at := int(pdu[2])
			switch pdu[0] {
			case 3:
				n := min(int(pdu[4]), 32)
				answer = []byte{3, byte(2 * n)}
				for i := range n {
					answer = be.BigEndian.AppendUint16(answer, p.regs[device][at+i])
				}
			case 6:
				v := be.BigEndian.Uint16(pdu[3:])
				p.regs[device][at] = v
				p.log = append(p.log, logged{device, uint16(at), v, time.Now()})
				answer = pdu
			}
		}
		p.mu.Unlock()
		answers <- func() bool {
			switch fault {
			case 1:
				time.Sleep(500 * time.Millisecond) // later than the limit
			case 2:
				return true // nothing
			case 3:
				return false // hangs up
			case 4:
				answer = append(answer, 0xFF)
			case 5:
				answer = []byte{pdu[0] | 0x80, 0}
			}
			frame := be.BigEndian.AppendUint16(append([]byte(nil), head[:4]...), uint16(len(answer)+1))
			_, err := c.Write(append(append(frame, head[6]), answer...))
			return err == nil
		}
	}
}

// soak is what is wanted so far, and what was acknowledged.
type soak struct {
	t     *testing.T
	dir   string
	plant *soakPlant

	mu      sync.Mutex
	f       *ferry
	acked   map[string]string // device -> remark
	edits   int
	kills   int
	orders  map[uint16]bool // values confirmed on the plant
	hand    []span          // when writing by hand was allowed
	release []span          // when the crossing was released
}

// span is from before it was asked for until after it had ended.
type span struct{ from, to time.Time }

func open(list []span) []span { return append(list, span{from: time.Now()}) }

func shut(list []span) {
	if n := len(list); n > 0 && list[n-1].to.IsZero() {
		list[n-1].to = time.Now()
	}
}

// underWay is how long octets that have left may take to be logged.
const underWay = 30 * time.Millisecond

func within(list []span, at time.Time) bool {
	for _, s := range list {
		if !at.Before(s.from) && (s.to.IsZero() || !at.After(s.to.Add(underWay))) {
			return true
		}
	}
	return false
}

// call sends a request to the ferry that runs; into may be nil.
func (s *soak) call(method, path string, body, into any) error {
	s.mu.Lock()
	url := s.f.url
	s.mu.Unlock()
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	request, err := http.NewRequest(method, url+path, bytes.NewReader(data))
	if err != nil {
		return err
	}
	request.Header.Set("X-Ferry-Window", "soak")
	response, err := (&http.Client{Timeout: 30 * time.Second}).Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	if err != nil {
		return err
	}
	if response.StatusCode >= 500 {
		s.t.Errorf("%s %s answers %d: %s", method, path, response.StatusCode, answer)
	}
	if response.StatusCode != 200 {
		return fmt.Errorf("%d: %s", response.StatusCode, answer)
	}
	if into == nil {
		return nil
	}
	return json.Unmarshal(answer, into)
}

func (s *soak) remarks() (map[string]string, map[string]int64, error) {
	var view struct {
		Devices  []site.Device
		Versions map[string]int64
	}
	err := s.call("GET", "/api/site", nil, &view)
	remarks, versions := map[string]string{}, map[string]int64{}
	for _, d := range view.Devices {
		remarks[d.ID], versions[d.ID] = d.Remark, view.Versions["device:"+d.ID]
	}
	return remarks, versions, err
}

// edit counts the remark of a device of the editor's own up.
func (s *soak) edit(device site.Device, n int) {
	_, versions, err := s.remarks()
	if err != nil {
		return
	}
	device.Points, device.Remark = nil, fmt.Sprint("edit ", n)
	err = s.call("POST", "/api/edit",
		map[string]any{"what": "counted",
			"edits": []any{map[string]any{"kind": "device", "id": device.ID, "base": versions[device.ID],
				"after": device}}}, nil)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err == nil {
		s.acked[device.ID] = device.Remark
		s.edits++
	}
}

// kill ends Ferry as a power cut would, begins it again and looks whether every
// acknowledged edit is there.
func (s *soak) kill() {
	s.mu.Lock()
	s.f.kill()
	s.kills++
	shut(s.hand)
	shut(s.release)
	s.f = start(s.t, "serve", s.dir)
	acked := maps.Clone(s.acked)
	s.mu.Unlock()
	remarks, _, err := s.remarks()
	if err != nil {
		s.t.Error(err)
	}
	number := func(remark string) (n int) {
		_, _ = fmt.Sscanf(remark, "edit %d", &n) // none is 0
		return n
	}
	for id, want := range acked {
		if number(remarks[id]) < number(want) { // what was under way may have been kept, too
			s.t.Errorf("after kill %d the remark of %s is %q, acknowledged was %q", s.kills, id, remarks[id], want)
		}
	}
}

// act does one thing that a person may do.
func (s *soak) act(random *rand.Rand, counter *uint16) {
	links := []string{"to-probe", "to-pump", "to-gate"}
	some := links[random.IntN(3):]
	switch random.IntN(14) {
	case 0, 1:
		_ = s.call("POST", "/api/run/start", map[string]any{"links": links}, nil)
	case 2:
		_ = s.call("POST", "/api/run/stop", map[string]any{"links": some}, nil)
	case 3:
		s.mu.Lock()
		s.mu.Unlock() //nolint:staticcheck // a kill is over
		if s.call("POST", "/api/mode", map[string]any{"mode": []string{"bench", "plant", "plant"}[random.IntN(3)]},
			nil) == nil {
			var state struct{ Mode string }
			if s.call("POST", "/api/run/start", map[string]any{"links": links}, &state) == nil &&
				state.Mode == "bench" {
				s.mu.Lock()
				shut(s.hand)
				shut(s.release)
				s.mu.Unlock()
			}
		}
	case 4, 5:
		s.mu.Lock()
		shut(s.hand)
		s.hand = open(s.hand)
		s.mu.Unlock()
		_ = s.call("POST", "/api/unlock", map[string]any{"minutes": 1}, nil)
	case 6:
		if s.call("POST", "/api/unlock", map[string]any{"minutes": 0}, nil) == nil {
			s.mu.Lock()
			shut(s.hand)
			shut(s.release)
			s.mu.Unlock()
		}
	case 7, 8:
		s.mu.Lock()
		shut(s.release)
		s.release = open(s.release)
		s.mu.Unlock()
		_ = s.call("POST", "/api/crossings/release", map[string]any{"crossings": []string{"x"}, "minutes": 5}, nil)
	case 9:
		if s.call("POST", "/api/crossings/release", map[string]any{"crossings": []string{"x"}, "minutes": 0},
			nil) == nil {
			s.mu.Lock()
			shut(s.release)
			s.mu.Unlock()
		}
	case 10:
		s.plant.mu.Lock()
		s.plant.faults[strings.TrimPrefix(links[random.IntN(3)], "to-")] = random.IntN(12) // half of the time none
		s.plant.mu.Unlock()
	default:
		*counter++
		v := *counter
		var order struct {
			Token string
			Mode  string
		}
		if s.call("POST", "/api/write/prepare", map[string]any{"point": "pump-1", "text": fmt.Sprint(v)},
			&order) != nil {
			return
		}
		if order.Mode == "plant" {
			s.mu.Lock()
			s.orders[v] = true
			s.mu.Unlock()
		}
		_ = s.call("POST", "/api/write", map[string]any{"token": order.Token}, nil)
	}
}

// TestSoak runs for as long as FERRY_SOAK says: see make soak.
func TestSoak(t *testing.T) {
	long, err := time.ParseDuration(os.Getenv("FERRY_SOAK"))
	if err != nil {
		t.Skip("only where FERRY_SOAK says for how long")
	}
	s := &soak{t: t, dir: t.TempDir(), plant: &soakPlant{regs: map[string]*[64]uint16{}, faults: map[string]int{}},
		acked: map[string]string{}, orders: map[uint16]bool{}}
	job := site.Site{Format: site.Format, Version: site.Version, Name: "Skerry Point Hatchery",
		Lines: []site.Line{{ID: "net", Name: "Plant network", Medium: site.Ethernet}},
		Devices: []site.Device{{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "127.0.0.1"}},
			Points: []site.Point{}}},
		Links: []site.Link{}, Crossings: []site.Crossing{{ID: "x", From: "probe-0", To: "gate-0"}}}
	for _, id := range []string{"probe", "pump", "gate"} {
		settings := protocol.Numbers(map[string]int{"port": s.plant.listen(t, id), "timeoutMs": 300, "unit": 1})
		d := site.Device{ID: id, Name: id, Map: "modbus-tcp",
			Ports: []site.Port{{Line: "net", Host: "127.0.0.1", Protocol: "modbus-tcp", Settings: settings}}}
		delete(settings, "timeoutMs")
		for i := range 4 {
			d.Points = append(d.Points, site.Point{ID: fmt.Sprintf("%s-%d", id, i), Name: fmt.Sprint("V", i),
				Address: block.At("hr", uint32(i)), Type: value.TypeUint16, PaceMs: 50, Access: site.ReadWrite})
		}
		job.Devices = append(job.Devices, d)
		job.Links = append(job.Links, site.Link{ID: "to-" + id, Asking: "lss", Answering: id, Line: "net",
			Protocol: "modbus-tcp",
			Settings: protocol.Numbers(map[string]int{"port": settings["port"].Int(), "timeoutMs": 300, "unit": 1})})
	}
	for i := range 6 { // one for each editor
		job.Devices = append(job.Devices,
			site.Device{ID: fmt.Sprint("tank-", i), Name: fmt.Sprint("Tank ", i), Ports: []site.Port{},
				Points: []site.Point{}})
	}
	s.f = start(t, "serve", s.dir)
	if err := s.call("POST", "/api/file/site.json", job, nil); err != nil {
		t.Fatal(err)
	}
	health := func() (h struct{ Goroutines, HeapBytes, Files int }) {
		time.Sleep(3 * time.Second)
		if err := s.call("GET", "/api/health?collect=1", nil, &h); err != nil {
			t.Error(err)
		}
		list, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", s.f.cmd.Process.Pid))
		if err != nil {
			t.Error(err)
		}
		h.Files = len(list)
		return h
	}
	rest := func() {
		_ = s.call("POST", "/api/mode", map[string]any{"mode": "bench"}, nil)
		_ = s.call("POST", "/api/run/stop", map[string]any{"links": []string{}}, nil)
	}
	began := time.Now()
	over := func(share float64) bool { return time.Since(began) > time.Duration(share*float64(long)) }
	var wg sync.WaitGroup
	for i := range 6 {
		wg.Go(func() {
			for n := 1; !over(1); n++ {
				s.edit(job.Devices[4+i], n)
				time.Sleep(time.Duration(rand.IntN(60)) * time.Millisecond)
			}
		})
	}
	wg.Go(func() { // the signal that crosses
		for n := uint16(1000); !over(1); n++ {
			s.plant.mu.Lock()
			s.plant.regs["probe"][0] = 10_000 + n%20_000
			s.plant.mu.Unlock()
			time.Sleep(150 * time.Millisecond)
		}
	})
	wg.Go(func() { // windows that look on
		for !over(1) {
			s.mu.Lock()
			url := s.f.url
			s.mu.Unlock()
			ctx, cancel := context.WithTimeout(context.Background(), time.Duration(rand.IntN(3000))*time.Millisecond)
			if request, err := http.NewRequestWithContext(ctx, "GET", url+"/api/stream", nil); err == nil {
				if response, err := http.DefaultClient.Do(request); err == nil {
					_, _ = io.Copy(io.Discard, response.Body)
					_ = response.Body.Close()
				}
			}
			cancel()
		}
	})
	random, counter := rand.New(rand.NewPCG(uint64(began.UnixNano()), 1)), uint16(1)
	nextKill := time.Now().Add(3 * time.Second)
	for !over(0.6) {
		s.act(random, &counter)
		if time.Now().After(nextKill) {
			s.kill()
			nextKill = time.Now().Add(time.Duration(1000+random.IntN(4000)) * time.Millisecond)
		}
	}
	rest()
	before := health()
	for !over(1) { // without kills, to see what piles up
		s.act(random, &counter)
	}
	wg.Wait()
	rest()
	after := health()
	t.Logf("before the last part %+v, after it %+v", before, after)
	if after.Goroutines > before.Goroutines+15 || after.Files > before.Files+8 ||
		after.HeapBytes > before.HeapBytes+40<<20 {
		t.Errorf("something piles up: before %+v, after %+v", before, after)
	}
	s.kill()
	s.f.kill()
	s.judge()
}

// judge holds what reached the plant against what was wanted and what the
// journal says.
func (s *soak) judge() {
	st, err := store.Open(context.Background(), s.dir, func() *site.Site { return nil })
	if err != nil {
		s.t.Fatal(err)
	}
	defer st.Close()
	rows, err := st.WrittenList(context.Background(), 1_000_000)
	if err != nil {
		s.t.Fatal(err)
	}
	said := map[string]bool{}
	var carried []field.Record
	for _, row := range rows {
		var r field.Record
		if err := json.Unmarshal(row.Result, &r); err != nil {
			s.t.Fatal(err)
		}
		if row.Open {
			s.t.Errorf("row %d was left open: %s", row.ID, row.Result)
		}
		if r.Crossing != "" {
			carried = append(carried, r)
		} else if r.Order.Mode == field.Plant && r.State != field.NotWritten {
			said[r.Order.New] = true
		}
	}
	unwanted, missing := 0, 0
	for _, w := range s.plant.log {
		byHand := w.device == "pump" && w.register == 1 && s.orders[w.value] && within(s.hand, w.at)
		crossed := w.device == "gate" && w.register == 0 && within(s.release, w.at)
		if !byHand && !crossed {
			unwanted++
			s.t.Errorf("nobody wanted %+v", w)
		}
		kept := said[fmt.Sprint(w.value)]
		if w.device == "gate" {
			kept = false
			for _, r := range carried {
				kept = kept || r.AtMs <= w.at.UnixMilli()+1 && r.Order.Mode == field.Plant
			}
		}
		if !kept {
			missing++
			s.t.Errorf("not in the journal: %+v", w)
		}
	}
	s.t.Logf("soak: %d edits, %d kills, %d writes on the plant (%d orders confirmed there), %d rows of the journal; "+
		"losses and unwanted writes: %d and %d",
		s.edits, s.kills, len(s.plant.log), len(s.orders), len(rows), missing, unwanted)
}
