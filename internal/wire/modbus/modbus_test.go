package modbus

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"testing"

	"ferry/internal/core/block"
	family "ferry/internal/core/family/modbus"

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
		framing Framing
		unit    byte
		pdu     []byte
		want    string
	}{
		{TCP, 17, ReadPDU(nil, family.Coils, 19, 19), "0001 0000 0006 11 01 0013 0013"},
		{TCP, 17, ReadPDU(nil, family.DiscreteInputs, 196, 22), "0001 0000 0006 11 02 00C4 0016"},
		{TCP, 17, ReadPDU(nil, family.HoldingRegisters, 107, 3), "0001 0000 0006 11 03 006B 0003"},
		{TCP, 17, ReadPDU(nil, family.InputRegisters, 8, 1), "0001 0000 0006 11 04 0008 0001"},
		{TCP, 1, WriteCoilPDU(nil, 172, true), "0001 0000 0006 01 05 00AC FF00"},
		{TCP, 1, WriteRegistersPDU(nil, 1, []byte{0, 3}), "0001 0000 0006 01 06 0001 0003"},
		{TCP, 1, WriteRegistersPDU(nil, 1, []byte{0, 10, 1, 2}), "0001 0000 000B 01 10 0001 0002 04 000A 0102"},
		{TCP, 1, IdentifyPDU(nil), "0001 0000 0005 01 2B 0E 01 00"},
		{RTU, 1, ReadPDU(nil, family.HoldingRegisters, 0, 2), "01 03 0000 0002 C40B"},
		{ASCII, 1, ReadPDU(nil, family.HoldingRegisters, 0, 2), "3A 3031 3033 30303030 30303032 4641 0D0A"},
		// :010300000002FA
	} {
		got := c.framing.AppendFrame(nil, 1, c.unit, c.pdu...)
		if string(got) != string(octets(t, c.want)) {
			t.Errorf("% X, want %s", got, c.want)
		}
		if n, err := c.framing.RequestLen(got); n != len(got) || err != nil {
			t.Errorf("% X: its length is told as %d (%v)", got, n, err)
		}
	}
}

