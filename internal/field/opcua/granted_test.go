package opcua_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	"ferry/internal/core/value"
	"ferry/internal/field/fieldtest"
)

// TestGranted: a server that takes few nodes at once is asked for few; a value that moves within
// its deadband is not told, and is not taken for one that the server has lost; what the server
// revises is said of the points.
func TestGranted(t *testing.T) {
	_, b, e := hall(t, fast)
	if err := b.SetFault("hall", bench.Fault{Kind: "few"}); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	if err := e.Start([]string{"l"}); err != nil {
		t.Fatal(err)
	}
	all := []string{"ox", "sp", "on", "pace1", "pace3", "mode", "speed", "label"}
	good := func() bool {
		for _, id := range all {
			if live, _ := e.Hub.Point(id); live.Quality != value.Good {
				return false
			}
		}
		return true
	}
	fieldtest.Wait(t, "all are told", good)
	if held, _, err := e.Held(ctx, "l"); err != nil || len(held) != 10 {
		t.Errorf("it lists %+v, %v", held, err)
	}
	puts := func(text string) {
		order, err := e.Prepare(ctx, "sp", text)
		if err != nil {
			t.Fatal(err)
		}
		if result, err := e.Write(ctx, "Ines", order.Token); err != nil || !result.OK {
			t.Fatalf("%s: %+v, %v", text, result, err)
		}
	}
	told := func() (n int) {
		for _, x := range e.Hub.Exchanges(0, 8000, "l") {
			if strings.HasPrefix(x.Operation, "notification") {
				for _, s := range x.Samples {
					if s.Point == "sp" {
						n++
					}
				}
			}
		}
		return n
	}
	puts("6")
	fieldtest.Wait(t, "what was written is told", func() bool { return told() == 2 })
	puts("6.25")
	for end := time.Now().Add(4 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if !good() {
			live, _ := e.Hub.Point("sp")
			t.Fatalf("%+v", live)
		}
	}
	if n := told(); n != 2 {
		t.Errorf("it was told %d times", n)
	}
	puts("7")
	fieldtest.Wait(t, "a larger move is told", func() bool { return told() == 3 })

	e.Stop([]string{"l"})
	if err := b.SetFault("hall", bench.Fault{Kind: "slow"}); err != nil {
		t.Fatal(err)
	}
	if err := e.Start([]string{"l"}); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "what was revised is said", func() bool {
		live, _ := e.Hub.Point("ox")
		return strings.Contains(live.Granted, "every 5000 ms, asked 100")
	})
}
