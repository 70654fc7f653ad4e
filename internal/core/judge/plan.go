package judge

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// plan is what a site says of who asks whom for what.
type plan struct {
	site *site.Site
	// links are those over Ethernet, by where they go.
	links map[place][]planned
	// toward are the same, by their addresses alone.
	toward map[netip.AddrPort][]planned
	at     map[netip.AddrPort]string // the device at an address
	askers map[netip.Addr]string     // devices by their addresses
	lines  []string                  // names of serial lines

	watched map[watchedKey]*watched // nil for what is not followed
	parts   map[partsKey][]readPart
	told    map[string]*told // by device
}

type place struct {
	at      netip.AddrPort
	station int
	line    string // the name of a serial line; empty over a network
}

type planned struct {
	link   *site.Link
	device *site.Device
	asker  *site.Device
}

// planOf reads a site; nil without one.
func planOf(s *site.Site) *plan {
	if s == nil {
		return nil
	}
	p := &plan{site: s, links: map[place][]planned{}, toward: map[netip.AddrPort][]planned{}, at: map[netip.AddrPort]string{}, askers: map[netip.Addr]string{},
		watched: map[watchedKey]*watched{}, parts: map[partsKey][]readPart{}, told: map[string]*told{}}
	for i := range s.Devices {
		for _, port := range s.Devices[i].Ports {
			if a, err := netip.ParseAddr(port.Host); err == nil {
				p.askers[a.Unmap()] = s.Devices[i].Name
			}
		}
	}
	for i := range s.Links {
		link := &s.Links[i]
		device, def := s.Device(link.Answering), (*protocol.Def)(nil)
		def, ok := protocol.Named(link.Protocol)
		if device == nil || !ok || device.PortFor(link) == nil {
			continue
		}
		if line := s.Line(link.Line); line != nil && line.Medium == site.SerialLine {
			p.add(place{line: line.Name}, def, link, device)
			continue
		}
		a, err := netip.ParseAddr(device.PortFor(link).Host)
		if err != nil {
			continue
		}
		at := netip.AddrPortFrom(a.Unmap(), uint16(def.Int(link.Settings, protocol.KeyPort)))
		p.add(place{at: at}, def, link, device)
		if was, twice := p.at[at]; twice && was != device.Name {
			p.at[at] = at.Addr().String() // several behind one address
		} else {
			p.at[at] = device.Name
		}
	}
	for i := range s.Lines {
		if s.Lines[i].Medium == site.SerialLine {
			p.lines = append(p.lines, s.Lines[i].Name)
		}
	}
	return p
}

// add adds a link under its place, whose station it says.
func (p *plan) add(at place, def *protocol.Def, link *site.Link, device *site.Device) {
	at.station = -1
	if station, has := def.StationOf(link.Settings); has {
		at.station = station
	}
	of := planned{link, device, p.site.Device(link.Asking)}
	p.links[at] = append(p.links[at], of)
	if at.line == "" {
		p.toward[at.at] = append(p.toward[at.at], of)
	}
}

// of lists the links of a talk.
func (p *plan) of(t *Talk) []planned {
	if t.Key.Line != "" {
		return p.onLine(t.Key.Line, t.Key.Station)
	}
	if t.Key.Station < 0 {
		return p.toAddress(t)
	}
	return p.links[place{at: t.Key.Answerer, station: t.Key.Station}]
}

// toAddress lists the links of a talk whose octets do not tell the station: the address does; nil for any other.
func (p *plan) toAddress(t *Talk) []planned {
	if p == nil || t.Key.Station >= 0 {
		return nil
	}
	return p.toward[t.Key.Answerer]
}

// DeviceOf finds the device of a site that is asked in a talk; nil for none.
func DeviceOf(s *site.Site, key TalkKey) *site.Device {
	p := planOf(s)
	if p == nil {
		return nil
	}
	if list := p.of(&Talk{Key: key}); len(list) > 0 {
		return list[0].device
	}
	return nil
}

// named is how people call who answers at an address, or a station there.
func (j *Judge) named(at netip.AddrPort, station int) string { return j.subject(at, station).Name }

// subject is who answers at an address: the device of the plan, or the address.
func (j *Judge) subject(at netip.AddrPort, station int) finding.Subject {
	if j.plan != nil {
		if list := j.plan.links[place{at: at, station: station}]; len(list) > 0 {
			return finding.Subject{Kind: "link", ID: list[0].link.ID, Device: list[0].device.ID, Name: list[0].device.Name}
		}
		if name, ok := j.plan.at[at]; ok && station < 0 {
			return finding.Subject{Kind: "address", ID: at.String(), Name: name}
		}
	}
	id, name := at.String(), at.Addr().String()
	if at.Port() == 0 {
		id = name
	}
	if station >= 0 {
		id += fmt.Sprintf("/%d", station)
		name = fmt.Sprintf("%s %d at %s", j.stationWord(at), station, name)
	}
	return finding.Subject{Kind: "address", ID: id, Name: name}
}

func (j *Judge) stationWord(at netip.AddrPort) string {
	if e := j.ends[endKey{at, false}]; e != nil && e.protocol != "" {
		def, _ := protocol.Named(e.protocol)
		return def.StationWord()
	}
	for key, t := range j.Talks {
		if key.Answerer == at {
			return j.wordOf(t)
		}
	}
	return "station"
}

// wordOf is the word of a talk's protocol for a station.
func (j *Judge) wordOf(t *Talk) string {
	def, _ := protocol.Named(t.Protocol)
	return def.StationWord()
}

