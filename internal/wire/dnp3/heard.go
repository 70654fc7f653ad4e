package dnp3

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	family "ferry/internal/core/family/dnp3"
)

func init() {
	for _, s := range []struct {
		name   string
		serial bool
	}{{family.TCP.Name, false}, {family.Serial.Name, true}} {
		capture.Register(&capture.Speech{Protocol: s.name, Serial: s.serial, Recognise: recognise, AskerOf: askerOf,
			New: func(c *capture.Conn, heard func(*capture.Heard)) capture.Reader {
				e := &ear{conn: c, stations: map[uint16]*spoken{}, masters: map[uint16]bool{}}
				e.waiting = capture.Waiting{Heard: func(h *capture.Heard) {
					if len(e.notes) > 0 && h.Stray == "" {
						h.Remarks, e.notes = append(h.Remarks, e.notes...), nil
					}
					heard(h)
				}}
				return e
			},
			Words:    wordsOf,
			Question: func(b []byte) []exchange.Field { return Labels(b, nil) },
			Answer:   func(_, b []byte, points []exchange.Labelled) []exchange.Field { return Labels(b, points) }})
	}
}

// wordsOf say what is asked for.
func wordsOf(h *capture.Heard) string {
	if h.Function == functionOfLink {
		return "state of the link"
	}
	return Function(byte(h.Function)).String()
}

// recognise looks for a frame whose header passes its check.
func recognise(said [2][]byte) capture.Fit {
	fit := capture.Not
	for _, b := range said {
		switch {
		case len(b) == 0:
		case len(b) < headOctets:
			fit = max(fit, capture.Unsure)
		default:
			if _, octets, rest := Find(b); len(octets) > 2 || octets == nil && len(rest) >= headOctets {
				return capture.Certain
			}
		}
	}
	return fit
}

// askerOf tells the sides apart by the bit that masters set.
func askerOf(said [2][]byte) (first, known bool) {
	for side, b := range said {
		if f, _, _ := Find(b); f != nil {
			return (f.Control&FromMaster != 0) == (side == 0), true
		}
	}
	return false, false
}

// ear hears the exchanges of one connection, or of a line.
type ear struct {
	conn     *capture.Conn
	waiting  capture.Waiting
	held     [2][]byte // of each side
	stations map[uint16]*spoken
	masters  map[uint16]bool
	notes    []capture.Remark
}

// spoken is what was heard of one outstation.
type spoken struct {
	joiners [2]Joiner
	parts   [2][]byte // the frames of the fragments that are under way
	answer  []byte    // of several fragments
	objects []byte
	asked   byte // the number of the question that is under way
	unasked []byte
	last    Indications
	needed  time.Time // when an answer wanted the time first
	// needs counts answers in a row that want the time, polls those for events alone, and kept those
	// in which events are said to wait that nobody fetches.
	needs, polls, kept int
	based, fetched     bool
}

// Bounds of what is kept.
const (
	mostStations = 256
	mostAnswer   = 1 << 20
)

// The two ways of a frame, as Joiners have them.
const (
	fromMaster = iota
	fromStation
)

// Said implements capture.Reader.
func (e *ear) Said(p capture.Piece) {
	e.held[p.Side] = append(e.held[p.Side], p.Octets...)
	for {
		before := e.held[p.Side]
		f, octets, rest := Find(before)
		if octets == nil {
			if len(rest) > 4*MostData {
				rest = rest[len(rest)-4*MostData:]
			}
			e.held[p.Side] = append([]byte(nil), rest...)
			return
		}
		e.held[p.Side] = rest
		if f == nil {
			if len(octets) > 2 {
				e.waiting.BrokenBy(p, octets, ErrCheck.Error(), exchange.Check)
			}
			continue
		}
		e.frame(p, f, octets)
	}
}

// of is what is known of an outstation.
func (e *ear) of(address uint16) *spoken {
	s := e.stations[address]
	if s == nil && len(e.stations) < mostStations {
		s = &spoken{}
		e.stations[address] = s
	}
	return s
}

func (e *ear) frame(p capture.Piece, f *Frame, octets []byte) {
	way, address, master := fromStation, f.From, f.To
	if p.Side = capture.Answerer; f.Control&FromMaster != 0 {
		way, address, master, p.Side = fromMaster, f.To, f.From, capture.Asker
	}
	s := e.of(address)
	if s == nil {
		return
	}
	e.addressed(way, master, address)
	if len(f.Data) == 0 {
		e.link(p, f, octets, address)
		return
	}
	if f.Function() != UnconfirmedData && f.Function() != ConfirmedData {
		return
	}
	if Begins(f.Data[0]) {
		s.parts[way] = s.parts[way][:0]
	}
	s.parts[way] = append(s.parts[way], octets...)
	fragment, whole, err := s.joiners[way].Take(f.Data)
	if err != nil {
		e.waiting.Broken(p, octets, err.Error())
	}
	if !whole {
		return
	}
	all := bytes.Clone(s.parts[way])
	s.parts[way] = s.parts[way][:0]
	a, err := ReadFragment(fragment)
	switch {
	case err != nil:
		e.waiting.Broken(p, all, err.Error())
	case way == fromMaster:
		e.question(p, s, address, &a, all)
	case a.Function == FnUnsolicited:
		e.unsolicited(p, s, address, &a, all)
	case a.Function == FnResponse:
		e.response(p, s, address, &a, all)
	default:
		e.waiting.Broken(p, all, fmt.Sprintf("an outstation says %s, which is no answer", a.Function))
	}
}

