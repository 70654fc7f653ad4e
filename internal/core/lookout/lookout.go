// Package lookout decides when a condition that somebody looks out for begins, and
// when it is over. It is told what is known of a running site, and the time.
package lookout

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Reading is what is known of a point.
type Reading struct {
	Value   value.Value
	Shown   string // with its unit
	Quality value.Quality
	Reason  string
	AtMs    int64 // when it was read, in milliseconds since 1970
	// ChangedMs is when it last became another value.
	ChangedMs int64
}

// Out is how a link that brings nothing fails.
type Out struct {
	FromMs int64
	How    exchange.Outcome
	Why    string
}

// Seen is what is known of a site at one moment.
type Seen struct {
	// Runs reports whether a link is asked at all.
	Runs func(link string) bool
	// Findings are those of what was exchanged, and of crossings and lists at work.
	Findings []finding.Finding
	// Out is since when a link brings nothing, nil while it brings something.
	Out func(link string) *Out
	// Point is what is known of a point, nil for nothing.
	Point func(id string) *Reading
	// Latency is how long the last answers of a link took, in milliseconds; false
	// where there was none of late.
	Latency func(link string) (ms float64, ok bool)
	// Zone is that in which times are told; nil for UTC.
	Zone *time.Location
}

// clock shows a time of the day.
func (s *Seen) clock(ms int64) string {
	at := time.UnixMilli(ms).UTC()
	if s.Zone != nil {
		at = at.In(s.Zone)
	}
	return at.Format("15:04:05")
}

// Event is one time for which a condition held.
type Event struct {
	ID      string          `json:"id"`
	Lookout string          `json:"lookout"`
	Name    string          `json:"name"` // of the lookout
	Subject finding.Subject `json:"subject"`
	StartMs int64           `json:"startMs"` // since when it was so
	// EndMs is when it was over, 0 while it is not.
	EndMs int64 `json:"endMs"`
	// Says is what and where, with the value that says so; Ended how it ended.
	Says  string `json:"says"`
	Ended string `json:"ended,omitempty"`
	// Code of the finding, or how the link failed.
	Code string `json:"code,omitempty"`
	// Sound is set where browsers sound.
	Sound bool `json:"sound,omitempty"`
	// Tell are the outlets that are told, by their ids.
	Tell []string `json:"tell,omitempty"`
}

// Over reports whether it is over.
func (e *Event) Over() bool { return e.EndMs != 0 }

// mostOpen bounds the times of one lookout that are open at once: where hundreds of
// things fail together, the others are counted in the last of them.
const mostOpen = 50

// sighting is that a condition holds for one subject.
type sighting struct {
	key     string
	subject finding.Subject
	since   int64
	says    string
	code    string
}

// spell is what is remembered of a condition for one subject.
type spell struct {
	since int64
	clear int64  // since when it is over, 0 while it is not
	event *Event // nil until it has been so for long enough
}

// Watch follows the lookouts of a site.
type Watch struct {
	spells map[string]map[string]*spell // by lookout and subject
	conds  map[string]condition         // as they were looked for
	more   map[string]int               // sightings that were not opened, by lookout
	ids    int
	stamp  string
}

// condition is what a lookout looks for, without how long and what is done.
type condition struct {
	sees      site.Sees
	of, code  string
	notes     bool
	low, high float64
	bounds    [2]bool
	above     float64
}

func conditionOf(l *site.Lookout) condition {
	c := condition{sees: l.Sees, of: l.Of, code: l.Code, notes: l.Notes, above: l.AboveMs}
	if l.Low != nil {
		c.low, c.bounds[0] = *l.Low, true
	}
	if l.High != nil {
		c.high, c.bounds[1] = *l.High, true
	}
	return c
}

// NewWatch begins; the ids of its events begin with stamp, which no other has.
func NewWatch(stamp string) *Watch {
	return &Watch{spells: map[string]map[string]*spell{}, conds: map[string]condition{}, more: map[string]int{},
		stamp: stamp}
}

