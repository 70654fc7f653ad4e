package site

import (
	"cmp"
	"slices"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
)

// A device may be asked in several protocols, and then has several maps: each of
// its points says in whose addressing it is written, where that is not the one of
// the device itself, and may say which link carries it.

// MapOf names the protocol in whose addressing a point of d is written.
func (d *Device) MapOf(p *Point) string { return protocol.MapOr(cmp.Or(p.Map, d.Map)) }

// SchemeOf is the addressing in which a point of d is written.
func (d *Device) SchemeOf(p *Point) (address.Scheme, error) {
	return protocol.SchemeOf(cmp.Or(p.Map, d.Map))
}

// Maps names the protocols in whose addressing points of d are written, that of
// the device first, of each family one.
func (d *Device) Maps() []string {
	names := []string{protocol.MapOr(d.Map)}
	for i := range d.Points {
		if name := d.Points[i].Map; name != "" {
			names = addMap(names, name)
		}
	}
	return names
}

func addMap(names []string, name string) []string {
	scheme, err := protocol.SchemeOf(name)
	if err != nil || slices.ContainsFunc(names, func(other string) bool {
		has, _ := protocol.SchemeOf(other)
		return has == scheme
	}) {
		return names
	}
	return append(names, name)
}

// MapsOf adds to the maps of a device those that the links that ask it would
// have.
func (s *Site) MapsOf(d *Device) []string {
	names := d.Maps()
	for i := range s.Links {
		if l := &s.Links[i]; l.Answering == d.ID && (d.Map != "" || len(d.Points) > 0) {
			names = addMap(names, l.Protocol)
		}
	}
	return names
}

// In returns d as if a map were its only one: with the points that are written in
// the addressing of that protocol, or of its family. It is d itself where these
// are all. A change of the device is one of Whole.
func (d *Device) In(name string) *Device {
	scheme, err := protocol.SchemeOf(name)
	if err != nil {
		return d
	}
	own, err := protocol.SchemeOf(protocol.MapOr(d.Map))
	return d.with(name, err == nil && own == scheme, func(p *Point) bool {
		if p.Map == "" {
			return err == nil && own == scheme
		}
		other, _ := protocol.SchemeOf(p.Map)
		return other == scheme
	})
}

// with returns d with the points that belong, as if a map were its only one.
func (d *Device) with(name string, own bool, belongs func(p *Point) bool) *Device {
	count := 0
	for i := range d.Points {
		if belongs(&d.Points[i]) {
			count++
		}
	}
	if own && count == len(d.Points) {
		return d
	}
	view := *d
	view.whole, view.Points = d.Whole(), make([]Point, 0, count)
	if !own {
		view.Map = name
	}
	for i := range d.Points {
		if belongs(&d.Points[i]) {
			view.Points = append(view.Points, d.Points[i])
		}
	}
	return &view
}

// Whole is the device as the site has it.
func (d *Device) Whole() *Device {
	if d.whole != nil {
		return d.whole
	}
	return d
}

// Mark is the Map of a new point, or placement, of the map that d is, where d is
// what In returned: empty for the device's own.
func (d *Device) Mark() string {
	whole := d.Whole()
	if protocol.MapOr(d.Map) == protocol.MapOr(whole.Map) || whole.Map == "" && len(whole.Points) == 0 {
		return ""
	}
	return d.Map
}

// Carried returns the answering end of a link with the points that the link
// carries: those that name it, and those that name none and are written in the
// addressing of its protocol. It is nil where there is no such device.
func (s *Site) Carried(l *Link) *Device {
	d := s.Device(l.Answering)
	if d == nil {
		return nil
	}
	return d.CarriedBy(l)
}

// CarriedBy is Site.Carried for a device that is at hand.
func (d *Device) CarriedBy(l *Link) *Device {
	view := d.In(l.Protocol)
	return view.with(view.Map, true, func(p *Point) bool { return p.Link == "" || p.Link == l.ID })
}

// LinkOf returns the link that carries a point of a device: the one that it
// names, or the first that asks in its addressing; nil where none does.
func (s *Site) LinkOf(d *Device, p *Point) *Link {
	for _, l := range s.Carriers(d, p) {
		if p.Link == "" || p.Link == l.ID {
			return l
		}
	}
	return nil
}

// Carriers lists the links that can carry a point of a device: those that ask it
// in the addressing of the point.
func (s *Site) Carriers(d *Device, p *Point) (links []*Link) {
	scheme, err := d.SchemeOf(p)
	if err != nil {
		return nil
	}
	for i := range s.Links {
		l := &s.Links[i]
		if has, _ := protocol.SchemeOf(l.Protocol); l.Answering == d.ID && has == scheme {
			links = append(links, l)
		}
	}
	return links
}

// LinkIn returns the first link that asks a device in the addressing of a
// protocol, nil where none does.
func (s *Site) LinkIn(device, name string) *Link {
	d := s.Device(device)
	if d == nil {
		return nil
	}
	return s.LinkOf(d, &Point{Map: name})
}

// PortFor returns the port of d at which a link ends: that on its line which
// answers in its protocol, or the first on its line; nil where there is none.
func (d *Device) PortFor(l *Link) *Port {
	for i := range d.Ports {
		if p := &d.Ports[i]; p.Line == l.Line && p.Protocol == l.Protocol {
			return p
		}
	}
	return d.Port(l.Line)
}
