// Package judge draws conclusions from traffic that somebody else's recording, or
// Ferry itself, has heard: what is wrong on the way, with the talk, and against the
// plan of a site. It is told what happened in its order, keeps counts and a few
// proofs of each kind, and so does not grow with the length of a recording.
package judge

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
)

// Bounds of what is told apart. What is beyond them is counted, and said.
const (
	mostTalks = 20_000
	mostHosts = 20_000
)

// Judge listens to a recording. It is not safe for concurrent use.
type Judge struct {
	Talks map[TalkKey]*Talk
	ends  map[endKey]*end
	lines map[string]*end // serial lines, by their names
	hosts map[netip.Addr]*host
	plan  *plan // of the site; nil without one
	last  time.Time
	first time.Time
	// knew is how an end numbered its names before the recording, numbered how it did since.
	knew     string
	numbered []Numbered
	since    time.Time // what passes counts from then on; zero for all of it
	beyond   int64     // exchanges of those that are too many to tell apart
	// notCaptured is how many octets the recording has not got.
	notCaptured int64
	writes      writes
	reports     reports
	remarks     remarks
	claims      claims
	handshakes  handshakes
	cycles      cycles
	recent      *Talk
}

// endKey is an address at which somebody answers.
type endKey struct {
	at        netip.AddrPort
	datagrams bool
}

// host is what is known of an address.
type host struct {
	spoke  bool // something came from it
	lookup proofs
	known  bool // somebody said which station has the address
	gone   proofs
	why    string // of a message that it cannot be reached
}

// New returns a judge. The site may be nil.
func New(s *site.Site) *Judge {
	return &Judge{Talks: map[TalkKey]*Talk{}, ends: map[endKey]*end{}, lines: map[string]*end{},
		hosts: map[netip.Addr]*host{}, plan: planOf(s), writes: writes{}, reports: reports{}, remarks: remarks{},
		handshakes: handshakes{}, cycles: cycles{}}
}

func (j *Judge) host(a netip.Addr) *host {
	h := j.hosts[a]
	if h == nil {
		h = &host{}
		if len(j.hosts) < mostHosts {
			j.hosts[a] = h
		}
	}
	return h
}

// Packet implements capture.Listener.
func (j *Judge) Packet(p *capture.Packet) {
	if j.first.IsZero() {
		j.first = p.At
	}
	if p.At.After(j.last) {
		j.last = p.At
	}
	switch p.Kind {
	case capture.IsAt:
		j.host(p.From.Addr()).known = true
	case capture.WhoHas:
		if p.From.Addr() != p.To.Addr() {
			j.host(p.To.Addr()).lookup.add(proof{at: p.At, packets: [2]int64{p.Number}})
		}
	case capture.Unreachable:
		h := j.host(p.To.Addr())
		h.why = p.Why
		h.gone.add(proof{at: p.At, packets: [2]int64{p.Number}, text: p.Why})
	}
}

// Until says that the recording goes on to a time, though nothing was said any more.
func (j *Judge) Until(at time.Time) {
	if at.After(j.last) {
		j.last = at
	}
}

// Since has what passes by itself (that values are doubtful, that something is not told) count from
// a time on alone.
func (j *Judge) Since(at time.Time) { j.since = at }

// Numbered is how an answering end numbered its names at a time.
type Numbered struct {
	At   time.Time
	Text string
}

// Knew has the one end whose recording this is have numbered its names so before it begins.
func (j *Judge) Knew(before string) { j.knew = before }

// Numbered lists how it did in the recording, one after the other.
func (j *Judge) Numbered() []Numbered { return j.numbered }

// Opened implements capture.Listener.
func (j *Judge) Opened(c *capture.Conn) {
	if c.Serial {
		return
	}
	j.host(c.Ends[0].Addr()).spoke = true
	j.host(c.Ends[1].Addr()).spoke = true
	if e := j.end(c); e != nil {
		e.open++
		e.most = max(e.most, e.open)
	}
}

// Heard implements capture.Listener.
func (j *Judge) Heard(c *capture.Conn, h *capture.Heard) {
	if h.Stray == capture.Plain || h.Stray == capture.Sealed {
		return
	}
	if h.Cycle != nil {
		j.cycles.hear(c, h)
		return
	}
	t := j.recent
	if t == nil || t.Key.Station != h.Station || t.Key.Answerer != c.Ends[capture.Answerer] ||
		t.Key.Asker != c.Ends[capture.Asker].Addr() || t.Key.Line != c.Name {
		if t = j.talk(c, h); t == nil {
			if h.Stray == "" {
				j.beyond++
			}
			return
		}
		j.recent = t
	}
	j.reports.alive(c, h)
	if h.Report != nil {
		j.reports.hear(j.plan, c, t, h)
	}
	if len(h.Remarks) > 0 {
		j.remarks.hear(j, c, t, h)
	}
	if h.Stray != "" {
		if h.Cause == exchange.TwoStations {
			t.twice.add(proofOf(h, h.Stray))
		}
		return
	}
	if t.Key.Line == "" {
		t.onConn(c, h)
	}
	t.end.spoke = true
	t.hear(h)
	if h.Write || len(j.writes) > 0 {
		j.writes.hear(t, h)
	}
	j.handshakes.hear(t, h)
	if h.Opening != nil {
		j.cycles.opening(c, t, h)
	}
	for _, n := range h.Named {
		if j.plan == nil {
			break
		}
		if why := j.plan.unreadable(t, n.Name, n.Payload); why != "" {
			t.unfit.add(proofOf(h, n.Name+": "+why))
		}
	}
	if j.plan != nil {
		j.plan.values(t, h)
	}
	for i := range h.More {
		part := *h
		part.Range, part.Data, part.Outcome, part.More = h.More[i].Range, h.More[i].Data, exchange.Answered, nil
		t.request(&part)
		t.accept(&part)
		if j.plan != nil {
			j.plan.values(t, &part)
		}
	}
}

