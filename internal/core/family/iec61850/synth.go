package iec61850

import (
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Attribute is a point of which a model is made.
type Attribute struct {
	Address address.Address
	Type    value.Type
	Remark  string
}

// basicOf are the basic types of points.
var basicOf = map[value.Type]string{value.TypeBool: "BOOLEAN", value.TypeInt8: "INT8", value.TypeInt16: "INT16",
	value.TypeInt32: "INT32", value.TypeInt64: "INT64", value.TypeUint8: "INT8U", value.TypeUint16: "INT16U",
	value.TypeUint32: "INT32U", value.TypeUint64: "INT64U", value.TypeFloat32: "FLOAT32", value.TypeFloat64: "FLOAT64",
	value.TypeText: "VisString255", value.TypeUnixMs: "Timestamp", value.TypeEnum: "INT16", value.TypeEnum32: "INT32",
	value.TypeFlags: "INT16U", value.TypeFlags32: "INT32U"}

// Synthesised is a model that is made of points alone: each logical node has the data of its points,
// with quality, time and description, controls with what operates them, and all that is reported in
// one data set with a buffered and an unbuffered report.
func Synthesised(ied string, list []Attribute) *Model {
	m := &Model{IED: ied, AccessPoint: "S1"}
	list = slices.SortedStableFunc(slices.Values(list),
		func(a, b Attribute) int { return Scheme.Compare(a.Address, b.Address) })
	for i := range list {
		r, ok := RefOf(list[i].Address)
		basic := basicOf[list[i].Type]
		if !ok || basic == "" || len(r.Path) < 2 {
			continue
		}
		if r.FC == "ST" && list[i].Type == value.TypeUint8 && r.Path[len(r.Path)-1] == "stVal" {
			basic = "Dbpos"
		}
		m.put(r, basic, list[i].Remark)
	}
	for _, d := range m.Domains {
		zero := d.node("LLN0")
		ln := d.Lists["LLN0"]
		for _, n := range d.Nodes {
			for _, data := range n.Parts {
				for _, fc := range []string{"ST", "MX"} {
					if slices.ContainsFunc(data.Parts, func(p *Node) bool {
						return p.FC == fc && (p.Name == "stVal" || p.Name != "q" && p.Name != "t")
					}) && n != zero {
						ln.DataSets[0].Members = append(ln.DataSets[0].Members, Member{Device: d.Inst, Node: n.Name,
							Data: data.Name, FC: fc})
					}
				}
			}
		}
	}
	return m
}

// domain is a logical device by its instance, made where there is none.
func (m *Model) domain(inst string) *Domain {
	for _, d := range m.Domains {
		if d.Inst == inst {
			return d
		}
	}
	d := &Domain{Name: m.IED + inst, Inst: inst, Lists: map[string]*LNode{}}
	all := map[string]bool{"dchg": true, "qchg": true, "period": true, "gi": true}
	options := map[string]bool{"seqNum": true, "timeStamp": true, "dataSet": true, "reasonCode": true, "entryID": true,
		"configRef": true, "bufOvfl": true}
	d.Lists["LLN0"] = &LNode{Class: "LLN0", DataSets: []*DataSet{{Name: "dsAll"}}, Reports: []*Report{
		{Name: "brcbAll", DataSet: "dsAll", Buffered: true, Indexed: true, Revision: 1, BufferMs: 50, Instances: 4,
			Triggers: all, Options: options},
		{Name: "urcbAll", DataSet: "dsAll", Indexed: true, Revision: 1, BufferMs: 50, Instances: 4, Triggers: all,
			Options: options}}}
	m.Domains = append(m.Domains, d)
	zero := d.node("LLN0")
	zero.Parts = append(zero.Parts, &Node{Name: "NamPlt", CDC: "LPL",
		Parts: []*Node{{Name: "vendor", FC: "DC", Basic: "VisString255", Value: "Ferry"},
			{Name: "d", FC: "DC", Basic: "VisString255"}}})
	return d
}

func (d *Domain) node(name string) *Node {
	for _, n := range d.Nodes {
		if n.Name == name {
			return n
		}
	}
	n := &Node{Name: name}
	d.Nodes = append(d.Nodes, n)
	return n
}

// put puts an attribute into the model, with what goes with it.
func (m *Model) put(r Ref, basic, remark string) {
	data := m.domain(r.Device).node(r.Node)
	depth := 1 // of the path that is data: the rest are attributes
	if r.FC != "CO" && len(r.Path) > 3 && strings.HasPrefix(r.Path[1], "phs") {
		depth = 2
	}
	for _, name := range r.Path[:depth] {
		below := data.Find(name)
		if below == nil {
			below = &Node{Name: name, Desc: remark}
			data.Parts = append(data.Parts, below)
		}
		data = below
	}
	add := func(n *Node) *Node {
		for _, p := range data.Parts {
			if p.Name == n.Name && p.FC == n.FC {
				return p
			}
		}
		data.Parts = append(data.Parts, n)
		return n
	}
	at, path := (*Node)(nil), r.Path[depth:]
	for i, name := range path {
		n := &Node{Name: name, FC: r.FC}
		if i == len(path)-1 {
			n.Basic = basic
		}
		switch {
		case i == 0:
			at = add(n)
		case at.Find(name) != nil:
			at = at.Find(name)
		default:
			at.Parts = append(at.Parts, n)
			at = n
		}
	}
	switch r.FC {
	case "ST", "MX":
		add(&Node{Name: "q", FC: r.FC, Basic: "Quality"})
		add(&Node{Name: "t", FC: r.FC, Basic: "Timestamp"})
	case "CO":
		oper := data.Find("Oper")
		for _, p := range []*Node{{Name: "origin", Parts: []*Node{{Name: "orCat", FC: "CO", Basic: "INT8"},
			{Name: "orIdent", FC: "CO", Basic: "Octet64"}}},
			{Name: "ctlNum", Basic: "INT8U"}, {Name: "T", Basic: "Timestamp"}, {Name: "Test", Basic: "BOOLEAN"},
			{Name: "Check", Basic: "Check"}} {
			if p.FC = "CO"; oper != nil && oper.Find(p.Name) == nil {
				oper.Parts = append(oper.Parts, p)
			}
		}
		add(&Node{Name: "ctlModel", FC: "CF", Basic: "INT8", Value: "1"})
	}
	if remark != "" {
		add(&Node{Name: "d", FC: "DC", Basic: "VisString255", Value: remark})
	}
}
