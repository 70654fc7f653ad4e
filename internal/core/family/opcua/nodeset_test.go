package opcua

import (
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// served are some places.
func served() []protocol.Held {
	low, high := 0.0, 20.0
	at := func(text string) protocol.Held {
		n, err := ParseNode(text)
		if err != nil {
			panic(err)
		}
		return protocol.Held{Address: n.Address(), Name: n.ID, Shape: value.Shape{Type: value.TypeFloat32, Bit: -1}}
	}
	oxygen, pause, number := at("nsu=urn:skerry:hall;s=Row<A>.Tank 11.Oxygen"), at("nsu=urn:skerry:hall;s=Pause"),
		at("nsu=urn:skerry:shore;i=12")
	oxygen.Unit, oxygen.Low, oxygen.High, oxygen.Remark = "mg/L", &low, &high, "of \"the\" first tank & more"
	pause.Shape.Type, pause.Writable = value.TypeBool, true
	number.Name, number.Shape.Type = "Counts.Fish", value.TypeUint64
	pause.Names = map[int]string{0: "feeding", 1: "paused"}
	mode, state, when := at("nsu=urn:skerry:hall;s=Mode"), at("nsu=urn:skerry:hall;s=State"),
		at("nsu=urn:skerry:hall;s=When")
	mode.Shape.Type, mode.Names = value.TypeUint16, map[int]string{0: "idle", 1: "", 2: "<flush>"}
	state.Shape.Type, state.Names = value.TypeInt32, map[int]string{-1: "lost", 10: "there"}
	when.Shape.Type = value.TypeUnixMs
	return []protocol.Held{oxygen, pause, number, mode, state, when}
}

// TestNodeSet: what goes out as a node set comes back as it was.
func TestNodeSet(t *testing.T) {
	set := NodeSet(served(), time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC))
	if !(rules{}).Described(set) {
		t.Error("it is not taken for one")
	}
	held, unread, err := rules{}.Describe(set)
	if err != nil || len(unread) > 0 || len(held) != 6 {
		t.Fatalf("%v, %v, %+v", err, unread, held)
	}
	for i, want := range served() {
		got := held[i]
		if got.Address != want.Address || got.Name != want.Name || got.Shape != want.Shape || got.Unit != want.Unit ||
			got.Remark != want.Remark || got.Writable != want.Writable || (got.Low == nil) != (want.Low == nil) ||
			!maps.Equal(got.Names, want.Names) || got.Low != nil && (*got.Low != *want.Low || *got.High != *want.High) {
			t.Errorf("%+v came back as %+v", want, got)
		}
	}
}

