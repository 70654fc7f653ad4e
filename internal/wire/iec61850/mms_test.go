package iec61850

import (
	"bytes"
	"encoding/hex"
	"math"
	"reflect"
	"strings"
	"testing"
	"time"

	family "ferry/internal/core/family/iec61850"
)

// TestData: values of every kind come back as they were, in the octets of the standard.
func TestData(t *testing.T) {
	at := time.Date(2026, 11, 27, 8, 15, 30, 500_000_000, time.UTC)
	for _, c := range []struct {
		data   Data
		octets string // empty for those that only have to come back
	}{
		{Data{Kind: family.Boolean, Int: 1}, "8301ff"}, {Data{Kind: family.Integer, Int: -129, Size: 16}, "8502ff7f"},
		{Data{Kind: family.Unsigned, Int: 200, Size: 16}, "860200c8"},
		{Data{Kind: family.Floating, Float: 1.5, Size: 32}, "8705083fc00000"},
		{Data{Kind: family.Floating, Float: math.Pi, Size: 64}, ""},
		{Data{Kind: family.BitString, Bits: 2, Size: 2, Text: "\x40"}, "84020640"},
		{Data{Kind: family.BitString, Bits: 1 << 12, Size: 13, Text: "\x00\x08"}, "8403030008"},
		{Data{Kind: family.VisibleString, Text: "Skerry"}, "8a06536b65727279"},
		{Data{Kind: family.OctetString, Text: "\x00\xff"}, "890200ff"},
		{Data{Kind: family.UTCTime, Time: at, TimeQuality: 0x0A}, "91086b093c228000000a"},
		{Data{Kind: family.EntryTime, Time: at.Truncate(time.Millisecond)}, ""},
		{Data{Kind: family.Structure, Parts: []Data{{Kind: family.Boolean}, {Kind: family.Integer, Int: 5, Size: 8}}},
			"a206830100850105"},
	} {
		b := c.data.Append(nil)
		got, rest, err := ReadData(b, 0)
		if err != nil || len(rest) > 0 || !got.Same(&c.data) {
			t.Errorf("%x: %+v, want %+v, %v", b, got, c.data, err)
		}
		if want := c.octets; want != "" && hex.EncodeToString(b) != want {
			t.Errorf("%+v: %x, want %s", c.data, b, want)
		}
	}
	for text, says := range map[string]string{"83020000": "boolean of 2", "8480": "definite", "85": "cut short",
		"a20583":   "says 5",
		"87030800": "says 3", "8702080a": "floating", "91020000": "time of 2", "8501": "says 1", "8400": "without its length",
		strings.Repeat("a280", 1): "definite", "b000": "none of those"} {
		b, _ := hex.DecodeString(text)
		if _, _, err := ReadData(b, 0); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %s", text, err, says)
		}
	}
	deep := []byte{0x83, 1, 0}
	for range 40 {
		deep = wrap(tagStructure, deep)
	}
	if _, _, err := ReadData(deep, 0); err == nil {
		t.Error("forty structures in each other are taken")
	}
}

