package recording

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/judge"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
)

// ReadState is how far a recording is read, and what was found.
type ReadState struct {
	Label
	Reading bool `json:"reading"`
	Done    bool `json:"done"`
	// Failed is why it cannot be read; empty where it can.
	Failed string `json:"failed,omitempty"`
	// Share of its octets is read, from 0 to 1.
	Share  float64    `json:"share"`
	Result Result     `json:"result"`
	Talks  []TalkView `json:"talks"`
	// Begins and Ends are its first and last time, in milliseconds since 1970; Step is
	// the width of a step of All and Bad, which count exchanges.
	BeginsMs float64 `json:"beginsMs"`
	StepMs   float64 `json:"stepMs"`
	All      []int32 `json:"all"`
	Bad      []int32 `json:"bad"`
	Rows     int     `json:"rows"`
}

// speechOf finds the speech of a protocol.
func speechOf(protocol string) *capture.Speech {
	for _, s := range capture.Speeches() {
		if s.Protocol == protocol {
			return s
		}
	}
	return nil
}

func says(protocol string, h *capture.Heard) string {
	if s := speechOf(protocol); s != nil && s.Words != nil {
		return s.Words(h)
	}
	return fmt.Sprintf("function %d", h.Function)
}

// State is how it stands with a recording.
func (k *Kept) State() ReadState {
	k.mu.RLock()
	defer k.mu.RUnlock()
	s := ReadState{Label: k.Label, Reading: k.reading, Done: k.done, Failed: k.failed, Share: 1, Result: k.result,
		Talks: k.talks, All: []int32{}, Bad: []int32{}}
	if k.reading && k.Octets > 0 {
		s.Share = min(float64(k.read.Load())/float64(k.Octets), 1)
	}
	if s.Talks == nil {
		s.Talks = []TalkView{}
	}
	if s.Result.Findings == nil {
		s.Result.Said, s.Result.Findings = []string{}, []finding.Finding{}
	}
	if x := k.index; x != nil {
		s.Rows, s.BeginsMs, s.StepMs = x.Rows, float64(x.Overview.Begins.UnixMicro())/1e3, ms(x.Overview.Step)
		s.All, s.Bad = append(s.All, x.Overview.All...), append(s.Bad, x.Overview.Bad...)
	}
	return s
}

// Filter says which exchanges are wanted.
type Filter struct {
	Bad      bool   // only those to look at
	Asker    string // address, empty for any
	At       string // where it is answered, empty for any
	Station  int    // -1 for any
	Function int    // -1 for any
	Area     string // with Unit, those that are about it
	Unit     int    // -1 for any
	Count    int    // with Unit, those that ask for just so many from there; -1 for any
}

// All reports whether a filter lets everything through.
func (f *Filter) All() bool {
	return !f.Bad && f.Asker == "" && f.At == "" && f.Station < 0 && f.Function < 0 && f.Unit < 0
}

func (f *Filter) lets(x *Index, r *Row) bool {
	if f.Bad && !r.Bad() || f.Function >= 0 && (r.Function != f.Function || r.Stray) {
		return false
	}
	key := &x.Talks[r.Talk]
	if f.Station >= 0 && key.Station != f.Station || f.Asker != "" && asker(key) != f.Asker ||
		f.At != "" && where(key) != f.At {
		return false
	}
	if f.Unit >= 0 && f.Count >= 0 {
		return r.Range == block.Range{Area: f.Area, Start: uint32(f.Unit), Count: f.Count}
	}
	return f.Unit < 0 || r.Range.Area == f.Area && int(r.Range.Start) <= f.Unit &&
		f.Unit < int(r.Range.Start)+r.Range.Count
}

// filters remembers which rows the latest filters let through.
type filters struct {
	once   singleflight.Group
	mu     sync.Mutex
	latest []filtered
}

type filtered struct {
	by   Filter
	rows []uint32
}

// Bounds of what is remembered: rows of one filter, and filters.
const (
	mostFiltered = 4 << 20
	mostFilters  = 8
)

// of finds what is remembered of a filter.
func (f *filters) of(by *Filter) ([]uint32, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, known := range f.latest {
		if known.by == *by {
			return known.rows, true
		}
	}
	return nil, false
}

// keep remembers the rows of a filter, and forgets the oldest.
func (f *filters) keep(by *Filter, rows []uint32) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.latest = append(f.latest, filtered{*by, rows}); len(f.latest) > mostFilters {
		f.latest = slices.Delete(f.latest, 0, 1)
	}
}

func (f *filters) drop() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.latest = nil
}

// RungList is a part of the exchanges that a filter lets through.
type RungList struct {
	Total int    `json:"total"` // that the filter lets through
	From  int    `json:"from"`
	Rungs []Rung `json:"rungs"`
}

