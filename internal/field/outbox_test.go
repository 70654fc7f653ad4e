package field

import (
	"context"
	"testing"
)

// TestOutbox: what waits comes in order, too much is refused, and the reports end behind the last.
func TestOutbox(t *testing.T) {
	o := NewOutbox(3)
	for i, of := range []string{"a", "b", "c"} {
		if !o.Room() || !o.Put(Report{Operation: of}) {
			t.Fatalf("report %d is refused", i)
		}
	}
	if o.Room() || o.Put(Report{Operation: "d"}) {
		t.Fatal("a fourth report is taken where three may wait")
	}
	o.Shut()
	go o.Run(t.Context())
	got := ""
	for r := range o.Reports() {
		got += r.Operation
	}
	if got != "abc" {
		t.Errorf("handed over %q", got)
	}
	life, end := context.WithCancel(t.Context())
	end()
	NewOutbox(1).Run(life) // ends, though it was not shut
}
