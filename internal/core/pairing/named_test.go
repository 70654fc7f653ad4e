package pairing

import (
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/family/dnp3"
	family "ferry/internal/core/family/opcua"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// TestProveNames proves a column against what a server says of each, and against all that it has.
func TestProveNames(t *testing.T) {
	at := func(id string) address.Address {
		a, err := family.Scheme.Parse("nsu=urn:skerry:hall;s="+id, "")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	names, aside := ReadNames("name\nTank/Oxygen\ttext\ntank/oxygen\nPump/Speed\nTank/Oxygen\nLevel\tnothing\nGone\nPumps\nDoor",
		SpellRule{Before: "nsu=urn:skerry:hall;s=", From: "/", To: "."}, family.Scheme)
	if len(names) != 8 || !strings.Contains(aside, "heading") {
		t.Fatalf("%d names, %s", len(names), aside)
	}
	low, high := 0.0, 50.0
	names[2].Says = &protocol.Held{Unit: "Hz", Writable: true}
	here := func(id string, kind value.Type) protocol.Looked {
		return protocol.Looked{Address: at(id), Presence: protocol.Here, Type: kind, Value: value.OfFloat(8.5)}
	}
	looked := []protocol.Looked{here("Tank.Oxygen", value.TypeFloat32),
		{Address: at("tank.oxygen"), Presence: protocol.Missing}, here("Pump.Speed", value.TypeFloat32),
		here("Tank.Oxygen", value.TypeFloat32), {}, {Address: at("Gone"), Presence: protocol.Missing},
		{Address: at("Pumps"), Presence: protocol.Unclear, Reason: "it is a folder"},
		{Address: at("Door"), Presence: protocol.Barred, Reason: "the user may not"}}
	held := []protocol.Held{{Address: at("Tank.Oxygen"), Name: "Tank.Oxygen"},
		{Address: at("Pump.Speed"), Name: "Pump.Speed", Unit: "%", Low: &low, High: &high},
		{Address: at("Pump.Hours"), Name: "Pump.Hours", Shape: value.Shape{Type: value.TypeUint32}}}
	var got []string
	for _, p := range ProveNames(family.Scheme, names, looked, held) {
		got = append(got, fmt.Sprintf("%d %s: %s", p.Line, p.Verdict, p.Sentence))
	}
	for _, p := range BesideNames(family.Scheme, names, held) {
		got = append(got, fmt.Sprintf("%d %s: %s %s %s", p.Line, p.Verdict, p.Text, p.Is, p.Type))
	}
	want := []string{"2 another type: It is there as float32, and the list says text.",
		"3 another case: It is there as nsu=urn:skerry:hall;s=Tank.Oxygen: names are told apart by their case.",
		"4 otherwise: Its unit is %, and the list says Hz; it is read, and the list says read and written.",
		"5 there: It stands in line 2, too.",
		`6 no name: type "nothing" is not known: use bool, int16, uint16, int32, uint32, int64, uint64, float32, float64, ` +
			`bits 4, enum, flags, bcd16, base10k 2, text 8, unix, cp56, time, date, dt or bytes 4`,
		"7 not there: The far side has no such name.", "8 no value: it is a folder", "9 no access: the user may not",
		"0 not in the list: Pump.Hours nsu=urn:skerry:hall;s=Pump.Hours uint32"}
	for i := range max(len(got), len(want)) {
		if i >= len(got) || i >= len(want) || got[i] != want[i] {
			t.Errorf("%q", got[min(i, len(got)-1)])
		}
	}
}

// TestBoundNames: names that are no addresses are bound to those beside them, whichever comes first; large
// and small letters are kept, and what is bound to nothing is told.
func TestBoundNames(t *testing.T) {
	names, aside := ReadNames("name\tindex\nWetWell\tai22\nwetwell\tai\t23\tfloat32\nbi3\tPump 1 runs\nbi4\tbool\nSump\tai99999\nLone\n\"Flow, total\"\t\"ctr 5\"\n",
		SpellRule{}, dnp3.Scheme)
	if !strings.Contains(aside, "heading") || len(names) != 7 {
		t.Fatalf("%d, %s", len(names), aside)
	}
	for i, want := range []string{"WetWell ai22  ", "wetwell ai23 float32 ", "Pump 1 runs bi3  ", "bi4 bi4 bool ",
		"Sump   address Sump", "Lone   address Lone",
		"Flow, total ctr5  "} {
		n := &names[i]
		if got := fmt.Sprintf("%s %s %s %.12s", n.Text, dnp3.Scheme.Short(n.Address), n.Type, n.Why); got != want {
			t.Errorf("%d: %q, want %q", i, got, want)
		}
	}
}
