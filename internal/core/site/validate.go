package site

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/value"
)

// Validate checks what must hold for a site to be kept at all: unique ids and
// names, references that lead somewhere, addresses and settings that exist.
// What is merely unwise is reported elsewhere as a finding. The first
// violation is returned as a *problem.Problem with its place.
func (s *Site) Validate() error {
	v := validator{names: map[string]string{}, ids: map[string]string{}}
	if strings.TrimSpace(s.Name) == "" {
		v.fail("site", "the site has no name.", "Give it one.")
	}
	if v.bounds(s); v.first != nil {
		return v.first // checking it in full could take for ever
	}
	for i := range s.Lines {
		v.path = fmt.Sprintf("lines[%d]", i)
		v.line(&s.Lines[i])
	}
	for i := range s.Devices {
		v.path = fmt.Sprintf("devices[%d]", i)
		v.device(s, &s.Devices[i])
	}
	for i := range s.Links {
		v.path = fmt.Sprintf("links[%d]", i)
		v.link(s, &s.Links[i])
	}
	points := map[string]*Device{}
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			points[s.Devices[i].Points[j].ID] = &s.Devices[i]
		}
	}
	lists := make(map[string]*List, len(s.Lists))
	for i := range s.Lists {
		v.path = fmt.Sprintf("lists[%d]", i)
		v.list(s, points, &s.Lists[i])
		lists[s.Lists[i].ID] = &s.Lists[i]
	}
	for i := range s.Crossings {
		v.path = fmt.Sprintf("crossings[%d]", i)
		v.crossing(points, &s.Crossings[i])
		v.listed(lists, points, &s.Crossings[i])
	}
	for i := range s.Lookouts {
		v.path = fmt.Sprintf("lookouts[%d]", i)
		v.lookout(s, points, &s.Lookouts[i])
	}
	for i := range s.Outlets {
		v.path = fmt.Sprintf("outlets[%d]", i)
		v.outlet(s, &s.Outlets[i])
	}
	for i := range s.Datasheets {
		v.path = fmt.Sprintf("datasheets[%d]", i)
		v.datasheet(&s.Datasheets[i])
	}
	for i := range s.Structures {
		v.path = fmt.Sprintf("structures[%d]", i)
		v.structure(s, &s.Structures[i])
	}
	for i := range s.Headings {
		h := &s.Headings[i]
		v.path = fmt.Sprintf("headings[%d]", i)
		v.identity("recognised headings", "", h.ID, "")
		if len(h.Words) != len(h.Columns) {
			v.fail("recognised headings", "there are not as many columns as headings.", "")
		}
	}
	if v.first != nil {
		return v.first
	}
	return nil
}

// Bounds of a site: what can be kept can also be checked, compiled and shown.
const (
	MostLines      = 500
	MostDevices    = 5_000
	MostLinks      = 5_000
	MostPoints     = 250_000
	MostCrossings  = 20_000
	MostStructures = 1_000
	MostDatasheets = 1_000
	MostHeadings   = 2_000
	mostPorts      = 64
	mostTyped      = 100 // lines, and characters of a key
	mostTypedText  = 500
)

func (v *validator) bounds(s *Site) {
	points, ports := 0, 0
	for i := range s.Devices {
		points += len(s.Devices[i].Points)
		ports = max(ports, len(s.Devices[i].Ports))
	}
	for i := range s.Datasheets {
		points += len(s.Datasheets[i].Points)
	}
	for _, b := range []struct {
		count, most int
		what        string
	}{
		{len(s.Lines), MostLines, "lines"}, {len(s.Devices), MostDevices, "devices"},
		{len(s.Links), MostLinks, "links"}, {points, MostPoints, "points"},
		{len(s.Crossings), MostCrossings, "crossings"}, {len(s.Structures), MostStructures, "structures"},
		{len(s.Datasheets), MostDatasheets, "datasheets"}, {len(s.Lists), MostLists, "lists of names"},
		{len(s.Lookouts), MostLookouts, "lookouts"}, {len(s.Outlets), MostOutlets, "outlets"},
		{len(s.Headings), MostHeadings, "recognised headings"}, {ports, mostPorts, "ports on one device"},
	} {
		if b.count > b.most {
			v.fail("site", fmt.Sprintf("%d %s: a site holds up to %d.", b.count, b.what, b.most),
				"Make two sites of it.")
		}
	}
	for i := range s.Structures {
		if len(s.Structures[i].Members) > 2_000 {
			v.fail(fmt.Sprintf("structure %q", s.Structures[i].Name), "it has more than 2 000 members.",
				"Nest them in structures of their own.")
		}
	}
}