// Look returns the events that began or ended, as they then are. Each is told twice
// at most: when it begins and when it is over.
func (w *Watch) Look(nowMs int64, s *site.Site, seen *Seen) (told []Event) {
	for i := range s.Lookouts {
		l := &s.Lookouts[i]
		if l.Off {
			continue
		}
		if now := conditionOf(l); w.conds[l.ID] != now {
			if spells := w.spells[l.ID]; spells != nil {
				told = append(told, w.endAll(l.ID, spells, nowMs, "Its condition was changed.")...)
			}
			w.conds[l.ID] = now
		}
		told = append(told, w.look(nowMs, s, l, seen)...)
	}
	for id, spells := range w.spells {
		if l := s.Lookout(id); l == nil || l.Off {
			told = append(told, w.endAll(id, spells, nowMs, "It is no longer looked out for.")...)
		}
	}
	order(told)
	return told
}

// order puts events in the order in which they began.
func order(events []Event) {
	slices.SortFunc(events, func(a, b Event) int {
		return cmp.Or(cmp.Compare(a.StartMs, b.StartMs),
			cmp.Compare(a.ID, b.ID))
	})
}

// End ends every event, as when the run or the mode does.
func (w *Watch) End(now int64, why string) (told []Event) {
	for id, spells := range w.spells {
		told = append(told, w.endAll(id, spells, now, why)...)
	}
	order(told)
	return told
}

func (w *Watch) endAll(lookout string, spells map[string]*spell, now int64, why string) (told []Event) {
	for _, sp := range spells {
		if sp.event != nil {
			sp.event.EndMs, sp.event.Ended = max(now, sp.event.StartMs+1), why
			told = append(told, *sp.event)
		}
	}
	delete(w.spells, lookout)
	delete(w.conds, lookout)
	delete(w.more, lookout)
	return told
}

// Open returns the events that are not over.
func (w *Watch) Open() (open []Event) {
	for _, spells := range w.spells {
		for _, sp := range spells {
			if sp.event != nil {
				open = append(open, *sp.event)
			}
		}
	}
	order(open)
	return open
}

// look looks for what one lookout looks out for.
func (w *Watch) look(now int64, s *site.Site, l *site.Lookout, seen *Seen) (told []Event) {
	spells := w.spells[l.ID]
	if spells == nil {
		spells = map[string]*spell{}
		w.spells[l.ID] = spells
	}
	there, watched := sightings(now, s, l, seen)
	held := make(map[string]bool, len(there))
	open := 0
	for _, sp := range spells {
		if sp.event != nil {
			open++
		}
	}
	more := 0
	for _, g := range there {
		held[g.key] = true
		sp := spells[g.key]
		if sp == nil {
			sp = &spell{since: min(g.since, now)}
			spells[g.key] = sp
		}
		sp.clear = 0
		if sp.event != nil || now-sp.since < int64(l.ForMs) {
			continue
		}
		if open >= mostOpen {
			more++
			continue
		}
		open++
		w.ids++
		sp.event = &Event{ID: fmt.Sprintf("%s-%06d", w.stamp, w.ids), Lookout: l.ID, Name: l.Name, Subject: g.subject,
			StartMs: sp.since, Says: g.says, Code: g.code, Sound: l.Sound, Tell: slices.Clone(l.Tell)}
		told = append(told, *sp.event)
	}
	if more > 0 && w.more[l.ID] == 0 && len(told) > 0 {
		last := &told[len(told)-1]
		last.Says += fmt.Sprintf(" So it is with %d more, which are not told one by one.", more)
		spells[keyOf(there, last.Subject)].event.Says = last.Says
	}
	w.more[l.ID] = more
	for key, sp := range spells {
		if held[key] {
			continue
		}
		if why := watched(key); why != "" {
			delete(spells, key)
			if sp.event != nil {
				sp.event.EndMs, sp.event.Ended = max(now, sp.event.StartMs+1), why
				told = append(told, *sp.event)
			}
			continue
		}
		if sp.clear == 0 {
			sp.clear = now
		}
		if sp.event == nil {
			delete(spells, key) // it did not last
			continue
		}
		if now-sp.clear < int64(l.EndMs) {
			continue
		}
		delete(spells, key)
		sp.event.EndMs = max(sp.clear, sp.event.StartMs+1)
		sp.event.Ended = "Over after " + Lasted(sp.event.EndMs-sp.event.StartMs) + "."
		if ended := nowSays(s, l, seen, key); ended != "" {
			sp.event.Ended += " " + ended
		}
		told = append(told, *sp.event)
	}
	return told
}

