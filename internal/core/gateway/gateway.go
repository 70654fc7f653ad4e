// Package gateway makes a gateway out of what a technician knows of it: which line with which settings, which
// meters with which of their values, as what they are given on, and who reads. It says how old each value
// gets before anything is built.
package gateway

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
)

// builder builds.
type builder struct {
	site     *site.Site
	order    *Design
	sheet    func(id string) *site.Datasheet
	id       func() string
	near     *protocol.Def // that of the meters
	far      *protocol.Def
	makes    protocol.Makes
	asker    string // who asks the meters
	out      Built
	put      []site.Edit
	stations map[int]bool // that devices have on the line
	there    there
}

func (b *builder) add(kind site.Kind, id, parent string, what any) {
	b.put = append(b.put, site.Put(kind, id, parent, what))
}

// Build makes the edits of a gateway. sheet finds ready lists, also such as are not in the site yet; newID names
// what is made. It fails with the first thing that does not go together.
func Build(s *site.Site, o *Design, sheet func(id string) *site.Datasheet, newID func() string) (*Built, error) {
	own := *o
	own.Meters = slices.Clone(o.Meters)
	b := &builder{site: s, order: &own, sheet: sheet, id: newID, stations: map[int]bool{}, there: nothing()}
	b.out.Objects, b.out.Devices = []Made{}, []string{}
	for _, step := range []func() error{b.find, b.protocols, b.line, b.upstream, b.meters, b.repace} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	b.out.Edits = b.put
	return &b.out, nil
}

// protocols finds in what the meters are asked, and in what their values are given on.
func (b *builder) protocols() error {
	o := b.order
	def, known := protocol.Named(o.As.Protocol)
	makes, ok := def.Making()
	if !known || !ok {
		return fmt.Errorf("%q is no protocol in which values of meters are given on", o.As.Protocol)
	}
	b.far, b.makes = def, makes
	if len(o.Meters) == 0 {
		return errors.New("there is no meter yet")
	}
	for i := range o.Meters {
		m := &o.Meters[i]
		var near *protocol.Def
		if d := b.site.Device(m.Device); d != nil {
			if p := d.Port(o.Line); p != nil {
				near, _ = protocol.Named(p.Protocol)
			}
			if near == nil {
				return fmt.Errorf("%s has no port on the line", d.Name)
			}
			m.Name = d.Name
			m.Station, _ = near.StationOf(d.Port(o.Line).Settings)
		} else {
			if m.Model < 0 || m.Model >= len(o.Models) {
				return fmt.Errorf("%s has no model", m.Name)
			}
			list := b.sheet(o.Models[m.Model].Datasheet)
			if list == nil {
				return fmt.Errorf("the list of %s is not there any more", m.Name)
			}
			if near = spokenOn(list.Map, site.SerialLine); near == nil {
				return fmt.Errorf("%s is written for a protocol that is not spoken on serial lines", list.Name)
			}
		}
		if b.near != nil && b.near != near {
			return fmt.Errorf("%s speaks %s, and the others %s: one line has one protocol", m.Name, near.Title, b.near.Title)
		}
		b.near = near
	}
	return nil
}

// spokenOn is a protocol of a medium that reads maps of another.
func spokenOn(name, medium string) (found *protocol.Def) {
	scheme, err := protocol.SchemeOf(protocol.MapOr(name))
	if err != nil {
		return nil
	}
	for _, d := range protocol.All() {
		if d.Medium == medium && !d.MapOnly && d.Scheme == scheme && (found == nil || d.Usual && !found.Usual) {
			found = d
		}
	}
	return found
}

// line makes the line, if it is not there, and finds who asks on it.
func (b *builder) line() error {
	o := b.order
	if o.Line != "" {
		l := b.site.Line(o.Line)
		if l == nil || l.Medium != site.SerialLine {
			return errors.New("the line is not there any more, or is no serial one")
		}
		b.out.Line = l.ID
		for i := range b.site.Links {
			if k := &b.site.Links[i]; k.Line == l.ID {
				b.asker = k.Asking
			}
		}
		b.stations = stationsOn(b.site, l.ID)
		return nil
	}
	name := strings.TrimSpace(o.NewLine.Name)
	if name == "" {
		return errors.New("the new line has no name")
	}
	line := site.Line{ID: b.id(), Name: name, Medium: site.SerialLine, Here: o.NewLine.Here,
		Serial: &site.Serial{Standard: cmp.Or(o.NewLine.Kind, serial.TIA485Two), Format: o.NewLine.Format,
			LengthM: o.NewLine.LengthM}}
	b.out.Line = line.ID
	b.add(site.KindLine, line.ID, "", line)
	return nil
}

// stationsOn are those that devices have on a line.
func stationsOn(s *site.Site, line string) map[int]bool {
	stations := map[int]bool{}
	for i := range s.Devices {
		p := s.Devices[i].Port(line)
		if p == nil {
			continue
		}
		def, _ := protocol.Named(p.Protocol)
		if n, ok := def.StationOf(p.Settings); ok {
			stations[n] = true
		}
	}
	return stations
}

