package recording

import (
	"fmt"
	"net/netip"
	"slices"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/judge"
	"ferry/internal/core/learn"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// HeardDevice is a device that answered in a recording, with the points that it may have.
type HeardDevice struct {
	// Talk counts the proposals of a recording from 0.
	Talk     int           `json:"talk"`
	Askers   []string      `json:"askers"`
	At       string        `json:"at"`
	Station  int           `json:"station"`
	Protocol string        `json:"protocol"`
	Title    string        `json:"title"`
	Asked    int           `json:"asked"`
	Known    string        `json:"known,omitempty"` // the device of the site that it is; empty for none
	Points   []learn.Guess `json:"points"`

	key  judge.TalkKey
	asks []netip.Addr // who asks it
}

// Bounds of what is looked at to learn.
const (
	mostProposals = 500
	mostReadings  = 120 // of one question
)

// Learn proposes devices with their points, from who answered and what was asked.
func (k *Kept) Learn(of *site.Site) ([]HeardDevice, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	x, err := k.ready()
	if err != nil {
		return nil, err
	}
	type place struct {
		talk int
		r    block.Range
		fn   int
	}
	readings := map[place]*learn.Asked{}
	firsts, lasts, counts := map[place]int64{}, map[place]int64{}, map[place]int{}
	asked := map[int]int{}
	// Whoever asks, who answers is one device.
	group, first := make([]int, len(x.Talks)), map[judge.TalkKey]int{}
	for talk, key := range x.Talks {
		key.Asker = netip.Addr{}
		if _, known := first[key]; !known {
			first[key] = talk
		}
		group[talk] = first[key]
	}
	var failed error
	err = x.each(0, func(_ int, r *Row) bool {
		if r.Stray || r.Outcome != exchange.Answered || r.Range.Count == 0 || r.Talk >= mostProposals {
			return true
		}
		asked[group[r.Talk]]++
		p := place{group[r.Talk], r.Range, r.Function}
		a := readings[p]
		if a == nil {
			a = &learn.Asked{Range: r.Range, Written: r.Write}
			readings[p], firsts[p] = a, r.At.UnixNano()
		}
		counts[p]++
		lasts[p] = r.At.UnixNano()
		speech := speechOf(x.Protocols[r.Talk])
		if r.Write || len(a.Readings) >= mostReadings || speech == nil || speech.Units == nil {
			return true
		}
		var request, answer []byte
		if request, answer, failed = x.Octets(r); failed != nil {
			return false
		}
		if units := speech.Units(request, answer); units != nil {
			a.Readings = append(a.Readings, units)
		}
		return true
	})
	if err != nil || failed != nil {
		return nil, fmt.Errorf("the recording cannot be read again: %w", firstOf(err, failed))
	}
	list := []HeardDevice{}
	for talk, key := range x.Talks[:min(len(x.Talks), mostProposals)] {
		def, ok := protocol.Named(x.Protocols[talk])
		if !ok || asked[talk] == 0 || group[talk] != talk {
			continue
		}
		var all []learn.Asked
		for p, a := range readings {
			if p.talk != talk {
				continue
			}
			if n := counts[p]; n > 1 {
				a.Every = span(float64(lasts[p]-firsts[p]) / 1e6 / float64(n-1))
			}
			all = append(all, *a)
		}
		slices.SortFunc(all, func(a, b learn.Asked) int { return int(a.Range.Start) - int(b.Range.Start) })
		v := HeardDevice{Talk: talk, Askers: []string{}, At: where(&key), Station: key.Station, Protocol: def.Name,
			Title: def.Title, Asked: asked[talk], Points: learn.Points(def.Scheme, all), key: key}
		for other, of := range group {
			if of == talk {
				v.Askers, v.asks = append(v.Askers, asker(&x.Talks[other])), append(v.asks, x.Talks[other].Asker)
			}
		}
		if d := judge.DeviceOf(of, key); d != nil {
			v.Known = d.Name
		}
		if v.Points == nil {
			v.Points = []learn.Guess{}
		}
		list = append(list, v)
	}
	return list, nil
}

func firstOf(list ...error) error {
	for _, err := range list {
		if err != nil {
			return err
		}
	}
	return nil
}

// Edits make devices of what was proposed, with their points and links; who asked too.
func Edits(now *site.Site, chosen []HeardDevice) []site.Edit {
	m := maker{site: now, made: map[string]string{}, names: map[string]bool{}, ids: map[string]bool{}}
	for i := range now.Devices {
		m.names[now.Devices[i].Name], m.ids[now.Devices[i].ID] = true, true
	}
	for i := range now.Lines {
		m.ids[now.Lines[i].ID] = true
	}
	for i := range now.Links {
		m.ids[now.Links[i].ID] = true
	}
	for i := range chosen {
		m.take(&chosen[i])
	}
	return m.edits
}

// maker makes edits of proposals.
type maker struct {
	site  *site.Site
	edits []site.Edit
	made  map[string]string // ids of lines and askers, by what they are of
	names map[string]bool
	ids   map[string]bool
}

// id is an id that nothing has yet.
func (m *maker) id(kind string) string {
	for n := 1; ; n++ {
		if id := fmt.Sprintf("%s-%d", kind, n); !m.ids[id] {
			m.ids[id] = true
			return id
		}
	}
}

// free is a name that nothing has yet.
func free(taken map[string]bool, want string) string {
	name := want
	for n := 2; taken[name]; n++ {
		name = fmt.Sprintf("%s %d", want, n)
	}
	taken[name] = true
	return name
}

// line finds or makes the line on which a device was heard.
func (m *maker) line(p *HeardDevice, medium string) string {
	for i := range m.site.Lines {
		if l := &m.site.Lines[i]; l.Medium == medium && (p.key.Line == "" || l.Name == p.key.Line) {
			return l.ID
		}
	}
	key := "line " + p.key.Line
	if id, ok := m.made[key]; ok {
		return id
	}
	id := m.id("line")
	line := site.Line{ID: id, Name: "Heard network", Medium: medium}
	if p.key.Line != "" {
		line.Name = p.key.Line
	}
	m.made[key] = id
	m.edits = append(m.edits, site.Put(site.KindLine, id, "", line))
	return id
}

// asking finds or makes the device that asks.
func (m *maker) asking(asks netip.Addr, line string) string {
	for i := range m.site.Devices {
		for _, port := range m.site.Devices[i].Ports {
			a, err := netip.ParseAddr(port.Host)
			if port.Line == line && (err == nil && a.Unmap() == asks || !asks.IsValid() && port.Protocol == "") {
				return m.site.Devices[i].ID
			}
		}
	}
	key := "asker " + line + " " + asks.String()
	if id, ok := m.made[key]; ok {
		return id
	}
	d := site.Device{ID: m.id("asker"), Name: free(m.names, "Asker"), Ports: []site.Port{{Line: line}},
		Points: []site.Point{}}
	if asks.IsValid() {
		d.Name = free(m.names, asks.String())
		d.Ports[0].Host = asks.String()
	}
	m.made[key] = d.ID
	m.edits = append(m.edits, site.Put(site.KindDevice, d.ID, "", d))
	return d.ID
}

func (m *maker) take(p *HeardDevice) {
	def, ok := protocol.Named(p.Protocol)
	if !ok {
		return
	}
	line := m.line(p, def.Medium)
	settings := protocol.Settings{}
	name := p.At
	if def.Station != "" && p.Station >= 0 {
		settings[def.Station] = protocol.OfInt(p.Station)
		name = fmt.Sprintf("%s %d", capitalised(def.StationWord()), p.Station)
	}
	port := site.Port{Line: line, Protocol: def.Name, Settings: settings}
	if p.key.Line == "" {
		port.Host = p.key.Answerer.Addr().String()
		if p.Station < 0 {
			name = port.Host
		} else {
			name += " at " + port.Host
		}
		if n := int(p.key.Answerer.Port()); n != def.Int(nil, protocol.KeyPort) {
			settings[protocol.KeyPort] = protocol.OfInt(n)
		}
	}
	d := site.Device{ID: m.id("heard"), Name: free(m.names, name), Map: def.Name, Ports: []site.Port{port},
		Points: []site.Point{}}
	for i, g := range p.Points {
		d.Points = append(d.Points, site.Point{ID: fmt.Sprintf("%s-%d", d.ID, i+1), Name: g.At, Address: g.Address,
			Type: g.Type, Order: g.Order, PaceMs: g.PaceMs, Access: g.Access,
			Remark: fmt.Sprintf("guessed: %s (%.0f %% sure)", g.Why, 100*g.Sure)})
	}
	points := d.Points
	d.Points = []site.Point{}
	m.edits = append(m.edits, site.Put(site.KindDevice, d.ID, "", d))
	for _, point := range points {
		m.edits = append(m.edits, site.Put(site.KindPoint, point.ID, d.ID, point))
	}
	for _, asks := range p.asks {
		link := site.Link{ID: m.id("link"), Asking: m.asking(asks, line), Answering: d.ID, Line: line, Protocol: def.Name,
			Settings: settings}
		m.edits = append(m.edits, site.Put(site.KindLink, link.ID, "", link))
	}
}

func capitalised(text string) string {
	if text == "" {
		return text
	}
	return string(text[0]-'a'+'A') + text[1:]
}