// Rung is one exchange of a recording in words.
type Rung struct {
	Row       int              `json:"row"`
	AtMs      float64          `json:"atMs"`
	LatencyMs float64          `json:"latencyMs"` // negative for none
	Asker     string           `json:"asker"`
	Answerer  string           `json:"answerer"`
	Asks      string           `json:"asks"`
	Says      string           `json:"says"`
	Outcome   exchange.Outcome `json:"outcome"`
	Bad       bool             `json:"bad,omitempty"`
	Stray     bool             `json:"stray,omitempty"`
	Write     bool             `json:"write,omitempty"`
	Again     bool             `json:"again,omitempty"` // the same was asked just before, without an answer
	Try       int              `json:"try,omitempty"`   // which of the tries it is, from 2 on
	First     int              `json:"first,omitempty"` // row of the first of them
	AskedIn   int64            `json:"askedIn,omitempty"`
	Answered  int64            `json:"answeredIn,omitempty"`
	Function  int              `json:"function"`
	Station   int              `json:"station"`
	At        string           `json:"at"`
}

// ready returns the index, or why there is none.
func (k *Kept) ready() (*Index, error) {
	if k.index == nil {
		if k.failed != "" {
			return nil, problem.New("unreadable", "The recording cannot be read: "+k.failed+".", "")
		}
		return nil, problem.New("reading", "The recording is still being read.", "Its exchanges are listed when it is done.")
	}
	return k.index, nil
}

// matching finds the rows that a filter lets through; nil for all.
func (k *Kept) matching(x *Index, f *Filter) ([]uint32, error) {
	if f.All() {
		return nil, nil
	}
	if rows, known := k.filters.of(f); known {
		return rows, nil
	}
	// Who asks for the same at the same time waits for one search.
	found, err, _ := k.filters.once.Do(fmt.Sprint(*f), func() (any, error) {
		rows := []uint32{}
		err := x.each(0, func(i int, r *Row) bool {
			if f.lets(x, r) {
				rows = append(rows, uint32(i))
			}
			return len(rows) < mostFiltered
		})
		if err == nil {
			k.filters.keep(f, rows)
		}
		return rows, err
	})
	if err != nil {
		return nil, err
	}
	return found.([]uint32), nil
}

// List returns so many exchanges that a filter lets through, from a place among them;
// or, where around is a row, with that row among them.
func (k *Kept) List(f Filter, from, most, around int) (RungList, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	x, err := k.ready()
	if err != nil {
		return RungList{}, err
	}
	rows, err := k.matching(x, &f)
	if err != nil {
		return RungList{}, err
	}
	list := RungList{Total: x.Rows, Rungs: []Rung{}}
	if rows != nil {
		list.Total = len(rows)
	}
	if around >= 0 {
		from = around
		if rows != nil {
			from, _ = slices.BinarySearch(rows, uint32(around))
		}
		from -= most / 2
	}
	list.From = max(0, min(from, list.Total-1))
	for i := list.From; i < min(list.From+most, list.Total); i++ {
		at := i
		if rows != nil {
			at = int(rows[i])
		}
		err := x.each(at, func(i int, r *Row) bool {
			list.Rungs = append(list.Rungs, x.rung(i, r))
			return rows == nil && len(list.Rungs) < most
		})
		if err != nil {
			return RungList{}, err
		}
		if rows == nil {
			break
		}
	}
	return list, nil
}

// Rungs hands on every exchange that a filter lets through, in its order.
func (k *Kept) Rungs(f Filter, each func(*Rung) error) error {
	k.mu.RLock()
	defer k.mu.RUnlock()
	x, err := k.ready()
	if err != nil {
		return err
	}
	var failed error
	err = x.each(0, func(i int, r *Row) bool {
		if f.lets(x, r) {
			rung := x.rung(i, r)
			failed = each(&rung)
		}
		return failed == nil
	})
	return cmp.Or(failed, err)
}

// Open opens the file of the recording, as it came.
func (k *Kept) Open() (*os.File, error) { return os.Open(k.path) }

// RowOf finds the exchange that a packet is of; -1 for none.
func (k *Kept) RowOf(packet int64) (int, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	x, err := k.ready()
	if err != nil {
		return -1, err
	}
	found := -1
	err = x.each(0, func(i int, r *Row) bool {
		if r.AskedIn == packet || r.AnsweredIn == packet {
			found = i
		}
		return found < 0
	})
	return found, err
}