// upstream makes the devices that Ferry is, without their points, and who reads.
func (b *builder) upstream() error {
	o := b.order
	name := strings.TrimSpace(o.As.Name)
	if name == "" {
		return errors.New("the gateway has no name")
	}
	if l := b.site.Line(o.As.Line); l == nil || l.Medium != b.far.Medium {
		return fmt.Errorf("choose the network on which %s answers", name)
	}
	serving := &site.Serving{ReadOnly: !o.As.Writable}
	if o.Reader.Only {
		if strings.TrimSpace(o.Reader.Host) == "" {
			return errors.New("who alone may read has no address")
		}
		serving.Allow = []string{strings.TrimSpace(o.Reader.Host)}
	}
	end := func(name string, n int) site.Device {
		return site.Device{ID: b.id(), Name: name, Map: b.far.Name, Serving: serving, Ports: []site.Port{{Line: o.As.Line,
			Host: strings.TrimSpace(o.As.Host), Protocol: b.far.Name, Settings: b.makes.Ends(o.As.Settings, n)}}}
	}
	first := site.Device{}
	if d := b.there.gateway; d != nil {
		first, serving = *d, d.Serving
		first.Points, first.Ports = nil, slices.Clone(d.Ports)
	} else {
		first = end(name, 0)
	}
	asks := b.asker == "" && first.Port(b.out.Line) == nil
	if asks {
		first.Ports = append(first.Ports, site.Port{Line: b.out.Line})
	}
	b.asker = cmp.Or(b.asker, first.ID)
	if b.out.Devices = append(b.out.Devices, first.ID); asks || b.there.gateway == nil {
		b.add(site.KindDevice, first.ID, "", first)
	}
	for i, n := 0, 1; o.As.Each && i < len(o.Meters); i, n = i+1, n+1 {
		n = b.free(n)
		d := end(name+", "+o.Meters[i].Name, n)
		b.out.Devices = append(b.out.Devices, d.ID)
		b.add(site.KindDevice, d.ID, "", d)
	}
	if reader := strings.TrimSpace(o.Reader.Name); reader != "" &&
		!slices.ContainsFunc(b.site.Devices, func(d site.Device) bool { return d.Name == reader }) {
		d := site.Device{ID: b.id(), Name: reader, Remark: "Reads " + name, Points: []site.Point{},
			Ports: []site.Port{{Line: o.As.Line, Host: strings.TrimSpace(o.Reader.Host)}}}
		b.add(site.KindDevice, d.ID, "", d)
	}
	return nil
}

// meters makes the meters with their links, the objects of their values, and what carries these.
func (b *builder) meters() error {
	o := b.order
	sheets := map[string]bool{}
	var crossings []site.Crossing
	for i := range o.Meters {
		m := &o.Meters[i]
		device := b.site.Device(m.Device)
		if device == nil {
			made, err := b.meter(m, sheets)
			if err != nil {
				return err
			}
			device = made
		}
		end := b.out.Devices[0]
		if o.As.Each {
			end = b.out.Devices[1+i]
		}
		objects, points, err := b.objects(m, device)
		if err != nil {
			return err
		}
		for k := range points {
			object, made := &objects[k], &points[k]
			object.Meter = i
			b.add(site.KindPoint, made.ID, end, *made)
			x := site.Crossing{ID: b.id(), From: object.Point, To: made.ID, AllowMs: o.Reader.OldestMs}
			if made.Access == site.ReadWrite {
				x.Both = site.LaterTies
			}
			crossings = append(crossings, x)
		}
		b.out.Objects = append(b.out.Objects, objects...)
	}
	for i := range crossings {
		b.add(site.KindCrossing, crossings[i].ID, "", crossings[i])
	}
	return nil
}

// objects are what the values of a meter become that are not given on yet. A meter of which some are has the next
// ones beside them; any other has hundred numbers that no object has yet.
func (b *builder) objects(m *Meter, device *site.Device) (objects []Made, points []site.Point, err error) {
	var values []site.Point
	some := false
	for i := range device.Points {
		p := &device.Points[i]
		if some = some || b.there.given[p.ID]; p.Access != site.WriteOnly && !p.Address.IsZero() && !b.there.given[p.ID] {
			values = append(values, *p)
		}
	}
	places, names, block := b.there.places, b.there.names, m.Station
	if b.order.As.Each {
		places, names, block = map[address.Address]bool{}, map[string]bool{}, 0
	}
	switch {
	case len(values) == 0:
		return nil, nil, fmt.Errorf("of %s, nothing is left to be given on", m.Name)
	case !b.order.As.Each && len(values) >= perMeter:
		return nil, nil, fmt.Errorf("%s has more than %d values: make each meter a device of its own", m.Name, perMeter-1)
	}
	for number, i := block*perMeter+1, 0; i < len(values); number++ {
		object, made := b.object(m.Name, &values[i], number)
		if err := site.CheckPoint(b.far.Scheme, &made); err != nil {
			return nil, nil, fmt.Errorf("%s, %s: %w", m.Name, values[i].Name, err)
		}
		if !places[made.Address] {
			objects, points = append(objects, object), append(points, made)
			i++
		} else if !some { // it is another's: all begins anew
			block += perLine
			number, i, objects, points = block*perMeter, 0, nil, nil
		}
	}
	for i := range points {
		places[points[i].Address] = true
		points[i].Name = unlike(names, points[i].Name)
		objects[i].Name = points[i].Name
	}
	return objects, points, nil
}

