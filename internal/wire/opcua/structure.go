package opcua

import (
	"errors"
	"fmt"
	"reflect"
	"strings"

	"github.com/gopcua/opcua/ua"
)

// Body is the octets of a structure of a kind that is not read here.
type Body []byte

// Encode returns the octets.
func (b Body) Encode() ([]byte, error) { return b, nil }

// Layout is what the octets of a structure are, one field behind the other (OPC 10000-6, clauses
// 5.2.6 to 5.2.8).
type Layout struct {
	Kind   ua.StructureType
	Fields []Slot
}

// Slot is a field of a structure.
type Slot struct {
	Name string
	// Type is one of the types that a variant has; 0 where the field is a structure of its own.
	Type ua.TypeID
	Of   *Layout
	// Array is set for several values, which have their number before them.
	Array    bool
	Optional bool
	// Names are those of whole values.
	Names map[int]string
}

// Leaf is a single value in a structure.
type Leaf struct {
	// Path is the names of the fields and the numbers of elements that lead there, with points
	// between them.
	Path  string
	Value any // nil for one that is not there
	Names map[int]string
}

// Bounds of a structure.
const (
	mostLeaves = 10_000
	mostPath   = 500
)

// Leaves takes a structure apart. Fields whose names a path cannot hold are passed over.
func (l *Layout) Leaves(b Body) (leaves []Leaf, err error) {
	d := &decoder{b: b, end: len(b)}
	leaves = d.structure(l, "", nil, 0)
	switch {
	case d.err != nil:
		return nil, fmt.Errorf("the structure is not as its type says: %w", d.err)
	case len(d.b) > 0:
		return nil, fmt.Errorf("the structure is not as its type says: %d octets are left behind it", len(d.b))
	}
	return leaves, nil
}

// structure reads the fields of a structure behind a path.
func (d *decoder) structure(l *Layout, path string, leaves []Leaf, depth int) []Leaf {
	if depth > mostDepth {
		d.fail("it is nested more than %d deep", mostDepth)
	}
	mask, only, bit := uint32(0), 0, 0
	switch l.Kind {
	case ua.StructureTypeStructure:
	case ua.StructureTypeStructureWithOptionalFields:
		mask = d.u32()
	case ua.StructureTypeUnion:
		if only = int(d.u32()); only > len(l.Fields) {
			d.fail("it says that it holds field %d of %d", only, len(l.Fields))
		}
	default:
		d.fail("structures of kind %d are not read", l.Kind)
	}
	for i := range l.Fields {
		f := &l.Fields[i]
		there := true
		if l.Kind == ua.StructureTypeUnion {
			there = i+1 == only
		} else if f.Optional && l.Kind == ua.StructureTypeStructureWithOptionalFields {
			there = mask&(1<<bit) != 0
			bit++
		}
		if d.elements++; d.elements > mostElements {
			d.fail("it has more than %d fields", mostElements)
		}
		if d.err != nil {
			return nil
		}
		leaves = d.slot(f, join(path, f.Name), there, leaves, depth)
	}
	return leaves
}

func join(path, name string) string { return strings.TrimPrefix(path+"."+name, ".") }

// slot reads a field.
func (d *decoder) slot(f *Slot, path string, there bool, leaves []Leaf, depth int) []Leaf {
	switch {
	case !there:
		if f.Of == nil && !f.Array {
			leaves = d.leaf(f, path, nil, leaves)
		}
		return leaves
	case !f.Array:
		return d.one(f, path, leaves, depth)
	}
	least := 1
	if f.Of == nil {
		least = builtins[byte(f.Type)].least
	}
	for i := range max(0, d.length(least)) {
		if leaves = d.one(f, fmt.Sprintf("%s.%d", path, i), leaves, depth); d.err != nil {
			return nil
		}
	}
	return leaves
}

// one reads a single value of a field.
func (d *decoder) one(f *Slot, path string, leaves []Leaf, depth int) []Leaf {
	if f.Of != nil {
		return d.structure(f.Of, path, leaves, depth+1)
	}
	of, known := builtins[byte(f.Type)]
	if !known {
		d.fail("field %s has type %d, which is none", path, f.Type)
		return nil
	}
	made := reflect.New(of.of).Elem()
	d.into(made, depth+1)
	return d.leaf(f, path, made.Interface(), leaves)
}

func (d *decoder) leaf(f *Slot, path string, v any, leaves []Leaf) []Leaf {
	if len(leaves) >= mostLeaves {
		d.fail("it holds more than %d values", mostLeaves)
	}
	if !Pathable(f.Name) || len(path) > mostPath || d.err != nil {
		return leaves
	}
	return append(leaves, Leaf{path, v, f.Names})
}

// Pathable reports whether a path can hold the name of a field.
func Pathable(name string) bool { return name != "" && !strings.ContainsAny(name, ".[]") }

// LayoutOf makes a layout of what a type says of itself; of resolves the types of its fields.
func LayoutOf(def *ua.StructureDefinition, of func(*ua.NodeID) (Slot, error)) (*Layout, error) {
	l := &Layout{Kind: def.StructureType}
	for _, f := range def.Fields {
		if f == nil || f.DataType == nil {
			return nil, errors.New("a field has no type")
		}
		if f.ValueRank > 1 {
			return nil, fmt.Errorf("its field %s has several dimensions", f.Name)
		}
		slot, err := of(f.DataType)
		if err != nil {
			return nil, err
		}
		slot.Name, slot.Array, slot.Optional = f.Name, f.ValueRank >= 0, f.IsOptional
		l.Fields = append(l.Fields, slot)
	}
	return l, nil
}

// Alike reports whether two values are the same. What is no number is like itself.
func Alike(a, b *ua.Variant) bool {
	if a == nil || b == nil || a.Value() == nil || b.Value() == nil {
		return (a == nil || a.Value() == nil) == (b == nil || b.Value() == nil)
	}
	return reflect.DeepEqual(a.Value(), b.Value()) || fmt.Sprint(a.Value()) == fmt.Sprint(b.Value())
}
