// Package site is the model of one commissioning job: its lines, devices,
// links, points and crossings, the rules that hold them together, and the one
// way in which they change.
package site

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Format and Version stand at the head of every site file.
const (
	Format  = "ferry-site"
	Version = 1
)

// Site is one commissioning job. A Site that others can see is never changed:
// Apply returns a new one that shares what stayed the same.
type Site struct {
	Format    string     `json:"format" jsonschema:"enum=ferry-site"`
	Version   int        `json:"version" jsonschema:"minimum=1"`
	Name      string     `json:"name"`
	Remark    string     `json:"remark,omitempty"`
	Lines     []Line     `json:"lines"`
	Devices   []Device   `json:"devices"`
	Links     []Link     `json:"links"`
	Crossings []Crossing `json:"crossings"`
	// Datasheets are the maps kept for device models, Structures the types of
	// structured points, Headings the tables whose columns were recognised.
	Datasheets []Datasheet `json:"datasheets,omitempty"`
	Structures []Structure `json:"structures,omitempty"`
	Headings   []Headings  `json:"headings,omitempty"`
}

// New returns an empty site.
func New(name string) *Site {
	return &Site{Format: Format, Version: Version, Name: name, Lines: []Line{}, Devices: []Device{}, Links: []Link{},
		Crossings: []Crossing{}}
}

// Device is anything with a port on a line.
type Device struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Model  string `json:"model,omitempty"`
	Remark string `json:"remark,omitempty"`
	Ports  []Port `json:"ports"`
	// Map names the protocol whose addressing the points use.
	Map string `json:"map,omitempty" jsonschema:"description=protocol whose addressing the points use, by its name"`
	// Limits are what the device bears less than its protocol allows.
	Limits Limits `json:"limits,omitzero"`
	// Bench says which simulated device stands in for this one.
	Bench string `json:"bench,omitempty"`
	// Access is what must be switched on in the device before it answers, and
	// Ticks say what has been.
	Access []AccessLine `json:"access,omitempty"`
	Ticks  []Tick       `json:"ticks,omitempty"`
	// NamesFor lists the far sides that will carry the names of its points, by
	// the keys of regmap.NameRules.
	NamesFor []string `json:"namesFor,omitempty"`
	// Placements say which datasheets and structures its points came from.
	Placements []Placement `json:"placements,omitempty"`
	Points     []Point     `json:"points"`

	whole *Device // of which this is a part; nil for none
}

// Limits of one device. A zero field means what the protocol allows.
type Limits struct {
	// MaxRegisters and MaxBits bound one request.
	MaxRegisters int `json:"maxRegisters,omitempty"`
	MaxBits      int `json:"maxBits,omitempty"`
	// Most bounds one request to an area, in units, more narrowly.
	Most map[string]int `json:"most,omitempty"`
	// Forbidden are units that must not be read, or cannot be.
	Forbidden []Units `json:"forbidden,omitempty"`
	// EvenRequests is set where a request must begin at an even wire offset
	// and ask for an even number of registers.
	EvenRequests bool `json:"evenRequests,omitempty"`
	// Connections is how many connections the device accepts at once, and
	// PerSecond how many requests a second it bears beside its real work.
	Connections int     `json:"connections,omitempty"`
	PerSecond   float64 `json:"perSecond,omitempty"`
	// NoBridging forbids to read over units that no point covers.
	NoBridging bool `json:"noBridging,omitempty"`
	// EvenPairs is set where the device serves values of two registers and
	// more only at even wire offsets.
	EvenPairs bool `json:"evenPairs,omitempty"`
	// Manners are codes of exchange.Manners: odd ways in which the device is
	// known to answer, though it is well.
	Manners []string `json:"manners,omitempty"`
	// Areas gives the declared size of an area in units, where it ends
	// before the protocol's own limit.
	Areas map[string]uint32 `json:"areas,omitempty"`
}

// Units is a run of units of an area.
type Units struct {
	Area  string `json:"area"`
	From  uint32 `json:"from"` // wire offset
	Count uint32 `json:"count"`
}

