// Package diagnose draws conclusions from what is seen on the links of a site:
// exchanges go in one by one, findings come out.
package diagnose

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/habit"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Window is how far back exchanges count as evidence.
const Window = 30 * time.Second

// kept bounds the exchanges remembered for each link.
const kept = 512

// seen is what is kept of one exchange.
type seen struct {
	at       time.Time
	seq      uint64
	outcome  exchange.Outcome
	cause    exchange.Cause
	code     int
	ranges   []block.Range
	latency  float64
	sentence string
	op       string
	lateMs   float64
	doubt    string
	manner   exchange.Manner
}

// Diagnosis collects the evidence of a site. It is not safe for concurrent
// use, and knows no time but that of what it is shown.
type Diagnosis struct {
	links  map[string]*[]seen
	silent map[string]seen // the last question that decides nothing and got no answer, by link
	points map[string]*Habit
}

// Habit remembers how a point used to change.
type Habit struct {
	last    value.Value
	changed time.Time
	read    time.Time
	changes int
	// commanded is set for a point that others write: it changes when they do.
	commanded bool
	intervals time.Duration // sum of the times between changes
	// ahead is by how much the device's own time of the last value was ahead, and apart
	// in how many values in a row it was so by the same.
	ahead time.Duration
	apart int
}

// New returns an empty diagnosis.
func New() *Diagnosis {
	return &Diagnosis{links: map[string]*[]seen{}, silent: map[string]seen{}, points: map[string]*Habit{}}
}

// Exchange takes in one exchange.
func (d *Diagnosis) Exchange(e *exchange.Exchange) {
	if e.Optional && e.Outcome != exchange.Answered {
		if e.Outcome == exchange.NoAnswer {
			d.silent[e.Link] = seen{at: e.At, seq: e.Seq, outcome: e.Outcome, op: e.Operation, latency: e.LatencyMs}
		}
		return // it decides nothing
	}
	if e.Connecting && e.Outcome == exchange.Answered && e.Manner == 0 {
		return // what is asked over it tells
	}
	of := d.links[e.Link]
	if of == nil {
		of = &[]seen{}
		d.links[e.Link] = of
	}
	list := *of
	if n := len(list); n >= 32 && n == cap(list) {
		// Before it grows, what is too old to count makes room.
		first, _ := slices.BinarySearchFunc(list, e.At.Add(-Window),
			func(s seen, t time.Time) int { return s.at.Compare(t) })
		list = slices.Delete(list, 0, first)
	}
	if len(list) >= kept {
		list = slices.Delete(list, 0, kept/2)
	}
	*of = append(list, seen{e.At, e.Seq, e.Outcome, e.Cause, e.Code, e.Ranges, e.LatencyMs, e.Sentence, e.Operation,
		e.AnswerLateMs, e.Doubt, e.Manner})
}

// Follow returns the habit of a point, to which its values are shown.
func (d *Diagnosis) Follow(p *site.Point) *Habit {
	t := d.points[p.ID]
	if t == nil {
		t = &Habit{}
		d.points[p.ID] = t
	}
	t.commanded = p.Access != site.ReadOnly
	return t
}

// See takes in one good value of the point, and reports since when it has
// stood still, if that is against its habit.
func (t *Habit) See(v value.Value, at time.Time) (since time.Time, still bool) {
	if t.read.IsZero() {
		t.last, t.changed, t.read = v, at, at
		return time.Time{}, false
	}
	t.read = at
	if v != t.last {
		if t.changes > 0 {
			t.intervals += at.Sub(t.changed)
		}
		t.changes++
		t.last, t.changed = v, at
	}
	since, _, still = t.stoodStill()
	return since, still
}

// Forget drops all evidence of a link and of the points of its device, as when
// a run begins anew.
func (d *Diagnosis) Forget(link string, device *site.Device) {
	delete(d.links, link)
	delete(d.silent, link)
	for i := range device.Points {
		if t := d.points[device.Points[i].ID]; t != nil {
			*t = Habit{commanded: t.commanded}
		}
	}
}

// usual returns the usual time between two changes of the point, if it has
// changed often enough to have one.
func (t *Habit) usual() (time.Duration, bool) {
	if t.changes < 4 {
		return 0, false
	}
	return t.intervals / time.Duration(t.changes-1), true
}