type validator struct {
	first *problem.Problem
	names map[string]string // kind and lower-case name -> where
	ids   map[string]string // id -> where

	places int    // elements of the structures so far
	path   string // of what is being checked
}

// fail notes the first violation; which field of the object it is about is told
// from how the sentence begins.
func (v *validator) fail(where, sentence, do string) {
	field := ""
	for _, f := range fieldWords {
		if strings.HasPrefix(sentence, f.begins) {
			field = "." + f.field
			break
		}
	}
	v.failIn(field, where, sentence, do)
}

// failIn is fail for a known field, with its point.
func (v *validator) failIn(field, where, sentence, do string) {
	if v.first != nil {
		return
	}
	v.first = problem.New("invalid", sentence, do).At(where)
	if v.path != "" {
		v.first.Path = v.path + field
	}
}

// mostTold bounds what says how a point is told.
const mostTold = 200

// fieldWords say by how a sentence begins which field of an object it is about.
var fieldWords = []struct{ begins, field string }{
	{"it has no id", "id"}, {"id ", "id"}, {"it has no name", "name"}, {"its name", "name"}, {"the name", "name"},
	{"medium ", "medium"}, {"a round trip", "roundTripMs"},
	{"gateway ", "gateway"}, {"its cyclic", "cyclic"}, {"an Ethernet line", "serial"}, {"a serial line", "serial"},
	{"a length", "serial"}, {"its port is on line", "line"},
	{"it has points but its map", "map"}, {"a limit", "limits"}, {"its access line", "access"}, {"access ", "access"},
	{"a pace", "paceMs"}, {"a fastest change", "changeMs"}, {"a deadband", "band"}, {"told in", "told"},
	{"the scale", "factor"}, {"padding ", "padding"}, {"the power of ten", "powerAt"}, {"address ", "address"},
	{"type ", "type"}, {"a text", "length"}, {"order ", "order"}, {"protocol ", "protocol"},
	{"gender", "serial"}, {"a unit load", "serial"},
}

func (v *validator) identity(where, kind, id, name string) {
	if id == "" {
		v.fail(where, "it has no id.", "Every object of a site needs one.")
	}
	if other, dup := v.ids[id]; dup {
		v.fail(where, fmt.Sprintf("id %q is taken by %s.", id, other), "Ids are unique within a site.")
	}
	v.ids[id] = where
	if kind == "" {
		return
	}
	if strings.TrimSpace(name) == "" {
		v.fail(where, "it has no name.", "Give it one.")
	}
	if len(name) > 200 {
		v.fail(where, "its name is longer than 200 characters.", "Shorten it.")
	}
	key := kind + "\x00" + name
	if other, dup := v.names[key]; dup {
		v.fail(where, fmt.Sprintf("the name %q is taken by another %s (%s).", name, kind, other),
			"Choose another name.")
	}
	v.names[key] = "id " + id
}

func (v *validator) line(l *Line) {
	where := fmt.Sprintf("line %q", l.Name)
	v.identity(where, "line", l.ID, l.Name)
	switch l.Medium {
	case Ethernet:
		if l.Serial != nil {
			v.fail(where, "an Ethernet line has no serial settings.", "Make it a serial line, or leave them out.")
		}
	case SerialLine:
		if l.Serial == nil || !slices.Contains(serial.Standards(), l.Serial.Standard) {
			v.fail(where, "a serial line needs its standard.", "Choose RS-485 two-wire or four-wire, RS-422 or RS-232.")
		} else if err := l.Serial.Check(); err != nil {
			v.fail(where, err.Error()+".", "")
		} else if !between(l.Serial.LengthM, 0, 100_000) {
			v.fail(where, fmt.Sprintf("a length of %g m.", l.Serial.LengthM), "Give 0 for not known, to 100 000 m.")
		}
	default:
		v.fail(where, fmt.Sprintf("medium %q is not one that this version knows.", l.Medium), "Use ethernet or serial.")
	}
	if !between(l.RoundTripMs, 0, 60_000) {
		v.fail(where, fmt.Sprintf("a round trip of %g ms.", l.RoundTripMs), "Give 0 to 60 000 ms.")
	}
	for _, c := range l.Cyclic {
		if c.PeriodMs < 1 || c.PeriodMs > 3600_000 || c.Octets < 1 || c.Octets > 65535 ||
			strings.TrimSpace(c.Name) == "" {
			v.fail(where, fmt.Sprintf("its cyclic traffic %q has no name, or a period or size that cannot be.", c.Name),
				"Give a name, 1 ms to an hour, and 1 to 65 535 octets.")
		}
	}
	if l.Network != "" {
		if _, err := netip.ParsePrefix(l.Network); err != nil {
			v.fail(where, fmt.Sprintf("%q is not a network.", l.Network),
				"Write address and mask length, such as 192.0.2.0/24.")
		}
	}
	if l.Gateway != "" {
		if _, err := netip.ParseAddr(l.Gateway); err != nil {
			v.fail(where, fmt.Sprintf("gateway %q is not an IP address.", l.Gateway), "Write it as 192.0.2.1.")
		}
	}
}

