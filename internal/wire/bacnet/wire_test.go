package bacnet

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"testing"
)

func octets(t testing.TB, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// spoken takes the body of a service apart and puts it together again.
func spoken(m *Message) (said string, again []byte, err error) {
	say := func(v any, b []byte, e error) (string, []byte, error) { return fmt.Sprintf("%+v", v), b, e }
	b, from := m.Body, m.BodyAt
	switch {
	case m.Kind == Unconfirmed && m.Service == IAm:
		p, err := ParseIAm(b, from)
		return say(p, p.Append(nil), err)
	case m.Kind == Unconfirmed && m.Service == IHave:
		f, err := ParseIHave(b, from)
		return say(f, f.Append(nil), err)
	case m.Kind == Unconfirmed && m.Service == WhoIs:
		r, err := ParseWhoIs(b, from)
		return say(r, AppendWhoIs(nil, r), err)
	case m.Kind == Unconfirmed && m.Service == WhoHas:
		s, err := ParseWhoHas(b, from)
		return say(s, s.Append(nil), err)
	case m.Kind == Confirmed && m.Service == ReadProperty:
		r, err := ParseReadProperty(b, from)
		return say(r, AppendReadProperty(nil, r), err)
	case m.Kind == ComplexAck && m.Service == ReadProperty:
		r, list, err := ParseReadAnswer(b, from)
		return say(fmt.Sprintf("%+v %v %v", r, list[0].Float, list[0].Text), AppendReadAnswer(nil, r, list), err)
	case m.Kind == Confirmed && m.Service == ReadPropertyMultiple:
		list, err := ParseReadMultiple(b, from)
		return say(list, AppendReadMultiple(nil, list), err)
	case m.Kind == ComplexAck && m.Service == ReadPropertyMultiple:
		list, err := ParseMultipleAnswer(b, from)
		var text []string
		for i := range list {
			text = append(text, fmt.Sprint(list[i].Property, " ", list[i].Values[0].Float, " ", list[i].Values[0].Uint))
		}
		return say(text, AppendMultipleAnswer(nil, list), err)
	case m.Kind == Confirmed && m.Service == WriteProperty:
		w, err := ParseWrite(b, from)
		return say(fmt.Sprintf("%+v %v %d", w.Reference, w.Values[0].Float, w.Priority), AppendWrite(nil, &w), err)
	case m.Kind == Confirmed && m.Service == SubscribeCOV:
		s, err := ParseSubscription(b, from)
		return say(s, s.Append(nil), err)
	case m.Service == ConfirmedCOV:
		c, err := ParseChange(b, from)
		return say(fmt.Sprintf("%d %d %d %d %v %v", c.Process, c.Device.Instance(), c.Object.Instance(), len(c.Values),
			c.Values[0].Values[0].Float, c.Values[1].Values[0].Bit(0)), c.Append(nil), err)
	case m.Kind == ErrorAnswer:
		f, err := ParseFailure(b, from)
		return say(f, AppendFailure(nil, f), err)
	}
	return "", b, nil
}

// TestExamples: the examples of the standard (annex F) are read, and said again octet by octet.
func TestExamples(t *testing.T) {
	for _, c := range []struct{ name, octets, want string }{
		{"who is there", "10 08", "{First:1 Last:0}"},
		{"who is there, of a range", "10 08 09 03 19 03", "{First:3 Last:3}"},
		{"I am", "10 00 C4 02 00 00 01 22 01 E0 91 03 21 63", "{Device:33554433 MostOctets:480 Segmentation:3 Vendor:99}"},
		{"who has", "10 07 3D 07 00 4F 41 54 65 6D 70", "{Range:{First:1 Last:0} Object:0 Name:OATemp ByName:true}"},
		{"I have", "10 01 C4 02 00 00 08 C4 00 00 00 03 75 07 00 4F 41 54 65 6D 70",
			"{Device:33554440 Object:3 Name:OATemp}"},
		{"read a property", "00 00 01 0C 0C 00 00 00 05 19 55", "{Object:5 Property:85 Index:-1}"},
		{"its value", "30 01 0C 0C 00 00 00 05 19 55 3E 44 42 90 99 9A 3F",
			"{Object:5 Property:85 Index:-1} 72.30000305175781 "},
		{"read several", "00 04 F1 0E 0C 00 00 00 10 1E 09 55 09 67 1F",
			"[{Object:16 Property:85 Index:-1} {Object:16 Property:103 Index:-1}]"},
		{"their values", "30 F1 0E 0C 00 00 00 10 1E 29 55 4E 44 42 90 99 9A 4F 29 67 4E 91 00 4F 1F",
			"[85 72.30000305175781 0 103 0 0]"},
		{"write a property", "00 04 59 0F 0C 00 80 00 01 19 55 3E 44 43 34 00 00 3F",
			"{Object:8388609 Property:85 Index:-1} 180 0"},
		{"subscribe", "00 02 0F 05 09 12 1C 00 00 00 0A 29 01 39 00",
			"{Process:18 Object:10 Cancels:false Confirms:true Seconds:0}"},
		{"a change", "00 02 0F 01 09 12 1C 02 00 00 04 2C 00 00 00 0A 39 00 4E 09 55 2E 44 42 82 00 00 2F 09 6F 2E 82 04 00 2F 4F",
			"18 4 10 2 65 false"},
		{"an error", "50 01 0C 91 01 91 1F", "{Class:1 Code:31}"},
		{"done", "20 59 0F", ""},
		{"a reject", "60 01 08", ""},
		{"an abort of the server", "71 01 04", ""},
		{"an acknowledgement of a part", "41 05 02 04", ""},
		{"a part of an answer", "3C 05 02 04 0E 01 02", ""},
	} {
		b := octets(t, c.octets)
		m, err := ParseMessage(b, 0)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var said string
		if !m.Segmented {
			if said, m.Body, err = spoken(&m); err != nil || strings.Trim(said, `"`) != c.want {
				t.Errorf("%s: %s, %v", c.name, said, err)
			}
		}
		if again := m.Append(nil); !bytes.Equal(again, b) {
			t.Errorf("%s: said again\n% X, and it was\n% X", c.name, again, b)
		}
	}
}

// TestLinks: messages of the link and of the network layer are read and said again.
func TestLinks(t *testing.T) {
	for _, c := range []struct {
		name, octets string
		link         LinkFunction
		to, from     Station
		wrong        string
	}{
		{name: "a broadcast to all networks", octets: "81 0B 00 0C 01 20 FF FF 00 FF 10 08", link: Broadcast,
			to: Station{EveryNetwork, ""}},
		{name: "unicast to a station behind a router",
			octets: "81 0A 00 16 01 24 00 07 01 2A FF 00 04 01 0C 0C 00 00 00 05 19 55",
			link:   Unicast, to: Station{7, "*"}},
		{name: "forwarded", octets: "81 04 00 12 C0 00 02 0A BA C0 01 08 00 05 01 07 10 08", link: Forwarded,
			from: Station{5, "\x07"}},
		{name: "a registration", octets: "81 05 00 06 00 3C", link: RegisterForeign},
		{name: "a table", octets: "81 03 00 0E C0 00 02 0A BA C0 FF FF FF FF", link: ReadTableAck},
		{name: "foreign devices", octets: "81 07 00 0E C0 00 02 0A BA C0 00 3C 00 2A", link: ReadForeignAck},
		{name: "a result", octets: "81 00 00 06 00 30", link: LinkResult},
		{name: "another protocol", octets: "82 0A 00 04", wrong: "begins with 82"},
		{name: "a length that lies", octets: "81 0A 00 FF 01 00", wrong: "says 255 octets"},
		{name: "another version", octets: "81 0A 00 06 02 00", wrong: "version 2"},
		{name: "a source without address", octets: "81 0A 00 09 01 08 00 05 00", wrong: "of network 5 with 0 octets"},
	} {
		b := octets(t, c.octets)
		l, err := ParseLink(b)
		var n Network
		if err == nil && l.NPDU != nil {
			n, err = ParseNetwork(l.NPDU, l.NPDUAt)
		}
		if c.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%s: %v", c.name, err)
			}
			continue
		}
		if err != nil || l.Function != c.link || n.To != c.to || n.From != c.from {
			t.Errorf("%s: %+v, %+v, %v", c.name, l, n, err)
			continue
		}
		if l.NPDU != nil {
			l.NPDU = n.Append(nil)
		}
		if again := l.Append(nil); !bytes.Equal(again, b) {
			t.Errorf("%s: said again\n% X", c.name, again)
		}
	}
	at := netip.MustParseAddrPort("192.0.2.10:47808")
	l, err := ParseLink((&Link{Function: Forwarded, From: at}).Append(nil))
	if err != nil || l.From != at {
		t.Errorf("%+v, %v", l, err)
	}
}

