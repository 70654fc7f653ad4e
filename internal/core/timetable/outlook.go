package timetable

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// Outlook is what a line would do in other circumstances.
type Outlook struct {
	Line string `json:"line"`
	// OneSilent and TwoSilent are the worst that one and two silent devices
	// can do to it; Chosen is what those do that were asked for.
	OneSilent *Scenario `json:"oneSilent,omitempty"`
	TwoSilent *Scenario `json:"twoSilent,omitempty"`
	Chosen    *Scenario `json:"chosen,omitempty"`
	// Fastest are the paces that would hold if all were made faster, or had to
	// be made slower, alike.
	Fastest []Fastest `json:"fastest"`
	Advice  []Advice  `json:"advice"`
}

// Scenario is a line with devices that do not answer.
type Scenario struct {
	Devices     []string `json:"devices"`
	Names       []string `json:"names"`
	Utilisation float64  `json:"utilisation"`
	Holds       bool     `json:"holds"` // for the others
	OldestMs    float64  `json:"oldestMs"`
	// LostMs is how long the line waits in vain at a time.
	LostMs float64 `json:"lostMs"`
}

// Fastest is a pace, and what it could be.
type Fastest struct {
	PaceMs    int `json:"paceMs"`
	FastestMs int `json:"fastestMs"`
}

// Advice is one change and what it would bring.
type Advice struct {
	Kind     string  `json:"kind" jsonschema:"enum=baud,enum=split,enum=limit,enum=rest,enum=merge,enum=slower"`
	Sentence string  `json:"sentence"`
	Before   float64 `json:"before"` // utilisation
	After    float64 `json:"after"`
	// Silent is set where both are with the worst device silent.
	Silent bool `json:"silent"`
	Holds  bool `json:"holds"` // afterwards
	// Edits would carry it out; there are none where it takes more than
	// settings.
	Edits []site.Edit `json:"edits"`
}

// Look works out the outlook of a line; silent are devices to be taken for
// silent.
func Look(s *site.Site, line string, silent []string) *Outlook {
	o := &Outlook{Line: line, Fastest: []Fastest{}, Advice: []Advice{}}
	own := only(s, line)
	if own.Line(line) == nil || len(own.Links) == 0 {
		return o
	}
	worst := worstSilent(own, line)
	if len(worst) > 0 {
		o.OneSilent = scenario(own, line, worst[:1])
	}
	if len(worst) > 1 {
		o.TwoSilent = scenario(own, line, worst[:2])
	}
	if len(silent) > 0 {
		o.Chosen = scenario(own, line, silent)
	}
	o.fastest(own, line)
	o.advise(own, line, worst)
	return o
}

// only returns the part of a site that one line needs.
func only(s *site.Site, line string) *site.Site {
	part := &site.Site{Format: s.Format, Version: s.Version, Name: s.Name, Datasheets: s.Datasheets,
		Structures: s.Structures, Lists: s.Lists}
	if l := s.Line(line); l != nil {
		part.Lines = []site.Line{*l}
	}
	needed := map[string]bool{}
	for i := range s.Links {
		if s.Links[i].Line == line {
			part.Links = append(part.Links, s.Links[i])
			needed[s.Links[i].Asking], needed[s.Links[i].Answering] = true, true
		}
	}
	points := map[string]bool{}
	for i := range s.Devices {
		if needed[s.Devices[i].ID] {
			part.Devices = append(part.Devices, s.Devices[i])
			for j := range s.Devices[i].Points {
				points[s.Devices[i].Points[j].ID] = true
			}
		}
	}
	for _, x := range s.Crossings {
		if (points[x.From] || x.Beats()) && points[x.To] {
			part.Crossings = append(part.Crossings, x)
		}
	}
	return part
}

// Of is how full a line is; the zero LineLoad for one that is not in the plan.
func (p *Plan) Of(id string) LineLoad {
	for _, l := range p.Lines {
		if l.Line == id {
			return l
		}
	}
	return LineLoad{}
}