// ref is the reference of a question to a station.
func ref(address uint16, number byte) uint64 { return uint64(address)<<8 | uint64(number&NumberMask) }

// ofLink is the reference of a question about the link.
const ofLink = 1 << 7

// link tells of a frame about the link alone.
func (e *ear) link(p capture.Piece, f *Frame, octets []byte, address uint16) {
	switch {
	case f.Asks() && p.Side == capture.Asker:
		e.waiting.Ask(ref(address, 0)|ofLink, &capture.Heard{Station: int(address), Function: functionOfLink, Greets: true,
			Asked: p.At, AskedIn: p.Number, Request: octets})
	case !f.Asks() && p.Side == capture.Answerer:
		e.waiting.Answer(ref(address, 0)|ofLink, p, octets, func(h *capture.Heard) {})
	}
}

// functionOfLink stands for a question about the link.
const functionOfLink = 1 << 8

// question tells of what a master says.
func (e *ear) question(p capture.Piece, s *spoken, address uint16, a *Fragment, octets []byte) {
	switch a.Function {
	case FnConfirm:
		return
	case FnDirectNoAck, FnFreezeNoAck:
		e.waiting.Alone(&capture.Heard{Station: int(address), Function: int(a.Function), Asked: p.At, AskedIn: p.Number,
			Request: octets, Outcome: exchange.Sent, Write: a.Function == FnDirectNoAck})
		return
	}
	h := capture.Heard{Station: int(address), Function: int(a.Function), Asked: p.At, AskedIn: p.Number, Request: octets,
		Write:    a.Function == FnOperate || a.Function == FnDirect,
		Optional: a.Function == FnRead && len(a.Objects) > 0 && a.Objects[0] == groupOfItself}
	s.answer, s.objects, s.asked = nil, nil, a.Control&NumberMask
	e.waiting.Ask(ref(address, a.Control), &h)
	classes := classesOf(a)
	s.based = s.based || a.Function == FnRead && (classes[0] || !classes[1] && !classes[2] && !classes[3])
	if events := classes[1] || classes[2] || classes[3]; events && a.Function == FnRead {
		s.fetched = true
		s.polls++
	}
	if a.Function == FnWrite && len(a.Objects) > 0 && a.Objects[0] == 50 {
		s.needs = 0
	}
}

// classesOf are the classes that a fragment names.
func classesOf(a *Fragment) (classes [4]bool) {
	for b := a.Objects; len(b) > 0; {
		h, rest, err := ReadHeader(b)
		if err != nil || !h.All {
			return classes
		}
		if h.Group == 60 && h.Variation >= 1 && h.Variation <= 4 {
			classes[h.Variation-1] = true
		}
		b = rest
	}
	return classes
}

// response tells of an answer once all of its fragments have come.
func (e *ear) response(p capture.Piece, s *spoken, address uint16, a *Fragment, octets []byte) {
	if a.Control&First != 0 {
		s.answer, s.objects = nil, nil
		if a.Control&NumberMask != s.asked {
			e.waiting.Answer(ref(address, a.Control), p, octets, func(*capture.Heard) {})
			return
		}
	}
	if len(s.answer) > mostAnswer {
		e.waiting.Broken(p, octets, "an answer has fragments without end")
		return
	}
	s.answer, s.objects = append(s.answer, octets...), append(s.objects, a.Objects...)
	if a.Control&Last == 0 {
		return
	}
	e.waiting.Answer(ref(address, s.asked), p, s.answer, func(h *capture.Heard) { s.tells(h, a, s.objects, true) })
	s.answer, s.objects = nil, nil
}

// unsolicited tells of what an outstation sends by itself.
func (e *ear) unsolicited(p capture.Piece, s *spoken, address uint16, a *Fragment, octets []byte) {
	body := a.Append(nil)
	h := capture.Heard{Station: int(address), Function: int(a.Function), Answered: p.At, AnsweredIn: p.Number,
		Answer: octets, Outcome: exchange.Reported, Report: &capture.Report{Way: capture.Brings,
			Name: unaskedOf(address)}}
	again := bytes.Equal(body, s.unasked)
	if s.unasked = body; again {
		h.Report.Way = capture.Unconfirmed
	}
	s.fetched = s.fetched || len(a.Objects) > 0
	s.polls++
	s.tells(&h, a, a.Objects, !again)
	e.waiting.Alone(&h)
}

func unaskedOf(address uint16) string { return fmt.Sprintf("events of outstation %d", address) }

