package blocktcp_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
)

// controller is an engine with the filtration hall of the demo site on the bench.
func controller(t *testing.T) (*field.Engine, *bench.Bench) {
	t.Helper()
	s := bench.Demo()
	s.Devices = slices.DeleteFunc(s.Devices, func(d site.Device) bool { return d.ID != "fh" && d.ID != "lss" })
	s.Links = slices.DeleteFunc(s.Links, func(l site.Link) bool { return l.Answering != "fh" })
	s.Crossings = nil
	stand := bench.New()
	if err := stand.Sync(s); err != nil {
		t.Fatal(err)
	}
	e := field.NewEngine(s, stand)
	t.Cleanup(func() {
		e.Close()
		if err := stand.Close(); err != nil {
			t.Error(err)
		}
	})
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	e.Planned(ctx)
	return e, stand
}

// TestFaults: each fault of a controller stops the message where it belongs, with
// the access line that explains it; a run under it has no good value that is
// none; and without it the values are good again.
func TestFaults(t *testing.T) {
	e, stand := controller(t)
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	quality := func(id string) value.Quality {
		live, _ := e.Hub.Point(id)
		return live.Quality
	}
	becomes := func(what, id string, want value.Quality) {
		t.Helper()
		for deadline := time.Now().Add(15 * time.Second); quality(id) != want; time.Sleep(20 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("%s: the value of %s stays %s", what, id, quality(id))
			}
		}
	}
	const drum, pressure = "fh-04", "fh-16" // of data block 7, and of 12
	becomes("well", drum, value.Good)
	for _, c := range []struct {
		fault         bench.Fault
		stop          route.Stop // empty: it goes through
		says, access  string
		drum, filters value.Quality
	}{
		{bench.Fault{Kind: "slot", Value: 3}, route.Session, "refuses the connection to that rack and slot", "",
			value.Good, value.Good}, // the connection that stands goes on
		{bench.Fault{Kind: "permission"}, route.Session, "does not permit reading and writing",
			"Protection: access from panels", value.Bad, value.Bad},
		{bench.Fault{Kind: "unloaded", Value: 12}, route.Points, "does not let it be addressed", "fixed layout on",
			value.Good, value.Bad},
		{bench.Fault{Kind: "layout", Value: 12}, route.Points, "does not let it be addressed", "fixed layout on",
			value.Good, value.Bad},
		{bench.Fault{Kind: "shortened", Value: 20}, route.Points, "ends with byte", "", value.Bad, value.Bad},
		{bench.Fault{Kind: "items"}, route.Session, "no answer", "", value.Bad, value.Bad},
		{bench.Fault{Kind: "reference"}, route.Session, "no answer", "", value.Bad, value.Bad},
		{bench.Fault{Kind: "endless"}, route.Session, "no answer", "", value.Bad, value.Bad},
		{bench.Fault{Kind: "smaller"}, "", "", "", value.Good, value.Good},
		{bench.Fault{Kind: "stop"}, route.Address, "refuses the connection", "", value.Bad, value.Bad},
		{bench.Fault{Kind: "garbage"}, route.Session, "", "", value.Bad, value.Bad},
	} {
		if err := stand.SetFault("fh", c.fault); err != nil {
			t.Fatal(err)
		}
		time.Sleep(1100 * time.Millisecond) // it is asked every second
		becomes(c.fault.Kind, drum, c.drum)
		becomes(c.fault.Kind, pressure, c.filters)
		e.Stop(nil)
		r, err := e.Try(context.Background(), "lss-fh")
		if err != nil {
			t.Fatal(err)
		}
		saw := ""
		for _, s := range r.Stops {
			saw += s.Saw + " " + s.Remedy + " "
		}
		access := ""
		for _, line := range r.Unticked {
			access += line.Text + " "
		}
		switch {
		case c.stop == "" && r.StopsAt != nil, c.stop != "" && (r.StopsAt == nil || *r.StopsAt != c.stop):
			t.Errorf("%s: it stops at %v: %s", c.fault.Kind, r.StopsAt, saw)
		case !strings.Contains(saw, c.says) || !strings.Contains(access, c.access):
			t.Errorf("%s: %s (%s)", c.fault.Kind, saw, access)
		}
		if err := stand.SetFault("fh", bench.Fault{}); err != nil {
			t.Fatal(err)
		}
		if err := e.Start(nil); err != nil {
			t.Fatal(err)
		}
		becomes("after "+c.fault.Kind, drum, value.Good)
	}
}
