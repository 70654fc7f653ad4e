package recording

import (
	"cmp"
	"slices"
	"time"

	"ferry/internal/core/diagnose"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/judge"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// LiveView is what Ferry itself asked of late, as statistics.
type LiveView struct {
	// BeginsMs is the time of the first that is counted, in milliseconds since 1970, and
	// StepMs the width of a step of All and Bad, which count exchanges. Seqs is the number
	// of the last exchange of each step, or of those before.
	BeginsMs float64    `json:"beginsMs"`
	StepMs   float64    `json:"stepMs"`
	All      []int32    `json:"all"`
	Bad      []int32    `json:"bad"`
	Seqs     []uint64   `json:"seqs"`
	Talks    []TalkView `json:"talks"`
	SpanMs   float64    `json:"spanMs"`
}

// liveSteps is how many steps the overview has.
const liveSteps = 210

// Live counts exchanges of a site, in the order in which they went.
func Live(s *site.Site, list []exchange.Exchange) LiveView {
	v := LiveView{All: []int32{}, Bad: []int32{}, Seqs: []uint64{}, Talks: []TalkView{}, StepMs: 1}
	if len(list) == 0 {
		return v
	}
	first, last := list[0].At, list[0].At
	for i := range list {
		if at := list[i].At; at.Before(first) {
			first = at
		} else if at.After(last) {
			last = at
		}
	}
	span := last.Sub(first) + time.Millisecond
	step := span/liveSteps + 1
	n := int(span/step) + 1
	v.BeginsMs, v.StepMs, v.SpanMs = float64(first.UnixMicro())/1e3, ms(step), ms(span)
	v.All, v.Bad, v.Seqs = make([]int32, n), make([]int32, n), make([]uint64, n)
	talks := map[string]*liveTalk{}
	for i := range list {
		e := &list[i]
		at := int(e.At.Sub(first) / step)
		v.All[at]++
		v.Seqs[at] = max(v.Seqs[at], e.Seq)
		if !well(e.Outcome) {
			v.Bad[at]++
		}
		t := talks[e.Link]
		if t == nil {
			t = newLiveTalk(s, e.Link)
			talks[e.Link] = t
		}
		t.count(e)
	}
	for i := 1; i < n; i++ {
		v.Seqs[i] = max(v.Seqs[i], v.Seqs[i-1])
	}
	for _, t := range talks {
		v.Talks = append(v.Talks, t.view())
	}
	slices.SortFunc(v.Talks, func(a, b TalkView) int {
		return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.Station, b.Station), cmp.Compare(a.Link, b.Link))
	})
	return v
}

func well(o exchange.Outcome) bool {
	return o == exchange.Answered || o == exchange.Reported || o == exchange.Sent
}

// liveTalk counts what one link asks.
type liveTalk struct {
	TalkView
	took     []float64
	requests map[string]*RequestView
	since    map[string][2]time.Time // when each was asked first and last
}

func newLiveTalk(s *site.Site, id string) *liveTalk {
	t := &liveTalk{TalkView: TalkView{Link: id, Asker: "Ferry", Station: -1}, requests: map[string]*RequestView{},
		since: map[string][2]time.Time{}}
	link := s.Link(id)
	if link == nil {
		return t
	}
	t.Protocol, t.At = link.Protocol, link.Line
	if line := s.Line(link.Line); line != nil {
		t.At = line.Name
	}
	if d := s.Device(link.Asking); d != nil {
		t.Asker = d.Name
	}
	if d := s.Device(link.Answering); d != nil {
		t.Answerer = d.Name
		if port := d.PortFor(link); port != nil && port.Host != "" {
			t.At = port.Host
		}
	}
	if def, ok := protocol.Named(link.Protocol); ok {
		if n, has := def.StationOf(link.Settings); has {
			t.Station = n
		}
	}
	return t
}

