package iec61850

import (
	"fmt"
	"slices"
	"strings"
)

// Node is a place of the model of a device: a logical node, data, or an attribute. Only attributes
// without parts have values.
type Node struct {
	Name string
	// FC is the functional constraint of an attribute (IEC 61850-7-2, annex B); empty above it.
	FC string
	// Basic is the basic type of an attribute without parts, Enum the names of its values.
	Basic string
	Enum  map[int]string
	// CDC is the common data class of data, Desc its description.
	CDC, Desc string
	// Value is what the file gives it, as text.
	Value string
	// Triggers are what of it is reported: dchg, qchg, dupd.
	Triggers []string
	Parts    []*Node
}

// Find is the part of a name; nil for none.
func (n *Node) Find(name string) *Node {
	for _, p := range n.Parts {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Domain is a logical device of a model, by its name on the wire, with its logical nodes.
type Domain struct {
	Name, Inst, Desc string
	Nodes            []*Node
	// Lists are what its nodes report, by their names.
	Lists map[string]*LNode
}

// Model is what a device shows at an access point.
type Model struct {
	IED, AccessPoint string
	Domains          []*Domain
	// Wrong is what could not be made of the file.
	Wrong []Wrong
}

// mostAttributes bounds a model.
const mostAttributes = 1_000_000

// deepest bounds how types lie in each other.
const deepest = 12

// Model makes the model of an access point: empty names are the first that has a server.
func (f *File) Model(ied, access string) (*Model, error) {
	for _, d := range f.IEDs {
		if ied != "" && d.Name != ied {
			continue
		}
		for _, a := range d.AccessPoints {
			if access != "" && a.Name != access || access == "" && len(a.Devices) == 0 {
				continue
			}
			if len(a.Devices) == 0 {
				return nil, fmt.Errorf("access point %s of %s has no server: it is a client alone", a.Name, d.Name)
			}
			m := &Model{IED: d.Name, AccessPoint: a.Name}
			b := &builder{file: f, model: m}
			for _, l := range a.Devices {
				m.Domains = append(m.Domains, b.domain(d, l))
			}
			if b.count > mostAttributes {
				return nil, fmt.Errorf("%s has more than %d attributes", d.Name, mostAttributes)
			}
			return m, nil
		}
	}
	var names []string
	for _, d := range f.IEDs {
		for _, a := range d.AccessPoints {
			names = append(names, d.Name+"/"+a.Name)
		}
	}
	const shown = 8
	if len(names) > shown {
		names = append(names[:shown], "…")
	}
	return nil, fmt.Errorf("the file has no IED %q with access point %q: it has %s", ied, access,
		strings.Join(names, ", "))
}

// builder makes nodes of types.
type builder struct {
	file  *File
	model *Model
	count int
}

func (b *builder) wrong(line int, what, reason string) {
	const most = 1000
	if w := (Wrong{line, what, reason}); len(b.model.Wrong) < most && !slices.Contains(b.model.Wrong, w) {
		b.model.Wrong = append(b.model.Wrong, w)
	}
}

func (b *builder) domain(d *IED, l *LDevice) *Domain {
	out := &Domain{Name: l.Domain(d.Name), Inst: l.Inst, Desc: l.Desc, Lists: map[string]*LNode{}}
	for _, ln := range l.Nodes {
		of := b.file.lnTypes[ln.Type]
		if of == nil {
			b.wrong(ln.Line, "logical node "+ln.Name(), fmt.Sprintf("its type %q is not in the file", ln.Type))
			continue
		}
		node := &Node{Name: ln.Name(), Desc: ln.Desc}
		for i := range of.parts {
			if p := b.data(&of.parts[i], ln, of.parts[i].name, 1); p != nil {
				node.Parts = append(node.Parts, p)
			}
		}
		out.Nodes = append(out.Nodes, node)
		out.Lists[ln.Name()] = ln
	}
	return out
}

// data makes a node of data or a part of it; path leads to it from the logical node.
func (b *builder) data(p *part, ln *LNode, path string, depth int) *Node {
	of := b.file.doTypes[p.of]
	if b.count++; b.count > mostAttributes {
		return nil
	}
	switch {
	case of == nil:
		b.wrong(p.line, "data "+p.name, fmt.Sprintf("its type %q is not in the file", p.of))
		return nil
	case depth > deepest:
		b.wrong(p.line, "data "+p.name, fmt.Sprintf("its types lie more than %d deep in each other, or in a circle", deepest))
		return nil
	}
	n := &Node{Name: p.name, CDC: of.class, Desc: ln.Descs[path]}
	for i := range of.parts {
		each := &of.parts[i]
		var made *Node
		if each.data {
			made = b.data(each, ln, path+"."+each.name, depth+1)
		} else {
			made = b.attribute(each, each.fc, ln, path+"."+each.name, depth+1)
		}
		if made != nil {
			n.Parts = append(n.Parts, made)
		}
	}
	return n
}

// attribute makes a node of an attribute or a part of it.
func (b *builder) attribute(p *part, fc string, ln *LNode, path string, depth int) *Node {
	if b.count++; b.count > mostAttributes {
		return nil
	}
	n := &Node{Name: p.name, FC: fc, Basic: p.basic, Value: p.value, Triggers: p.triggers}
	if v, given := ln.Values[path]; given {
		n.Value = v
	}
	switch {
	case fc == "":
		b.wrong(p.line, "attribute "+p.name, "it has no functional constraint")
		return nil
	case p.count > 0:
		b.wrong(p.line, "attribute "+p.name, "it is an array, which is left out")
		return nil
	case p.basic == "Enum":
		if n.Enum = b.file.enums[p.of]; n.Enum == nil {
			b.wrong(p.line, "attribute "+p.name, fmt.Sprintf("its enumeration %q is not in the file", p.of))
		}
		return n
	case p.basic != "Struct":
		if !basics[p.basic].known {
			b.wrong(p.line, "attribute "+p.name, fmt.Sprintf("its basic type %q is not known", p.basic))
			return nil
		}
		return n
	}
	of := b.file.daTypes[p.of]
	switch {
	case of == nil:
		b.wrong(p.line, "attribute "+p.name, fmt.Sprintf("its type %q is not in the file", p.of))
		return nil
	case depth > deepest:
		b.wrong(p.line, "attribute "+p.name,
			fmt.Sprintf("its types lie more than %d deep in each other, or in a circle", deepest))
		return nil
	}
	n.Basic = ""
	for i := range of.parts {
		if made := b.attribute(&of.parts[i], fc, ln, path+"."+of.parts[i].name, depth+1); made != nil {
			n.Parts = append(n.Parts, made)
		}
	}
	return n
}
