package route

import (
	"fmt"
	"strconv"

	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// Mismatch is one setting with its value at each end.
type Mismatch struct {
	Key       string `json:"key"`
	Title     string `json:"title"`
	Unit      string `json:"unit,omitempty"`
	Asking    string `json:"asking"`
	Answering string `json:"answering"`
	Result    Result `json:"result"`
	Symptom   string `json:"symptom,omitempty"`
	// Fix says what can be set, empty where Ferry cannot do it.
	Fix Fix `json:"fix,omitempty" jsonschema:"enum=link,enum=port"`
	// Stop is where a mismatch shows, where the protocol does not say it.
	Stop string `json:"-"`
}

// Fix says where a mismatch can be put right in the plan.
type Fix string

// The fixes: the asking end takes over a setting of the protocol, or the
// answering end's port takes over that of the line.
const (
	FixLink Fix = "link"
	FixPort Fix = "port"
)

const unknown = "not known"

// FaceToFace sets the settings of both ends of a link side by side.
func FaceToFace(s *site.Site, link *site.Link) []Mismatch {
	asking, answering := s.Device(link.Asking), s.Device(link.Answering)
	line := s.Line(link.Line)
	def, ok := protocol.Named(link.Protocol)
	if asking == nil || answering == nil || line == nil || !ok || asking.Port(link.Line) == nil ||
		answering.PortFor(link) == nil {
		return []Mismatch{}
	}
	a, b := asking.Port(link.Line), answering.PortFor(link)
	var rows []Mismatch
	if line.Medium != site.SerialLine {
		rows = append(rows, hosts(s, line, asking, answering))
	} else {
		rows = append(rows, serialEnds(line, a, b)...)
	}
	speaks := Mismatch{Key: "protocol", Title: "Protocol", Asking: def.Title, Answering: unknown, Result: NotTried,
		Stop: string(Session)}
	if b.Protocol != "" {
		speaks.Answering, speaks.Result = b.Protocol, Good
		if other, known := protocol.Named(b.Protocol); known {
			speaks.Answering = other.Title
		}
		if b.Protocol != link.Protocol {
			speaks.Result, speaks.Symptom = Fault, "nothing is understood"
		}
	}
	rows = append(rows, speaks)
	for _, setting := range def.Settings {
		if setting.End != protocol.BothEnds {
			continue
		}
		row := Mismatch{Key: setting.Key, Title: setting.Title, Result: Good}
		mine, theirs := def.Value(link.Settings, setting.Key), def.Value(b.Settings, setting.Key)
		row.Asking, row.Answering = mine.String(), theirs.String()
		switch {
		case !b.Knows(setting.Key):
			row.Answering, row.Result = unknown, NotTried
		case mine != theirs:
			row.Result, row.Fix = Fault, FixLink
			row.Symptom = setting.Shows
		}
		rows = append(rows, row)
	}
	swapped(rows)
	if _, waits := def.Setting(protocol.KeyWithin); waits {
		rows = append(rows, patience(def, link, b))
	}
	return rows
}

// swapped says of two settings that each end has the other way round that they are exchanged.
func swapped(rows []Mismatch) {
	for i := range rows {
		for k := range rows[:i] {
			a, b := &rows[i], &rows[k]
			if a.Result == Fault && b.Result == Fault && a.Key != "" && b.Key != "" && a.Asking == b.Answering &&
				a.Answering == b.Asking {
				a.Symptom += ": it is exchanged with " + b.Title
				b.Symptom += ": it is exchanged with " + a.Title
			}
		}
	}
}

// Facing sets both ends of a link side by side where its protocol has each count in words
// of its own; nil where it does not, or an end is missing.
func Facing(s *site.Site, link *site.Link) *protocol.Facing {
	def, _ := protocol.Named(link.Protocol)
	rules, ok := def.Faces()
	asking, answering := s.Device(link.Asking), s.Device(link.Answering)
	if !ok || asking == nil || answering == nil || answering.PortFor(link) == nil {
		return nil
	}
	port := answering.PortFor(link)
	ends := protocol.Ends{Asking: asking.Name, Answering: answering.Name, Ask: link.Settings, Answer: port.Settings,
		Knows: port.Knows, Used: used(def, answering, link), PerSecond: answering.Limits.PerSecond,
		Connections: answering.Limits.Connections}
	if reports, ok := def.Reports(); ok {
		for i := range s.Links {
			other := &s.Links[i]
			if other.ID == link.ID || other.Answering != link.Answering || other.Protocol != link.Protocol {
				continue
			}
			ends.Others++
			for _, load := range reports.Expected(other.Settings, nil) {
				if load.PeriodMs > 0 {
					ends.OthersPerSecond += 1000 / load.PeriodMs
				}
			}
		}
	}
	f := rules.Face(&ends)
	return &f
}

// used is how many units of each area the points reach to that a link carries.
func used(def *protocol.Def, d *site.Device, link *site.Link) map[string]int {
	reach := map[string]int{}
	for i := range d.Points {
		p := &d.Points[i]
		if area, ok := block.AreaOf(def.Scheme, p.Place().Area); ok && (p.Link == "" || p.Link == link.ID) {
			reach[area.Key] = max(reach[area.Key], int(p.Place().Offset)+p.Units(area.UnitBits))
		}
	}
	return reach
}

// patience compares the time limit of the asking end with what the answering
// end thinks, as measured if it was, else as stated.
func patience(def *protocol.Def, link *site.Link, b *site.Port) Mismatch {
	within := float64(def.Int(link.Settings, protocol.KeyWithin))
	think := float64(def.Int(b.Settings, protocol.KeyThink) + def.Int(b.Settings, protocol.KeyCycle))
	says := fmt.Sprintf("thinks %g", think)
	if b.Think != nil {
		think = max(b.Think.WorstMs, float64(def.Int(b.Settings, protocol.KeyCycle)))
		says = fmt.Sprintf("seen to think %.0f", think)
	}
	row := Mismatch{Key: protocol.KeyWithin, Title: "Answer within", Unit: "ms", Asking: fmt.Sprintf("%.0f", within),
		Answering: says, Result: Good}
	switch {
	case !b.Knows(protocol.KeyThink) && b.Think == nil:
		row.Answering, row.Unit, row.Result = unknown, "", NotTried
	case within <= think:
		row.Result, row.Symptom = Fault, "every answer comes after the limit"
	case within < 3*think && b.Think == nil, within < 1.2*think:
		row.Result, row.Symptom = Doubt, "an answer that is a little late counts as none"
	}
	return row
}

// serialEnds compares what both ends of a serial line are set to. A device
// overlooks bits that are one too many more often than it understands another
// rate, so the symptoms differ.
func serialEnds(line *site.Line, a, b *site.Port) []Mismatch {
	mine, theirs := line.SerialOf(a), line.SerialOf(b)
	row := func(key, title, asking, answering, symptom string, worst Result) Mismatch {
		m := Mismatch{Key: key, Title: title, Asking: asking, Answering: answering, Result: Good, Stop: string(Address)}
		if !b.Knows(key) {
			m.Answering, m.Result = unknown, NotTried
		} else if asking != answering {
			m.Result, m.Symptom, m.Fix = worst, symptom, FixPort
		}
		return m
	}
	parity := map[serial.Parity]string{serial.None: "none", serial.Even: "even", serial.Odd: "odd"}
	rows := []Mismatch{
		row("baud", "Baud", strconv.Itoa(mine.Baud), strconv.Itoa(theirs.Baud),
			"the device does not understand and stays silent, or bytes arrive that make no sense", Fault),
		row("parity", "Parity", parity[mine.Parity], parity[theirs.Parity],
			"bytes arrive but no frame passes its check", Fault),
		row("data", "Data bits", strconv.Itoa(mine.Data), strconv.Itoa(theirs.Data),
			"bytes arrive but no frame passes its check", Fault),
		row("stop", "Stop bits", strconv.Itoa(mine.Stop), strconv.Itoa(theirs.Stop),
			"it works until characters follow each other closely", Doubt),
	}
	standard := serial.TIA485Two
	if line.Serial != nil {
		standard = line.Serial.Standard
	}
	if standard == serial.TIA232 {
		cable := Mismatch{Key: "gender", Title: "Gender", Asking: gender(mine.Gender), Answering: gender(theirs.Gender),
			Result: NotTried}
		if need := serial.Cable(mine.Gender, theirs.Gender); need != "" {
			cable.Result, cable.Answering = Good, cable.Answering+", so a "+need+" cable"
		}
		return append(rows, cable)
	}
	yes := func(b *bool) string {
		switch {
		case b == nil:
			return unknown
		case *b:
			return "yes"
		}
		return "no"
	}
	ends := Mismatch{Key: "terminated", Title: "Terminated", Asking: yes(mine.Terminated),
		Answering: yes(theirs.Terminated), Result: Good}
	if mine.Terminated == nil || theirs.Terminated == nil {
		ends.Result = NotTried
	}
	return append(rows, ends)
}

func gender(text string) string {
	if text == "" {
		return unknown
	}
	return map[string]string{"dte": "DTE", "dce": "DCE"}[text]
}

func hosts(s *site.Site, line *site.Line, asking, answering *site.Device) Mismatch {
	a, b := asking.Port(line.ID), answering.Port(line.ID)
	row := Mismatch{Key: "host", Title: "IP address", Asking: a.Host, Answering: b.Host, Result: Good}
	for _, d := range []*site.Device{answering, asking} {
		if result, why := Host(s, line, d); result != Good && row.Result != Fault {
			row.Result, row.Symptom = result, why
		}
	}
	return row
}

// SerialPort judges from the plan whether a link has its port on a serial line
// to itself, and its station.
func SerialPort(s *site.Site, line *site.Line, link *site.Link) (Result, string, string) {
	asking, answering := s.Device(link.Asking), s.Device(link.Answering)
	for _, d := range []*site.Device{asking, answering} {
		if d.Port(line.ID) == nil {
			return Fault, fmt.Sprintf("%s has no port on %s.", d.Name, line.Name), "Give it one."
		}
	}
	if p := asking.Port(line.ID); p.Protocol != "" {
		return Fault, fmt.Sprintf("The port of %s on %s is set up to answer: a port that answers cannot ask.",
			asking.Name, line.Name), "Set it to ask only, or ask from another port."
	}
	def, _ := protocol.Named(link.Protocol)
	station := def.StationWords(answering.PortFor(link).Settings)
	for i := range s.Links {
		other := &s.Links[i]
		if other.Line != line.ID {
			continue
		}
		if other.Asking != link.Asking {
			return Fault, fmt.Sprintf("%s and %s both ask on %s: two askers on one line collide.", asking.Name,
				nameOf(s, other.Asking), line.Name), "Let one of them ask, and pass the values on from there."
		}
		if d := s.Device(other.Answering); other.Answering != link.Answering && d != nil && d.Port(line.ID) != nil &&
			other.Protocol == link.Protocol && station != "" && def.StationWords(d.Port(line.ID).Settings) == station {
			return Fault, fmt.Sprintf("%s and %s both have %s on %s.", answering.Name, d.Name, station, line.Name),
				"Give one of them a number of its own, in the device and here."
		}
		if other.Protocol != link.Protocol {
			return Doubt, fmt.Sprintf("%s carries two protocols: devices may take the frames of the one for noise "+
				"in the other.", line.Name), "Put the devices of the one protocol on a line of their own."
		}
	}
	return Good, "", ""
}

func nameOf(s *site.Site, id string) string {
	if d := s.Device(id); d != nil {
		return d.Name
	}
	return id
}