func (t *liveTalk) count(e *exchange.Exchange) {
	t.Asked++
	switch e.Outcome {
	case exchange.Declined:
		t.Declined++
	case exchange.Garbled:
		t.Garbled++
	default:
		if well(e.Outcome) {
			t.Answered++
		} else {
			t.None++
		}
	}
	if e.Outcome == exchange.Answered || e.Outcome == exchange.Declined {
		t.took = append(t.took, e.LatencyMs)
	}
	for _, f := range e.Frames {
		t.Octets += int64(len(f.Octets))
	}
	r := t.requests[e.Operation]
	if r == nil {
		if len(t.requests) >= mostRequestViews {
			t.Beyond++
			return
		}
		r = &RequestView{Says: e.Operation, Write: e.Write}
		if len(e.Ranges) > 0 {
			r.Area, r.Start, r.Count = e.Ranges[0].Area, e.Ranges[0].Start, e.Ranges[0].Count
		}
		t.requests[e.Operation] = r
		t.since[e.Operation] = [2]time.Time{e.At, e.At}
	}
	r.Asked++
	if well(e.Outcome) {
		r.Answered++
	}
	when := t.since[e.Operation]
	when[1] = e.At
	t.since[e.Operation] = when
}

func (t *liveTalk) view() TalkView {
	v := t.TalkView
	v.Requests, v.Latency = []RequestView{}, []int32{}
	for says, r := range t.requests {
		if r.Asked > 1 {
			when := t.since[says]
			r.EveryMs = ms(when[1].Sub(when[0])) / float64(r.Asked-1)
		}
		v.Requests = append(v.Requests, *r)
	}
	slices.SortFunc(v.Requests, func(a, b RequestView) int {
		return cmp.Or(cmp.Compare(a.Area, b.Area), cmp.Compare(a.Start, b.Start), cmp.Compare(a.Says, b.Says))
	})
	if len(t.took) == 0 {
		return v
	}
	slices.Sort(t.took)
	v.MedianMs, v.P99Ms, v.MostMs = t.took[len(t.took)/2], t.took[len(t.took)*99/100], t.took[len(t.took)-1]
	for _, took := range t.took {
		at := 0
		for limit := 1.0; took > limit && at < 23; limit *= 2 {
			at++
		}
		for len(v.Latency) <= at {
			v.Latency = append(v.Latency, 0)
		}
		v.Latency[at]++
	}
	return v
}

// toldCodes are those of what is judged of messages that nobody asks for, of whole sessions:
// live as in recordings.
var toldCodes = []string{"silent-subscription", "retained-only", "sequence-gap", "unconfirmed-report",
	"unreadable-report",
	"data-before-birth", "sender-gone", "host-absent", "interval-jitter", "cyclic-timeout", "size-differs", "never-run",
	"multicast-lost", "granted-less", "source-doubtful", "names-renumbered", "queue-overrun", "restart-told",
	"clock-unset",
	"trouble-told", "no-baseline", "changes-unfetched", "stations-differ", "rival-askers"}

// lag is by how much at most what a link has said is recorded later.
const lag = 2 * time.Second

// passes is for how long it is told live that values were doubtful, or something was not told.
const passes = 2 * diagnose.Window

// mostNumbered is how many ways of numbering are remembered of one end.
const mostNumbered = 10

// Told judges what one link told and was told, in the order in which it went, as of now:
// that nothing came since says something too. numbered is how the end numbered its names up to
// now, to which what is new is put.
func Told(s *site.Site, link *site.Link, list []exchange.Exchange, now time.Time,
	numbered *[]judge.Numbered) []finding.Finding {
	r := New(s)
	for _, n := range *numbered {
		if len(list) > 0 && n.At.Before(list[0].At) {
			r.judge.Knew(n.Text)
		}
	}
	for _, p := range Own(s, list, nil) {
		p.Number = 0 // of a recording that nobody has
		r.assembler.Packet(&p)
	}
	r.judge.Until(now.Add(-lag))
	r.judge.Since(now.Add(-passes))
	r.assembler.Finish()
	for _, n := range r.judge.Numbered() {
		if k := len(*numbered); k == 0 || n.At.After((*numbered)[k-1].At) {
			*numbered = append((*numbered)[max(0, k-mostNumbered):], n)
		}
	}
	found := slices.DeleteFunc(r.judge.Findings(), func(f finding.Finding) bool {
		// That a size is refused is seen in the exchange; here it is that of packets.
		return !slices.Contains(toldCodes, f.Code) || f.Code == "size-differs" && f.Subject.Column == ""
	})
	for i := range found {
		f := &found[i]
		column := f.Subject.Column
		f.Subject = finding.Subject{Kind: "link", ID: link.ID, Device: link.Answering, Name: f.Subject.Name, Column: column}
		if d := s.Device(link.Answering); d != nil {
			f.Subject.Name = d.Name
		}
	}
	return found
}