// TestMessages: questions and answers come back as they were.
func TestMessages(t *testing.T) {
	names := []Name{{"SKERRY_CONCLD0", "GGIO1$ST$Ind1$stVal"}, {"", "vmd"}}
	m, err := ParseMessage(Question(300, Read, ReadOf(names)))
	if err != nil || m.Invoke != 300 || m.Service != Read || m.Kind != Request {
		t.Fatalf("%+v, %v", m, err)
	}
	if got, list, err := ReadRead(m.Body); err != nil || list || !reflect.DeepEqual(got, names) {
		t.Errorf("%v, %v", got, err)
	}
	results := []Result{{Data: Data{Kind: family.Boolean, Int: 1}, Refused: -1}, {Refused: family.AccessNotThere}}
	octets := Answer(300, Read, ReadAnswer(results))
	if m, err = ParseMessage(octets); err != nil || m.Kind != Response || m.Service != Read {
		t.Fatalf("%+v, %v", m, err)
	}
	got, err := ReadResults(m.Body, m.From)
	if err != nil || len(got) != 2 || got[0].Data.Int != 1 || got[1].Refused != family.AccessNotThere ||
		!bytes.Equal(octets[got[0].Data.From:got[0].Data.To], []byte{0x83, 1, 0xFF}) {
		t.Errorf("%+v, %v", got, err)
	}
	values := []Data{{Kind: family.Integer, Int: 7, Size: 8}, {Kind: family.VisibleString, Text: "x"}}
	if m, err = ParseMessage(Question(1, Write, WriteOf(names, values))); err != nil {
		t.Fatal(err)
	}
	if n, v, err := ReadWrite(m.Body); err != nil || !reflect.DeepEqual(n, names) || len(v) != 2 || v[0].Int != 7 {
		t.Errorf("%v %v %v", n, v, err)
	}
	if m, err = ParseMessage(Answer(1, Write, WriteAnswer([]int{-1, 3}))); err != nil {
		t.Fatal(err)
	}
	if list, err := ReadWritten(m.Body); err != nil || !reflect.DeepEqual(list, []int{-1, 3}) {
		t.Errorf("%v %v", list, err)
	}
	q := NameList{Class: Variables, Domain: "LD0", After: "GGIO1"}
	if m, err = ParseMessage(Question(2, GetNameList, q.Octets())); err != nil {
		t.Fatal(err)
	}
	if back, err := ReadNameList(m.Body); err != nil || back != q {
		t.Errorf("%+v %v", back, err)
	}
	if list, more, err := ReadNames(Names([]string{"a", "b"}, true)); err != nil || !more || len(list) != 2 {
		t.Errorf("%v %v %v", list, more, err)
	}
	of := Type{Kind: family.Structure, Parts: []Type{{Name: "stVal", Kind: family.Boolean, Size: 1},
		{Name: "q", Kind: family.BitString, Size: -13}, {Name: "mag", Kind: family.Structure,
			Parts: []Type{{Name: "f", Kind: family.Floating, Size: 32}}}}}
	if back, err := ReadTypeAnswer(TypeAnswer(&of)); err != nil || !reflect.DeepEqual(back, of) {
		t.Errorf("%+v %v", back, err)
	}
	if m, err = ParseMessage(ReportOf([]Name{{"", "RPT"}}, results)); err != nil || m.Service != Report {
		t.Fatal(err)
	}
	if n, v, err := ReadReport(m.Body, m.From); err != nil || n[0].Item != "RPT" || len(v) != 2 {
		t.Errorf("%v %v %v", n, v, err)
	}
	if m, err = ParseMessage(Refusal(9, 7, 2)); err != nil || m.Kind != Error || m.Invoke != 9 || m.Class != 7 ||
		m.Code != 2 {
		t.Errorf("%+v %v", m, err)
	}
}

// TestLayers: conversations begin and go on through all layers.
func TestLayers(t *testing.T) {
	i := DefaultInitiation()
	for _, octets := range [][]byte{Associate(i, Selectors{}), Accept(i)} {
		h, err := Hear(octets)
		if err != nil || h.Associates == h.Accepts || h.Initiation != i || h.Why != "" {
			t.Errorf("%+v, %v", h, err)
		}
		for n := range octets {
			if _, err := Hear(octets[:n]); err == nil {
				t.Errorf("%d of %d octets are taken", n, len(octets))
			}
		}
	}
	said := Question(1, Identify, nil)
	if h, err := Hear(Speak(said)); err != nil || !bytes.Equal(h.MMS, said) || !bytes.Equal(Speak(said)[h.From:], said) {
		t.Errorf("%+v, %v", h, err)
	}
	if h, err := Hear([]byte{sessionAbort, 3, 17, 1, 3}); err != nil || !h.Ends || h.Why == "" {
		t.Errorf("%+v, %v", h, err)
	}
}

func FuzzHear(f *testing.F) {
	f.Add(Associate(DefaultInitiation(), Selectors{}))
	f.Add(Accept(DefaultInitiation()))
	f.Add(Speak(Question(1, Read, ReadOf([]Name{{"LD0", "GGIO1$ST"}}))))
	f.Add(Speak(Answer(1, Read, ReadAnswer([]Result{{Data: Data{Kind: family.Boolean}, Refused: -1}}))))
	f.Add(Speak(Answer(1, GetTypeOf,
		TypeAnswer(&Type{Kind: family.Structure, Parts: []Type{{Name: "q", Kind: family.BitString, Size: -13}}}))))
	f.Add(Speak(ReportOf([]Name{{"", "RPT"}}, []Result{{Refused: 1}})))
	f.Fuzz(func(_ *testing.T, b []byte) {
		h, err := Hear(b)
		if err != nil || h.MMS == nil {
			return
		}
		m, err := ParseMessage(h.MMS)
		if err != nil {
			return
		}
		_, _, _ = ReadRead(m.Body)
		_, _ = ReadResults(m.Body, 0)
		_, _, _ = ReadWrite(m.Body)
		_, _, _ = ReadNames(m.Body)
		_, _ = ReadTypeAnswer(m.Body)
		_, _ = ReadMembers(m.Body)
		_, _, _ = ReadReport(m.Body, 0)
		_, _ = ReadIdentity(m.Body)
	})
}
