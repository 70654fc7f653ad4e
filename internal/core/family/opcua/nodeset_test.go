package opcua

import (
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
	return []protocol.Held{oxygen, pause, number}
}

// TestNodeSet: what goes out as a node set comes back as it was.
func TestNodeSet(t *testing.T) {
	set := NodeSet(served(), time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC))
	if !(rules{}).Described(set) {
		t.Error("it is not taken for one")
	}
	held, unread, err := rules{}.Describe(set)
	if err != nil || len(unread) > 0 || len(held) != 3 {
		t.Fatalf("%v, %v, %+v", err, unread, held)
	}
	for i, want := range served() {
		got := held[i]
		if got.Address != want.Address || got.Name != want.Name || got.Shape != want.Shape || got.Unit != want.Unit ||
			got.Remark != want.Remark || got.Writable != want.Writable || (got.Low == nil) != (want.Low == nil) ||
			got.Low != nil && (*got.Low != *want.Low || *got.High != *want.High) {
			t.Errorf("%+v came back as %+v", want, got)
		}
	}
}

// TestHostileNodeSets: what is none is refused with its reason, and what lies in itself has an end.
func TestHostileNodeSets(t *testing.T) {
	node := func(id, more string) string {
		return `<UAVariable NodeId="` + id + `" BrowseName="1:A" DataType="i=10">` + more + `</UAVariable>`
	}
	head := `<UANodeSet><NamespaceUris><Uri>urn:x</Uri></NamespaceUris>`
	circle := head + node("ns=1;s=A", `<References><Reference ReferenceType="HasComponent">ns=1;s=B</Reference></References>`) +
		node("ns=1;s=B", `<References><Reference ReferenceType="HasComponent">ns=1;s=A</Reference></References>`) + `</UANodeSet>`
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
		if again, _, err := (rules{}).Describe(NodeSet(held, time.Unix(0, 0))); len(held) > 0 && err == nil && len(again) > len(held) {
			t.Errorf("%d places became %d", len(held), len(again))
		}
	})
}