// meter makes a device of a ready list, with its link.
func (b *builder) meter(m *Meter, sheets map[string]bool) (*site.Device, error) {
	o := b.order
	model := &o.Models[m.Model]
	list := b.sheet(model.Datasheet)
	if b.site.Datasheet(list.ID) == nil && !sheets[list.ID] {
		sheets[list.ID] = true
		b.add(site.KindDatasheet, list.ID, "", list)
	}
	name := strings.TrimSpace(m.Name)
	setting, _ := b.near.Setting(b.near.Station)
	switch {
	case name == "":
		return nil, fmt.Errorf("the meter at %d has no name", m.Station)
	case m.Station < max(setting.Least, 1) || m.Station > setting.Most:
		return nil, fmt.Errorf("%s: %s goes from %d to %d", name, strings.ToLower(setting.Title), max(setting.Least, 1),
			setting.Most)
	case b.stations[m.Station]:
		return nil, fmt.Errorf("%s: another device has %s %d", name, strings.ToLower(setting.Title), m.Station)
	}
	d := &site.Device{ID: b.id(), Name: name, Model: list.Name, Map: b.near.Name, Limits: list.Limits, Bench: model.Bench,
		Ports: []site.Port{{Line: b.out.Line, Protocol: b.near.Name,
			Settings: protocol.Settings{b.near.Station: protocol.OfInt(m.Station)}}}}
	b.stations[m.Station] = true
	if list.ThinkMs > 0 {
		if _, has := b.near.Setting(protocol.KeyThink); has {
			d.Ports[0].Settings[protocol.KeyThink] = protocol.OfInt(list.ThinkMs)
		}
	}
	placement := site.Placement{ID: b.id(), Datasheet: list.ID, PaceMs: o.PaceMs}
	for i := range list.Points {
		sp := &list.Points[i]
		if model.Picks == nil && !sp.Useful || model.Picks != nil && !slices.Contains(model.Picks, sp.ID) {
			continue
		}
		p := sp.Point
		if model.Picks == nil {
			p.From = &site.Origin{Placement: placement.ID, Point: sp.ID}
		}
		d.Points = append(d.Points, p)
	}
	if model.Picks == nil {
		d.Placements = []site.Placement{placement}
	}
	for i := range model.More {
		p, err := model.More[i].point(b.near.Scheme)
		if err != nil {
			return nil, err
		}
		d.Points = append(d.Points, p)
	}
	if len(d.Points) == 0 {
		return nil, fmt.Errorf("nothing of %s is chosen", list.Name)
	}
	own := *d
	own.Points = nil
	b.add(site.KindDevice, d.ID, "", own)
	for i := range d.Points {
		p := &d.Points[i]
		if p.ID = b.id(); o.PaceMs > 0 {
			p.PaceMs = o.PaceMs
		}
		b.add(site.KindPoint, p.ID, d.ID, *p)
	}
	link := site.Link{ID: b.id(), Asking: b.asker, Answering: d.ID, Line: b.out.Line, Protocol: b.near.Name,
		Settings: protocol.Settings{b.near.Station: protocol.OfInt(m.Station)}}
	b.add(site.KindLink, link.ID, "", link)
	return d, nil
}

// object is what a value becomes.
func (b *builder) object(meter string, p *site.Point, number int) (Made, site.Point) {
	o := b.order
	of := p.Held()
	of.Writable = o.As.Writable && p.Access == site.ReadWrite
	of.Factor, of.Offset = 0, 0
	if s := p.Scale(); !s.IsIdentity() && !p.Type.IsText() { // what is given on is the scaled value
		of.Names = nil
	}
	if strings.TrimSpace(of.Remark) == "" { // who reads it knows nothing of the meter
		of.Remark = meter + ", " + b.near.Scheme.Short(p.Address)
	}
	as, lost := b.makes.Make(of, number)
	made := site.PointOf(&as)
	made.ID, made.PaceMs = b.id(), p.PaceMs
	template := o.As.Names
	if strings.TrimSpace(template) == "" {
		if template = UsualNames; o.As.Each {
			template = EachNames
		}
	}
	made.Name = strings.NewReplacer("{device}", meter, "{point}", p.Name).Replace(template)
	return Made{Point: p.ID, Object: made.ID, At: b.near.Scheme.Short(p.Address), Source: p.Name,
		Address: b.far.Scheme.Short(made.Address), Name: made.Name, Type: string(made.Type), Unit: made.Unit,
		Band: made.Band, PaceMs: made.PaceMs, Lost: lost}, made
}

// unlike is a name that no other object of the device has.
func unlike(names map[string]bool, wanted string) string {
	name := wanted
	for n := 2; names[name]; n++ {
		name = fmt.Sprintf("%s (%d)", wanted, n)
	}
	names[name] = true
	return name
}
