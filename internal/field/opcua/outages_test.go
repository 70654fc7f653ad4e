package opcua_test

import (
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/field/fieldtest"
)

// TestOutages: when a server was away, and why, is told apart: its service, itself with other
// numbers for its names, and what is behind it.
func TestOutages(t *testing.T) {
	_, b, e := hall(t, fast)
	if err := e.Start([]string{"l"}); err != nil {
		t.Fatal(err)
	}
	for i, c := range []struct {
		kind  string
		lasts time.Duration
		says  []string
	}{
		{"stop", 3 * time.Second, []string{"the server ended the connection", "then the connection was refused"}},
		{"uncertain", 3 * time.Second, []string{"it is there, and tells that 8 of 8 values are not good",
			"behind the server is silent"}},
		{"shift", 500 * time.Millisecond, []string{"it came back with other numbers for its names"}},
	} {
		fieldtest.Wait(t, "it is good", func() bool {
			live, _ := e.Hub.Point("ox")
			return live.Quality == "good" && len(e.Hub.Out()) == 0
		})
		if err := b.SetFault("hall", bench.Fault{Kind: c.kind}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(c.lasts)
		if c.kind != "shift" { // to be started again as it was is another outage
			if err := b.SetFault("hall", bench.Fault{}); err != nil {
				t.Fatal(err)
			}
		}
		fieldtest.Wait(t, c.kind+" is over", func() bool { o := e.Hub.Outages(); return len(o) == i+1 && o[i].ToMs > 0 })
		o := e.Hub.Outages()[i]
		for _, says := range c.says {
			if !strings.Contains(o.Reason, says) {
				t.Errorf("%s: %s", c.kind, o.Reason)
			}
		}
		if lasted := time.Duration(o.ToMs-o.FromMs) * time.Millisecond; c.kind != "shift" && lasted < c.lasts-time.Second {
			t.Errorf("%s lasted %s", c.kind, lasted)
		}
	}
}
