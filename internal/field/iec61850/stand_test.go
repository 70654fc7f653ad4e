package iec61850_test

import (
	"context"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/bench"
	_ "ferry/internal/bench/iec61850"
	family "ferry/internal/core/family/iec61850"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
	"ferry/internal/field"
	"ferry/internal/field/fieldtest"
	wire "ferry/internal/wire/iec61850"
	"ferry/internal/wire/isotcp"
)

// TestStandIn: a device of the bench is asked, polled where it reports nothing, and operated; what is
// wrong with it is said.
func TestStandIn(t *testing.T) {
	s := site.New("Skerry Point Hatchery")
	s.Lines = []site.Line{{ID: "net", Name: "Plant net", Medium: "ethernet", Network: "192.0.2.0/24"}}
	own := concentrator(t, "")
	own = append(own, fieldtest.Point(t, family.Scheme, "status", "LD0/GGIO9.SPCSO2.stVal[ST]", value.TypeBool,
		site.ReadOnly))
	own[3].Access = site.WriteOnly
	s.Devices = []site.Device{{ID: "lss", Name: "LSS controller", Ports: []site.Port{{Line: "net", Host: "192.0.2.10"}},
		Points: []site.Point{}},
		{ID: "ied", Name: "Pump protection", Map: "iec61850", Points: own,
			Ports: []site.Port{{Line: "net", Host: "192.0.2.96", Protocol: "iec61850"}}}}
	s.Links = []site.Link{{ID: "f", Asking: "lss", Answering: "ied", Line: "net", Protocol: "iec61850",
		Settings: protocol.Settings{family.KeyPolled: protocol.OfInt(300)}}}
	e, b := fieldtest.Benched(t, s)
	ctx := context.Background()
	if r, err := e.Try(ctx, "f"); err != nil || r.StopsAt != nil {
		t.Fatalf("%+v, %v", r, err)
	}
	if err := e.Start(nil); err != nil {
		t.Fatal(err)
	}
	fieldtest.Wait(t, "all are read", func() bool {
		return fieldtest.Live(e, "run").Quality == value.Good && fieldtest.Live(e, "level").Quality == value.Good &&
			fieldtest.Live(e, "status").Quality == value.Good
	})
	operate := func() field.WriteResult {
		order, err := e.Prepare(ctx, "cmd", "1")
		if err != nil {
			t.Fatal(err)
		}
		result, err := e.Write(ctx, "Ines", order.Token)
		if err != nil {
			t.Fatal(err)
		}
		return result
	}
	fault := func(kind string) {
		if err := b.SetFault("ied", bench.Fault{Kind: kind}); err != nil {
			t.Fatal(err)
		}
	}
	fault("guarded")
	if r := operate(); r.OK || !strings.Contains(r.Sentence, "no access authority") {
		t.Errorf("a control that is guarded: %+v", r)
	}
	fault("questionable")
	fieldtest.Wait(t, "questionable values are doubtful",
		func() bool { return fieldtest.Live(e, "level").Quality == value.Doubtful })
	fault("invalid")
	fieldtest.Wait(t, "invalid values are bad", func() bool { return fieldtest.Live(e, "level").Quality == value.Bad })
	fault("")
	fieldtest.Wait(t, "they are good again", func() bool { return fieldtest.Live(e, "level").Quality == value.Good })
	if r := operate(); !r.OK {
		t.Errorf("%+v", r)
	}
	fieldtest.Wait(t, "the status follows", func() bool { return fieldtest.Live(e, "status").Value.Bool() })
}

// TestGreedy: a client that asks and asks and takes no answer costs little, and the others nothing.
func TestGreedy(t *testing.T) {
	_, _, at := station(t, true)
	patient := dial(t, at)
	domain := patient.names(wire.Domains, "")[0]
	greedy := dial(t, at) // which stops to read behind the first answer that nobody waits for
	question := isotcp.AppendData(nil, wire.Speak(wire.Question(7, wire.Read,
		wire.ReadOf(slices.Repeat([]wire.Name{{Domain: domain, Item: "GGIO1"}}, 40)))), isotcp.Size8192)
	heap := func() int64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before, most := heap(), int64(0)
	sent := 0
	end := time.Now().Add(4 * time.Second)
	for ; time.Now().Before(end); sent++ {
		if sent%200 == 199 {
			most = max(most, heap()-before)
		}
		if err := greedy.conn.SetWriteDeadline(end); err != nil {
			t.Fatal(err)
		}
		if _, err := greedy.conn.Write(question); err != nil {
			break // it is not listened to any more
		}
	}
	if most = max(most, heap()-before); most > 12<<20 {
		t.Errorf("with %d questions whose answers are not taken, %d MB more were held", sent, most>>20)
	}
	began := time.Now()
	patient.ask(wire.Read, wire.ReadOf([]wire.Name{{Domain: domain, Item: "GGIO1$ST$Ind1$stVal"}}))
	if took := time.Since(began); took > time.Second {
		t.Errorf("another waits %s", took)
	}
}
