package recording

import (
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/rehearsal"
	"ferry/internal/core/value"
	"ferry/internal/wire/dnp3"
)

// pumps is a master of DNP3 at the outstation of the pump station.
type pumps struct {
	*actor
	conn            *rehearsal.Conn
	master, station uint16
	number          byte // of questions
	segments        [2]byte
	is              dnp3.Indications
}

func init() { others = append(others, pumpScenes...) }

func (a *actor) pumps() *pumps {
	return &pumps{actor: a, conn: a.Dial(controller, "192.0.2.61:20000"), master: 1, station: 12}
}

// frames are the octets of a fragment of a side.
func (p *pumps) frames(side capture.Side, f *dnp3.Fragment) (octets []byte) {
	segments, next := dnp3.Segments(f.Append(nil), p.segments[side])
	p.segments[side] = next
	for _, segment := range segments {
		frame := dnp3.Frame{Control: dnp3.Primary | dnp3.UnconfirmedData, To: p.master, From: p.station, Data: segment}
		if side == capture.Asker {
			frame.Control |= dnp3.FromMaster
			frame.To, frame.From = frame.From, frame.To
		}
		octets, _ = frame.Append(octets)
	}
	return octets
}

// asks asks, and is answered with objects.
func (p *pumps) asks(function dnp3.Function, question, answer []byte) {
	number := p.number & dnp3.NumberMask
	p.number++
	p.conn.Talk(p.frames(capture.Asker, &dnp3.Fragment{Control: dnp3.First | dnp3.Last | number, Function: function,
		Objects: question}),
		p.frames(capture.Answerer, &dnp3.Fragment{Control: dnp3.First | dnp3.Last | number, Function: dnp3.FnResponse,
			Indications: p.is, Objects: answer}), p.think())
	p.Wait(time.Second)
}

// class asks for classes.
func (p *pumps) class(answer []byte, classes ...byte) {
	var question []byte
	for _, class := range classes {
		question = append(question, 60, class+1, dnp3.AllOf)
	}
	p.asks(dnp3.FnRead, question, answer)
}

// level is an analogue input as it stands, changed an event of it, with flags.
func (p *pumps) level(v int, flags byte) []byte {
	b, _ := dnp3.AppendObjects(nil, dnp3.FromTo8, []dnp3.Object{{Group: 30, Variation: 1, Index: 22, Flags: flags,
		Value: value.OfInt(int64(v))}})
	return b
}

func (p *pumps) changed(v int) []byte {
	b, _ := dnp3.AppendObjects(nil, dnp3.Index16, []dnp3.Object{{Group: 32, Variation: 3, Index: 22, Flags: 1,
		Value: value.OfInt(int64(v)), At: p.Now}})
	return b
}

// tells sends events unasked, and whether they are confirmed.
func (p *pumps) tells(objects []byte, number byte, confirmed bool) {
	control := dnp3.First | dnp3.Last | dnp3.Confirm | dnp3.Unsolicited | number&dnp3.NumberMask
	p.conn.Say(capture.Answerer, p.frames(capture.Answerer, &dnp3.Fragment{Control: control, Function: dnp3.FnUnsolicited,
		Indications: p.is, Objects: objects}))
	p.Wait(30 * time.Millisecond)
	if confirmed {
		p.conn.Say(capture.Asker,
			p.frames(capture.Asker, &dnp3.Fragment{Control: control &^ dnp3.Confirm, Function: dnp3.FnConfirm}))
	}
	p.Wait(2 * time.Second)
}

// begins reads everything, as a master does at the start.
func (p *pumps) begins() *pumps {
	p.asks(dnp3.FnDisable, []byte{60, 2, 6, 60, 3, 6, 60, 4, 6}, nil)
	p.class(p.level(240, 1), 1, 2, 3, 0)
	return p
}

