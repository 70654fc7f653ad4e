package bacnet_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ferry/internal/core/capture"
	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/judge"
	wire "ferry/internal/wire/bacnet"
)

// listener writes down what was heard, and has it judged.
type listener struct {
	*judge.Judge
	said []string
}

func (l *listener) Heard(c *capture.Conn, h *capture.Heard) {
	word := "of no speech"
	if c.Speech.Words != nil {
		word = c.Speech.Words(h)
	}
	if h.Stray != "" {
		word = "stray: " + h.Stray
	}
	l.said = append(l.said, fmt.Sprintf("%s %s %d %v", word, h.Outcome, h.Code&0xFFFF, h.Write))
	l.Judge.Heard(c, h)
}

// TestHeard: what two ends say to each other is put together to questions and answers, also answers in parts and
// refusals, whichever of them asks, and what is wrong with it is found.
func TestHeard(t *testing.T) {
	l := &listener{Judge: judge.New(nil)}
	a := capture.NewAssembler(l)
	at, number := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC), int64(0)
	end := func(n byte) netip.AddrPort { return netip.AddrPortFrom(netip.AddrFrom4([4]byte{192, 0, 2, n}), 47808) }
	say := func(from, to netip.AddrPort, function wire.LinkFunction, m wire.Message) {
		number++
		at = at.Add(5 * time.Millisecond)
		n := wire.Network{Carries: true, Expects: m.Kind == wire.Confirmed, Body: m.Append(nil)}
		a.Packet(&capture.Packet{Number: number, At: at, Kind: capture.UDP, From: from, To: to,
			Payload: (&wire.Link{Function: function, NPDU: n.Append(nil)}).Append(nil)})
	}
	controller, meters, twin, all := end(9), end(97), end(98), end(255)
	present := func(i uint32) wire.Message {
		p := wire.Presence{Device: wire.ID(8, i), MostOctets: 1476}
		return wire.Message{Kind: wire.Unconfirmed, Service: wire.IAm, Body: p.Append(nil)}
	}
	say(controller, all, wire.Broadcast, wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs})
	say(meters, all, wire.Broadcast, present(4050))
	say(twin, all, wire.Broadcast, present(4050))
	ref := wire.Reference{Object: wire.ID(0, 1), Property: uint32(family.PresentValue), Index: wire.Whole}
	flags := wire.Reference{Object: wire.ID(0, 1), Property: uint32(family.StatusFlags), Index: wire.Whole}
	ask := func(from, to netip.AddrPort, invoke, service uint8, body []byte) {
		say(from, to, wire.Unicast, wire.Message{Kind: wire.Confirmed, Invoke: invoke, Service: service,
			MostOctets: 1476, Body: body})
	}
	ask(controller, meters, 1, wire.ReadPropertyMultiple, wire.AppendReadMultiple(nil, []wire.Reference{ref, flags}))
	ask(controller, meters, 2, wire.ReadProperty, wire.AppendReadProperty(nil, ref))
	say(meters, controller, wire.Unicast, wire.Message{Kind: wire.ComplexAck, Invoke: 2, Service: wire.ReadProperty,
		Body: wire.AppendReadAnswer(nil, ref, []wire.Value{wire.Real(1)})})
	body := wire.AppendMultipleAnswer(nil, []wire.Result{{Reference: ref, Values: []wire.Value{wire.Real(1)}},
		{Reference: flags, Values: []wire.Value{wire.Bits(2, 4)}}})
	say(meters, controller, wire.Unicast, wire.Message{Kind: wire.ComplexAck, Invoke: 1,
		Service: wire.ReadPropertyMultiple, Segmented: true, Follows: true, Window: 1, Body: body[:10]})
	say(controller, meters, wire.Unicast, wire.Message{Kind: wire.SegmentAck, Invoke: 1, Window: 1})
	say(meters, controller, wire.Unicast, wire.Message{Kind: wire.ComplexAck, Invoke: 1,
		Service: wire.ReadPropertyMultiple, Segmented: true, Number: 1, Window: 1, Body: body[10:]})
	w := wire.Written{Reference: ref, Values: []wire.Value{wire.Real(2)}}
	ask(controller, meters, 3, wire.WriteProperty, wire.AppendWrite(nil, &w))
	say(meters, controller, wire.Unicast, wire.Message{Kind: wire.ErrorAnswer, Invoke: 3, Service: wire.WriteProperty,
		Body: wire.AppendFailure(nil, wire.Failure{Class: 2, Code: 40})})
	c := wire.Change{Process: 1, Device: wire.ID(8, 4050), Object: wire.ID(0, 1),
		Values: []wire.Told{{Property: 85, Index: -1, Values: []wire.Value{wire.Real(3)}}}}
	ask(meters, controller, 3, wire.ConfirmedCOV, c.Append(nil)) // it asks, too
	say(controller, meters, wire.Unicast, wire.Message{Kind: wire.SimpleAck, Invoke: 3, Service: wire.ConfirmedCOV})
	for range 30 {
		say(twin, controller, wire.Unicast, present(4051))
	}
	number++
	a.Packet(&capture.Packet{Number: number, At: at, Kind: capture.UDP, From: meters, To: controller,
		Payload: []byte{0x81, 0x0A, 0, 9, 1, 0, 0x30}})
	a.Finish()
	var said []string
	for _, s := range l.said {
		if !strings.HasPrefix(s, "I-Am") {
			said = append(said, s)
		}
	}
	slices.Sort(said)
	want := []string{"ConfirmedCOVNotification answered 0 false", "ReadProperty answered 0 false",
		"ReadPropertyMultiple answered 0 false",
		"Who-Is reported 0 false", fmt.Sprintf("WriteProperty declined %d true", family.ErrorCode(2, 40)&0xFFFF),
		"stray: it says 9 octets, and has 7  0 false"}
	if !slices.Equal(said, want) {
		t.Errorf("got %q\nwant %q", said, want)
	}
	var codes []string
	for _, f := range l.Findings() {
		codes = append(codes, f.Code+" "+f.Sentence)
	}
	all_ := strings.Join(codes, "\n")
	for _, want := range []string{"station-twice Device instance 4050 is claimed by 192.0.2.97 and by 192.0.2.98",
		"told-too-often", "source-doubtful"} {
		if !strings.Contains(all_, want) {
			t.Errorf("no %q among\n%s", want, all_)
		}
	}
}