// hostFrom checks a port whose address a point gives.
func (v *validator) hostFrom(s *Site, where string, d *Device, p *Port) {
	for _, line := range p.HostAmong {
		if _, err := allowed(line); err != nil {
			v.fail(where, "the addresses that a point may give it: "+err.Error()+".",
				"Write 192.0.2.21, or 192.0.2.0/24 for a whole network.")
		}
	}
	if p.HostFrom == "" {
		return
	}
	switch of, point := s.Point(p.HostFrom); {
	case point == nil:
		v.fail(where, "the point that gives its address is not in the site.", "Choose another, or none.")
	case !point.Type.IsText():
		v.fail(where, "the point that gives its address is a "+string(point.Type)+".", "Choose a text.")
	case of.ID == d.ID:
		v.fail(where, "the point that gives its address is its own.", "Choose one of another device.")
	case d.Served():
		v.fail(where, "the address at which Ferry answers cannot come from a point.", "Enter it.")
	case len(p.HostAmong) == 0:
		v.fail(where, "no address is stated that the point may give it.",
			"State them: Ferry goes to no address that nobody entered.")
	}
}

func (v *validator) device(s *Site, d *Device) {
	where := fmt.Sprintf("device %q", d.Name)
	v.identity(where, "device", d.ID, d.Name)
	if len(d.Cabinet) > 80 {
		v.fail(where, "the name of its cabinet is too long.", "It holds 80 characters.")
	}
	own := v.path
	for i := range d.Ports {
		p := &d.Ports[i]
		v.path = fmt.Sprintf("%s.ports[%d]", own, i)
		if s.Line(p.Line) == nil {
			v.fail(where, fmt.Sprintf("its port is on line %q, which is not in the site.", p.Line),
				"Choose a line of the site.")
		}
		if _, err := netip.ParseAddr(p.Host); err != nil && p.Host != "" {
			switch {
			case !IsHostName(p.Host):
				v.fail(where, fmt.Sprintf("%q is neither an IP address nor the name of a machine.", p.Host),
					"Write it as 192.0.2.21 or broker.skerry.example.")
			case d.Served():
				v.fail(where, fmt.Sprintf("Ferry answers there, and %q is a name.", p.Host), "Give an address of this machine.")
			}
		}
		v.hostFrom(s, where, d, p)
		v.pair(s, where, d, p)
		if def, ok := protocol.Named(p.Protocol); ok && def.MapOnly {
			v.fail(where, def.Title+" is no protocol that a port answers in.", "Choose a protocol of the line.")
		}
		v.settings(where, p.Protocol, p.Settings)
		v.portSerial(where, s.Line(p.Line), p)
	}
	v.path = own
	if l := d.Limits; !between(l.PerSecond, 0, 1e6) || l.Connections < 0 {
		v.fail(where, "a limit is less than nothing.", "Leave it empty for no limit.")
	}
	if _, ok := exchange.MannersOf(d.Limits.Manners); !ok {
		v.fail(where, fmt.Sprintf("its limits name a manner that this version does not know, of %s.",
			strings.Join(d.Limits.Manners, ", ")), "Leave it out.")
	}
	v.access(where, d.Access)
	v.serving(where, d)
	if a := d.Alive; a != nil {
		if !slices.ContainsFunc(d.Points, func(p Point) bool { return p.ID == a.Point }) {
			v.fail(where, "its heartbeat is none of its points.", "Choose a point of the device.")
		}
		if a.WithinMs < 100 || a.WithinMs > 24*3600*1000 {
			v.fail(where, fmt.Sprintf("its heartbeat may stand still for %d ms.", a.WithinMs), "Give 100 ms to a day.")
		}
	}
	v.placements(s, where, d)
	if len(d.Points) == 0 {
		return
	}
	usual, err := protocol.SchemeOf(d.Map)
	if err != nil {
		v.fail(where, "it has points but its map names no protocol that this version speaks.",
			"Set the map's protocol.")
		return
	}
	for i := range d.Points {
		p, scheme := &d.Points[i], usual
		if v.first == nil {
			v.path = own + ".points[" + strconv.Itoa(i) + "]"
		}
		if p.Map != "" {
			if scheme, err = protocol.SchemeOf(p.Map); err != nil {
				v.fail(where+", point \""+p.Name+"\"", "map: "+err.Error()+".", "")
				return
			}
		}
		if p.Link != "" {
			v.carried(s, where, d, p)
		}
		v.point(where, scheme, p)
	}
}

