package handover

import (
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Reader is a program that will read points of the site.
type Reader struct {
	// Device is whose points it reads, empty for those of all devices that are reached.
	Device string
	// Name is the template of its names, of {device} and {point}, and Rule the key of the rule
	// that they have to suit, empty for none.
	Name, Rule string
	// Notation is the one in which it counts addresses, empty for the usual one.
	Notation string
}

// Readable is the list for a reader, and which notations its addresses can be in.
type Readable struct {
	Table     Table
	Notations []string
}

// readColumns are those of the list.
var readColumns = []Column{{"Name", 0.18, false, false}, {"Is", 0.2, false, false}, {"Reached at", 0.15, true, false},
	{"Address", 0.11, true, false}, {"Reads as", 0.07, true, false}, {"Order", 0.06, true, false},
	{"Scale", 0.07, true, false},
	{"Offset", 0.06, true, false}, {"Unit", 0.06, false, false}, {"Pace", 0.05, false, false},
	{"Access", 0.04, false, false},
	{"Names of its values", 0.14, false, false}, {"Remark", 0.12, false, false}}

// List makes the list of points for whoever reads next, with a name that the reader can hold
// for each, once.
func (r *Reader) List(s *site.Site) (*Readable, error) {
	template := r.Name
	if template == "" {
		template = "{device}.{point}"
	}
	if !strings.Contains(template, "{point}") {
		return nil, problem.New("no-point", fmt.Sprintf("The template %q would give one name to all points.", template),
			"Write {point} where the name of the point goes, and {device} where that of its device goes.").At("name")
	}
	var rule *protocol.NameRule
	for _, each := range regmap.NameRules() {
		if each.Key == r.Rule {
			rule = &each
		}
	}
	if r.Rule != "" && rule == nil {
		return nil, problem.New("bad-rule", fmt.Sprintf("There is no rule of names called %q.", r.Rule),
			"Reload the page.").At("rule")
	}
	out := &Readable{Table: Table{Title: "Points to read", Sheet: "Points", Columns: readColumns, Mark: -1}}
	taken := map[string]bool{}
	for i := range s.Devices {
		d := &s.Devices[i]
		if r.Device != "" && d.ID != r.Device {
			continue
		}
		for j := range d.Points {
			p := &d.Points[j]
			scheme, err := d.SchemeOf(p)
			if err != nil || p.Address.IsZero() || p.Access == site.WriteOnly {
				continue
			}
			plain := strings.NewReplacer("{device}", d.Name, "{point}", p.Name).Replace(template)
			name, remark := unique(plain, rule, taken)
			out.Table.Rows = append(out.Table.Rows, []string{name, d.Name + " · " + p.Name, reached(s, d, p),
				r.place(scheme, p, out),
				regmap.Cell(scheme, p, regmap.Type), regmap.Cell(scheme, p, regmap.Order), regmap.Cell(scheme, p, regmap.Scale),
				regmap.Cell(scheme, p, regmap.Offset), p.Unit, regmap.Cell(scheme, p, regmap.Pace),
				regmap.Cell(scheme, p, regmap.Access), regmap.Cell(scheme, p, regmap.Names), remark})
		}
	}
	if len(out.Table.Rows) == 0 {
		return nil, problem.New("no-points", "There is no point to read.", "Choose another device.").At("device")
	}
	return out, nil
}

// place is where a point lies, in the notation of the reader where the point has it.
func (r *Reader) place(scheme address.Scheme, p *site.Point, out *Readable) string {
	place := regmap.Cell(scheme, p, regmap.Address)
	for _, n := range address.NotationsFor(scheme, p.Address, 8*p.Type.Bytes(p.Length)) {
		if !slices.Contains(out.Notations, n.Name) {
			out.Notations = append(out.Notations, n.Name)
		}
		if n.Name == r.Notation {
			place = n.Text
		}
	}
	return place
}

// unique is a name that suits a rule and that nothing else has, and what became of the plain
// one, if it is another.
func unique(plain string, rule *protocol.NameRule, taken map[string]bool) (name, remark string) {
	fit := func(text string) string { return text }
	if rule != nil {
		fit = rule.Fit
	}
	name = fit(plain)
	for n := 2; name == "" || taken[strings.ToLower(name)]; n++ {
		ending := fmt.Sprint("_", n)
		short := []rune(plain)
		for name = fit(string(short) + ending); !strings.HasSuffix(name, ending) && len(short) > 0; name = fit(string(short) +
			ending) {
			short = short[:len(short)-1]
		}
	}
	taken[strings.ToLower(name)] = true
	if name != plain {
		remark = "in full " + plain
	}
	return name, remark
}

// reached is how the device of a point is reached over the link that carries it: its address
// or line, and its station.
func reached(s *site.Site, d *site.Device, p *site.Point) string {
	l := s.LinkOf(d, p)
	if l == nil {
		if len(d.Ports) > 0 && d.Ports[0].Host != "" {
			return d.Ports[0].Host
		}
		return ""
	}
	port, line := d.PortFor(l), s.Line(l.Line)
	if port == nil || line == nil {
		return ""
	}
	def, _ := protocol.Named(l.Protocol)
	at := port.Host
	if line.Medium == site.SerialLine {
		at = line.Name
	}
	if n, ok := def.StationOf(port.Settings); ok {
		at += fmt.Sprintf(", %s %d", def.StationWord(), n)
	}
	return at
}