// FuzzHeard: whatever two ends say, it is put together, labelled within its octets, and judged.
func FuzzHeard(f *testing.F) {
	f.Add([]byte{0x81, 0x0B, 0, 8, 1, 0, 0x10, 8}, []byte{0x81, 0x0A, 0, 17, 1, 4, 0, 5, 1, 12, 12, 0, 0, 0, 1, 0x19,
		0x55})
	f.Add([]byte{0x81, 0x0A, 0, 17, 1, 4, 0, 5, 1, 12, 12, 0, 0, 0, 1, 0x19, 0x55},
		[]byte{0x81, 0x0A, 0, 23, 1, 0, 0x30, 1, 12, 12, 0, 0, 0, 1, 0x19, 0x55, 0x3E, 0x44, 0x3F, 0x80, 0, 0, 0x3F})
	f.Add([]byte("0"), []byte("0"))
	f.Fuzz(func(t *testing.T, one, other []byte) {
		l := &listener{Judge: judge.New(nil)}
		a := capture.NewAssembler(l)
		ends := [2]netip.AddrPort{netip.MustParseAddrPort("192.0.2.9:47808"), netip.MustParseAddrPort("192.0.2.97:47808")}
		at := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
		for i, b := range [][]byte{one, other, other, one} {
			a.Packet(&capture.Packet{Number: int64(i + 1), At: at.Add(time.Duration(i) * time.Millisecond), Kind: capture.UDP,
				From: ends[(i+1)/2%2], To: ends[1-(i+1)/2%2], Payload: b})
			for _, field := range wire.Labels(b, 0, nil) {
				if field.From < 0 || field.From >= field.To || field.To > len(b) {
					t.Fatalf("%+v of %d octets", field, len(b))
				}
			}
		}
		a.Finish()
		_ = l.Findings()
	})
}