// carried checks that the link that a point names can carry it.
func (v *validator) carried(s *Site, where string, d *Device, p *Point) {
	l := s.Link(p.Link)
	where += ", point \"" + p.Name + "\""
	if l == nil || l.Answering != d.ID {
		v.failIn(".link", where, fmt.Sprintf("it is to be carried by link %q, which does not go to its device.", p.Link),
			"Choose a link of the device, or none.")
	} else if s.LinkOf(d, p) == nil {
		v.failIn(".link", where, "it is to be carried by a link whose protocol has another addressing.",
			"Choose a link in the protocol of its map.")
	}
}

// portSerial checks the serial side of a port; a zero field is as the line has
// it.
func (v *validator) portSerial(where string, l *Line, p *Port) {
	if t := p.Think; t != nil && (!between(t.MedianMs, 0, 60_000) || !between(t.WorstMs, t.MedianMs, 600_000)) {
		v.fail(where, "its measured thinking time cannot be.", "Measure it again.")
	}
	if l == nil || p.Serial == nil {
		return
	}
	if l.Medium != SerialLine {
		v.fail(where, "its port on "+l.Name+" has serial settings, and that is no serial line.", "Leave them out.")
		return
	}
	set := l.SerialOf(p)
	if err := set.Format().Check(); err != nil {
		v.fail(where, err.Error()+".", "")
	}
	if set.Gender != "" && set.Gender != "dte" && set.Gender != "dce" {
		v.fail(where, fmt.Sprintf("gender %q.", set.Gender), "Write dte or dce.")
	}
	if !between(set.UnitLoad, 0, 4) {
		v.fail(where, fmt.Sprintf("a unit load of %g.", set.UnitLoad),
			"Give 1, or the share that the manual states, such as 0.125.")
	}
}

func (v *validator) access(where string, lines []AccessLine) {
	for _, l := range lines {
		known := slices.ContainsFunc(AccessKinds(), func(t AccessTitle) bool { return t.Kind == l.Kind })
		if l.ID == "" || !known || strings.TrimSpace(l.Text) == "" || len(l.Text) > 500 {
			v.fail(where, fmt.Sprintf("its access line %q has no text, no id or no kind.", l.Text),
				"Say what must be switched on, in up to 500 characters.")
		}
	}
}

func between(x, least, most float64) bool { return x >= least && x <= most } // false for NaN

func (v *validator) settings(where, name string, settings protocol.Settings) {
	if name == "" && len(settings) == 0 {
		return
	}
	def, ok := protocol.Named(name)
	if !ok {
		v.fail(where, fmt.Sprintf("protocol %q is not one that this version speaks.", name), "Choose another protocol.")
		return
	}
	if err := def.CheckSettings(settings); err != nil {
		v.failIn(".settings", where, err.Error()+".", "")
	}
}

func (v *validator) point(device string, scheme address.Scheme, p *Point) {
	where := device + ", point \"" + p.Name + "\""
	v.identity(where, "", p.ID, p.Name)
	v.checkPoint(where, scheme, p)
}

func (v *validator) checkPoint(where string, scheme address.Scheme, p *Point) {
	if len(p.Name) > 200 || len(p.Unit) > 40 || len(p.Remark) > 2000 {
		v.fail(where, "a name, unit or remark is too long.", "Names hold 200 characters, units 40, remarks 2000.")
	}
	if err := CheckPoint(scheme, p); err != nil {
		v.fail(where, err.Error()+".", "")
	}
}