// TestValues: values of each kind are what they were after the wire; those that are none are said.
func TestValues(t *testing.T) {
	for _, v := range []Value{Null(), Boolean(true), Unsigned(0), Unsigned(255), Unsigned(1<<40 + 3), Signed(-1),
		Signed(-129), Signed(1 << 40), Real(-12.5), Double(1e300), Text("Zähler 1"), {Tag: TagOctets, Text: "\x00\xFF"},
		Bits(0b1011, 4), Bits(1, 40), Enumerated(62),
		{Tag: TagDate, Date: Date{126, 11, 27, 5}}, {Tag: TagTime, Time: Time{20, 51, 6, 99}}, Object(ID(8, 4050)),
		{Constructed: true, Context: 3, Parts: []Value{Real(1), {Opaque: true, Context: 20, Text: "ab"}}},
		Text(strings.Repeat("x", 70_000))} {
		r := &reader{Close(v.Append(Open(nil, 3)), 3), 0}
		if err := r.opens(3); err != nil {
			t.Fatal(err)
		}
		list, err := r.values(3)
		if err != nil || len(list) != 1 || len(r.b) != 0 {
			t.Errorf("%+v: %+v, %v", v, list, err)
			continue
		}
		got := list[0]
		got.From, got.To = 0, 0
		for i := range got.Parts {
			got.Parts[i].From, got.Parts[i].To = 0, 0
		}
		if !reflect.DeepEqual(got, v) {
			t.Errorf("%+v became %+v", v, got)
		}
	}
	for _, c := range []struct{ octets, wrong string }{
		{"3E 45", "cut short"}, {"3E 44 00 00", "says 4 octets"}, {"3E 4F", "closed"},
		{"3E 43 01 02 03 3F", "its type has 4"},
		{"3E D1 00 3F", "kept for later"}, {"3E 75 02 07 41 3F", "set of characters 7"}, {"3E 12 3F", "boolean"},
		{"3E 85 02 09 00 3F", "how many"}, {strings.Repeat("1E", 40), "more than 12 deep"},
	} {
		r := &reader{octets(t, c.octets), 0}
		if e, err := r.next(); err != nil {
			t.Fatal(err)
		} else if _, err := r.values(e.Number); err == nil || !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s: %v", c.octets, err)
		}
	}
	for set, text := range map[byte]string{charsLatin1: "\xe4", charsUCS2: "\x00\xe4", charsUCS4: "\x00\x00\x00\xe4"} {
		if got, err := textOf(append([]byte{set}, text...)); err != nil || got != "ä" {
			t.Errorf("set %d: %q, %v", set, got, err)
		}
	}
}