func scenario(s *site.Site, line string, devices []string) *Scenario {
	plan := CompileSilent(s, devices)
	load := plan.Of(line)
	sc := &Scenario{Devices: devices, Names: []string{}, Utilisation: load.Utilisation, Holds: load.Holds, OldestMs: 0}
	for _, id := range devices {
		if d := s.Device(id); d != nil {
			sc.Names = append(sc.Names, d.Name)
		}
	}
	for i := range plan.Requests {
		if q := &plan.Requests[i]; !q.Silent {
			sc.OldestMs = max(sc.OldestMs, q.OldestMs)
		}
	}
	for i := range s.Links {
		l := &s.Links[i]
		def, ok := protocol.Named(l.Protocol)
		if ok && slices.Contains(devices, l.Answering) {
			tries := 1 + def.Int(l.Settings, protocol.KeyRetries)
			if def.Int(l.Settings, protocol.KeyRestAfter) > 0 {
				tries = 1
			}
			sc.LostMs += float64(tries * def.Int(l.Settings, protocol.KeyWithin))
		}
	}
	return sc
}

// worstSilent lists the answering devices of a line, the one first whose silence
// fills it most. Where each link has a connection of its own, that is the
// connection.
func worstSilent(s *site.Site, line string) []string {
	type costly struct {
		device string
		more   float64
	}
	var list []costly
	usual := map[string]LinkLoad{}
	for _, l := range Compile(s).Links {
		usual[l.Link] = l
	}
	all := make([]string, 0, len(s.Links))
	for i := range s.Links {
		all = append(all, s.Links[i].Answering)
	}
	for i, l := range CompileSilent(s, all).Links {
		list = append(list, costly{s.Links[i].Answering, l.Utilisation - usual[l.Link].Utilisation})
	}
	slices.SortStableFunc(list, func(a, b costly) int { return cmp.Compare(b.more, a.more) })
	devices := make([]string, 0, len(list))
	for _, c := range list {
		if !slices.Contains(devices, c.device) {
			devices = append(devices, c.device)
		}
	}
	return devices
}

// changed returns a copy of a site with its links, devices and line free to be
// changed.
func changed(s *site.Site, change func(*site.Site)) *site.Site {
	next := *s
	next.Lines, next.Links, next.Devices = slices.Clone(s.Lines), slices.Clone(s.Links), slices.Clone(s.Devices)
	change(&next)
	return &next
}

// slowest and fastestPace bound a pace, in milliseconds.
const fastestPace = 10

// scaled returns the site with every pace multiplied.
func scaled(s *site.Site, factor float64) *site.Site {
	return changed(s, func(s *site.Site) {
		for i := range s.Devices {
			points := slices.Clone(s.Devices[i].Points)
			for j := range points {
				if points[j].PaceMs > 0 {
					points[j].PaceMs = scaledPace(points[j].PaceMs, factor)
				}
			}
			s.Devices[i].Points = points
		}
	})
}

// scaledPace keeps paces to whole steps of 10 ms, so that they meet each other
// again.
func scaledPace(paceMs int, factor float64) int {
	return max(fastestPace, int(math.Ceil(float64(paceMs)*factor/10))*10)
}

func (o *Outlook) fastest(s *site.Site, line string) {
	holds := func(factor float64) bool {
		load := Compile(scaled(s, factor)).Of(line)
		return load.Holds
	}
	low, high := 1.0/64, 64.0
	if !holds(high) {
		return
	}
	for range 9 { // to within 2 %, in steps of the logarithm
		middle := math.Sqrt(low * high)
		if holds(middle) {
			high = middle
		} else {
			low = middle
		}
	}
	paces := map[int]bool{}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			d, p := &s.Devices[i], s.Devices[i].Points[j].PaceMs
			if p > 0 && !paces[p] && s.LinkOf(d, &d.Points[j]) != nil {
				paces[p] = true
				o.Fastest = append(o.Fastest, Fastest{p, scaledPace(p, high)})
			}
		}
	}
	slices.SortFunc(o.Fastest, func(a, b Fastest) int { return cmp.Compare(a.PaceMs, b.PaceMs) })
}