func keyOf(there []sighting, subject finding.Subject) string {
	for i := range there {
		if there[i].subject == subject {
			return there[i].key
		}
	}
	return ""
}

// nowSays is how the value reads once it is as it should be.
func nowSays(s *site.Site, l *site.Lookout, seen *Seen, key string) string {
	if !l.Sees.OfPoints() {
		return ""
	}
	if r := seen.Point(key); r != nil && r.Quality == value.Good {
		return "It reads " + r.Shown + "."
	}
	return ""
}

// sightings are the subjects for which a condition holds now. watched says of a subject
// of before why it is no longer looked at; empty where it is.
func sightings(now int64, s *site.Site, l *site.Lookout, seen *Seen) (there []sighting, watched func(string) string) {
	watched = func(string) string { return "" }
	stopped := func(link string) string {
		if !seen.Runs(link) {
			return "It is no longer asked."
		}
		return ""
	}
	switch {
	case l.Sees == site.SeesFinding:
		return findings(s, l, seen, now), watched
	case l.Sees == site.SeesDown:
		l.Links(s, func(k *site.Link) bool {
			if out := seen.Out(k.ID); out != nil && seen.Runs(k.ID) {
				there = append(there, sighting{key: k.ID, subject: linkSubject(s, k), since: out.FromMs, code: string(out.How),
					says: fmt.Sprintf("%s brings nothing since %s: %s", nameOf(s, k), seen.clock(out.FromMs), reason(out))})
			}
			return true
		})
		return there, stopped
	case l.Sees == site.SeesSlow:
		l.Links(s, func(k *site.Link) bool {
			if ms, ok := seen.Latency(k.ID); ok && ms > l.AboveMs && seen.Runs(k.ID) {
				there = append(there, sighting{key: k.ID, subject: linkSubject(s, k), since: now,
					says: fmt.Sprintf("%s answers after %.0f ms, over %g ms.", nameOf(s, k), ms, l.AboveMs)})
			}
			return true
		})
		return there, stopped
	}
	points := []string{l.Of}
	if d := s.Device(l.Of); d != nil {
		points = points[:0]
		for i := range d.Points {
			points = append(points, d.Points[i].ID)
		}
	}
	for _, id := range points {
		d, p := s.Point(id)
		if p == nil {
			continue
		}
		if g, ok := ofPoint(now, l, d, p, seen); ok {
			there = append(there, g)
		}
	}
	return there, func(id string) string {
		d, p := s.Point(id)
		switch {
		case p == nil:
			return "The point is no longer in the site."
		case !asked(s, d, p, seen):
			return "It is no longer asked."
		}
		if r := seen.Point(id); l.Sees != site.SeesBad &&
			(r == nil || r.Quality != value.Good && r.Quality != value.Doubtful) {
			return "It can no longer be read."
		}
		return ""
	}
}

// asked reports whether any link that brings a point runs.
func asked(s *site.Site, d *site.Device, p *site.Point, seen *Seen) bool {
	for i := range s.Links {
		if k := &s.Links[i]; k.Answering == d.ID && (p.Link == "" || p.Link == k.ID) && seen.Runs(k.ID) {
			return true
		}
	}
	return d.Served()
}