// Link is one asking end and one answering end that talk one protocol over a
// line.
type Link struct {
	ID        string `json:"id"`
	Asking    string `json:"asking"`
	Answering string `json:"answering"`
	Line      string `json:"line"`
	Protocol  string `json:"protocol"`
	// Settings of the asking end, as for Port.
	Settings protocol.Settings `json:"settings,omitempty"`
	Remark   string            `json:"remark,omitempty"`
}

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
	ChangeMs int     `json:"changeMs,omitempty"`
	Access   Access  `json:"access" jsonschema:"enum=r,enum=rw,enum=w"`
	Remark   string  `json:"remark,omitempty"`
	From     *Origin `json:"from,omitempty"`
	// Map names the protocol in whose addressing the point is written, where that
	// is not the one of its device, and Link the link that carries it, where there
	// is a choice.
	Map  string `json:"map,omitempty"`
	Link string `json:"link,omitempty"`
}

// Place takes the address of p apart, where it is one of the block shape.
func (p *Point) Place() block.Place { return block.Of(p.Address) }

// Places goes through the addresses of the points of d, powers of ten included.
func (d *Device) Places(yield func(address.Address) bool) {
	for i := range d.Points {
		if p := &d.Points[i]; !yield(p.Address) || !p.PowerAt.IsZero() && !yield(p.PowerAt) {
			return
		}
	}
}

// Shape returns what says how the bytes of p are read, in a place whose units
// have the given width in bits.
func (p *Point) Shape(unitBits int) value.Shape {
	return value.Shape{Type: p.Type, Order: p.Order, Bit: p.Place().Bit, Unit: unitBits, Length: p.Length,
		Charset: p.Charset, Padding: p.Padding}
}

// Wanted is p as an end that reports is told of it.
func (p *Point) Wanted() protocol.Wanted {
	return protocol.Wanted{ID: p.ID, Address: p.Address, Shape: p.Shape(0), PaceMs: p.PaceMs}
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
	return p.Address == q.Address && p.Map == q.Map && p.Link == q.Link && p.Type == q.Type && p.Length == q.Length && p.Charset == q.Charset &&
		p.Padding == q.Padding && p.Order == q.Order &&
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
		if strings.EqualFold(n.Name, strings.TrimSpace(text)) && !p.Type.IsFlags() {
			return value.OfInt(n.Value), nil
		}
	}
	return value.Parse(text, p.Type)
}

// Crossing carries one point into another:
//
//	to = from × Factor + Offset, written when it differs by Deadband or more
//
// from what was written last.
type Crossing struct {
	ID       string  `json:"id"`
	From     string  `json:"from"`
	To       string  `json:"to"`
	Factor   float64 `json:"factor,omitempty"`
	Offset   float64 `json:"offset,omitempty"`
	Deadband float64 `json:"deadband,omitempty"`
	Off      bool    `json:"off,omitempty"`
	Remark   string  `json:"remark,omitempty"`
}

// Scale returns the linear scale of c.
func (c *Crossing) Scale() value.Linear { return value.Linear{Factor: c.Factor, Offset: c.Offset} }

// Line returns the line with the given id, or nil.
func (s *Site) Line(id string) *Line {
	for i := range s.Lines {
		if s.Lines[i].ID == id {
			return &s.Lines[i]
		}
	}
	return nil
}

// Device returns the device with the given id, or nil.
func (s *Site) Device(id string) *Device {
	for i := range s.Devices {
		if s.Devices[i].ID == id {
			return &s.Devices[i]
		}
	}
	return nil
}

// Link returns the link with the given id, or nil.
func (s *Site) Link(id string) *Link {
	for i := range s.Links {
		if s.Links[i].ID == id {
			return &s.Links[i]
		}
	}
	return nil
}

// Point returns the point with the given id and its device, or nil.
func (s *Site) Point(id string) (*Device, *Point) {
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			if s.Devices[i].Points[j].ID == id {
				return &s.Devices[i], &s.Devices[i].Points[j]
			}
		}
	}
	return nil, nil
}

// SharesPoints reports whether d and other have the very same points: a change
// of the site shares what it does not touch. False says nothing.
func (d *Device) SharesPoints(other *Device) bool {
	return len(d.Points) == len(other.Points) && (len(d.Points) == 0 || &d.Points[0] == &other.Points[0])
}

// Port returns the port of d on the given line, or nil.
func (d *Device) Port(line string) *Port {
	for i := range d.Ports {
		if d.Ports[i].Line == line {
			return &d.Ports[i]
		}
	}
	return nil
}
