package field_test

import (
	"context"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"

	"ferry/internal/bench"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	"ferry/internal/field/ports"
	wire "ferry/internal/wire/modbus"
)

// TestFamily: the same points come over every protocol of the family.
func TestFamily(t *testing.T) {
	for _, name := range []string{"modbus-rtu", "modbus-ascii", "modbus-rtu-tcp", "modbus-tcp"} {
		t.Run(name, func(t *testing.T) {
			line := site.Line{ID: "l", Name: "Tank row A", Medium: site.Ethernet}
			if name == "modbus-rtu" || name == "modbus-ascii" {
				line.Medium, line.Serial = site.SerialLine,
					&site.Serial{Standard: serial.TIA485Two,
						Format: serial.Format{Baud: 38400, Data: 8, Parity: serial.Odd, Stop: 1}}
			}
			s := row(line, name, 2, 2, 100)
			if name == "modbus-tcp" {
				s.Links[0].Settings["atOnce"] = protocol.OfInt(4)
				s.Devices[1].Points[4].PaceMs = 200
			}
			e, _ := fieldtest.Benched(t, s)
			for _, id := range []string{"k0", "k1"} {
				r, err := e.Try(context.Background(), id)
				// The pace is of the machine, not of the family.
				if err != nil || r.StopsAt != nil && *r.StopsAt != route.Pace {
					t.Fatalf("%v: %+v", err, r)
				}
			}
			if err := e.Start(nil); err != nil {
				t.Fatal(err)
			}
			fieldtest.Wait(t, "values over both links", func() bool {
				a, _ := e.Hub.Point("d0-1")
				b, _ := e.Hub.Point("d1-1")
				return a.Quality == value.Good && b.Quality == value.Good
			})
		})
	}
}