// worthSaying is the least gain of utilisation, of the whole line, that an
// advice is given for.
const worthSaying = 0.01

func (o *Outlook) advise(s *site.Site, line string, worst []string) {
	before := Compile(s).Of(line)
	add := func(a Advice, next *site.Site, edits []site.Edit) {
		var was, will LineLoad
		if a.Silent && len(worst) > 0 {
			was, will = CompileSilent(s, worst[:1]).Of(line), CompileSilent(next, worst[:1]).Of(line)
		} else {
			was, will = before, Compile(next).Of(line)
		}
		a.Before, a.After, a.Holds, a.Edits = was.Utilisation, will.Utilisation, will.Holds, edits
		if a.Edits == nil {
			a.Edits = []site.Edit{}
		}
		if a.Before-a.After >= worthSaying {
			o.Advice = append(o.Advice, a)
		}
	}
	l := s.Line(line)
	if l.Medium == site.SerialLine {
		adviseBaud(s, l, add)
	}
	adviseSplit(s, line, before, add)
	adviseSilence(s, line, worst, add)
	adviseMerge(s, add)
	slower := scaled(s, 2)
	add(Advice{Kind: "slower", Sentence: "Read everything half as often."}, slower, paceEdits(s, slower))
	slices.SortStableFunc(o.Advice, func(a, b Advice) int { return cmp.Compare(b.Before-b.After, a.Before-a.After) })
}

type adding = func(Advice, *site.Site, []site.Edit)

// adviseBaud raises the rate to each usual one that the cable bears. Ports that
// have a rate of their own follow.
func adviseBaud(s *site.Site, l *site.Line, add adding) {
	own := l.Format()
	for _, baud := range []int{19200, 38400, 57600, 115200} {
		if baud <= own.Baud || l.Serial.LengthM > serial.MaxLengthM(l.Serial.Standard, baud) {
			continue
		}
		var edits []site.Edit
		next := changed(s, func(s *site.Site) {
			set := *l.Serial
			set.Baud = baud
			s.Lines[0].Serial = &set
			edits = append(edits, site.Put(site.KindLine, l.ID, "", s.Lines[0]))
			for i := range s.Devices {
				d := &s.Devices[i]
				if p := d.Port(l.ID); p == nil || p.Serial == nil || p.Serial.Baud == 0 {
					continue
				}
				d.Ports = slices.Clone(d.Ports)
				port := *d.Port(l.ID).Serial
				port.Baud = 0
				d.Port(l.ID).Serial = &port
				edits = append(edits, putDevice(d))
			}
		})
		add(Advice{Kind: "baud",
			Sentence: fmt.Sprintf("Raise the line to %d baud, in each of its %d ports.", baud, len(s.Devices))}, next,
			edits)
	}
}

// putDevice is the edit that replaces a device but for its points, which are
// objects of their own.
func putDevice(d *site.Device) site.Edit {
	bare := *d
	bare.Points = nil
	return site.Put(site.KindDevice, d.ID, "", bare)
}

// adviseSplit puts the devices of a line on two, the fuller half counting.
func adviseSplit(s *site.Site, line string, before LineLoad, add adding) {
	plan := Compile(s)
	if len(plan.resources) != 1 || len(s.Links) < 2 {
		return // connections of their own are split already
	}
	loads := slices.Clone(plan.Links)
	slices.SortFunc(loads, func(a, b LinkLoad) int { return cmp.Compare(b.Utilisation, a.Utilisation) })
	halves := [2]float64{}
	stays := map[string]bool{}
	for _, l := range loads {
		if halves[0] <= halves[1] {
			halves[0] += l.Utilisation
			stays[l.Link] = true
		} else {
			halves[1] += l.Utilisation
		}
	}
	next := changed(s, func(s *site.Site) {
		s.Links = slices.DeleteFunc(s.Links, func(l site.Link) bool { return !stays[l.ID] })
	})
	add(Advice{Kind: "split",
		Sentence: fmt.Sprintf("Split the line in two, with %d and %d devices.", len(stays), len(s.Links)-len(stays))},
		next, nil)
}