// stoodStill reports since when the point has not changed, if that is far
// longer than usual.
func (t *Habit) stoodStill() (since time.Time, usual time.Duration, still bool) {
	usual, ok := t.usual()
	if !ok || t.commanded {
		return time.Time{}, 0, false
	}
	return t.changed, usual, t.read.Sub(t.changed) > max(6*time.Second, 6*usual)
}

// KeepOnly forgets points and links that are not among those given.
func (d *Diagnosis) KeepOnly(points, links map[string]bool) {
	maps.DeleteFunc(d.points, func(id string, _ *Habit) bool { return !points[id] })
	maps.DeleteFunc(d.links, func(id string, _ *[]seen) bool { return !links[id] })
	maps.DeleteFunc(d.silent, func(id string, _ seen) bool { return !links[id] })
}

// Findings returns what is wrong, worst first, as of now.
func (d *Diagnosis) Findings(s *site.Site, now time.Time) []finding.Finding {
	found := []finding.Finding{}
	for i := range s.Links {
		found = append(found, d.OfLink(s.Links[i].ID, now).Findings(s, &s.Links[i], habit.Device{})...)
	}
	for i := range s.Devices {
		habits := d.OfDevice(&s.Devices[i])
		found = append(found, Still(&s.Devices[i], habits)...)
		found = append(found, Awaiting(s, &s.Devices[i], habits)...)
	}
	return Join(found)
}

// Evidence is what was seen of one link within the Window, the oldest first: a
// copy, which can be judged while more comes in.
type Evidence []seen

// OfLink returns the evidence of a link as of now.
func (d *Diagnosis) OfLink(link string, now time.Time) Evidence {
	var recent []seen
	if of := d.links[link]; of != nil {
		recent = *of
	}
	first, _ := slices.BinarySearchFunc(recent, now.Add(-Window),
		func(e seen, t time.Time) int { return e.at.Compare(t) })
	return slices.Clone(recent[first:])
}

// OfDevice returns a copy of the habit of each point of a device, in their
// order; one that is not known is the zero Habit.
func (d *Diagnosis) OfDevice(device *site.Device) []Habit {
	habits := make([]Habit, len(device.Points))
	for i := range device.Points {
		if t := d.points[device.Points[i].ID]; t != nil {
			habits[i] = *t
		}
	}
	return habits
}

// symptom is one way in which exchanges fail.
type symptom struct {
	code    string
	outcome exchange.Outcome
	// cause narrows it to what the octets look like; "" is all that no other
	// symptom takes.
	cause  exchange.Cause
	title  string // %s is the device
	means  string
	remedy string
	// access are the kinds of access that would explain it.
	access []site.AccessKind
}