// talk finds or makes what is kept of one who asks a station of one who answers.
func (j *Judge) talk(c *capture.Conn, h *capture.Heard) *Talk {
	key := TalkKey{c.Ends[capture.Asker].Addr(), c.Ends[capture.Answerer], h.Station, c.Name}
	t := j.Talks[key]
	if t == nil {
		if len(j.Talks) >= mostTalks || h.Stray != "" && h.Station < 0 {
			return nil
		}
		e := j.lines[c.Name]
		if !c.Serial {
			if e = j.end(c); e == nil {
				return nil
			}
		}
		if e == nil {
			e = &end{}
			j.lines[c.Name] = e
		}
		if e.stations == nil {
			e.stations = map[int]bool{}
		}
		e.protocol = c.Speech.Protocol
		t = &Talk{Key: key, Protocol: c.Speech.Protocol, First: j.last, end: e}
		j.Talks[key] = t
		e.talks = append(e.talks, t)
	}
	return t
}

// Done implements capture.Listener.
func (j *Judge) Done(c *capture.Conn) {
	if c.Serial {
		return
	}
	e := j.end(c)
	if e == nil {
		return
	}
	if c.Ending == capture.Turned {
		j.host(c.Ends[1].Addr()).spoke = true
	}
	j.notCaptured += c.Missed[0] + c.Missed[1]
	e.done(c, j.last)
	if (!c.Greeted.IsZero() || !c.Opened()) && e.open > 0 {
		e.open--
	}
}

// Findings returns what is wrong, the worst first. It may be asked for as often as
// one likes, while the recording goes on.
func (j *Judge) Findings() []finding.Finding {
	found := []finding.Finding{}
	silent := map[netip.Addr]bool{}
	for _, key := range sorted(j.ends, func(k endKey) string { return k.at.String() }) {
		e := j.ends[key]
		for _, f := range j.path(e) {
			if f.Code == "host-silent" {
				if silent[e.at.Addr()] {
					continue // one host that is not there is one thing that is wrong
				}
				silent[e.at.Addr()] = true
			}
			found = append(found, f)
		}
	}
	for _, t := range j.Sorted() {
		found = append(found, j.talking(t)...)
	}
	found = append(found, j.writes.findings(j)...)
	found = append(found, j.reports.findings(j)...)
	found = append(found, j.remarks.findings(j)...)
	found = append(found, j.claims.findings(j)...)
	found = append(found, j.handshakes.findings(j)...)
	found = append(found, Shared(j.cycles.findings(j), j.cycles.senders())...)
	if j.plan != nil {
		found = append(found, j.plan.findings(j)...)
	}
	found = causes(j.silentLines(found))
	for i := range found {
		found[i].Where = "traffic"
		found[i].Title, found[i].Sentence = upper(found[i].Title), upper(found[i].Sentence)
		if found[i].Evidence == nil {
			found[i].Evidence = []string{}
		}
	}
	finding.Sort(found)
	return found
}

// causes leaves out what follows from something else that was found of the same subject.
func causes(found []finding.Finding) []finding.Finding {
	of := map[string]bool{}
	for _, f := range found {
		of[f.Code+" "+f.Subject.ID] = true
	}
	return slices.DeleteFunc(found, func(f finding.Finding) bool {
		// A map that the device has not got is refused.
		return f.Code == "exception-address" && of["map-differs "+f.Subject.ID]
	})
}

// Sorted lists the talks by who answers, station and who asks.
func (j *Judge) Sorted() []*Talk {
	list := make([]*Talk, 0, len(j.Talks))
	for _, t := range j.Talks {
		list = append(list, t)
	}
	slices.SortFunc(list, func(a, b *Talk) int {
		return cmp.Or(a.Key.Answerer.Compare(b.Key.Answerer), cmp.Compare(a.Key.Station, b.Key.Station),
			a.Key.Asker.Compare(b.Key.Asker))
	})
	return list
}

// Said is what a recording could not be used for, as sentences; none if all could.
func (j *Judge) Said() []string {
	var said []string
	if j.beyond > 0 {
		said = append(said, fmt.Sprintf("More than %d pairs of ends talk: %d exchanges of the others are counted, and "+
			"not judged.", mostTalks, j.beyond))
	}
	if j.notCaptured > 0 {
		said = append(said, fmt.Sprintf("%d octets went over the wire and are not in the recording. What needs them is "+
			"not judged.", j.notCaptured))
	}
	return said
}

// upper begins a text with a capital letter.
func upper(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

func sorted[K comparable, V any](of map[K]V, name func(K) string) []K {
	keys := make([]K, 0, len(of))
	for k := range of {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b K) int { return cmp.Compare(name(a), name(b)) })
	return keys
}
