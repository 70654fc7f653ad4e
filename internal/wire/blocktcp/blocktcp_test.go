package blocktcp

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/blocktcp"
	"ferry/internal/wire/isotcp"
)

func octets(t *testing.T, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func run(area string, start uint32, count int) Item {
	return Item{Range: block.Range{Area: area, Start: start, Count: count}, Bit: -1}
}

func bit(area string, start uint32, bit int) Item {
	return Item{Range: block.Range{Area: area, Start: start, Count: 1}, Bit: bit}
}

// TestFrames: every request and answer is written octet by octet as it is known
// on the wire, and read back.
func TestFrames(t *testing.T) {
	for _, c := range []struct {
		name string
		got  []byte
		want string
	}{
		{"connect", isotcp.AppendConnect(nil, 0x0100, family.Selector("panel", 0, 2), isotcp.Size1024),
			"03 00 00 16 11 E0 00 00 00 01 00 C0 01 0A C1 02 01 00 C2 02 02 02"},
		{"set up", AppendSetup(nil, 1, 1, 480),
			"03 00 00 19 02 F0 80 32 01 00 00 00 01 00 08 00 00 F0 00 00 01 00 01 01 E0"},
		{"read", AppendRead(nil, 5, []Item{run("db7", 12, 4), bit("m", 10, 3)}),
			"03 00 00 2B 02 F0 80 32 01 00 00 00 05 00 1A 00 00 04 02 12 0A 10 02 00 04 00 07 84 00 00 60 12 0A 10 " +
				"01 00 01 00 00 83 00 00 53"},
		{"write a word", AppendWrite(nil, 6, run("db1", 2, 2), []byte{0x12, 0x34}),
			"03 00 00 25 02 F0 80 32 01 00 00 00 06 00 0E 00 06 05 01 12 0A 10 02 00 02 00 01 84 00 00 10 00 04 " +
				"00 10 12 34"},
		{"write a bit", AppendWrite(nil, 7, bit("q", 0, 1), []byte{1}),
			"03 00 00 24 02 F0 80 32 01 00 00 00 07 00 0E 00 05 05 01 12 0A 10 01 00 01 00 00 82 00 00 01 00 " +
				"03 00 01 01"},
		{"answer", AppendReadAnswer(nil, 5, []Item{run("db7", 0, 1), run("db7", 9, 2), run("m", 0, 1)},
			[]Given{{family.Done, []byte{0xAA}}, {Code: family.NoObject}, {family.Done, []byte{0xBB}}}),
			"03 00 00 24 02 F0 80 32 03 00 00 00 05 00 02 00 0F 00 00 04 03 FF 04 00 08 AA 00 0A 00 00 00 FF " +
				"04 00 08 BB"},
		{"refusal", AppendRefusal(nil, 5, 0x81, 0x04), "03 00 00 13 02 F0 80 32 02 00 00 00 05 00 00 00 00 81 04"},
		{"no way there", isotcp.AppendDisconnect(nil, 3), "03 00 00 0B 06 80 00 01 00 00 03"},
	} {
		if want := octets(t, c.want); !bytes.Equal(c.got, want) {
			t.Errorf("%s:\n% X, want\n% X", c.name, c.got, want)
		}
		if _, err := isotcp.ParseTPDU(c.got); err != nil {
			t.Errorf("%s is not read back: %v", c.name, err)
		}
	}
}

func message(t *testing.T, frame []byte) Message {
	t.Helper()
	pdu, err := isotcp.ParseTPDU(frame)
	if err != nil {
		t.Fatal(err)
	}
	m, err := ParseMessage(pdu.Rest)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// TestParseRead: only what was asked for is taken, and what was refused is told.
func TestParseRead(t *testing.T) {
	items := []Item{run("db7", 0, 3), run("db9", 4, 2), run("m", 0, 1)}
	whole := []Given{{family.Done, []byte{1, 2, 3}}, {family.Done, []byte{4, 5}}, {family.Done, []byte{6}}}
	for _, c := range []struct {
		name    string
		items   []Item
		given   []Given
		want    string
		refused []int
		fails   string
	}{
		{"whole", items, whole, "010203040506", nil, ""},
		{"one refused", items, []Given{whole[0], {Code: family.NoObject}, whole[2]}, "010203000006",
			[]int{0, family.NoObject, 0}, ""},
		{"one too few", items[:2], whole[:2], "", nil, "answers 2 items"},
		{"one too long", items, []Given{whole[0], {family.Done, []byte{4, 5, 6}}, whole[2]}, "", nil,
			"item 2 has 3 octets"},
		{"one too short", items, []Given{whole[0], whole[1], {family.Done, nil}}, "", nil, "item 3 has 0 octets"},
	} {
		m := message(t, AppendReadAnswer(nil, 1, c.items, c.given))
		data, refused, err := ParseRead(nil, &m, items, nil)
		if c.fails != "" {
			if err == nil || !strings.Contains(err.Error(), c.fails) {
				t.Errorf("%s: %v", c.name, err)
			}
			continue
		}
		if err != nil || hex.EncodeToString(data) != c.want || !slices.Equal(refused, c.refused) {
			t.Errorf("%s: %x, refused %v, %v", c.name, data, refused, err)
		}
	}
	long := AppendReadAnswer(nil, 1, items, whole)
	long = append(long, 7, 7)
	long[3] += 2
	long[16] += 2
	m := message(t, long)
	if _, _, err := ParseRead(nil, &m, items, nil); err == nil {
		t.Error("octets behind the last item are taken")
	}
}

// TestBroken: what is broken is said.
func TestBroken(t *testing.T) {
	for text, want := range map[string]string{
		"05 00 00 16": "does not begin with version 3", "03 00 00 04": "4 octets", "03 00 FF FF": "65535 octets",
		"03 00 00 07 09 F0 80": "says 9 octets", "03 00 00 07 02 A0 80": "kind A0", "03 00 00 07 02 F0 80 11": "",
	} {
		_, err := isotcp.ParseTPDU(octets(t, text))
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
	for text, want := range map[string]string{
		"32": "1 octets", "33 01 00 00 00 01 00 00 00 00": "begins with 33", "32 05 00 00 00 01 00 00 00 00": "kind 5",
		"32 03 00 00 00 01 00 00 00 00": "cut short", "32 01 00 00 00 01 00 09 00 00 04": "has 1",
	} {
		if _, err := ParseMessage(octets(t, text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// TestAbout: the identity and the list of blocks survive the wire.
func TestAbout(t *testing.T) {
	asks := message(t, AppendIdentify(nil, 1, IdentityType))
	asked, err := ParsePart(&asks)
	if entry, ok := asked.AsksIdentity(); err != nil || !ok || entry != IdentityType || !asked.Asks {
		t.Fatalf("%+v, %v", asked, err)
	}
	tells := message(t, AppendPartAnswer(nil, 1, &asked, 0, IdentityData(IdentityType, "Controller FC-12")))
	part, err := ParsePart(&tells)
	if text, ok := ParseIdentity(part.Data); err != nil || !ok || text != "Controller FC-12" {
		t.Errorf("it is %q, %v", text, err)
	}
	asks = message(t, AppendBlocks(nil, 2))
	if asked, err = ParsePart(&asks); err != nil || !asked.AsksBlocks() {
		t.Errorf("%+v, %v", asked, err)
	}
	tells = message(t, AppendPartAnswer(nil, 2, &asked, 0, BlocksData([]int{7, 12})))
	if part, err = ParsePart(&tells); err != nil || !slices.Equal(ParseBlocks(part.Data), []int{7, 12}) {
		t.Errorf("%+v, %v", part, err)
	}
	tells = message(t, AppendPartAnswer(nil, 2, &asked, 0x8104, nil))
	if part, err = ParsePart(&tells); err != nil || part.Error != 0x8104 {
		t.Errorf("a refusal is %+v, %v", part, err)
	}
}

// TestDissect: every octet is accounted for, once, and points lie where they
// are.
func TestDissect(t *testing.T) {
	items := []Item{run("db7", 0, 5), run("db9", 4, 2)}
	request := AppendRead(nil, 3, items)
	answer := AppendReadAnswer(nil, 3, items, []Given{{family.Done, []byte{1, 2, 3, 4, 5}}, {Code: family.OutOfRange}})
	points := []exchange.Labelled{{ID: "a", Name: "Level", Shown: "2.5 m",
		Place: block.Place{Area: "db7", Offset: 1, Bit: -1}, Units: 2}}
	var said []string
	for _, f := range DissectAnswer(request, answer, points) {
		said = append(said, fmt.Sprintf("%d-%d %s: %s", f.From, f.To, f.Label, f.Meaning))
	}
	all := strings.Join(said, "\n")
	for _, want := range []string{"26-28 Level: 2.5 m", "21-22 item 1: FF done",
		"31-32 item 2: 05 address out of range", "30-31 filled up"} {
		if !strings.Contains(all, want) {
			t.Errorf("%q is missing in\n%s", want, all)
		}
	}
	for _, b := range [][]byte{request, answer, isotcp.AppendConnect(nil, 1, 0x0102, isotcp.Size1024),
		AppendSetup(nil, 1, 1, 480), isotcp.AppendDisconnect(nil, 3),
		append(slices.Clone(request), answer[:20]...), {1, 2, 3}, AppendIdentify(nil, 1, 7),
		AppendWrite(nil, 1, bit("q", 0, 1), []byte{1})} {
		covered(t, b, DissectRequest(b))
		covered(t, b, DissectAnswer(request, b, points))
	}
}

// covered fails where an octet has no label or two.
func covered(t *testing.T, b []byte, fields []exchange.Field) {
	t.Helper()
	at := 0
	for _, f := range fields {
		if f.From != at || f.To < f.From || f.To > len(b) {
			t.Fatalf("after octet %d of % X comes %+v", at, b, f)
		}
		at = f.To
	}
	if at != len(b) {
		t.Fatalf("octets from %d on of % X have no label", at, b)
	}
}

// FuzzFrames: whatever comes, nothing crashes, every octet is labelled, and what
// is taken of a read is just what was asked for.
func FuzzFrames(f *testing.F) {
	items := []Item{run("db7", 0, 3), run("m", 4, 2)}
	f.Add(AppendReadAnswer(nil, 1, items, []Given{{family.Done, []byte{1, 2, 3}}, {family.Done, []byte{4, 5}}}))
	f.Add(AppendSetup(nil, 1, 1, 480))
	f.Add(isotcp.AppendConnect(nil, 1, 0x0102, isotcp.Size1024))
	f.Add(AppendIdentify(nil, 1, 7))
	f.Add(AppendWrite(nil, 1, run("db1", 2, 2), []byte{1, 2}))
	request := AppendRead(nil, 1, items)
	f.Fuzz(func(t *testing.T, b []byte) {
		covered(t, b, DissectRequest(b))
		covered(t, b, DissectAnswer(request, b, nil))
		pdu, err := isotcp.ParseTPDU(b)
		if err != nil {
			return
		}
		m, err := ParseMessage(pdu.Rest)
		if err != nil {
			return
		}
		if data, refused, err := ParseRead(nil, &m, items, nil); err == nil && (len(data) != 5 ||
			refused != nil && len(refused) != 2) {
			t.Fatalf("%x, refused %v", data, refused)
		}
		_, _, _ = ParseItems(&m)
		_, _, _ = ParseSetup(&m)
		_, _ = ParseWrite(&m)
		if p, err := ParsePart(&m); err == nil {
			_, _ = ParseIdentity(p.Data)
			_ = ParseBlocks(p.Data)
		}
	})
}