// TestRest: a silent device is left alone after some tries, costs the others on
// its line nothing more, is tried again, and its outage and return are on record.
func TestRest(t *testing.T) {
	line := site.Line{ID: "l", Name: "Tank row A", Medium: site.SerialLine,
		Serial: &site.Serial{Standard: serial.TIA485Two,
			Format: serial.Format{Baud: 115200, Data: 8, Parity: serial.Even, Stop: 1}}}
	s := row(line, "modbus-rtu", 3, 2, 100)
	for i := range s.Links {
		s.Links[i].Settings = protocol.Numbers(map[string]int{"unit": i + 1, "timeoutMs": 250, "restAfter": 2,
			"restS": 1})
	}
	e, b := fieldtest.Benched(t, s)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	good := func(id string) bool {
		live, _ := e.Hub.Point(id)
		return live.Quality == value.Good
	}
	fieldtest.Wait(t, "all three", func() bool { return good("d0-0") && good("d1-0") && good("d2-0") })
	if err := b.SetFault("d1", bench.Fault{Kind: "off"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "the rest", func() bool {
		live, _ := e.Hub.Point("d1-0")
		return strings.Contains(live.Reason, "left alone for 1 s")
	})
	from := e.Hub.LastSeq()
	time.Sleep(2500 * time.Millisecond)
	asked, silent := 0, 0
	for _, x := range e.Hub.Exchanges(from, 4000) {
		if asked++; x.Link == "k1" {
			silent++
		}
	}
	if silent < 1 || silent > 4 || asked < 4*silent {
		t.Errorf("in 2.5 s the silent device was asked %d times of %d", silent, asked)
	}
	if err := b.SetFault("d1", bench.Fault{}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "its return", func() bool { return good("d1-0") })
	// A machine that is short of time may add outages of its own.
	recorded := 0
	for _, o := range e.Hub.Outages() {
		if o.Device == "d1" && o.ToMs > o.FromMs && o.Tries >= 2 {
			recorded++
		}
	}
	if recorded == 0 {
		t.Errorf("outages %+v", e.Hub.Outages())
	}
	if think := e.Hub.Thinks(5)["k0"]; think.MedianMs < 2 || think.WorstMs < think.MedianMs {
		t.Errorf("a device that thinks for 2 ms is said to think for %+v", think)
	}
}

// TestBaudWhileRunning: a line that is asked goes on when its rate is changed,
// at the new one.
func TestBaudWhileRunning(t *testing.T) {
	line := site.Line{ID: "l", Name: "Tank row A", Medium: site.SerialLine,
		Serial: &site.Serial{Standard: serial.TIA485Two, Format: serial.Usual}}
	s := row(line, "modbus-rtu", 3, 2, 100)
	e, b := fieldtest.Benched(t, s)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	all := func(since uint64) func() bool {
		return func() bool {
			answered := map[string]bool{}
			for _, x := range e.Hub.Exchanges(since, 999) {
				answered[x.Link] = answered[x.Link] || x.Outcome == exchange.Answered
			}
			return answered["k0"] && answered["k1"] && answered["k2"]
		}
	}
	fieldtest.Wait(t, "all three", all(0))
	fast := *s
	fast.Lines = []site.Line{line}
	fast.Lines[0].Serial = &site.Serial{Standard: serial.TIA485Two,
		Format: serial.Format{Baud: 57600, Data: 8, Parity: serial.None, Stop: 2}}
	if err := b.Sync(&fast); err != nil {
		t.Fatal(err)
	}
	e.Update(&fast, 1)
	fieldtest.Wait(t, "all three at the new rate", all(e.Hub.LastSeq()))
}

// TestBroadcast: unit 0 is written to every unit, and none answers.
func TestBroadcast(t *testing.T) {
	line := site.Line{ID: "l", Name: "Tank row A", Medium: site.SerialLine,
		Serial: &site.Serial{Standard: serial.TIA485Two, Format: serial.Usual}}
	s := row(line, "modbus-rtu", 2, 2, 100)
	for i := range 2 {
		s.Devices[1+i].Points[0].Access = site.ReadWrite
	}
	s.Links[0].Settings = protocol.Numbers(map[string]int{"unit": 0})
	e, _ := fieldtest.Benched(t, s)
	order, err := e.Prepare(context.Background(), "d0-0", "12.5")
	if err != nil || order.Target != "Tank row A, every unit at once" {
		t.Errorf("order %+v, %v", order, err)
	}
	result, err := e.Write(context.Background(), "test", order.Token)
	if err != nil || !result.OK || !strings.Contains(result.Sentence, "nothing is proved") {
		t.Fatalf("%+v, %v", result, err)
	}
	if _, err := e.Try(context.Background(), "k1"); err != nil {
		t.Fatal(err)
	}
	if live, _ := e.Hub.Point("d1-0"); live.Value.Float() != 12.5 {
		t.Errorf("the other unit reads %s", live.Shown)
	}
}

// TestSweeps: what answers is found, with what the plan has there, what it does
// not know, and what it misses; a range that nobody stated is not asked.
func TestSweeps(t *testing.T) {
	s := bench.Demo()
	e, b := fieldtest.Benched(t, s)
	sweep := func(order field.SweepOrder) field.Sweep {
		t.Helper()
		begun, err := e.StartSweep(order)
		if err != nil {
			t.Fatal(err)
		}
		var last *field.Sweep
		fieldtest.Wait(t, "the sweep", func() bool {
			last, err = e.Sweep(begun.ID, false)
			return err == nil && !last.Running
		})
		return *last
	}
	if err := b.SetFault("do15", bench.Fault{Kind: "off"}); err != nil {
		t.Fatal(err)
	}
	if err := e.Start([]string{"lss-do13"}); err != nil { // between whose reads it asks
		t.Fatal(err)
	}
	got := sweep(field.SweepOrder{Kind: "stations", Line: "rowa", FromStation: 12, ToStation: 40})
	strangers := 0
	for _, f := range got.Found {
		if f.Device == "" && f.Station == 40 && f.Identity == "Level radar LR-1" {
			strangers++
		}
	}
	if len(got.Found) != 6 || strangers != 1 || len(got.Missing) != 1 || got.Missing[0] != "do15" {
		t.Errorf("%+v", got)
	}
	if err := b.SetFault("skid", bench.Fault{Kind: "off"}); err != nil {
		t.Fatal(err)
	}
	got = sweep(field.SweepOrder{Kind: "hosts", Line: "plantnet", FromHost: "192.0.2.40", ToHost: "192.0.2.50",
		Port: 502, Station: 1})
	if len(got.Found) != 3 || got.Found[0].Device != "pump1" || got.Found[0].Identity == "" || len(got.Missing) != 1 ||
		got.Missing[0] != "skid" {
		t.Errorf("%+v", got)
	}
	for _, bad := range []field.SweepOrder{{Kind: "stations", Line: "rowa", FromStation: 0, ToStation: 9},
		{Kind: "stations", Line: "plantnet", FromStation: 1, ToStation: 9},
		{Kind: "hosts", Line: "plantnet", FromHost: "192.0.0.1", ToHost: "192.0.9.50", Port: 502},
		{Kind: "formats", Line: "rowa", Link: "lss-do13"}, {Kind: "guess", Line: "rowa"}, {Line: "gone"}} {
		if _, err := e.StartSweep(bad); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	if _, err := e.StartSweep(field.SweepOrder{Kind: "hosts", Line: "plantnet", FromHost: "192.0.2.40",
		ToHost: "192.0.2.50", Port: 502, Station: 1}); err == nil {
		t.Error("a documentation range is swept on a plant")
	}
}

// TestPlantListensFirst: on a serial line of a plant nothing is asked until a
// person has listened and said so.
func TestPlantListensFirst(t *testing.T) {
	master, slave, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	defer master.Close()
	path := slave.Name()
	if err := slave.Close(); err != nil {
		t.Fatal(err)
	}
	s := bench.Demo()
	s.Line("rowa").Here = path
	e, _ := fieldtest.Benched(t, s)
	if err := e.SetMode(field.Plant); err != nil {
		t.Fatal(err)
	}
	says := func(err error, want string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	says(e.Start([]string{"lss-do13"}), "has not been told to ask")
	says(e.Allow("rowa", time.Minute), "Nobody has listened")
	// Another asker: a request to unit 21 and its answer.
	go func() {
		time.Sleep(300 * time.Millisecond)
		_, _ = master.Write(wire.RTU.AppendFrame(wire.RTU.AppendFrame(nil, 0, 21, 4, 0, 0, 0, 1), 0, 21, 4, 2, 0x12,
			0x34))
	}()
	heard, err := e.Listen(context.Background(), "rowa", time.Second)
	if err != nil || heard.Octets != 15 || heard.Frames == 0 || heard.Asked != 1 ||
		!strings.Contains(heard.Sentence, "Somebody asks here already") {
		t.Fatalf("%+v, %v", heard, err)
	}
	if err := e.Allow("rowa", time.Minute); err != nil {
		t.Fatal(err)
	}
	if err := e.Start([]string{"lss-do13"}); err != nil {
		t.Errorf("allowed, it does not start: %v", err)
	}
}

// TestPorts: why a port cannot be opened is told apart.
func TestPorts(t *testing.T) {
	outcome := func(path string) (exchange.Outcome, string) {
		ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
		defer cancel()
		p, err := ports.Open(ctx, path, serial.Usual)
		if err == nil {
			t.Cleanup(func() { _ = p.Close() })
			return "", ""
		}
		refused, ok := err.(*ports.Refused)
		if !ok {
			t.Fatalf("%T: %v", err, err)
		}
		return refused.Outcome, refused.Sentence
	}
	if got, _ := outcome("/dev/ttyUSB77"); got != exchange.PortAbsent {
		t.Errorf("a port that is not there: %q", got)
	}
	if got, _ := outcome("/etc/hostname"); got != exchange.PortAbsent {
		t.Errorf("a file: %q", got)
	}
	master, slave, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	defer master.Close()
	other := exec.Command("sleep", "20")
	other.ExtraFiles = []*os.File{slave}
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	path := slave.Name()
	if err := slave.Close(); err != nil {
		t.Fatal(err)
	}
	if got, says := outcome(path); got != exchange.PortOwned || !strings.Contains(says, "the program sleep") {
		t.Errorf("a port that another program has: %q, %q", got, says)
	}
	if err := other.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = other.Wait() // it was killed
	if got, says := outcome(path); got != "" {
		t.Errorf("a free port: %q, %q", got, says)
	}
	if got, says := outcome(path); got != exchange.PortOwned || !strings.Contains(says, "Ferry itself") {
		t.Errorf("a port that is open here: %q, %q", got, says)
	}
}