// ofPoint reports whether a point is as a lookout looks out for.
func ofPoint(now int64, l *site.Lookout, d *site.Device, p *site.Point, seen *Seen) (sighting, bool) {
	r := seen.Point(p.ID)
	g := sighting{key: p.ID, since: now, subject: finding.Subject{Kind: "point", ID: p.ID, Device: d.ID,
		Name: d.Name + " · " + p.Name}}
	if r == nil || r.Quality == value.NotRead {
		return g, false
	}
	name := g.subject.Name
	switch l.Sees {
	case site.SeesBad:
		if r.Quality == value.Good {
			return g, false
		}
		g.says = fmt.Sprintf("%s is %s: %s", name, r.Quality, sentence(r.Reason))
		return g, true
	case site.SeesStill:
		// Of a value that does not come nothing is known.
		if r.Quality == value.Bad || r.ChangedMs == 0 || now-r.ChangedMs < int64(l.ForMs) {
			return g, false
		}
		g.since = r.ChangedMs
		g.says = fmt.Sprintf("%s stands at %s since %s.", name, r.Shown, seen.clock(r.ChangedMs))
		return g, true
	}
	if r.Quality == value.Bad || r.Value.IsNone() || r.Value.Kind() == value.Text {
		return g, false
	}
	switch v := r.Value.Float(); {
	case l.Low != nil && v < *l.Low:
		g.says = fmt.Sprintf("%s reads %s, below %g.", name, r.Shown, *l.Low)
	case l.High != nil && v > *l.High:
		g.says = fmt.Sprintf("%s reads %s, above %g.", name, r.Shown, *l.High)
	default:
		return g, false
	}
	return g, true
}

// findings are those that a lookout looks out for. One that repeats is one.
func findings(s *site.Site, l *site.Lookout, seen *Seen, now int64) (there []sighting) {
	known := map[string]bool{}
	for i := range seen.Findings {
		f := &seen.Findings[i]
		if l.Code != "" && f.Code != l.Code || l.Code == "" && f.Severity == finding.Note && !l.Notes {
			continue
		}
		if l.Of != "" && !about(s, l.Of, &f.Subject) || known[f.Key()] {
			continue
		}
		known[f.Key()] = true
		g := sighting{key: f.Key(), subject: f.Subject, since: now, code: f.Code, says: f.Subject.Name + ": " + f.Sentence}
		if f.Subject.Name == "" || strings.HasPrefix(f.Sentence, f.Subject.Name) {
			g.says = f.Sentence
		}
		there = append(there, g)
	}
	return there
}

// about reports whether a subject is something, or belongs to it.
func about(s *site.Site, of string, subject *finding.Subject) bool {
	if subject.ID == of || subject.Device == of {
		return true
	}
	if k := s.Link(subject.ID); k != nil {
		return k.Line == of || k.Answering == of
	}
	for i := range s.Links { // of a device, or a point of one
		if k := &s.Links[i]; (k.Answering == subject.Device || k.Answering == subject.ID) && (k.Line == of || k.ID == of) {
			return true
		}
	}
	return false
}

func linkSubject(s *site.Site, k *site.Link) finding.Subject {
	return finding.Subject{Kind: "link", ID: k.ID, Device: k.Answering, Name: nameOf(s, k)}
}

// nameOf is how a person calls a link: by what answers.
func nameOf(s *site.Site, k *site.Link) string {
	if d := s.Device(k.Answering); d != nil {
		return d.Name
	}
	return k.ID
}

// sentence makes one of a text.
func sentence(text string) string {
	text = strings.TrimSpace(text)
	if text == "" {
		return "no reason is known."
	}
	if !strings.ContainsAny(text[len(text)-1:], ".!?") {
		text += "."
	}
	return text
}

// Lasted says how long something was, in words.
func Lasted(ms int64) string {
	d := time.Duration(ms) * time.Millisecond
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// reason is why a link brings nothing: where that is known, and else what was seen.
func reason(out *Out) string {
	switch out.How {
	case exchange.Unreached, exchange.Refused, exchange.NoSuchName:
		return cause(out.How) + "."
	}
	return sentence(out.Why)
}

// cause puts into words where a link fails.
func cause(how exchange.Outcome) string {
	switch how {
	case exchange.Unreached, exchange.NoSuchName:
		return "the network path was gone (the host did not answer)"
	case exchange.Refused:
		return "the path was there, and the host refused: nobody listened on its port"
	case exchange.NoAnswer:
		return "it was connected, and the device said nothing"
	case exchange.Declined:
		return "the far end was there, and let nobody in"
	case exchange.Reported:
		return "it was there, and what is behind it was not"
	case exchange.Reset, exchange.Closed:
		return "the connection was ended by the far end"
	case exchange.Garbled:
		return "what came was no answer"
	case exchange.PortAbsent, exchange.PortOwned, exchange.PortDenied:
		return "the serial port of this machine could not be opened"
	}
	return "it was not answered"
}