func TestCheck(t *testing.T) {
	const read, rtu = "0001 0000 0006 01 03 0000 0002", "01 03 0000 0002 C40B"
	ascii := hex.EncodeToString([]byte(":010300000002FA\r\n"))
	for _, c := range []struct{ name, request, answer, want string }{
		{"a right answer", read, "0001 0000 0007 01 03 04 12345678", "data 12345678"},
		{"bits", "0001 0000 0006 01 01 0000 000A", "0001 0000 0005 01 01 02 FF03", "data ff03"},
		{"an exception", read, "0001 0000 0003 01 83 02", "exception 2"},
		{"an echoed write", "0001 0000 0006 01 06 0001 0003", "0001 0000 0006 01 06 0001 0003", "data 00010003"},
		{"the wrong transaction", read, "0002 0000 0007 01 03 04 12345678",
			"broken at 0: it answers transaction 2 and 1 was asked"},
		{"another protocol", read, "0001 0001 0007 01 03 04 12345678",
			"broken at 2: the protocol identifier is 1 where Modbus has 0"},
		{"a mad length", read, "0001 0000 FFFF 01 03 04 12345678",
			"broken at 4: the length field says 65535 octets, and a frame has 2 to 254"},
		{"cut short", read, "0001 0000 0007 01 03 04 1234",
			"broken at 4: the length field says 7 octets follow and 5 do"},
		{"too short", read, "0001 0000 0005 01 03 02 1234",
			"broken at 8: 4 octets of data were asked for; it announces 2 and brings 2"},
		{"too long", read, "0001 0000 0009 01 03 06 123456789ABC",
			"broken at 8: 4 octets of data were asked for; it announces 6 and brings 6"},
		{"a lying count", read, "0001 0000 0007 01 03 08 12345678",
			"broken at 8: 4 octets of data were asked for; it announces 8 and brings 4"},
		{"another unit", read, "0001 0000 0007 02 03 04 12345678", "broken at 6: unit 2 answers and unit 1 was asked"},
		{"another function", read, "0001 0000 0007 01 04 04 12345678",
			"broken at 7: function 4 answers and function 3 was asked"},
		{"a write that echoes otherwise", "0001 0000 0006 01 06 0001 0003", "0001 0000 0006 01 06 0001 0004",
			"broken at 8: the answer to a write must echo its address and value, and this does not"},
		{"nothing", read, "", "broken at 0: 0 octets are too few for an answer"},
		{"RTU", rtu, "01 03 04 12345678 81 07", "data 12345678"},
		{"RTU, an exception", rtu, "01 83 02 C0F1", "exception 2"},
		{"RTU, one bit wrong", rtu, "01 03 04 12345679 81 07",
			"broken at 7: the check is 81 07 and the octets give 40 C7"},
		{"RTU, another unit", rtu, "02 83 02 30F1", "broken at 0: unit 2 answers and unit 1 was asked"},
		{"RTU, cut short", rtu, "01 03 04", "broken at 0: 3 octets are too few for an answer"},
		{"ASCII", ascii, hex.EncodeToString([]byte(":01030412345678E4\r\n")), "data 12345678"},
		{"ASCII, a wrong check", ascii, hex.EncodeToString([]byte(":01030412345678E5\r\n")),
			"broken at 15: the check is E5 and the octets give E4"},
		{"ASCII, a letter that is no digit", ascii, hex.EncodeToString([]byte(":0103041G345678E4\r\n")),
			"broken at 7: what stands there is no pair of hexadecimal digits"},
	} {
		t.Run(c.name, func(t *testing.T) {
			framing := map[string]Framing{read: TCP, rtu: RTU, ascii: ASCII}[c.request]
			a, err := framing.Check(octets(t, c.request), octets(t, c.answer))
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
		{ID: "t", Name: "WaterTemp", Shown: "12.54 °C", Place: block.Of(block.At("hr", 2)), Units: 2},
		{ID: "o", Name: "Oxygen", Shown: "8.42 mg/L", Place: block.Of(block.At("hr", 0)), Units: 1},
		{ID: "b", Name: "Warm", Shown: "on", Place: block.Of(block.WithBit(block.At("hr", 0), 3)), Units: 1},
	}
	words := func(fields []exchange.Field) string {
		var got []string
		for _, f := range fields {
			got = append(got, fmt.Sprintf("%d-%d %s %s=%s", f.From, f.To, f.Role, f.Label, f.Meaning))
		}
		return strings.Join(got, ";")
	}
	for _, c := range []struct {
		name            string
		framing         Framing
		request, answer []byte
		asked, answered string
	}{
		{"TCP", TCP, octets(t, "0001 0000 0006 01 03 0000 0005"),
			octets(t, "0001 0000 000D 01 03 0A 0008 0000 1111 2222 0000"),
			"0-2 frame transaction=1;2-4 frame protocol=0;4-6 frame octets follow=6;6-7 frame unit=1;7-8 frame " +
				"function=read holding registers;8-10 data from=40001;10-12 data units=5",
			"0-2 frame transaction=1;2-4 frame protocol=0;4-6 frame octets follow=13;6-7 frame unit=1;7-8 frame " +
				"function=read holding registers;" +
				"8-9 frame octets of data=10;9-11 point Oxygen, Warm=8.42 mg/L, on;11-13 gap unused=;13-17 point " +
				"WaterTemp=12.54 °C;17-19 gap unused="},
		{"RTU", RTU, octets(t, "01 03 0000 0002 C40B"), RTU.AppendFrame(nil, 0, 1, 3, 4, 0, 8, 0, 0),
			"0-1 frame unit=1;1-2 frame function=read holding registers;2-4 data from=40001;4-6 data units=2;6-8 " +
				"frame check=C4 0B",
			"0-1 frame unit=1;1-2 frame function=read holding registers;2-3 frame octets of data=4;3-5 point " +
				"Oxygen, Warm=8.42 mg/L, on;5-7 gap unused=;7-9 frame check=7B F1"},
		{"ASCII", ASCII, []byte(":010300000002FA\r\n"), ASCII.AppendFrame(nil, 0, 1, 3, 4, 0, 8, 0, 0),
			"0-1 frame begin=:;1-3 frame unit=1;3-5 frame function=read holding registers;5-9 data from=40001;9-13 " +
				"data units=2;13-15 frame check=FA;15-17 frame end=CR LF",
			"0-1 frame begin=:;1-3 frame unit=1;3-5 frame function=read holding registers;5-7 frame octets of " +
				"data=4;7-11 point Oxygen, Warm=8.42 mg/L, on;11-15 gap unused=;15-17 frame check=F0;17-19 " +
				"frame end=CR LF"},
		{"RTU with a wrong check", RTU, octets(t, "01 03 0000 0002 C40B"), octets(t, "01 03 04 0008 0000 7BF2"),
			"", "0-1 frame unit=1;1-2 frame function=read holding registers;2-7 data data=;7-9 broken check=the " +
				"check is 7B F2 and the octets give 7B F1"},
		{"RTU, declined", RTU, octets(t, "01 03 0000 0002 C40B"), octets(t, "01 83 02 C0F1"),
			"", "0-1 frame unit=1;1-2 frame function=read holding registers;2-3 broken exception=2 illegal data " +
				"address;3-5 frame check=C0 F1"},
	} {
		if got := words(c.framing.DissectRequest(c.request)); c.asked != "" && got != c.asked {
			t.Errorf("%s, request\n%s, want\n%s", c.name, got, c.asked)
		}
		if got := words(c.framing.DissectAnswer(c.request, c.answer, points)); got != c.answered {
			t.Errorf("%s, answer\n%s, want\n%s", c.name, got, c.answered)
		}
	}
}

// FuzzAnswer: whatever comes back, dissecting covers every octet once, and
// only what passes its check brings data.
func FuzzAnswer(f *testing.F) {
	f.Add([]byte("\x00\x01\x00\x00\x00\x06\x01\x03\x00\x00\x00\x02"),
		[]byte("\x00\x01\x00\x00\x00\x07\x01\x03\x04\x12\x34\x56\x78"))
	f.Add([]byte("\x00\x01\x00\x00\x00\x06\x01\x01\x00\x00\x00\x09"), []byte("\x00\x01\x00\x00\x00\x03\x01\x81\x02"))
	f.Add([]byte("\x00\x01\x00\x00\x00\x05\x01\x2B\x0E\x01\x00"),
		[]byte("\x00\x01\x00\x00\x00\x0A\x01\x2B\x0E\x01\x01\x00\x00\x01\x00\x01A"))
	f.Add([]byte("\x01\x03\x00\x00\x00\x02\xC4\x0B"), []byte("\x01\x03\x04\x12\x34\x56\x78\x81\x07"))
	f.Add([]byte(":010300000002FA\r\n"), []byte(":01030412345678E4\r\n"))
	f.Fuzz(func(t *testing.T, request, answer []byte) {
		for _, framing := range []Framing{TCP, RTU, ASCII} {
			a, err := framing.Check(request, answer)
			if err != nil && a.Data != nil {
				t.Fatal("a broken answer brings data")
			}
			if n, err := framing.AnswerLen(answer); err == nil && framing == RTU && a.Data != nil &&
				answer[1] <= ReadInputRegisters && n != len(answer) {
				t.Fatalf("the length of a right answer of %d octets is told as %d", len(answer), n)
			}
			ParseIdentity(a.Data)
			ParseServerID(a.Data)
			framing.DissectRequest(request)
			end := 0
			for _, field := range framing.DissectAnswer(request, answer, nil) {
				if field.From != end || field.To <= field.From || field.To > len(answer) {
					t.Fatalf("field %+v after octet %d of %d", field, end, len(answer))
				}
				end = field.To
			}
			if end != len(answer) {
				t.Fatalf("%d of %d octets are labelled", end, len(answer))
			}
		}
	})
}
