package gateway

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// there is what is there already of a gateway that is added to.
type there struct {
	gateway *site.Device
	places  map[address.Address]bool
	names   map[string]bool
	given   map[string]bool // the values that it, or a device behind it, gives on
}

func nothing() there {
	return there{places: map[address.Address]bool{}, names: map[string]bool{}, given: map[string]bool{}}
}

// find looks up the gateway that is added to, where there is one.
func (b *builder) find() error {
	as := &b.order.As
	if as.Device == "" {
		return nil
	}
	d := b.site.Device(as.Device)
	if d == nil {
		return errors.New("the gateway is not there any more")
	}
	door := doorOf(d)
	if door == nil {
		return fmt.Errorf("%s gives values on in no protocol in which a gateway does", d.Name)
	}
	if as.Writable && d.Serving.ReadOnly {
		return fmt.Errorf("%s lets nothing be written: change that at it first, or leave what is added as readings", d.Name)
	}
	b.there.gateway = d
	as.Protocol, as.Name, as.Line, as.Host, as.Settings = door.Protocol, d.Name, door.Line, door.Host, door.Settings
	for i := range d.Points {
		b.there.places[d.Points[i].Address], b.there.names[d.Points[i].Name] = true, true
	}
	objects := map[string]bool{}
	for i := range b.site.Devices {
		end := &b.site.Devices[i]
		if p := doorOf(end); p == nil || p.Line != door.Line || p.Host != door.Host || p.Protocol != door.Protocol {
			continue
		}
		if end.ID != d.ID { // what is behind it besides is where this is
			def, _ := protocol.Named(door.Protocol)
			as.Settings = protocol.Settings{}
			maps.Copy(as.Settings, doorOf(end).Settings)
			as.Settings[def.Station] = def.Value(door.Settings, def.Station)
		}
		for k := range end.Points {
			objects[end.Points[k].ID] = true
		}
	}
	for i := range b.site.Crossings {
		if x := &b.site.Crossings[i]; objects[x.To] {
			b.there.given[x.From] = true
		}
	}
	return nil
}

// doorOf is the port at which Ferry, as a device, answers in a protocol whose ends are made of values; nil for none.
func doorOf(d *site.Device) *site.Port {
	for i := range d.Ports {
		def, _ := protocol.Named(d.Ports[i].Protocol)
		if _, makes := def.Making(); makes && d.Served() {
			return &d.Ports[i]
		}
	}
	return nil
}

// free is the first n from one on whose station no device of the site has.
func (b *builder) free(n int) int {
	taken := map[int]bool{}
	for i := range b.site.Devices {
		for k := range b.site.Devices[i].Ports {
			if p := &b.site.Devices[i].Ports[k]; p.Protocol == b.far.Name {
				station, _ := b.far.StationOf(p.Settings)
				taken[station] = true
			}
		}
	}
	for range taken { // as many may be in the way
		if station, ok := b.far.StationOf(b.makes.Ends(b.order.As.Settings, n)); !ok || !taken[station] {
			break
		}
		n++
	}
	return n
}

// repace has what is on the line already be read at the pace of the design, and the objects of its values, too.
// What is read once stays so, where no list of its device has a pace.
func (b *builder) repace() error {
	pace := b.order.PaceMs
	if !b.order.All || pace == 0 || b.order.Line == "" {
		return nil
	}
	moved := map[string]bool{}
	for i := range b.site.Links {
		k := &b.site.Links[i]
		if d := b.site.Device(k.Answering); k.Line == b.order.Line && d != nil {
			b.repaced(d, moved)
		}
	}
	objects := map[string]bool{}
	for i := range b.site.Crossings {
		if x := &b.site.Crossings[i]; moved[x.From] {
			objects[x.To] = true
		}
	}
	for i := range b.site.Devices {
		d := &b.site.Devices[i]
		for k := range d.Points {
			if p := d.Points[k]; d.Served() && objects[p.ID] && p.PaceMs != pace {
				p.PaceMs = pace
				b.add(site.KindPoint, p.ID, d.ID, p)
			}
		}
	}
	return nil
}

// repaced has one device be read at the pace of the design; moved collects the ids of its values that are.
func (b *builder) repaced(d *site.Device, moved map[string]bool) {
	pace, own, lists := b.order.PaceMs, *d, map[string]bool{}
	own.Points, own.Placements = nil, slices.Clone(d.Placements)
	for i := range own.Placements {
		if at := &own.Placements[i]; at.Datasheet != "" || at.PaceMs > 0 {
			at.PaceMs, lists[at.ID] = pace, true
		}
	}
	if !slices.Equal(own.Placements, d.Placements) {
		b.add(site.KindDevice, d.ID, "", own)
	}
	for i := range d.Points {
		p := d.Points[i]
		if moved[p.ID] || p.PaceMs == 0 && (p.From == nil || !lists[p.From.Placement]) {
			continue
		}
		if moved[p.ID] = true; p.PaceMs != pace {
			p.PaceMs = pace
			b.add(site.KindPoint, p.ID, d.ID, p)
		}
	}
}
