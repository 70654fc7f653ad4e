package site

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Access says which way a point may be carried.
type Access string

// The ways of access, as the trade abbreviates them.
const (
	ReadOnly  Access = "r"
	ReadWrite Access = "rw"
	WriteOnly Access = "w"
)

// Naming names one value of a whole number, or one bit of flags.
type Naming struct {
	Value int64  `json:"value"`
	Name  string `json:"name"`
}

// Origin says which part of a placement a point is.
type Origin struct {
	Placement string `json:"placement"`
	// Point is the id of the point in the datasheet, or the path of the
	// member in the structure.
	Point string `json:"point"`
}

// Point is one named value of a device.
type Point struct {
	ID      string          `json:"id"`
	Name    string          `json:"name"`
	Address address.Address `json:"address"`
	Type    value.Type      `json:"type"`
	// Length of a type that needs one: octets of a text or of raw bytes, bits
	// of a bit field, words of a base10k.
	Length  int           `json:"length,omitempty"`
	Charset value.Charset `json:"charset,omitempty" jsonschema:"enum=ascii,enum=latin1,enum=utf8,enum=utf16"`
	Padding value.Padding `json:"padding,omitempty" jsonschema:"enum=space,enum=counted"`
	Order   value.Order   `json:"order,omitempty"`
	// Factor 0 or missing stands for 1: see value.Linear. Range takes the
	// place of Factor and Offset.
	Factor float64      `json:"factor,omitempty"`
	Offset float64      `json:"offset,omitempty"`
	Range  *value.Range `json:"range,omitempty"`
	// PowerAt is the register that holds a signed power of ten, by which the
	// value is multiplied.
	PowerAt address.Address `json:"powerAt,omitzero"`
	// Missing are raw values that mean "not available".
	Missing []value.Value `json:"missing,omitempty"`
	// Names of the values of an enumeration, or of the bits of flags.
	Names []Naming `json:"names,omitempty"`
	Unit  string   `json:"unit,omitempty"`
	// Low and High bound the engineering values that make sense.
	Low  *float64 `json:"low,omitempty"`
	High *float64 `json:"high,omitempty"`
	// Decimals shown; missing means as many as the value needs.
	Decimals *int `json:"decimals,omitempty"`
	// PaceMs is the time between two reads in milliseconds, 0 for a point
	// that is read once when a run starts.
	PaceMs int `json:"paceMs"`
	// ChangeMs is the fastest change that matters, as the time in milliseconds
	// for which the signal may stay as it is; 0 for not known.
	ChangeMs int `json:"changeMs,omitempty"`
	// Band is by how much the value, scaled and in its unit, has to move until a device
	// that tells of changes tells of one; 0 for each of them.
	Band float64 `json:"band,omitempty"`
	// Told is how the device groups it with others that it tells of, in the words of its
	// protocol: a class of events, a report. Empty for not known.
	Told   string  `json:"told,omitempty"`
	Access Access  `json:"access" jsonschema:"enum=r,enum=rw,enum=w"`
	Remark string  `json:"remark,omitempty"`
	From   *Origin `json:"from,omitempty"`
	// Map names the protocol in whose addressing the point is written, where that
	// is not the one of its device, and Link the link that carries it, where there
	// is a choice.
	Map  string `json:"map,omitempty"`
	Link string `json:"link,omitempty"`
}

// States are the names of the whole or binary values of p; nil where it has none, or names of bits.
func (p *Point) States() map[int]string {
	if len(p.Names) == 0 || p.Type.IsFlags() || !p.Type.IsWhole() && p.Type != value.TypeBool {
		return nil
	}
	states := make(map[int]string, len(p.Names))
	for _, n := range p.Names {
		states[int(n.Value)] = n.Name
	}
	return states
}

// PointOf makes a point of a place that a device, or a file about it, tells of. It has no
// id and no pace.
func PointOf(h *protocol.Held) Point {
	p := Point{Name: h.Name, Address: h.Address, Type: h.Shape.Type, Length: h.Shape.Length, Order: h.Shape.Order,
		Charset: h.Shape.Charset,
		Padding: h.Shape.Padding, Factor: h.Factor, Offset: h.Offset, Decimals: h.Decimals, Unit: h.Unit, Remark: h.Remark,
		Access: ReadOnly, Told: h.Told, Band: h.Band,
		Low: h.Low, High: h.High}
	if h.Writable {
		p.Access = ReadWrite
	}
	if !p.Type.IsText() && !p.Type.IsFloat() {
		for value, name := range h.Names {
			p.Names = append(p.Names, Naming{Value: int64(value), Name: name})
		}
		slices.SortFunc(p.Names, func(a, b Naming) int { return cmp.Compare(a.Value, b.Value) })
	}
	return p
}

// Held is p as a place that a device, or a file about it, has.
func (p *Point) Held() protocol.Held {
	return protocol.Held{Address: p.Address, Name: p.Name, Shape: p.Shape(0), Unit: p.Unit, Remark: p.Remark,
		Writable: p.Access != ReadOnly, Factor: p.Factor, Offset: p.Offset, Decimals: p.Decimals, Low: p.Low, High: p.High,
		Names: p.States(), Told: p.Told, Band: p.Band}
}

// Place takes the address of p apart, where it is one of the block shape.
func (p *Point) Place() block.Place { return block.Of(p.Address) }