// RowAt finds the first exchange from a time on, in milliseconds since 1970.
func (k *Kept) RowAt(atMs float64) (int, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	x, err := k.ready()
	if err != nil {
		return 0, err
	}
	want := time.UnixMicro(int64(atMs * 1e3))
	low, high := 0, x.Rows
	for low < high {
		mid := (low + high) / 2
		var at time.Time
		if err := x.each(mid, func(_ int, r *Row) bool { at = r.At; return false }); err != nil {
			return 0, err
		}
		if at.Before(want) {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return min(low, max(x.Rows-1, 0)), nil
}

// mostRead bounds the octets of a question that are read to say what it asks for.
const mostRead = 16 << 10

func (x *Index) rung(i int, r *Row) Rung {
	key, speaks := &x.Talks[r.Talk], x.Protocols[r.Talk]
	v := Rung{Row: i, AtMs: float64(r.At.UnixMicro()) / 1e3, LatencyMs: -1, Asker: asker(key), Outcome: r.Outcome,
		Bad: r.Bad(), Stray: r.Stray, Write: r.Write, Again: r.Again, AskedIn: r.AskedIn, Answered: r.AnsweredIn,
		Function: r.Function,
		Station:  key.Station, At: where(key)}
	if r.Try > 1 {
		v.Try, v.First = r.Try, r.First
	}
	def, _ := protocol.Named(speaks)
	v.Answerer = v.At
	if key.Station >= 0 {
		v.Answerer = fmt.Sprintf("%s %d", def.StationWord(), key.Station)
		if key.Line == "" {
			v.Answerer += " at " + key.Answerer.Addr().String()
		}
	}
	if r.Latency >= 0 {
		v.LatencyMs = ms(r.Latency)
	}
	if r.Stray {
		v.Asks, v.Says = "", fmt.Sprintf("%d octets: %s", r.request+r.answer, r.Outcome)
		v.Outcome = ""
		return v
	}
	asked := capture.Heard{Function: r.Function, Range: r.Range, Write: r.Write}
	if _, ranges := def.Ranges(); !ranges && r.request > 0 && r.request <= mostRead {
		asked.Request, _, _ = x.Octets(r) // without them it is only less that is said
	}
	v.Asks = says(speaks, &asked)
	switch r.Outcome {
	case exchange.Answered:
		v.Says = fmt.Sprintf("%d octets", r.answer)
		if r.Write {
			v.Says = "taken"
		}
		if r.Overtaken {
			v.Says += ", after the next was asked"
		}
	case exchange.Declined:
		v.Says = fmt.Sprintf("%s (%d)", def.Decline(r.Code).Title, r.Code)
	default:
		v.Says = string(r.Outcome)
	}
	return v
}

// Part is one direction of an exchange, with its octets labelled.
type Part struct {
	Title  string           `json:"title"`
	AtMs   float64          `json:"atMs"`
	Packet int64            `json:"packet"`
	Octets []byte           `json:"-"`
	Hex    string           `json:"hex"`
	Fields []exchange.Field `json:"fields"`
}

// Detail is an exchange of a recording with its octets.
type Detail struct {
	Rung  Rung   `json:"rung"`
	Parts []Part `json:"parts"`
}

// Labels finds the points of the site that lie in a range, with what they read in the
// data, for labelling octets. It is the caller's, who knows the site.
type Labels func(talk judge.TalkKey, protocol string, r block.Range, data []byte) []exchange.Labelled

// Detail reads one exchange.
func (k *Kept) Detail(row int, labels Labels) (Detail, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	x, err := k.ready()
	if err != nil {
		return Detail{}, err
	}
	if row < 0 || row >= x.Rows {
		return Detail{}, problem.New("gone", "There is no such exchange in this recording.", "")
	}
	var r Row
	if err := x.each(row, func(_ int, found *Row) bool { r = *found; return false }); err != nil {
		return Detail{}, err
	}
	request, answer, err := x.Octets(&r)
	if err != nil {
		return Detail{}, err
	}
	d := Detail{Rung: x.rung(row, &r), Parts: []Part{}}
	speech := speechOf(x.Protocols[r.Talk])
	if len(request) > 0 {
		part := Part{Title: "Request", AtMs: d.Rung.AtMs, Packet: r.AskedIn, Hex: fmt.Sprintf("% X", request)}
		if speech != nil && speech.Question != nil {
			part.Fields = speech.Question(request)
		}
		d.Parts = append(d.Parts, part)
	}
	if len(answer) > 0 {
		part := Part{Title: "Answer", AtMs: d.Rung.AtMs + max(d.Rung.LatencyMs, 0), Packet: r.AnsweredIn,
			Hex: fmt.Sprintf("% X", answer)}
		if speech != nil && speech.Answer != nil {
			var points []exchange.Labelled
			if speech.Units != nil {
				if data := speech.Units(request, answer); data != nil {
					points = labels(x.Talks[r.Talk], x.Protocols[r.Talk], r.Range, data)
				}
			}
			part.Fields = speech.Answer(request, answer, points)
		}
		d.Parts = append(d.Parts, part)
	}
	for i := range d.Parts {
		if d.Parts[i].Fields == nil {
			d.Parts[i].Fields = []exchange.Field{}
		}
	}
	return d, nil
}