var symptoms = []symptom{
	{"port-refused", exchange.Refused, "", "Nobody listens at %s",
		"the machine is there and refuses the connection: no program listens on %s.",
		"Start the server task in the device, and compare the port at both ends. A firewall may refuse in its place.",
		[]site.AccessKind{site.AccessServer, site.AccessFirewall, site.AccessRestart}},
	{"host-silent", exchange.Unreached, "", "%s cannot be reached", "the connection to %s gets no answer at all.",
		"Check power, cable and address, that the laptop is in the same subnet, and that no firewall " +
			"swallows the port.", []site.AccessKind{site.AccessFirewall}},
	{"no-such-name", exchange.NoSuchName, "", "The name of %s cannot be resolved",
		"its host name has no address for %s (%s).",
		"Compare how the name is written, or give the address in numbers.", nil},
	{"connection-dropped", exchange.Reset, "", "%s throws the connection out",
		"it accepts the connection and tears it down at once (%s).",
		"It may have all its connections taken: close other clients. It may also allow only certain addresses.",
		[]site.AccessKind{site.AccessRemote}},
	{"connection-dropped", exchange.Closed, "", "%s hangs up", "it ends the connection in place of an answer (%s).",
		"Look for an idle time limit or a limit on connections in the device, and for a second client.",
		[]site.AccessKind{site.AccessRemote}},
	{"no-answer", exchange.NoAnswer, "", "%s does not answer in time",
		"it was asked and no answer comes within the limit (%s).",
		"[Check the {station} number first: a device stays silent for numbers that are not its own, and on a serial " +
			"line for settings that are not. ]Look at its load, and at the time limit. One that serves one client at a " +
			"time lets others wait without a word: is another connected?",
		[]site.AccessKind{site.AccessRemote, site.AccessServer, site.AccessMode, site.AccessRestart}},
	{"gone-quiet", exchange.NoAnswer, exchange.Quiet, "%s has gone quiet",
		"it is to give a sign of life in time and does not (%s).",
		"Look whether the device is in run mode, and whether another end has taken what it reports.",
		[]site.AccessKind{site.AccessMode, site.AccessRestart}},
	{"not-asked", exchange.NotAllowed, "", "%s is not asked",
		"Ferry itself does not ask it, as the evidence says (%s).",
		"Put right what the evidence names, and start its run again.", nil},
	{"not-trusted", exchange.NotAllowed, exchange.Insecure, "%s is not trusted",
		"the certificate that it shows is none that this end trusts, and nothing more was said to it (%s).",
		"Compare the fingerprint with that at the device itself, and trust the certificate if it is the same.", nil},
	{"port-absent", exchange.PortAbsent, "", "%s has no port to be asked by",
		"this machine has not got the serial port that its line is asked by (%s).",
		"Plug the adapter in, or choose another port in the panel of the line.", nil},
	{"port-owned", exchange.PortOwned, "", "The port to %s is taken",
		"another program has the serial port of its line open (%s).",
		"Close that program. A port that two have open loses bytes to both.", nil},
	{"port-denied", exchange.PortDenied, "", "The port to %s may not be opened",
		"this user may not open the serial port of its line (%s).",
		"Have the user put into the group that may, and log in anew.", nil},
	{"wrong-serial-settings", exchange.Garbled, exchange.Format, "%s is set to another format",
		"bytes come back and no frame passes its check: they look like another baud rate or parity (%s).",
		"Compare baud, parity and stop bits at both ends; sweep the usual settings to be sure.", nil},
	{"duplicate-unit", exchange.Garbled, exchange.TwoStations, "Two devices answer in the place of %s",
		"two answers come to one question (%s): a {station} number is given twice.",
		"Take one of the two off the line, and give it a number of its own.", nil},
	{"answer-mismatch", exchange.Garbled, exchange.OtherStation, "Another {station} answers for %s",
		"a right frame comes from a {station} that was not asked (%s).",
		"Compare the number on the device with the map: one of the two is wrong.", nil},
	{"frame-torn", exchange.Garbled, exchange.CutShort, "Answers of %s break off",
		"a frame begins and the rest of it does not come (%s).",
		"Bytes are lost on the way: look at the adapter, its driver, and at termination.", nil},
	{"check-failed", exchange.Garbled, exchange.Check, "Answers of %s fail their check",
		"answers of the right length come with wrong octets (%s).",
		"Look at termination, bias, shield and earth of the line, and at what is switched near it. No value was taken " +
			"from them.", nil},
	{"noise", exchange.Garbled, exchange.Noise, "Noise spoils answers of %s",
		"octets come back that do not pass (%s).",
		"Look at termination, bias, shield and earth of the line, and at what is switched near it. No value was taken " +
			"from them.", nil},
	{"tls-failed", exchange.Garbled, exchange.Insecure, "TLS with %s does not come about",
		"TLS is broken off before anything is said under it (%s).",
		"Compare whom each end trusts, the name and the dates of the certificate, both clocks, and whether the other end " +
			"wants a certificate of this one.", nil},
	{"answer-mismatch", exchange.Garbled, "", "%s sends what is no answer",
		"bytes come back that do not answer the request (%s).",
		"Check that the port speaks this protocol, and that no second client's answers are mixed in. On a serial " +
			"line look for noise. No value was taken from them.", nil},
	{"in-pieces", exchange.Answered, exchange.InPieces, "Answers of %s come in pieces",
		"the answer is right but has a pause inside (%s), by which the standard lets a frame be lost.",
		"Look at the device's load, or at the adapter between: another asker will not take such answers.", nil},
	{"connection-dropped", exchange.Answered, exchange.Redone, "%s hangs up on questions",
		"it ends the connection under the question, and answers when asked again over another (%s).",
		"Look for a limit on connections in the device, and for a second client.", []site.AccessKind{site.AccessRemote}},
	{"told-too-often", exchange.Answered, exchange.Flooded, "%s says the same again and again",
		"it says that it is there, though nobody asks (%s).",
		"Look whether two routers join the same networks, so that what goes to all runs in circles, and what asks it again and again.", nil},
	{"changes-untold", exchange.Answered, exchange.Untold, "%s does not tell of changes",
		"it agreed to tell of them, and values are others by now (%s).",
		"Look whether it restarted: it may forget who subscribed. Ferry has subscribed anew, and reads the values beside. If " +
			"it comes again, have the values asked for at a pace.", nil},
	{"type-differs", exchange.Answered, exchange.Unfitting, "%s has values of another type",
		"what comes is of another type than the map says (%s).",
		"Set the type of the point to that of the device: what is read as another is another value.", nil},
	{"echo", exchange.Answered, exchange.Echo, "The adapter to %s hears what it sends",
		"the question came back before its answer (%s).",
		"Switch the echo off in the adapter, or leave it: Ferry takes it away. Other askers may not.", nil},
}

