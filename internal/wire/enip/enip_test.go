package enip

import (
	"bytes"
	"encoding/hex"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"
)

func octets(t testing.TB, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestOctets: what is sent is octet by octet what the standard says, and is read again as
// it was meant.
func TestOctets(t *testing.T) {
	tag := Path{Class: -1, Instance: -1, Attribute: -1, Names: []Name{{"Row", []uint32{3}}, {"Level", nil}}}
	open := Open{Out: Way{ID: 0, Interval: 200 * time.Millisecond, Size: 24, Casting: ToOne, Priority: 2},
		In: Way{ID: 0x11223344, Interval: 50 * time.Millisecond, Size: 38, Casting: ToMany, Priority: 2}, Serial: 7,
		Vendor:     0xFFFF,
		Originator: 0xCAFE0001, Multiplier: 2, Class: 1, Ticks: [2]uint8{3, 250},
		Path: Path{Class: 4, Instance: 170, Attribute: -1, Points: []int{160, 150},
			Key: &Key{Vendor: 1, Type: 12, Product: 65, Major: 2, Minor: 1, Compatible: true}, Data: []byte{1, 0},
			HasData: true}}
	identity := Identity{At: netip.MustParseAddrPort("192.0.2.64:44818"), Vendor: 0x0123, Type: 12, Product: 65, Major: 2,
		Minor: 1, Status: 0x30, Serial: 0xC0FFEE, Name: "UV reactor", State: 3}
	for _, c := range []struct {
		name, want string
		got        []byte
		again      func(b []byte) (any, error)
		is         any
	}{
		{"a session is asked for", "6500 0400 00000000 00000000 4665727279000000 00000000 0100 0000",
			(&Frame{Command: Register, Context: [8]byte{'F', 'e', 'r', 'r', 'y'}, Data: RegisterData()}).Append(nil),
			func(b []byte) (any, error) { f, err := ParseFrame(b); return f.Context, err }, [8]byte{'F', 'e', 'r', 'r', 'y'}},
		{"an attribute", "0E 03 2001 2401 3007", (&Request{Service: GetSingle, Path: PathTo(1, 1, 7)}).Append(nil),
			func(b []byte) (any, error) { r, err := ParseRequest(b); return r.Path.String(), err },
			"class 1, instance 1, attribute 7"},
		{"an instance of 16 bits", "01 03 2004 2500 2C01", (&Request{Service: GetAll, Path: PathTo(4, 300, -1)}).Append(nil),
			func(b []byte) (any, error) { r, err := ParseRequest(b); return r.Path.Instance, err }, 300},
		{"a name", "4C 08 9103526F7700 2803 91054C6576656C00 0100",
			(&Request{Service: ReadTag, Path: tag, Data: []byte{1, 0}}).Append(nil),
			func(b []byte) (any, error) { r, err := ParseRequest(b); return r.Path.String(), err }, "Row[3].Level"},
		{"an answer that refuses", "D4 00 01 02 0901 2600", (&Answer{Service: ForwardOpen, Status: 1,
			Extended: []uint16{0x0109, 38}}).Append(nil),
			func(b []byte) (any, error) { a, err := ParseAnswer(b); return a.Extended, err }, []uint16{0x0109, 38}},
		{"several at once", "0200 0600 0800 0102 030405", AppendMultiple(nil, []byte{1, 2}, []byte{3, 4, 5}),
			func(b []byte) (any, error) { return ParseMultiple(b) }, [][]byte{{1, 2}, {3, 4, 5}}},
		{"a connection", "03FA 00000000 44332211 0700 FFFF 0100FECA 02 000000 400D0300 1848 50C30000 2628 01 0B" +
			"3404 0100 0C00 4100 82 01 2004 24AA 2CA0 2C96 8001 0100", open.Append(nil),
			func(b []byte) (any, error) { return ParseOpen(b, false) }, open},
		{"it ends", "03FA 0700 FFFF 0100FECA 02 00 2004 2C96", (&Close{Ticks: [2]uint8{3, 250}, Serial: 7, Vendor: 0xFFFF,
			Originator: 0xCAFE0001, Path: Path{Class: 4, Instance: -1, Attribute: -1, Points: []int{150}}}).Append(nil),
			func(b []byte) (any, error) { c, err := ParseClose(b); return c.Path.Points, err }, []int{150}},
		{"a cyclic packet", "0200 0280 0800 44332211 05000000 B100 0400 0500 AABB",
			AppendCyclic(nil, &Cyclic{0x11223344, 5, []byte{5, 0, 0xAA, 0xBB}}),
			func(b []byte) (any, error) { c, err := ParseCyclic(b); return c.Sequence, err }, uint32(5)},
		{"an identity", "0100 0C00 2C00 0100 0002 AF12 C0000240 0000000000000000 2301 0C00 4100 02 01 3000 EEFFC000" +
			"0A 5556 2072 6561 6374 6F72 03", AppendIdentity(nil, &identity),
			func(b []byte) (any, error) { return ParseIdentity(b) }, identity},
		{"a connected message", "00000000 0000 0200 A100 0400 44332211 B100 0400 0900 0E00",
			AppendConnected(nil, 0x11223344, 9, []byte{0x0E, 0}),
			func(b []byte) (any, error) { c, err := ParseCarried(b); return c.Count, err }, uint16(9)},
	} {
		if want := octets(t, c.want); !bytes.Equal(c.got, want) {
			t.Errorf("%s:\n% X, want\n% X", c.name, c.got, want)
		}
		if is, err := c.again(c.got); err != nil || !reflect.DeepEqual(is, c.is) {
			t.Errorf("%s reads as %+v, want %+v, %v", c.name, is, c.is, err)
		}
	}
	large := open
	large.Large, large.In.Size = true, 5000
	if again, err := ParseOpen(large.Append(nil), true); err != nil || !reflect.DeepEqual(again, large) {
		t.Errorf("a large one reads as %+v, %v", again, err)
	}
	if d := open.TimesOut(&open.In); d != 800*time.Millisecond {
		t.Errorf("it is dropped after %v", d)
	}
}

// TestBroken: what is broken is an error in words, and nothing is read beyond its end.
func TestBroken(t *testing.T) {
	whole := [][]byte{}
	for _, text := range []string{"6500 0400 00000000 00000000 4665727279000000 00000000 0100 0000",
		"0E 03 2001 2401 3007", "4C 08 9103526F7700 2803 91054C6576656C00 0100"} {
		whole = append(whole, octets(t, text))
	}
	for i := range len(whole[0]) - 1 {
		if _, err := ParseFrame(whole[0][:i]); err == nil {
			t.Errorf("%d octets of a frame are one", i)
		}
	}
	for _, b := range [][]byte{whole[1][:7], whole[2][:9], octets(t, "4C 01 2803"), octets(t, "4C 01 9100"),
		octets(t, "0E 01 2700"), octets(t, "CC 00")} {
		if r, err := ParseRequest(b); err == nil {
			t.Errorf("% X is %+v", b, r)
		}
	}
	for _, text := range []string{"0200 0600", "0200 0500 0800 0102", "0200 0800 0600 0102 03", "FFFF"} {
		if m, err := ParseMultiple(octets(t, text)); err == nil {
			t.Errorf("%s is %v", text, m)
		}
	}
}

// FuzzParse: nothing that comes makes a reader fail in another way than with an error.
func FuzzParse(f *testing.F) {
	for _, text := range []string{"6500 0400 00000000 00000000 4665727279000000 00000000 0100 0000",
		"0E 03 2001 2401 3007",
		"4C 08 9103526F7700 2803 91054C6576656C00 0100", "0200 0280 0800 44332211 05000000 B100 0400 0500 AABB",
		"03FA 00000000 44332211 0700 FFFF 0100FECA 02 000000 400D0300 1848 50C30000 2628 01 03 2004 2CA0 2C96"} {
		f.Add(octets(f, text))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if n, err := FrameLen(b); err == nil && n > 0 && n < HeadLen {
			t.Errorf("a frame of %d octets", n)
		}
		if frame, err := ParseFrame(b); err == nil {
			if again, err := ParseFrame(frame.Append(nil)); err != nil || !reflect.DeepEqual(again, frame) {
				t.Errorf("% X reads as %+v and again as %+v, %v", b, frame, again, err)
			}
		}
		if r, err := ParseRequest(b); err == nil {
			_ = r.Path.String()
		}
		_, _ = ParseAnswer(b)
		_, _ = ParseMultiple(b)
		_, _ = ParseCarried(b)
		_, _ = ParseIdentity(b)
		_, _ = ParseOpened(b)
		_, _ = ParseClose(b)
		for _, large := range []bool{false, true} {
			if o, err := ParseOpen(b, large); err == nil {
				_ = o.TimesOut(&o.In)
			}
		}
		if c, err := ParseCyclic(b); err == nil {
			if again, err := ParseCyclic(AppendCyclic(nil, &c)); err != nil || again.Sequence != c.Sequence ||
				!bytes.Equal(again.Data, c.Data) {
				t.Errorf("% X reads as %+v and again as %+v, %v", b, c, again, err)
			}
		}
	})
}