// adviseSilence shortens time limits and rests silent devices: what they cost
// the others.
func adviseSilence(s *site.Site, line string, worst []string, add adding) {
	var rested, shortened []site.Edit
	least := math.MaxInt
	rest := changed(s, func(s *site.Site) {
		for i := range s.Links {
			l := &s.Links[i]
			def, ok := protocol.Named(l.Protocol)
			if _, can := def.Setting(protocol.KeyRestAfter); !ok || !can ||
				def.Int(l.Settings, protocol.KeyRestAfter) > 0 {
				continue
			}
			l.Settings = l.Settings.With(protocol.KeyRestAfter, protocol.OfInt(3))
			rested = append(rested, site.Put(site.KindLink, l.ID, "", *l))
		}
	})
	limits := changed(s, func(s *site.Site) {
		for i := range s.Links {
			l := &s.Links[i]
			def, ok := protocol.Named(l.Protocol)
			device := s.Device(l.Answering)
			if !ok || device == nil {
				continue
			}
			e := endsOf(s, s.Line(l.Line), l, device, def)
			// Half as much again as the worst that the device was seen to
			// think; three times what is merely stated.
			margin := 3.0
			if p := device.PortFor(l); p != nil && p.Think != nil {
				margin = 1.5
			}
			enough := int(math.Ceil(max(30, margin*e.worst+e.between)/10)) * 10
			if enough < def.Int(l.Settings, protocol.KeyWithin) {
				least = min(least, enough)
				l.Settings = l.Settings.With(protocol.KeyWithin, protocol.OfInt(enough))
				shortened = append(shortened, site.Put(site.KindLink, l.ID, "", *l))
			}
		}
	})
	if len(rested) > 0 {
		add(Advice{Kind: "rest", Silent: true, Sentence: "Leave a silent device alone for 10 s after three tries."},
			rest, rested)
	}
	if len(shortened) > 0 {
		add(Advice{Kind: "limit", Silent: true,
			Sentence: fmt.Sprintf("Shorten the time limit of %d links, to as little as %d ms: it is what a silent "+
				"device costs.", len(shortened), least)}, limits, shortened)
	}
}

// adviseMerge lets requests read over unused registers, and be as long as the
// protocol allows, where a device is kept from it.
func adviseMerge(s *site.Site, add adding) {
	var edits []site.Edit
	next := changed(s, func(s *site.Site) {
		for i := range s.Devices {
			d := &s.Devices[i]
			if d.Limits.NoBridging || d.Limits.MaxRegisters > 0 || d.Limits.MaxBits > 0 || len(d.Limits.Most) > 0 {
				d.Limits.NoBridging, d.Limits.MaxRegisters, d.Limits.MaxBits, d.Limits.Most = false, 0, 0, nil
				edits = append(edits, putDevice(d))
			}
		}
	})
	if len(edits) > 0 {
		add(Advice{Kind: "merge", Sentence: fmt.Sprintf("Ask the %d devices with limits of their own for longer "+
			"runs, if they bear it after all.", len(edits))}, next, edits)
	}
}

func paceEdits(before, after *site.Site) []site.Edit {
	var edits []site.Edit
	for i := range after.Devices {
		for j := range after.Devices[i].Points {
			if p := &after.Devices[i].Points[j]; p.PaceMs != before.Devices[i].Points[j].PaceMs {
				edits = append(edits, site.Put(site.KindPoint, p.ID, after.Devices[i].ID, *p))
			}
		}
	}
	return edits
}