// ofStation puts the protocol's word for a station into a text, and leaves out what
// stands in brackets where it has none.
func ofStation(text string, def *protocol.Def) string {
	if from, to := strings.IndexByte(text, '['), strings.IndexByte(text, ']'); from >= 0 && to > from {
		within := text[from+1 : to]
		if def.Station == "" {
			within = ""
		}
		text = text[:from] + within + text[to+1:]
	}
	return strings.ReplaceAll(text, "{station}", def.StationWord())
}

// shows reports whether an exchange is of the symptom.
func (sy *symptom) shows(e *seen) bool {
	if e.outcome != sy.outcome {
		return false
	}
	if sy.cause != "" {
		return e.cause == sy.cause
	}
	if e.cause == exchange.Others || e.cause == exchange.Late {
		return true
	}
	for i := range symptoms {
		if other := &symptoms[i]; other.outcome == sy.outcome && other.cause != "" && other.cause == e.cause {
			return false
		}
	}
	return true
}

// Findings returns what the evidence shows of a link, whose device is known for
// what was learned of it.
func (recent Evidence) Findings(s *site.Site, link *site.Link, learned habit.Device) []finding.Finding {
	recent = recent.explained(learned)
	device := s.Device(link.Answering)
	def, ok := protocol.Named(link.Protocol)
	if device == nil || !ok || len(recent) == 0 {
		return recent.Habits(s, link, learned)
	}
	subject := finding.Subject{Kind: "link", ID: link.ID, Device: device.ID, Name: device.Name}
	target := Target(s, link)
	lastGood := -1
	for i, e := range recent {
		if e.outcome == exchange.Answered || e.outcome == exchange.Declined {
			lastGood = i
		}
	}
	var found []finding.Finding
	slow := recent.late(link, device, def, subject)
	if slow != nil {
		found = append(found, *slow)
	}
	others := recent.others(s, link)
	for _, sy := range symptoms {
		if slow != nil && sy.code == "no-answer" {
			continue // it answers, but too late
		}
		var hits []seen
		last := -1
		for i, e := range recent {
			if sy.shows(&e) {
				hits = append(hits, e)
				last = i
			}
		}
		if len(hits) == 0 {
			continue
		}
		worst := hits[len(hits)-1]
		f := finding.Finding{
			Code: sy.code, Severity: finding.Fault, Sure: 1, Count: len(hits), Subject: subject, Where: "traffic",
			Title:    fmt.Sprintf(ofStation(sy.title, def), device.Name),
			Sentence: fmt.Sprintf("%d of the last %d tries: "+ofStation(sy.means, def), len(hits), len(recent), target),
			Evidence: []string{clock(worst.at) + " " + worst.op + ": " + worst.sentence},
			Remedy:   ofStation(sy.remedy, def),
		}
		for _, line := range s.Unticked(device, sy.access...) {
			f.Evidence = append(f.Evidence, "Nobody has ticked yet: "+line.Text)
		}
		if sy.outcome == exchange.Answered {
			f.Severity = finding.Doubt
		} else if lastGood > last {
			f.Severity = finding.Doubt
			f.Evidence = append(f.Evidence, "It has answered again since "+clock(recent[last+1].at)+".")
		}
		if others != nil && f.Severity == finding.Fault {
			f.Severity, f.Sure = finding.Doubt, 0.5 // two askers explain it
			f.Remedy = "First see to it that only one asks on the line."
		}
		if again := slices.IndexFunc(found, func(o finding.Finding) bool { return o.Key() == f.Key() }); again >= 0 {
			// What shows in two ways is one finding.
			found[again].Count += f.Count
			found[again].Evidence = append(found[again].Evidence, f.Evidence[0])
			continue
		}
		found = append(found, f)
	}
	if others != nil {
		found = append(found, *others)
	}
	found = append(found, declined(recent, subject, device, def)...)
	return append(found, recent.Habits(s, link, learned)...)
}

