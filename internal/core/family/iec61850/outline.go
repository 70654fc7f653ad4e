package iec61850

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/protocol"
)

// Outline reads an SCL file for looking into it.
func (rules) Outline(data []byte) (protocol.Outline, error) {
	f, err := ReadFile(data)
	if err != nil {
		return nil, err
	}
	return &outline{file: f}, nil
}

type outline struct{ file *File }

// Heads are the IEDs.
func (o *outline) Heads() []protocol.Outlined {
	list := make([]protocol.Outlined, len(o.file.IEDs))
	for i, d := range o.file.IEDs {
		list[i] = protocol.Outlined{Name: d.Name, Kind: "IED", Says: joined(d.Maker, d.Type, d.Version), Remark: d.Desc}
	}
	return list
}

// Unread is what of the file cannot be used, and of the models of its IEDs.
func (o *outline) Unread() (list []protocol.Unread) {
	for _, w := range o.file.Wrong {
		list = append(list, protocol.Unread(w))
	}
	return list
}

// Under is an IED with its access points, their addresses, logical devices and nodes, data, attributes,
// data sets and reports.
func (o *outline) Under(head int) []protocol.Outlined {
	d := o.file.IEDs[head]
	t := &telling{}
	for _, a := range d.AccessPoints {
		what := "server"
		if len(a.Devices) == 0 {
			what = "client alone"
		}
		t.add(0, protocol.Outlined{Name: a.Name, Kind: "access point", Says: what, Remark: a.Desc})
		at := o.file.Addresses[d.Name+"/"+a.Name]
		for _, key := range slices.Sorted(maps.Keys(at)) {
			t.add(1, protocol.Outlined{Name: key, Kind: "address", Says: at[key]})
		}
		if len(a.Devices) == 0 {
			continue
		}
		m, err := o.file.Model(d.Name, a.Name)
		if err != nil {
			t.add(1, protocol.Outlined{Name: "model", Kind: "not read", Says: err.Error()})
			continue
		}
		for i, domain := range m.Domains {
			t.domain(a.Devices[i], domain)
		}
	}
	return t.list
}

// Places are the values of an IED; its server names them by the logical device with the IED before it.
func (o *outline) Places(head int, listed bool) (list []protocol.Held) {
	d := o.file.IEDs[head]
	for _, a := range d.AccessPoints {
		if len(a.Devices) == 0 {
			continue
		}
		m, err := o.file.Model(d.Name, a.Name)
		switch {
		case err != nil: // Under says so
		case !listed:
			list = append(list, m.Held()...)
		default:
			for _, domain := range m.Domains {
				list = append(list, domain.held(domain.Name)...)
			}
		}
	}
	return list
}

// telling collects what is in an IED.
type telling struct{ list []protocol.Outlined }

func (t *telling) add(depth int, e protocol.Outlined) {
	e.Depth = depth
	t.list = append(t.list, e)
}

func (t *telling) domain(of *LDevice, d *Domain) {
	t.add(1, protocol.Outlined{Name: of.Inst, Kind: "logical device", Says: d.Name, Remark: d.Desc})
	for _, n := range d.Nodes {
		ln := d.Lists[n.Name]
		t.add(2, protocol.Outlined{Name: n.Name, Kind: "logical node", Says: ln.Class, Remark: n.Desc})
		for _, p := range n.Parts {
			t.node(d, n.Name, nil, p)
		}
		for _, s := range ln.DataSets {
			t.add(3, protocol.Outlined{Name: s.Name, Kind: "data set", Says: strconv.Itoa(len(s.Members)) + " members",
				Remark: s.Desc})
			for _, m := range s.Members {
				t.add(4, protocol.Outlined{Name: m.words(), Kind: "member"})
			}
		}
		for _, r := range ln.Reports {
			t.add(3, protocol.Outlined{Name: r.Name, Kind: "report", Says: r.words(), Remark: r.Desc})
		}
	}
}

// node tells of data or an attribute, and of what lies in it.
func (t *telling) node(d *Domain, ln string, path []string, n *Node) {
	path = append(path[:len(path):len(path)], n.Name)
	e := protocol.Outlined{Name: n.Name, Kind: "data", Says: n.CDC, Remark: n.Desc}
	if n.FC != "" {
		e.Kind, e.Says = "attribute", joined(n.Basic, "["+n.FC+"]", strings.Join(n.Triggers, " "))
		if n.Value != "" {
			e.Says += " = " + n.Value
		}
		if len(n.Parts) == 0 {
			e.Address = Ref{Device: d.Inst, Node: ln, Path: path, FC: n.FC}.String()
		}
	}
	t.add(2+len(path), e)
	for _, p := range n.Parts {
		t.node(d, ln, path, p)
	}
}

// words are a member as a reference.
func (m *Member) words() string {
	text := m.Node + "." + m.Data
	if m.Device != "" {
		text = m.Device + "/" + text
	}
	if m.Attribute != "" {
		text += "." + m.Attribute
	}
	return text + "[" + m.FC + "]"
}

// words say how a report is set.
func (r *Report) words() string {
	list := []string{"unbuffered"}
	if r.Buffered {
		list[0] = "buffered"
	}
	list = append(list, "of "+r.DataSet)
	if r.ID != "" {
		list = append(list, "as "+r.ID)
	}
	if r.Instances > 1 {
		list = append(list, fmt.Sprintf("for %d clients", r.Instances))
	}
	var triggers []string
	for name, on := range r.Triggers {
		if on {
			triggers = append(triggers, name)
		}
	}
	slices.Sort(triggers)
	list = append(list, strings.Join(triggers, " "))
	if r.BufferMs > 0 {
		list = append(list, fmt.Sprintf("gathers %d ms", r.BufferMs))
	}
	if r.IntegrityMs > 0 {
		list = append(list, fmt.Sprintf("all every %d ms", r.IntegrityMs))
	}
	return joined(append(list, fmt.Sprintf("revision %d", r.Revision))...)
}

// joined are the parts that say something.
func joined(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(p string) bool { return p == "" }), " · ")
}