// onLine lists the links to a station of a serial line: of that which is called so, or
// of the only one.
func (p *plan) onLine(line string, station int) []planned {
	if list, ok := p.links[place{line: line, station: station}]; ok {
		return list
	}
	if len(p.lines) == 1 {
		return p.links[place{line: p.lines[0], station: station}]
	}
	return nil
}

// findings compares what was heard with the plan.
func (p *plan) findings(j *Judge) (found []finding.Finding) {
	heard := map[*site.Link][]*Talk{}
	for _, t := range j.Sorted() {
		list := p.of(t)
		if len(list) == 0 {
			_, known := p.at[t.Key.Answerer]
			if known || t.Key.Line != "" && len(p.lines) == 1 {
				found = append(found, p.unknownStation(j, t))
			}
			continue
		}
		for _, pl := range list {
			heard[pl.link] = append(heard[pl.link], t)
		}
		if f, unknown := p.unknownAsker(j, t, list); unknown {
			found = append(found, f)
			continue
		}
		found = append(found, p.requests(j, t, list)...)
	}
	for _, list := range p.links {
		for _, pl := range list {
			if talks := heard[pl.link]; len(talks) > 0 {
				found = append(found, p.points(j, pl, talks)...)
				found = append(found, p.absent(pl, talks)...)
			}
		}
	}
	found = append(found, p.meaning(j)...)
	slices.SortStableFunc(found, func(a, b finding.Finding) int { return cmp.Compare(a.Key(), b.Key()) })
	return found
}

func (p *plan) unknownStation(j *Judge, t *Talk) finding.Finding {
	def, _ := protocol.Named(t.Protocol)
	f := finding.Finding{Code: "unknown-unit", Severity: finding.Doubt, Sure: 0.9, Count: t.Asked,
		Subject: j.of(t),
		Title:   fmt.Sprintf("%s %d is in no plan", def.StationWord(), t.Key.Station),
		Sentence: fmt.Sprintf("%s asks %s %d%s %s, and the site has none there.", p.asker(t.Key.Asker),
			def.StationWord(), t.Key.Station, t.where(), times(t.Asked)),
		Remedy: "Add the device to the site, or correct the number at the asking end."}
	t.first(&f)
	return f
}

// where is the address of who answers, as it follows his number.
func (t *Talk) where() string {
	if t.Key.Line != "" {
		return ""
	}
	return " at " + t.Key.Answerer.String()
}

func (p *plan) asker(a netip.Addr) string {
	if !a.IsValid() {
		return "Somebody"
	}
	if name, ok := p.askers[a]; ok {
		return name
	}
	return a.String()
}

// first puts the first question of a talk into a finding as its evidence.
func (t *Talk) first(f *finding.Finding) {
	var earliest *Request
	for _, r := range t.Requests {
		if earliest == nil || r.FirstIn < earliest.FirstIn {
			earliest = r
		}
	}
	if earliest != nil {
		ps := proofs{n: 1, kept: []proof{{at: earliest.First, packets: [2]int64{earliest.FirstIn}}}}
		ps.into(f)
	}
}

// unknownAsker reports one who asks and is not in the plan of the device.
func (p *plan) unknownAsker(j *Judge, t *Talk, list []planned) (f finding.Finding, unknown bool) {
	addresses := 0
	if t.Key.Line != "" {
		return f, false // nobody has an address there
	}
	for _, pl := range list {
		if pl.asker == nil {
			continue
		}
		for _, port := range pl.asker.Ports {
			a, err := netip.ParseAddr(port.Host)
			if err != nil {
				continue
			}
			addresses++
			if a.Unmap() == t.Key.Asker {
				return f, false
			}
		}
	}
	if addresses == 0 {
		return f, false // the plan does not say from where it is asked
	}
	f = finding.Finding{Code: "unknown-asker", Severity: finding.Doubt, Sure: 0.95, Count: t.Asked,
		Subject: j.of(t), Title: "Somebody else asks " + list[0].device.Name,
		Sentence: fmt.Sprintf("%s is asked by %s too, %s, and the plan has no such link.", list[0].device.Name,
			p.asker(t.Key.Asker), times(t.Asked)),
		Remedy: "Find out who that is. If it belongs there, add it to the site: it takes its share of the device's time."}
	t.first(&f)
	return f, true
}

// requests reports questions for what no point of the map covers.
func (p *plan) requests(j *Judge, t *Talk, list []planned) []finding.Finding {
	var ps proofs
	device := list[0].device
	for _, r := range t.Requests {
		covered := false
		for i := range device.Points {
			at := block.Of(device.Points[i].Address)
			covered = covered || at.Area == r.Range.Area && at.Offset >= r.Range.Start &&
				at.Offset < r.Range.Start+uint32(r.Range.Count)
		}
		if !covered {
			h := capture.Heard{Function: r.Function, Range: r.Range, Write: r.Write, Asked: r.First, AskedIn: r.FirstIn}
			ps.n += r.Count - 1
			ps.add(proofOf(&h, t.words(&h)))
		}
	}
	if ps.n == 0 {
		return nil
	}
	slices.SortFunc(ps.kept, func(a, b proof) int { return cmp.Compare(a.packets[0], b.packets[0]) })
	f := finding.Finding{Code: "unplanned-request", Severity: finding.Note, Sure: 1, Count: ps.n,
		Subject: j.of(t), Title: device.Name + " is asked for what its map has not",
		Sentence: fmt.Sprintf("%d questions of %s are for units in which no point of the map lies.", ps.n,
			p.asker(t.Key.Asker)),
		Remedy: "Add the points to the map, or leave the question out."}
	ps.into(&f)
	return []finding.Finding{f}
}