// pumpScenes are scenes of DNP3.
var pumpScenes = []scene{
	{"a master that asks who it is, where the outstation does not know that", "", func(a *actor) {
		p := a.pumps().begins()
		for i := range 4 + a.way {
			p.is = dnp3.ObjectUnknown
			p.asks(dnp3.FnRead, []byte{0, 252, 0, 0, 0, 0, 250, 0, 0, 0}, nil)
			p.is = 0
			p.class(p.level(100+i, 1), 1, 2, 3, 0)
		}
	}},
	{"an outstation that is polled", "", func(a *actor) {
		p := a.pumps().begins()
		for i := range 20 {
			var objects []byte
			if i%(3+a.way) == 0 {
				objects = p.changed(240 + i)
			}
			p.class(objects, 1, 2, 3)
		}
		p.conn.Close(capture.Asker)
	}},
	{"an outstation that sends its events", "", func(a *actor) {
		p := a.pumps().begins()
		for i := range 10 {
			p.tells(p.changed(200+i*(a.way+1)), byte(i), true)
		}
	}},
	{"events that nobody confirms", "unconfirmed-report", func(a *actor) {
		p := a.pumps().begins()
		same := p.changed(207)
		for range 5 + a.way {
			p.tells(same, 3, false)
		}
	}},
	{"an outstation that was started again", "restart-told", func(a *actor) {
		p := a.pumps().begins()
		p.is = dnp3.Restarted
		p.class(nil, 1, 2, 3)
		p.is = 0
		p.asks(dnp3.FnWrite, []byte{80, 1, 0, 7, 7, 0}, nil)
		for range 4 + a.way {
			p.class(p.level(231, 1), 1, 2, 3, 0)
		}
	}},
	{"an outstation that wants the time, and nobody sets it", "clock-unset", func(a *actor) {
		p := a.pumps().begins()
		p.is = dnp3.NeedTime
		for range 8 + a.way {
			p.class(nil, 1, 2, 3)
		}
	}},
	{"a buffer of events that ran over", "queue-overrun", func(a *actor) {
		p := a.pumps().begins()
		for i := range 4 + a.way {
			if p.is = 0; i == 2 {
				p.is = dnp3.EventOverflow
			}
			p.class(p.changed(200+i), 1, 2, 3)
		}
	}},
	{"an outstation that is operated on the spot", "trouble-told", func(a *actor) {
		p := a.pumps().begins()
		p.is = []dnp3.Indications{dnp3.LocalControl, dnp3.Trouble, dnp3.ConfigCorrupt}[a.way]
		for range 3 {
			p.class(nil, 1, 2, 3)
		}
	}},
	{"events without anything that stands there", "no-baseline", func(a *actor) {
		p := a.pumps()
		for i := range 25 + a.way {
			p.class(p.changed(200+i), 1, 2, 3)
		}
	}},
	{"events that wait, and are not fetched", "changes-unfetched", func(a *actor) {
		p := a.pumps()
		p.is = dnp3.Class2
		for i := range 14 + a.way {
			p.class(p.level(200+i, 1), 0)
		}
	}},
	{"objects that are not online", "source-doubtful", func(a *actor) {
		p := a.pumps().begins()
		for range 4 {
			p.class(p.level(200, []byte{0, 4 | 1, 0x20 | 1}[a.way]), 1, 2, 3, 0)
		}
	}},
	{"an outstation that speaks to another master", "no-answer stations-differ", func(a *actor) {
		p := a.pumps()
		for i := range 6 {
			p.conn.Say(capture.Asker, p.frames(capture.Asker, &dnp3.Fragment{Control: dnp3.First | dnp3.Last | byte(i),
				Function: dnp3.FnRead, Objects: []byte{60, 2, 6}}))
			p.master += uint16(a.way + 1)
			p.tells(p.changed(207+i), byte(i), false)
			p.master -= uint16(a.way + 1)
			p.Wait(2 * time.Second)
		}
	}},
	{"commands that are refused", "refused", func(a *actor) {
		p := a.pumps().begins()
		on := dnp3.Object{Group: 12, Variation: 1, Index: 1, Control: dnp3.Control{Code: 3, Count: 1}}
		asked, _ := dnp3.AppendObjects(nil, dnp3.Index16, []dnp3.Object{on})
		on.Status = []byte{7, 4, 15}[a.way]
		answered, _ := dnp3.AppendObjects(nil, dnp3.Index16, []dnp3.Object{on})
		for range 4 {
			p.asks(dnp3.FnSelect, asked, answered)
		}
	}},
	{"frames whose checks are wrong", "check-failed", func(a *actor) {
		p := a.pumps().begins()
		for i := range 12 {
			question := p.frames(capture.Asker, &dnp3.Fragment{Control: dnp3.First | dnp3.Last | byte(i)&15,
				Function: dnp3.FnRead, Objects: []byte{60, 2, 6}})
			answer := p.frames(capture.Answerer, &dnp3.Fragment{Control: dnp3.First | dnp3.Last | byte(i)&15,
				Function: dnp3.FnResponse, Objects: p.level(200, 1)})
			if i%3 == 0 {
				answer[len(answer)-3-a.way] ^= 1
			}
			p.conn.Talk(question, answer, p.think())
			p.Wait(time.Second)
		}
	}},
	{"two masters over one connection", "rival-askers", func(a *actor) {
		p := a.pumps().begins()
		for i := range 8 {
			p.master = uint16(1 + i%2*(2+a.way))
			p.class(nil, 1, 2, 3, 0)
		}
	}},
}
