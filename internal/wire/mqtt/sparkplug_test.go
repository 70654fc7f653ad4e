package mqtt

import (
	"bytes"
	"encoding/hex"
	"testing"

	"ferry/internal/core/value"
)

// TestPayload: a payload is read as it was written, and in the octets that the
// definition of its messages gives.
func TestPayload(t *testing.T) {
	p := Payload{Time: 1795680000000, Seq: 255, HasSeq: true, Metrics: []Metric{
		{Name: "Oxygen", Alias: 1, HasAlias: true, Type: Float, Value: value.OfFloat(8.5), Time: 5, Quality: -1},
		{Alias: 2, HasAlias: true, Type: Int16, Value: value.OfInt(-3), Quality: QualityStale},
		{Name: "Run", Type: Boolean, Value: value.OfBool(true), Quality: QualityGood},
		{Name: "Label", Type: String, Value: value.OfText("Row A"), Quality: -1},
		{Name: "Total", Type: UInt64, Value: value.OfUint(1 << 60), Quality: -1},
		{Name: "Level", Type: Double, Value: value.OfFloat(-0.25), Quality: -1},
		{Name: "Since", Type: DateTime, Value: value.OfMoment(1795680000000), Quality: -1},
		{Name: "Speed", Type: UInt32, Null: true, Quality: QualityBad, Historical: true}}}
	data := AppendPayload(nil, &p)
	back, err := ParsePayload(data)
	if err != nil || back.Time != p.Time || back.Seq != 255 || !back.HasSeq || len(back.Metrics) != len(p.Metrics) {
		t.Fatalf("%+v, %v", back, err)
	}
	for i := range p.Metrics {
		if back.Metrics[i] != p.Metrics[i] {
			t.Errorf("%+v is read as %+v", p.Metrics[i], back.Metrics[i])
		}
	}
	small := Payload{Time: 1, Seq: 0, HasSeq: true, Metrics: []Metric{{Name: "a", Type: Int32, Value: value.OfInt(-1),
		Quality: -1}}}
	// 1: varint 1; 2: (1: "a", 4: 3, 10: 0xFFFFFFFF); 3: varint 0
	if got := hex.EncodeToString(AppendPayload(nil, &small)); got != "0801"+"120b"+"0a0161"+"2003"+"50ffffffff0f"+"1800" {
		t.Errorf("its octets are %s", got)
	}
}

// TestOfAnotherHand: a payload that another library wrote is read as it was meant.
func TestOfAnotherHand(t *testing.T) {
	data, err := hex.DecodeString("0880b0f9b6a134120e0a0269381004200150fdffffff0f120d0a03693136200250d4fdffff0f120d0a0369333220035090dd" +
		"fbff0f12120a03693634200458fbffffffffffffffff01120d0a0375333220075880d0acf30e120a0a016620096500000841" +
		"120e0a0164200a69000000000000d0bf12070a0162200b7001120c0a0173200c7a05526f772041120c0a0174200d5880b0f9" +
		"b6a13412190a017120034a100a075175616c6974791205080318f403500112070a016e200938011803")
	if err != nil {
		t.Fatal(err)
	}
	p, err := ParsePayload(data)
	if err != nil || p.Seq != 3 || p.Time != 1795680000000 {
		t.Fatalf("%+v, %v", p, err)
	}
	want := map[string]value.Value{"i8": value.OfInt(-3), "i16": value.OfInt(-300), "i32": value.OfInt(-70000),
		"i64": value.OfInt(-5), "u32": value.OfUint(4000000000), "f": value.OfFloat(8.5), "d": value.OfFloat(-0.25),
		"b": value.OfBool(true), "s": value.OfText("Row A"), "t": value.OfMoment(1795680000000), "q": value.OfInt(1), "n": {}}
	for _, m := range p.Metrics {
		if v, known := want[m.Name]; !known || v != m.Value {
			t.Errorf("%s is %v, want %v", m.Name, m.Value, v)
		}
		if m.Name == "q" && m.Quality != QualityStale || m.Name == "n" && !m.Null || m.Name == "i8" && m.Alias != 4 {
			t.Errorf("%+v", m)
		}
	}
	if len(p.Metrics) != len(want) {
		t.Errorf("%d metrics", len(p.Metrics))
	}
}

// TestMeans: a number that came without its type has its sign once the type is known.
func TestMeans(t *testing.T) {
	for _, c := range []struct {
		octets string // of the value in the payload
		t      Type
		want   value.Value
	}{
		{"50fbffffff0f", Int16, value.OfInt(-5)}, {"50fb01", Int8, value.OfInt(-5)}, {"50fbffffff0f", Int32, value.OfInt(-5)},
		{"50fbffffff0f", UInt32, value.OfUint(4294967291)}, {"58fbffffffffffffffff01", Int64, value.OfInt(-5)},
		{"5805", DateTime, value.OfMoment(5)}, {"5805", UInt64, value.OfUint(5)}, {"6500000841", Float, value.OfFloat(8.5)},
		{"7a0141", Text, value.OfText("A")},
	} {
		octets, err := hex.DecodeString("12" + hex.EncodeToString([]byte{byte(2 + len(c.octets)/2)}) + "1001" + c.octets)
		if err != nil {
			t.Fatal(err)
		}
		p, err := ParsePayload(octets)
		if err != nil {
			t.Fatal(err)
		}
		m := &p.Metrics[0]
		if m.Means(c.t); m.Value != c.want || m.Type != c.t {
			t.Errorf("%s as type %d is %v, want %v", c.octets, c.t, m.Value, c.want)
		}
	}
}

// FuzzPayload: whatever comes is read or refused, and what was read is read the same
// once written.
func FuzzPayload(f *testing.F) {
	f.Add([]byte{0x08, 1, 0x12, 11, 0x0a, 1, 'a', 0x20, 3, 0x50, 0xff, 0xff, 0xff, 0xff, 0x0f, 0x18, 0})
	f.Add([]byte{0x12, 4, 0x20, 9, 0x65, 0})
	f.Add([]byte{0x12, 0xff})
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := ParsePayload(data)
		if err != nil {
			return
		}
		again := AppendPayload(nil, &p)
		q, err := ParsePayload(again)
		if err != nil {
			t.Fatalf("% X: %v", again, err)
		}
		if third := AppendPayload(nil, &q); !bytes.Equal(again, third) {
			t.Errorf("% X is written % X, and then % X", data, again, third)
		}
	})
}