// CheckPoint reports the first field of p that cannot be kept: an address
// outside its table, a type that does not fit the area, an impossible order.
// A zero address is allowed: the point is not read until it has one.
func CheckPoint(scheme address.Scheme, p *Point) error {
	if p.Address.IsZero() {
		if _, err := p.Codec(16); err != nil {
			return err
		}
	}
	switch {
	case !p.Type.Known():
		return fmt.Errorf("type %q: there is none such", p.Type)
	case p.Access != ReadOnly && p.Access != ReadWrite && p.Access != WriteOnly:
		return fmt.Errorf("access %q: write r, rw or w", p.Access)
	case p.PaceMs < 0 || p.PaceMs > 7*24*3600*1000 || (p.PaceMs > 0 && p.PaceMs < 10):
		return fmt.Errorf("a pace of %d ms: give 10 ms to 7 days, or once", p.PaceMs)
	case p.ChangeMs < 0 || p.ChangeMs > 365*24*3600*1000:
		return fmt.Errorf("a fastest change of %d ms: give 1 ms to a year, or nothing", p.ChangeMs)
	case p.Band < 0 || math.IsNaN(p.Band) || math.IsInf(p.Band, 0):
		return fmt.Errorf("a deadband of %g: give what the value has to move by, or nothing", p.Band)
	case len(p.Told) > mostTold:
		return fmt.Errorf("told in %q: give up to %d octets", p.Told[:20]+"…", mostTold)
	case p.Decimals != nil && (*p.Decimals < 0 || *p.Decimals > 12):
		return fmt.Errorf("%d decimals: give 0 to 12", *p.Decimals)
	case math.IsNaN(p.Factor) || math.IsInf(p.Factor, 0) || math.IsNaN(p.Offset) || math.IsInf(p.Offset, 0):
		return fmt.Errorf("the scale is not a number")
	case p.Range != nil && (p.Factor != 0 || p.Offset != 0):
		return fmt.Errorf("the scale has both a range and a factor or offset")
	case len(p.Names) > 1000 || len(p.Missing) > 16:
		return fmt.Errorf("too many names or codes: 1000 names and 16 codes are kept")
	}
	if p.Range != nil {
		if err := p.Range.Check(); err != nil {
			return err
		}
	}
	if !p.PowerAt.IsZero() {
		word := value.Shape{Type: value.TypeInt16, Bit: -1}
		if err := scheme.Check(p.PowerAt, word); err != nil || block.Of(p.PowerAt).Bit >= 0 ||
			block.UnitBits(scheme, p.PowerAt) != 16 {
			return fmt.Errorf("the power of ten at %s: it is held in a whole register", p.PowerAt)
		}
	}
	if p.Address.IsZero() {
		return nil
	}
	return scheme.Check(p.Address, p.Shape(0))
}

func (v *validator) link(s *Site, l *Link) {
	asking, answering := s.Device(l.Asking), s.Device(l.Answering)
	where := fmt.Sprintf("link %q", l.ID)
	v.identity(where, "", l.ID, "")
	if asking == nil || answering == nil {
		v.fail(where, "one of its ends is not in the site.", "Choose two devices of the site.")
		return
	}
	where = fmt.Sprintf("link %s → %s", asking.Name, answering.Name)
	if asking == answering {
		v.fail(where, "a device cannot ask itself.", "Choose another end.")
	}
	if s.Line(l.Line) == nil {
		v.fail(where, "its line is not in the site.", "Choose a line of the site.")
	} else if asking.Port(l.Line) == nil || answering.PortFor(l) == nil {
		v.fail(where, "one of its ends has no port on the line.", "Give both devices a port on the line.")
	}
	if def, ok := protocol.Named(l.Protocol); !ok || def.MapOnly {
		v.fail(where, fmt.Sprintf("protocol %q is not one that this version speaks.", l.Protocol),
			"Choose another protocol.")
		return
	}
	v.settings(where, l.Protocol, l.Settings)
	for key, typed := range l.Typed {
		if len(l.Typed) > mostTyped || len(key) > mostTyped || len(typed) > mostTypedText {
			v.fail(where, "what was typed at the far end is more than a list can be.", "Tick the lines anew.")
			break
		}
	}
	if def, _ := protocol.Named(l.Protocol); s.Line(l.Line) != nil && def.Medium != s.Line(l.Line).Medium {
		v.fail(where, fmt.Sprintf("%s does not run over a line of medium %s.", def.Title, s.Line(l.Line).Medium),
			"Choose a protocol of that line.")
	}
}