// TestTypesOfNodeSets: enumerations, structures and subtypes that a file defines are those of its
// variables.
func TestTypesOfNodeSets(t *testing.T) {
	typed := func(id, name, above, fields string) string {
		return fmt.Sprintf(`<UADataType NodeId="ns=1;i=%s" BrowseName="1:%s"><References><Reference ReferenceType="HasSubtype" `+
			`IsForward="false">%s</Reference></References><Definition Name="%s">%s</Definition></UADataType>`, id, name,
			above, name, fields)
	}
	variable := func(name, kind string) string {
		return fmt.Sprintf(`<UAVariable NodeId="ns=1;s=%s" BrowseName="1:%s" DataType="%s" AccessLevel="3"/>`, name,
			name, kind)
	}
	held, unread, err := rules{}.Describe([]byte(`<UANodeSet><NamespaceUris><Uri>urn:x</Uri></NamespaceUris>` +
		typed("1", "Mode", "i=29",
			`<Field Name="idle" Value="0"/><Field Name="on" Value="7"><DisplayName>running</DisplayName></Field>`) +
		typed("2", "Motor", "i=22", `<Field Name="Amps" DataType="i=11"/><Field Name="For" DataType="Duration"/>`) +
		typed("3", "Pump", "ns=1;i=2", `<Field Name="Main" DataType="ns=1;i=2"/><Field Name="Mode" DataType="ns=1;i=1"/>`+
			`<Field Name="Hours" DataType="i=7" ValueRank="1"/><Field Name="Self" DataType="ns=1;i=3"/>`) +
		typed("6", "Hollow", "i=22", `<Field Name="A" DataType="ns=1;i=6"/><Field Name="B" DataType="ns=1;i=6"/>`) +
		variable("H", "ns=1;i=6") + typed("4", "Level", "i=10", "") + typed("5", "Round", "ns=1;i=5", "") +
		variable("M", "ns=1;i=1") + variable("P", "ns=1;i=3") + variable("L", "ns=1;i=4") + variable("R", "ns=1;i=5") +
		`</UANodeSet>`))
	var got []string
	for _, h := range held[:min(len(held), 6)] {
		got = append(got, fmt.Sprintf("%s %s %v %v", Scheme.Short(h.Address), h.Shape.Type, h.Names, h.Writable))
	}
	want := []string{"nsu=urn:x;s=M int32 map[0:idle 7:running] true", "nsu=urn:x;s=P [.Main.Amps] float64 map[] false",
		"nsu=urn:x;s=P [.Main.For] float64 map[] false", "nsu=urn:x;s=P [.Mode] int32 map[0:idle 7:running] false",
		"nsu=urn:x;s=P [.Self.Main.Amps] float64 map[] false", "nsu=urn:x;s=P [.Self.Main.For] float64 map[] false"}
	if fmt.Sprint(got) != fmt.Sprint(want) || len(held) > 2+mostParts || err != nil {
		t.Errorf("%d, %v\n%q", len(held), err, got)
	}
	if len(unread) != 2 || !strings.Contains(unread[0].Reason, "no value that a point can have") ||
		!strings.Contains(unread[1].Reason, "none that a point can have") {
		t.Errorf("%+v", unread)
	}
}

// TestHostileNodeSets: what is none is refused with its reason, and what lies in itself has an end.
func TestHostileNodeSets(t *testing.T) {
	node := func(id, more string) string {
		return `<UAVariable NodeId="` + id + `" BrowseName="1:A" DataType="i=10">` + more + `</UAVariable>`
	}
	head := `<UANodeSet><NamespaceUris><Uri>urn:x</Uri></NamespaceUris>`
	circle := head + node("ns=1;s=A",
		`<References><Reference ReferenceType="HasComponent">ns=1;s=B</Reference></References>`) +
		node("ns=1;s=B", `<References><Reference ReferenceType="HasComponent">ns=1;s=A</Reference></References>`) +
		`</UANodeSet>`
	for text, want := range map[string]string{
		`<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><UANodeSet>&e;</UANodeSet>`: "declares entities",
		`<html></html>`:           "it begins with html",
		`<UANodeSet>`:             "line 1",
		`<UANodeSet></UANodeSet>`: "no node",
		head + node("ns=7;s=A", "") + `</UANodeSet>`:                                     "which namespace",
		head + node("i=2258", "") + `</UANodeSet>`:                                       "OPC UA itself",
		head + strings.Replace(node("ns=1;s=A", ""), "i=10", "i=22", 1) + `</UANodeSet>`: "its type",
		circle: "",
	} {
		held, unread, err := rules{}.Describe([]byte(text))
		said := ""
		if err != nil {
			said = err.Error()
		} else if len(unread) > 0 {
			said = unread[0].Reason
		}
		if want == "" && (err != nil || len(held) != 2) || !strings.Contains(said, want) {
			t.Errorf("%.80s: %q, want %q; %v", text, said, want, held)
		}
	}
}

func FuzzNodeSet(f *testing.F) {
	f.Add(NodeSet(served(), time.Unix(0, 0)))
	f.Add([]byte(`<UANodeSet><Aliases><Alias Alias="Float">i=10</Alias></Aliases></UANodeSet>`))
	f.Fuzz(func(t *testing.T, data []byte) {
		held, _, err := rules{}.Describe(data)
		if err != nil {
			return
		}
		if again, _, err := (rules{}).Describe(NodeSet(held, time.Unix(0, 0))); len(held) > 0 && err == nil &&
			len(again) > len(held) {
			t.Errorf("%d places became %d", len(held), len(again))
		}
	})
}
