package modbus

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
)

func octets(t testing.TB, text string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestRequests: the examples of the application protocol specification,
// clauses 6.1 to 6.21, inside a frame.
func TestRequests(t *testing.T) {
	for _, c := range []struct {
		got  []byte
		want string
	}{
		{AppendRead(nil, 1, 17, address.Coils, 19, 19), "0001 0000 0006 11 01 0013 0013"},
		{AppendRead(nil, 2, 17, address.DiscreteInputs, 196, 22), "0002 0000 0006 11 02 00C4 0016"},
		{AppendRead(nil, 3, 17, address.HoldingRegisters, 107, 3), "0003 0000 0006 11 03 006B 0003"},
		{AppendRead(nil, 4, 17, address.InputRegisters, 8, 1), "0004 0000 0006 11 04 0008 0001"},
		{AppendWriteCoil(nil, 5, 1, 172, true), "0005 0000 0006 01 05 00AC FF00"},
		{AppendWriteRegisters(nil, 6, 1, 1, []byte{0, 3}), "0006 0000 0006 01 06 0001 0003"},
		{AppendWriteRegisters(nil, 7, 1, 1, []byte{0, 10, 1, 2}), "0007 0000 000B 01 10 0001 0002 04 000A 0102"},
		{AppendIdentify(nil, 8, 1), "0008 0000 0005 01 2B 0E 01 00"},
	} {
		if string(c.got) != string(octets(t, c.want)) {
			t.Errorf("% X, want %s", c.got, c.want)
		}
	}
}

func TestCheck(t *testing.T) {
	const read = "0001 0000 0006 01 03 0000 0002"
	for _, c := range []struct{ name, request, answer, want string }{
		{"a right answer", read, "0001 0000 0007 01 03 04 12345678", "data 12345678"},
		{"bits", "0001 0000 0006 01 01 0000 000A", "0001 0000 0005 01 01 02 FF03", "data ff03"},
		{"an exception", read, "0001 0000 0003 01 83 02", "exception 2"},
		{"an echoed write", "0001 0000 0006 01 06 0001 0003", "0001 0000 0006 01 06 0001 0003", "data 00010003"},
		{"the wrong transaction", read, "0002 0000 0007 01 03 04 12345678", "broken at 0: it answers transaction 2 and 1 was asked"},
		{"another protocol", read, "0001 0001 0007 01 03 04 12345678", "broken at 2: the protocol identifier is 1 where Modbus has 0"},
		{"a mad length", read, "0001 0000 FFFF 01 03 04 12345678", "broken at 4: the length field says 65535 octets, and a frame has 2 to 254"},
		{"cut short", read, "0001 0000 0007 01 03 04 1234", "broken at 4: the length field says 7 octets follow and 5 do"},
		{"too short", read, "0001 0000 0005 01 03 02 1234", "broken at 8: 4 octets of data were asked for; it announces 2 and brings 2"},
		{"too long", read, "0001 0000 0009 01 03 06 123456789ABC", "broken at 8: 4 octets of data were asked for; it announces 6 and brings 6"},
		{"a lying count", read, "0001 0000 0007 01 03 08 12345678", "broken at 8: 4 octets of data were asked for; it announces 8 and brings 4"},
		{"another unit", read, "0001 0000 0007 02 03 04 12345678", "broken at 6: unit 2 answers and unit 1 was asked"},
		{"another function", read, "0001 0000 0007 01 04 04 12345678", "broken at 7: function 4 answers and function 3 was asked"},
		{"a write that echoes otherwise", "0001 0000 0006 01 06 0001 0003", "0001 0000 0006 01 06 0001 0004", "broken at 8: the answer to a write must echo its address and value, and this does not"},
		{"nothing", read, "", "broken at 0: 0 octets are too few for an answer"},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, err := Check(octets(t, c.request), octets(t, c.answer))
			got := fmt.Sprintf("data %x", a.Data)
			var broken *Broken
			if errors.As(err, &broken) {
				got = fmt.Sprintf("broken at %d: %s", broken.From, broken.What)
			} else if a.Exception != 0 {
				got = fmt.Sprintf("exception %d", a.Exception)
			}
			if got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}

func TestDissect(t *testing.T) {
	points := []exchange.Labelled{
		{ID: "t", Name: "WaterTemp", Shown: "12.54 °C", Address: address.At("hr", 2), Units: 2},
		{ID: "o", Name: "Oxygen", Shown: "8.42 mg/L", Address: address.At("hr", 0), Units: 1},
		{ID: "b", Name: "Warm", Shown: "on", Address: address.At("hr", 0).WithBit(3), Units: 1},
	}
	fields := DissectAnswer(octets(t, "0001 0000 0006 01 03 0000 0005"), octets(t, "0001 0000 000D 01 03 0A 0008 0000 1111 2222 0000"), points)
	var got []string
	for _, f := range fields {
		got = append(got, fmt.Sprintf("%d-%d %s %s=%s", f.From, f.To, f.Role, f.Label, f.Meaning))
	}
	want := "0-2 frame transaction=1;2-4 frame protocol=0;4-6 frame octets follow=13;6-7 frame unit=1;7-8 frame function=read holding registers;" +
		"8-9 frame octets of data=10;9-11 point Oxygen, Warm=8.42 mg/L, on;11-13 gap unused=;13-17 point WaterTemp=12.54 °C;17-19 gap unused="
	if strings.Join(got, ";") != want {
		t.Errorf("fields\n%s, want\n%s", strings.Join(got, ";"), want)
	}
}

// FuzzAnswer: whatever comes back, dissecting covers every octet once, and
// only what passes its check brings data.
func FuzzAnswer(f *testing.F) {
	f.Add([]byte("\x00\x01\x00\x00\x00\x06\x01\x03\x00\x00\x00\x02"), []byte("\x00\x01\x00\x00\x00\x07\x01\x03\x04\x12\x34\x56\x78"))
	f.Add([]byte("\x00\x01\x00\x00\x00\x06\x01\x01\x00\x00\x00\x09"), []byte("\x00\x01\x00\x00\x00\x03\x01\x81\x02"))
	f.Add([]byte("\x00\x01\x00\x00\x00\x05\x01\x2B\x0E\x01\x00"), []byte("\x00\x01\x00\x00\x00\x0A\x01\x2B\x0E\x01\x01\x00\x00\x01\x00\x01A"))
	f.Fuzz(func(t *testing.T, request, answer []byte) {
		a, err := Check(request, answer)
		if err != nil && a.Data != nil {
			t.Fatal("a broken answer brings data")
		}
		ParseIdentity(a.Data)
		ParseServerID(a.Data)
		DissectRequest(request)
		end := 0
		for _, field := range DissectAnswer(request, answer, nil) {
			if field.From != end || field.To <= field.From || field.To > len(answer) {
				t.Fatalf("field %+v after octet %d of %d", field, end, len(answer))
			}
			end = field.To
		}
		if end != len(answer) {
			t.Fatalf("%d of %d octets are labelled", end, len(answer))
		}
	})
}