// Still reports points that used to change and no longer do, by their habits:
// one finding for the device if all of them stand still, otherwise one for
// each.
func Still(device *site.Device, habits []Habit) []finding.Finding {
	var stopped []finding.Finding
	lively := 0
	var since time.Time
	for i := range device.Points {
		p := &device.Points[i]
		t := &habits[i]
		if _, ok := t.usual(); ok && !t.commanded {
			lively++
		}
		changed, usual, still := t.stoodStill()
		if !still {
			continue
		}
		if changed.After(since) {
			since = changed
		}
		stopped = append(stopped, finding.Finding{
			Code: "frozen-value", Severity: finding.Doubt, Sure: 0.6, Count: 1, Where: "traffic",
			Subject: finding.Subject{Kind: "point", ID: p.ID, Device: device.ID, Name: device.Name + " · " + p.Name},
			Title:   p.Name + " has stopped changing",
			Sentence: fmt.Sprintf("It used to change every %.1f s and has read %s since %s, although the "+
				"device answers.", usual.Seconds(), p.Shown(p.Scale().Apply(t.last)), clock(changed)),
			Evidence: []string{fmt.Sprintf("last read %s, last change %s", clock(t.read), clock(changed))},
			Remedy: "Compare with the device's own display. The sensor or the task that writes this value may " +
				"have stopped.",
		})
	}
	if len(stopped) < 2 || len(stopped) < lively {
		return stopped
	}
	return []finding.Finding{{
		Code: "device-frozen", Severity: finding.Fault, Sure: 0.9, Count: len(stopped), Where: "traffic",
		Subject: finding.Subject{Kind: "device", ID: device.ID, Name: device.Name},
		Title:   device.Name + " answers, but nothing moves",
		Sentence: fmt.Sprintf("All %d values that used to change have stood still since %s, although every read "+
			"is answered.", len(stopped), clock(since)),
		Evidence: []string{stopped[0].Sentence},
		Remedy: "The device answers from memory while its own task has stopped: look whether it is in run mode, " +
			"and whether it waits for a handshake.",
	}}
}

// Target says where a link goes, as a person would: "192.0.2.21 port 502, unit 1".
func Target(s *site.Site, link *site.Link) string {
	device, line := s.Device(link.Answering), s.Line(link.Line)
	def, ok := protocol.Named(link.Protocol)
	if device == nil || line == nil || !ok || device.PortFor(link) == nil {
		return "its address"
	}
	text := device.PortFor(link).Host
	if line.Medium == site.SerialLine {
		text = line.Name
	}
	for _, setting := range def.Settings {
		if setting.End != protocol.BothEnds {
			continue
		}
		if setting.Kind != protocol.Number {
			if said := def.Value(link.Settings, setting.Key).Text(); said != "" {
				text += fmt.Sprintf(", %s %s", setting.Title, said)
			}
			continue
		}
		text += fmt.Sprintf(", %s %d", setting.Title, def.Int(link.Settings, setting.Key))
	}
	return text
}

func clock(t time.Time) string { return t.Format("15:04:05.000") }