// After so many of what may pass at first, it is worth a remark.
const (
	needsLeast = 3
	needsFor   = 3 * time.Second // a master sets it soon after the start
	pollsLeast = 20
	keptLeast  = 10
)

// tells fills in what an answer, or a message that nobody asked for, tells.
func (s *spoken) tells(h *capture.Heard, a *Fragment, objects []byte, fresh bool) {
	is := a.Indications
	if code := family.Indicated(byte(is >> 8)); is&(NoFunction|ObjectUnknown|ParameterError) != 0 && h.Report == nil {
		h.Outcome, h.Code = exchange.Declined, code
	}
	note := func(kind capture.RemarkKind, name, text string) {
		h.Remarks = append(h.Remarks, capture.Remark{Kind: kind, Name: name, Text: text})
	}
	rose := is &^ s.last
	s.last = is
	if rose&Restarted != 0 {
		note(capture.Restarted, "", "it says that it was restarted")
	}
	if rose&EventOverflow != 0 {
		note(capture.Overrun, "its buffer of events", "it says that events were lost")
	}
	for bit, words := range map[Indications]string{LocalControl: "it is operated on the spot", Trouble: "it is in trouble",
		ConfigCorrupt: "its configuration is corrupt"} {
		if is&bit != 0 {
			note(capture.Troubled, words, words)
		}
	}
	at := h.Answered
	if s.needs++; is&NeedTime == 0 {
		s.needs = 0
	} else if s.needs == 1 {
		s.needed = at
	} else if s.needs >= needsLeast && at.Sub(s.needed) >= needsFor {
		note(capture.Unset, "", "it needs the time")
	}
	if s.kept++; s.fetched || is&(Class1|Class2|Class3) == 0 {
		s.kept = 0
	} else if s.kept >= keptLeast {
		note(capture.Unfetched, "", "events wait at it")
	}
	doubts := map[string]string{}
	err := Objects(objects, func(o Object) {
		kind, _ := family.KindOf(o.Group)
		if o.Flagged && fresh {
			if q, why := family.QualityOf(kind, o.Flags); q != "good" && doubts[why] == "" {
				doubts[why] = fmt.Sprintf("%s %d", kind.Short(), o.Index)
				note(capture.Uncertain, strings.TrimPrefix(why, "the outstation says: "), doubts[why])
			}
		}
		if s, _ := specOf(o.Group, o.Variation); s.status && o.Status != 0 {
			h.Outcome, h.Code = exchange.Declined, family.StatusCode(o.Status)
		}
		if kind != family.NoKind && !o.Value.IsNone() && len(h.Named) < mostNamed {
			h.Named = append(h.Named, capture.Named{Name: family.Object{Kind: kind, Index: o.Index}.String(),
				Payload: o.payload()})
		}
		if r := h.Report; r != nil && o.At.After(r.Sent) {
			r.Sent = o.At
		}
	})
	if err != nil {
		h.Outcome, h.Broken = exchange.Garbled, err.Error()
	}
	if s.polls >= pollsLeast && !s.based {
		s.polls = 0
		note(capture.Baseless, "", fmt.Sprintf("%d times events were fetched, and never what stands there", pollsLeast))
	}
}

// mostNamed bounds the places of one answer.
const mostNamed = 2000

// payload is an object as family.Unreadable reads it: its group and variation, and the number that it
// holds in 8 octets, NaN for a text.
func (o *Object) payload() []byte {
	return binary.LittleEndian.AppendUint64([]byte{o.Group, o.Variation}, math.Float64bits(o.Value.Float()))
}

// addressed follows who speaks to whom; what is odd is told with the next exchange.
func (e *ear) addressed(way int, master, address uint16) {
	note := func(kind capture.RemarkKind, name string) {
		e.notes = append(e.notes, capture.Remark{Kind: kind, Name: name})
	}
	switch {
	case way == fromStation && len(e.masters) > 0 && !e.masters[master]:
		note(capture.Misaddressed, fmt.Sprintf("outstation %d speaks to master %d, and %s asks", address, master,
			e.whoAsks()))
	case way == fromMaster && !e.masters[master] && len(e.masters) < mostStations:
		e.masters[master] = true
		if len(e.masters) > 1 {
			note(capture.Rivalled, e.whoAsks()+" ask")
		}
	}
}

// whoAsks are the masters that were heard.
func (e *ear) whoAsks() string {
	var list []string
	for m := range 1 << 16 {
		if e.masters[uint16(m)] {
			list = append(list, fmt.Sprintf("master %d", m))
		}
	}
	return strings.Join(list, " and ")
}

// Lost implements capture.Reader.
func (e *ear) Lost(side capture.Side, _ int) {
	e.held[side] = nil
	e.waiting.Lost()
}

// Finish implements capture.Reader.
func (e *ear) Finish(c *capture.Conn, at time.Time) {
	e.waiting.Torn(c, capture.Piece{Side: capture.Answerer, At: at}, e.held[capture.Answerer])
	e.waiting.Finish(c, at)
}

// groupOfItself is the group of objects that say who an outstation is: not all have it.
const groupOfItself = 0
