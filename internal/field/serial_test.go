package field_test

import (
	"context"
	"strings"
	"testing"

	"ferry/internal/bench"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
)

// TestSerialFaults: what Ferry says of each fault of a serial line names it.
func TestSerialFaults(t *testing.T) {
	s := bench.Demo()
	for i := range s.Links {
		if s.Links[i].Settings == nil {
			continue // it is no serial line
		}
		s.Links[i].Settings["timeoutMs"] = protocol.OfInt(1000) // a machine that is short of time answers late
	}
	e, b := fieldtest.Benched(t, s)
	for _, c := range []struct {
		on    string
		fault bench.Fault
		stop  route.Stop // "" for going through
		says  string
	}{
		{"do14", bench.Fault{}, "", ""},
		{"do14", bench.Fault{Kind: "off"}, route.Session, "Unit 14 says nothing"},
		{"do14", bench.Fault{Kind: "parity"}, route.Address, "they look like 19200 8N1"},
		{"do14", bench.Fault{Kind: "baud", Value: 38400}, route.Session, "Unit 14 says nothing"},
		{"do14", bench.Fault{Kind: "twin"}, route.Session, "Two devices answer to unit 14"},
		{"do14", bench.Fault{Kind: "number", Value: 99}, route.Session, "Unit 99 answers in the place of unit 14"},
		{"do14", bench.Fault{Kind: "delay", Value: 1800}, route.Session, "Unit 14 answers, but only after 18"},
		{"do14", bench.Fault{Kind: "exception", Value: 4}, route.Points, "Refused"},
		{"do14", bench.Fault{Kind: "short"}, route.Address, "Answers break off"},
		{"do14", bench.Fault{Kind: "garbage"}, route.Address, "no frame survives"},
		{"do14", bench.Fault{Kind: "split", Value: 60}, "", "in pieces"},
		{"rowa", bench.Fault{Kind: "echo"}, "", ""},
		{"rowa", bench.Fault{Kind: "cut"}, route.Wire, "Nothing comes back from the line"},
	} {
		t.Run(c.on+" "+c.fault.Kind, func(t *testing.T) {
			if err := b.SetFault(c.on, c.fault); err != nil {
				t.Fatal(err)
			}
			r, err := e.Try(context.Background(), "lss-do14")
			if err != nil {
				t.Fatal(err)
			}
			stop, said := route.Stop(""), ""
			if r.StopsAt != nil {
				stop = *r.StopsAt
			}
			for _, s := range r.Stops {
				said += string(s.Stop) + ": " + s.Saw + "\n"
			}
			if stop != c.stop || !strings.Contains(said, c.says) {
				t.Errorf("stops at %q, want %q with %q:\n%s", stop, c.stop, c.says, said)
			}
			if err := b.SetFault(c.on, bench.Fault{}); err != nil {
				t.Fatal(err)
			}
		})
	}
}

// TestInProcess: where the system has no pseudo-terminals, serial lines of the
// bench work all the same, and know what they were opened with.
func TestInProcess(t *testing.T) {
	s := bench.Demo()
	b := bench.New()
	b.InProcess = true
	if err := b.Sync(s); err != nil {
		t.Fatal(err)
	}
	e := field.NewEngine(s, b)
	defer func() {
		e.Close()
		if err := b.Close(); err != nil {
			t.Error(err)
		}
	}()
	for _, c := range []struct {
		fault bench.Fault
		stop  route.Stop
	}{{bench.Fault{}, ""}, {bench.Fault{Kind: "parity"}, route.Address}, {bench.Fault{Kind: "off"}, route.Session}} {
		if err := b.SetFault("do14", c.fault); err != nil {
			t.Fatal(err)
		}
		r, err := e.Try(context.Background(), "lss-do14")
		if err != nil {
			t.Fatal(err)
		}
		at := route.Stop("")
		if r.StopsAt != nil {
			at = *r.StopsAt
		}
		if at != c.stop {
			t.Errorf("%q stops at %q, want %q: %+v", c.fault.Kind, at, c.stop, r.Stops)
		}
	}
}
