// Package drawn puts a device into a site that a file describes: with its port, its map,
// and the link over which it is asked.
package drawn

import (
	"cmp"
	"fmt"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// Place is where a device goes.
type Place struct {
	Line string
	// Asking is the device that asks it; empty for none.
	Asking string
	Host   string
	// Served is set for a device that Ferry itself is: nobody of the plan asks it. File is the name
	// under which the file is kept that describes it, for protocols that build their device of it.
	Served bool
	File   string
}

// Device returns the edits that put a device there, and its id and that of its link. newID
// makes ids.
func Device(now *site.Site, def *protocol.Def, d *protocol.Drawn, at Place, newID func() string) (edits []site.Edit,
	device, link string, err error) {
	line := now.Line(at.Line)
	if line == nil || string(line.Medium) != def.Medium {
		return nil, "", "", problem.New("no-line", "The device goes on a line of another kind.",
			"Choose a line over which "+def.Title+" runs.")
	}
	made := site.Device{ID: newID(), Name: unused(now, cmp.Or(d.Name, "New device")), Model: d.Model, Remark: d.Remark,
		Map: def.Name, Limits: site.Limits{Connections: d.Connections, PerSecond: d.PerSecond}, Points: []site.Point{}}
	for area, size := range d.Sizes {
		if size > 0 {
			if made.Limits.Areas == nil {
				made.Limits.Areas = map[string]uint32{}
			}
			made.Limits.Areas[area] = uint32(size)
		}
	}
	made.Ports = []site.Port{{Line: at.Line, Host: at.Host, Protocol: def.Name, Settings: d.Answer, Unknown: d.Unknown}}
	if len(d.Aside) > 0 {
		made.Ports = append(made.Ports, site.Port{Line: at.Line, Host: at.Host, Protocol: d.AsideOf})
	}
	if at.Served {
		made.Serving = &site.Serving{}
		if d.FileKey != "" && at.File != "" {
			made.Ports[0].Settings = made.Ports[0].Settings.With(d.FileKey, protocol.OfText(at.File))
		}
	}
	names := map[string]bool{}
	list := points(d.Held, "", names, newID)
	list = append(list, points(d.Aside, d.AsideOf, names, newID)...)
	list = append(list, points(def.StandingPoints(), "", names, newID)...)
	edits = append(edits, site.Put(site.KindDevice, made.ID, "", made))
	for i := range list {
		edits = append(edits, site.Put(site.KindPoint, list[i].ID, made.ID, list[i]))
	}
	if at.Asking == "" || at.Served {
		return edits, made.ID, "", nil
	}
	l := site.Link{ID: newID(), Asking: at.Asking, Answering: made.ID, Line: at.Line, Protocol: def.Name, Settings: d.Ask}
	edits = append(edits, site.Put(site.KindLink, l.ID, "", l))
	if len(d.Aside) > 0 {
		aside := site.Link{ID: newID(), Asking: at.Asking, Answering: made.ID, Line: at.Line, Protocol: d.AsideOf}
		edits = append(edits, site.Put(site.KindLink, aside.ID, "", aside))
	}
	return edits, made.ID, l.ID, nil
}

// usualPaceMs is the pace of what a file describes: nobody has said another.
const usualPaceMs = 1000

func points(held []protocol.Held, of string, names map[string]bool, newID func() string) (list []site.Point) {
	for _, h := range held {
		p := site.PointOf(&h)
		p.ID, p.PaceMs, p.Map = newID(), usualPaceMs, of
		for n := 2; names[p.Name]; n++ {
			p.Name = fmt.Sprintf("%s %d", h.Name, n)
		}
		names[p.Name] = true
		list = append(list, p)
	}
	return list
}

// unused is a name that no device has.
func unused(now *site.Site, name string) string {
	taken := map[string]bool{}
	for i := range now.Devices {
		taken[now.Devices[i].Name] = true
	}
	as := name
	for n := 2; taken[as]; n++ {
		as = fmt.Sprintf("%s %d", name, n)
	}
	return as
}