// Shape returns what says how the bytes of p are read, in a place whose units
// have the given width in bits.
func (p *Point) Shape(unitBits int) value.Shape {
	shape := value.Shape{Type: p.Type, Order: p.Order, Bit: p.Place().Bit, Unit: unitBits, Length: p.Length,
		Charset: p.Charset, Padding: p.Padding}
	if shape.Order == "" {
		shape.Order = block.Usual(p.Place().Area, p.Type, shape.Octets())
	}
	return shape
}

// Wanted is p as an end that reports is told of it.
func (p *Point) Wanted() protocol.Wanted {
	w := protocol.Wanted{ID: p.ID, Address: p.Address, Shape: p.Shape(0), PaceMs: p.PaceMs}
	if p.Band > 0 && !p.Type.IsText() && !p.Type.IsTime() && p.Type != value.TypeBool {
		at := func(raw float64) float64 { return p.Scale().Apply(value.OfFloat(raw)).Float() }
		if step := math.Abs(at(1) - at(0)); step > 0 {
			w.Band = p.Band / step
		}
	}
	return w
}

// Scale returns the scale of p. Its power of ten, if another register holds
// it, is for the reader to fill in.
func (p *Point) Scale() value.Scale {
	return value.Scale{Linear: value.Linear{Factor: p.Factor, Offset: p.Offset}, Range: p.Range, Missing: p.Missing}
}

// Codec returns the codec for p in an area whose units have the given width in
// bits.
func (p *Point) Codec(unitBits int) (value.Codec, error) {
	return value.NewCodec(p.Shape(unitBits))
}

// Units returns how many units of the given width in bits p covers.
func (p *Point) Units(unitBits int) int {
	return block.Units(p.Shape(unitBits), unitBits)
}

// Bits returns the bits of its unit that p covers: from the lowest, so many.
// ok is false for a value that takes whole units.
func (p *Point) Bits(unitBits int) (from, count int, ok bool) {
	if !p.Type.InUnit() || unitBits == 1 {
		return 0, 0, false
	}
	count = 8
	switch p.Type {
	case value.TypeBool:
		count = 1
	case value.TypeBits:
		count = p.Length
	}
	return max(0, p.Place().Bit), count, count < unitBits
}

// SameReading reports whether p and q read the same places in the same way, so
// that a value of the one is a value of the other.
func (p *Point) SameReading(q *Point) bool {
	return p.Address == q.Address && p.Map == q.Map && p.Link == q.Link && p.Type == q.Type &&
		p.Length == q.Length && p.Charset == q.Charset && p.Padding == q.Padding && p.Order == q.Order &&
		p.Factor == q.Factor && p.Offset == q.Offset && (p.Range == q.Range ||
		p.Range != nil && q.Range != nil && *p.Range == *q.Range) &&
		p.PowerAt == q.PowerAt && slices.Equal(p.Missing, q.Missing)
}

// Shown prints a value of p: with its decimals, or with the names of its
// values or bits, without the unit.
func (p *Point) Shown(v value.Value) string {
	if v.Kind() == value.Uint || v.Kind() == value.Int {
		if p.Type.IsFlags() {
			return p.showFlags(v.Uint())
		}
		if name, ok := p.NameOf(v.Int()); ok {
			return strconv.FormatInt(v.Int(), 10) + " · " + name
		}
	}
	if p.Decimals == nil {
		return v.Format(-1)
	}
	return v.Format(*p.Decimals)
}

// NameOf returns the name of a value or bit.
func (p *Point) NameOf(n int64) (string, bool) {
	for _, naming := range p.Names {
		if naming.Value == n {
			return naming.Name, true
		}
	}
	return "", false
}

// showFlags lists the bits that are set by their names, a bit without a name by
// its number.
func (p *Point) showFlags(bits uint64) string {
	var set []string
	for bit := int64(0); bits != 0; bit, bits = bit+1, bits>>1 {
		if bits&1 == 0 {
			continue
		}
		name, ok := p.NameOf(bit)
		if !ok {
			name = fmt.Sprintf("bit %d", bit)
		}
		set = append(set, name)
	}
	if len(set) == 0 {
		return "none"
	}
	return strings.Join(set, ", ")
}

// ParseValue reads an engineering value that a person types for p: a number, a
// state, a time, a text, a named value, or named flags with commas between.
func (p *Point) ParseValue(text string) (value.Value, error) {
	if p.Type.IsFlags() {
		var bits uint64
		named := strings.TrimSpace(text) != ""
		for part := range strings.SplitSeq(text, ",") {
			i := slices.IndexFunc(p.Names,
				func(n Naming) bool { return strings.EqualFold(n.Name, strings.TrimSpace(part)) })
			if i < 0 {
				named = false
				break
			}
			bits |= 1 << uint(p.Names[i].Value)
		}
		if named {
			return value.OfUint(bits), nil
		}
	}
	for _, n := range p.Names {
		if !p.Type.IsFlags() && n.reads(strings.TrimSpace(text)) {
			return value.OfInt(n.Value), nil
		}
	}
	return value.Parse(text, p.Type)
}

// reads reports whether a text is the name, or value and name together, as Shown has them and as lists
// and displays do: "2 · open", "2 = open", "2: open", "2 open".
func (n *Naming) reads(text string) bool {
	if strings.EqualFold(n.Name, text) {
		return true
	}
	rest, ok := strings.CutPrefix(text, strconv.FormatInt(n.Value, 10))
	if !ok {
		return false
	}
	name := strings.TrimLeft(rest, " ·=:\u00a0")
	return len(name) < len(rest) && strings.EqualFold(n.Name, name)
}