// FuzzDatagram: whatever comes is read or refused, and what was read is the same when it was said again.
func FuzzDatagram(f *testing.F) {
	for _, text := range []string{"81 0B 00 0C 01 20 FF FF 00 FF 10 08",
		"81 0A 00 17 01 04 30 01 0C 0C 00 00 00 05 19 55 3E 44 42 90 99 9A 3F",
		"81 04 00 12 C0 00 02 0A BA C0 01 08 00 05 01 07 10 08", "81 0A 00 15 01 00 00 02 0F 05 09 12 1C 00 00 00 0A 29 01 39 00"} {
		f.Add(octets(f, text))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := ParseLink(b)
		if err != nil {
			return
		}
		n, err := ParseNetwork(l.NPDU, l.NPDUAt)
		if err != nil || !n.Carries {
			return
		}
		m, err := ParseMessage(n.Body, n.BodyAt)
		if err != nil || m.Segmented {
			return
		}
		body := m.Body
		defer func() { m.Body = body }()
		if bytes.Equal(body, nil) {
			return
		}
		if m.Kind == ComplexAck && m.Service == ReadProperty {
			if _, list, err := ParseReadAnswer(body, 0); err != nil || len(list) == 0 {
				return
			}
		}
		if m.Kind == ComplexAck && m.Service == ReadPropertyMultiple {
			list, err := ParseMultipleAnswer(body, 0)
			if err != nil {
				return
			}
			for i := range list {
				if len(list[i].Values) == 0 {
					return
				}
			}
		}
		if m.Service == ConfirmedCOV {
			c, err := ParseChange(body, 0)
			if err != nil || len(c.Values) < 2 || len(c.Values[0].Values) == 0 || len(c.Values[1].Values) == 0 {
				return
			}
		}
		if m.Kind == Confirmed && m.Service == WriteProperty {
			if w, err := ParseWrite(body, 0); err != nil || len(w.Values) == 0 {
				return
			}
		}
		said, again, err := spoken(&m)
		if err != nil {
			return
		}
		m.Body, m.BodyAt = again, 0
		if twice, _, err := spoken(&m); err != nil || twice != said && !strings.Contains(said, "NaN") {
			t.Errorf("%s\nbecame\n%s, %v", said, twice, err)
		}
	})
}
