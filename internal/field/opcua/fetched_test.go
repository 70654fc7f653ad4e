package opcua_test

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gopcua/opcua/ua"

	"ferry/internal/core/address"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	"ferry/internal/field"
	target "ferry/internal/target/opcua"
)

// TestFetched: what a server left out is asked for once more, so that a value that moved in it alone
// is there.
func TestFetched(t *testing.T) {
	var count, step, left atomic.Int64
	var leaves atomic.Bool
	number := func(name string, of *atomic.Int64) target.Variable {
		return target.Variable{URI: "urn:skerry:hall", ID: name, Name: name, Type: ua.TypeIDInt64,
			Read: func() *ua.DataValue { return target.Good(of.Load()) }}
	}
	server := target.New(target.Config{User: func(string, string) (bool, bool) { return true, true },
		Variables: func() []target.Variable { return []target.Variable{number("Count", &count), number("Step", &step)} },
		Leaves: func(uint32) bool {
			if !leaves.Load() {
				return false
			}
			left.Add(1)
			return true
		}})
	at := listening(t, server.Take, server.Close)
	driver, _, err := field.DriverOf(family.TCP.Name)
	if err != nil {
		t.Fatal(err)
	}
	conn, reply := driver.Dial(context.Background(), field.Target{Dial: at,
		Settings: protocol.Settings{family.KeyPublish: protocol.OfInt(50)}})
	if conn == nil {
		t.Fatal(reply.Sentence)
	}
	t.Cleanup(func() { _ = conn.Close() })
	var wanted []protocol.Wanted
	for _, name := range []string{"Count", "Step"} {
		wanted = append(wanted, protocol.Wanted{ID: name, Address: address.Named(family.Space, "nsu=urn:skerry:hall;s="+name),
			Shape: value.Shape{Type: value.TypeInt64, Bit: -1}, PaceMs: 20})
	}
	if reply, refused := conn.(field.Reporter).Follow(wanted); !reply.OK() || len(refused) > 0 {
		t.Fatalf("%+v, %+v", reply, refused)
	}
	told := map[string]int64{}
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	end := time.Now().Add(4 * time.Second)
	for began := time.Now(); time.Now().Before(end); {
		select {
		case r := <-conn.(field.Reporter).Reports():
			if r.Aside {
				continue
			}
			if r.Wrong != "" {
				t.Fatal(r.Wrong)
			}
			for _, s := range r.Samples {
				told[s.ID] = s.Value.Int()
			}
		case <-tick.C:
			count.Add(1)
			// Its steps fall into messages that are left out.
			if now := time.Since(began) % time.Second; now > 400*time.Millisecond && now < 420*time.Millisecond {
				leaves.Store(true)
			} else if now > 500*time.Millisecond && now < 520*time.Millisecond {
				step.Add(1)
			} else if now > 700*time.Millisecond && now < 720*time.Millisecond {
				leaves.Store(false)
			}
		}
	}
	if left.Load() < 5 || told["Step"] != step.Load() || step.Load() == 0 {
		t.Errorf("%d messages were left out; the step is %d, and was told as %d", left.Load(), step.Load(), told["Step"])
	}
}
