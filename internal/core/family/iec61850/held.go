package iec61850

import (
	"strconv"
	"strings"

	"ferry/internal/core/protocol"
)

// Held are the attributes of a model that points are made of: status and measured values, settings and
// controls, each with its quality and its time, which go with it.
func (m *Model) Held() (list []protocol.Held) {
	for _, d := range m.Domains {
		device := d.Inst
		if !partName.MatchString(device) {
			device = d.Name
		}
		list = append(list, d.held(device)...)
	}
	return list
}

// held are those of a logical device, under a name of it.
func (d *Domain) held(device string) (list []protocol.Held) {
	told := d.told()
	for _, n := range d.Nodes {
		walk(n, nil, func(path []*Node) {
			leaf := path[len(path)-1]
			r := Ref{Device: device, Node: n.Name, FC: leaf.FC}
			for _, p := range path {
				r.Path = append(r.Path, p.Name)
			}
			if h, ok := heldOf(r, path); ok {
				h.Told = told[r.Node+"."+path[0].Name]
				list = append(list, h)
			}
		})
	}
	return list
}

// walk goes through the attributes without parts below a node.
func walk(n *Node, path []*Node, each func(path []*Node)) {
	for _, p := range n.Parts {
		below := append(path[:len(path):len(path)], p)
		if len(p.Parts) == 0 && p.FC != "" {
			each(below)
			continue
		}
		walk(p, below, each)
	}
}

// valued are the names of attributes that are values, by functional constraint; what else there is
// describes them or goes with them.
var valued = map[string][]string{"ST": {"stVal", "actVal", "frVal", "general", "cnt", "posVal", "transInd", "phsA",
	"phsB", "phsC", "neut"},
	"MX": {"mag", "instMag", "instCVal", "cVal", "mxVal"}, "CO": {"Oper"}, "SP": {"setVal", "setMag", "setTm"},
	"SG": {"setVal", "setMag", "setTm"}}

// heldOf is an attribute as a place; ok is false for one that is no value.
func heldOf(r Ref, path []*Node) (h protocol.Held, ok bool) {
	leaf := path[len(path)-1]
	at := -1 // of the attribute of data in which it lies
	for i, p := range path {
		if p.FC != "" {
			at = i
			break
		}
	}
	if at < 1 {
		return h, false
	}
	named := false
	for _, name := range valued[r.FC] {
		named = named || path[at].Name == name
	}
	last := leaf.Name
	if !named || r.FC == "CO" && (at != len(path)-2 || last != "ctlVal") && (len(path)-at != 3 ||
		path[len(path)-2].Name != "ctlVal") ||
		path[at].Name == "instMag" || path[at].Name == "instCVal" {
		return h, false
	}
	shape, fits := leaf.Shape()
	if !fits {
		return h, false
	}
	data := path[at-1]
	h = protocol.Held{Address: r.Address(), Shape: shape, Names: leaf.Enum, Remark: data.Desc, Name: nameOf(r, path[:at])}
	if leaf.Basic == "Dbpos" {
		h.Names = Double
	}
	if units := data.Find("units"); units != nil {
		h.Unit = unitOf(units)
	}
	for name, into := range map[string]**float64{"minVal": &h.Low, "maxVal": &h.High} {
		if v := valueOf(data.Find(name)); v != "" && r.FC != "ST" {
			if f, err := strconv.ParseFloat(v, 64); err == nil {
				*into = &f
			}
		}
	}
	h.Writable = rules{}.Writable(h.Address) == nil
	return h, true
}

// nameOf is a name for a point: that of the logical node and its data, unless the value has parts.
func nameOf(r Ref, data []*Node) string {
	name := r.Node
	for _, p := range data {
		name += "." + p.Name
	}
	if tail := r.Path[len(data):]; len(tail) > 0 && (tail[0] == "cVal" || tail[0] == "frVal" || len(tail[0]) == 4 &&
		strings.HasPrefix(tail[0], "phs")) {
		name += "." + tail[0]
	}
	return name
}

// valueOf is the value that a file gives an attribute, or the first of its parts.
func valueOf(n *Node) string {
	for n != nil {
		if len(n.Parts) == 0 {
			return n.Value
		}
		n = n.Parts[0]
	}
	return ""
}

// unitOf is a unit as IEC 61850-7-3 has it: a unit and a multiplier, each as a name of an enumeration.
func unitOf(units *Node) string {
	unit := valueOf(units.Find("SIUnit"))
	if unit == "" || unit == "none" {
		return ""
	}
	multiplier := valueOf(units.Find("multiplier"))
	if multiplier == "none" {
		multiplier = ""
	}
	return multiplier + strings.NewReplacer("deg C", "°C", "deg", "°", "m3", "m³", "m2", "m²", "Ohm", "Ω").Replace(unit)
}

// told says which report brings which data, by "node.data".
func (d *Domain) told() map[string]string {
	told := map[string]string{}
	for _, ln := range d.Lists {
		for _, r := range ln.Reports {
			for _, set := range ln.DataSets {
				if set.Name != r.DataSet {
					continue
				}
				for _, m := range set.Members {
					data, _, _ := strings.Cut(m.Data, ".")
					if key := m.Node + "." + data; told[key] == "" && (m.Device == "" || m.Device == d.Inst) {
						told[key] = ln.Name() + "." + r.Name
					}
				}
			}
		}
	}
	return told
}
