// Package image is the memory of a device that Ferry itself is: what stands in
// each unit of its map, which of its points has a value yet, and what it means
// when somebody else writes there.
package image

import (
	"fmt"
	"slices"

	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Refusal is why a client does not get what it asks for; None where it does.
type Refusal string

// The refusals.
const (
	None     Refusal = ""
	NoPlace  Refusal = "no such place" // beyond the map
	ReadOnly Refusal = "not writable"  // no point there that may be written
	NoValue  Refusal = "no value yet"  // a point there has none to give
	BadValue Refusal = "no such value" // outside the limits of the point
	NoTaker  Refusal = "not carried"   // a command that nothing carries out
)

// mostOctets bounds one area.
const mostOctets = 1 << 18

// Image is such a memory. It is not safe for use by several at once.
type Image struct {
	areas  map[string]*area
	points map[string]*cell
	names  []*site.Point // those that lie in no area: each has its value by itself
}

// area is one area: data has every unit in whole octets, from 0 on.
type area struct {
	octets   int // of a unit
	data     []byte
	lacks    []uint8 // points without a value that cover each unit
	lacking  int     // points without a value
	writable bool
	cells    []*cell // by offset
	longest  int     // units of the longest point
}

// cell is one point in its area, or by itself where in is nil.
type cell struct {
	point       *site.Point
	codec       *value.Codec
	in          *area
	alone       value.Value // of a cell by itself, before any scale
	from, units int
	has         bool
	fed         bool // something is carried into it
	// half has a bit for each unit that was written since all of them were.
	half uint64
}

// Written is a point that a client has written whole.
type Written struct {
	Point *site.Point
	Raw   value.Value // as the octets stand for it, before any scale
}

// New lays out the memory of a device from its map. Units between points are
// there and hold zeros; an area ends with its last point, or with the size that
// the device is declared to have. A point into which something is carried has no
// value until one is put there, and one that clients may only read and into which
// nothing is carried never has; others begin with zero. Points that lie in no area
// of the block shape have their values by themselves.
func New(d *site.Device, carried func(id string) bool) (*Image, error) {
	m := &Image{areas: map[string]*area{}, points: make(map[string]*cell, len(d.Points))}
	codecs := value.Codecs{}
	for i := range d.Points {
		p := &d.Points[i]
		scheme, err := d.SchemeOf(p)
		if err != nil {
			return nil, err
		}
		at := p.Place()
		kind, ok := block.AreaOf(scheme, at.Area)
		if !ok {
			m.name(p, carried(p.ID))
			continue
		}
		codec, err := codecs.Of(p.Shape(kind.UnitBits))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
		a := m.areas[at.Area]
		if a == nil {
			a = &area{octets: kind.Octets()}
			m.areas[at.Area] = a
			if err := a.grow(int(d.Limits.Areas[at.Area])); err != nil {
				return nil, fmt.Errorf("%s: %w", kind.Title, err)
			}
		}
		c := &cell{point: p, codec: codec, in: a, from: int(at.Offset), units: p.Units(kind.UnitBits),
			fed: carried(p.ID)}
		c.has = !c.fed && p.Access != site.ReadOnly
		if err := a.grow(c.from + c.units); err != nil {
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
		a.writable = a.writable || kind.Writable && p.Access != site.ReadOnly
		a.longest = max(a.longest, c.units)
		a.cells = append(a.cells, c)
		m.points[p.ID] = c
		if !c.has {
			c.lack(1)
		}
	}
	for _, a := range m.areas {
		slices.SortStableFunc(a.cells, func(x, y *cell) int { return x.from - y.from })
	}
	return m, nil
}

// name lays out a point that has its value by itself.
func (m *Image) name(p *site.Point, fed bool) {
	c := &cell{point: p, fed: fed, has: !fed && p.Access != site.ReadOnly, alone: zero(p.Type)}
	m.points[p.ID] = c
	m.names = append(m.names, p)
}

// zero is the value of a type that nothing was put into.
func zero(of value.Type) value.Value {
	switch {
	case of.IsText():
		return value.OfText("")
	case of == value.TypeBool:
		return value.OfBool(false)
	case of.IsFloat():
		return value.OfFloat(0)
	}
	return value.OfInt(0)
}

// Has reports whether a point is laid out in it.
func (m *Image) Has(id string) bool { return m.points[id] != nil }

// Names lists the points that have their values by themselves, in the order of the map.
func (m *Image) Names() []*site.Point { return m.names }

// Write is a client's, of a value into a point that has it by itself, before any scale.
func (m *Image) Write(id string, raw value.Value) (Written, Refusal) {
	c := m.points[id]
	switch {
	case c == nil || c.in != nil:
		return Written{}, NoPlace
	case c.point.Access == site.ReadOnly:
		return Written{}, ReadOnly
	}
	v, err := value.As(raw, c.point.Shape(0))
	if err != nil || !within(c.point, v) {
		return Written{}, BadValue
	}
	c.alone, c.has = v, true
	return Written{c.point, v}, None
}

func (a *area) grow(units int) error {
	if units*a.octets > mostOctets {
		return fmt.Errorf("the memory would have %d units: lay its points out below %d", units, mostOctets/a.octets)
	}
	if missing := units - len(a.lacks); missing > 0 {
		a.data = append(a.data, make([]byte, missing*a.octets)...)
		a.lacks = append(a.lacks, make([]uint8, missing)...)
	}
	return nil
}

// lack counts a point without a value in, or out with -1.
func (c *cell) lack(by int) {
	c.in.lacking += by
	for i := range c.units {
		c.in.lacks[c.from+i] += uint8(by) // at most 16 points share a unit
	}
}

// span are the octets of c.
func (c *cell) span() []byte {
	return c.in.data[c.from*c.in.octets : (c.from+c.units)*c.in.octets]
}

// Read appends the octets of a run of units to dst, each unit in whole octets: a
// bit of its own takes one, 0 or 1.
func (m *Image) Read(dst []byte, key string, start, count int) ([]byte, Refusal) {
	a := m.areas[key]
	if a == nil || start < 0 || count < 1 || start+count > len(a.lacks) {
		return dst, NoPlace
	}
	if a.lacking > 0 {
		for _, n := range a.lacks[start : start+count] {
			if n > 0 {
				return dst, NoValue
			}
		}
	}
	return append(dst, a.data[start*a.octets:(start+count)*a.octets]...), None
}

// Within tells of the points that lie whole in a run of units, with what stands in them.
func (m *Image) Within(key string, start, count int, of func(id string, raw value.Value)) {
	a := m.areas[key]
	if a == nil {
		return
	}
	for _, c := range a.touched(start, count) {
		if !c.has || c.from < start || c.from+c.units > start+count {
			continue
		}
		if raw, err := c.codec.Decode(c.span(), value.Value{}); err == nil {
			of(c.point.ID, raw)
		}
	}
}

// Writable reports whether an area has any point that clients may write.
func (m *Image) Writable(key string) bool {
	a := m.areas[key]
	return a != nil && a.writable
}

// Change carries out what a client writes to a run of units: change is given
// their octets, as for Read, and makes them what they shall be. It is all or
// nothing. The points that were written whole are told in the order of the map;
// one that takes several units is, once each of them has been written: half a
// number means nothing.
func (m *Image) Change(key string, start, count int, change func(octets []byte)) ([]Written, Refusal) {
	a := m.areas[key]
	if a == nil || start < 0 || count < 1 || start+count > len(a.lacks) {
		return nil, NoPlace
	}
	touched := a.touched(start, count)
	covered := make([]bool, count)
	for _, c := range touched {
		if c.point.Access == site.ReadOnly {
			continue
		}
		for i := max(c.from, start); i < min(c.from+c.units, start+count); i++ {
			covered[i-start] = true
		}
	}
	if slices.Contains(covered, false) {
		return nil, ReadOnly
	}
	run := a.data[start*a.octets : (start+count)*a.octets]
	before := slices.Clone(run)
	change(run)
	var written []Written
	type half struct {
		c    *cell
		bits uint64
	}
	halves := make([]half, 0, len(touched))
	for _, c := range touched {
		if c.point.Access == site.ReadOnly {
			if c.differs(run, before, start) { // a bit beside those that may be written
				copy(run, before)
				return nil, ReadOnly
			}
			continue
		}
		bits := c.half
		for i := max(c.from, start); i < min(c.from+c.units, start+count); i++ {
			bits |= 1 << uint(min(i-c.from, 63))
		}
		if all := uint64(1)<<uint(min(c.units, 64)) - 1; bits&all != all {
			halves = append(halves, half{c, bits})
			continue
		}
		halves = append(halves, half{c, 0})
		raw, err := c.codec.Decode(c.span(), value.Value{})
		if err != nil || !within(c.point, raw) {
			copy(run, before)
			return nil, BadValue
		}
		written = append(written, Written{c.point, raw})
	}
	for _, h := range halves {
		if h.c.half = h.bits; h.bits == 0 && !h.c.has {
			h.c.has = true
			h.c.lack(-1)
		}
	}
	return written, None
}

// Replace takes an area as a client sends it whole, again and again: the points that may be
// written and have another value than before are told, in the order of the map. One whose
// value it cannot have keeps what it has; refused counts those.
func (m *Image) Replace(key string, data []byte) (written []Written, refused int) {
	a := m.areas[key]
	if a == nil {
		return nil, 0
	}
	for _, c := range a.cells {
		from, to := c.from*a.octets, (c.from+c.units)*a.octets
		if c.point.Access == site.ReadOnly || to > len(data) {
			continue
		}
		raw, err := c.codec.Decode(data[from:to], value.Value{})
		was, errWas := c.codec.Decode(c.span(), value.Value{})
		switch {
		case err != nil || !within(c.point, raw) || c.codec.Encode(raw, c.span()) != nil:
			refused++
			continue
		case c.has && errWas == nil && raw == was:
			continue
		}
		if c.half = 0; !c.has {
			c.has = true
			c.lack(-1)
		}
		written = append(written, Written{c.point, raw})
	}
	return written, refused
}

// Units is how many units of an area there are.
func (m *Image) Units(key string) int {
	if a := m.areas[key]; a != nil {
		return len(a.lacks)
	}
	return 0
}

// differs reports whether the octets of a read-only part of a unit would change.
func (c *cell) differs(run, before []byte, start int) bool {
	from, to := max(c.from, start), min(c.from+c.units, start+len(run)/c.in.octets)
	if c.units > 1 || !c.codec.Partial() {
		return !slices.Equal(run[(from-start)*c.in.octets:(to-start)*c.in.octets],
			before[(from-start)*c.in.octets:(to-start)*c.in.octets])
	}
	at := (from - start) * c.in.octets
	is, errIs := c.codec.Decode(run[at:], value.Value{})
	was, errWas := c.codec.Decode(before[at:], value.Value{})
	return is != was || (errIs == nil) != (errWas == nil)
}

// touched lists the points that cover any unit of a run.
func (a *area) touched(start, count int) []*cell {
	first, _ := slices.BinarySearchFunc(a.cells, start-a.longest+1, func(c *cell, at int) int { return c.from - at })
	var list []*cell
	for _, c := range a.cells[first:] {
		if c.from >= start+count {
			break
		}
		if c.from+c.units > start {
			list = append(list, c)
		}
	}
	return list
}

// within reports whether a raw value lies in the limits of a point.
func within(p *site.Point, raw value.Value) bool {
	scale := p.Scale()
	switch raw.Kind() {
	case value.Int, value.Uint, value.Float:
	default:
		return true
	}
	if scale.IsMissing(raw) {
		return true
	}
	v := scale.Apply(raw).Float()
	return (p.Low == nil || v >= *p.Low) && (p.High == nil || v <= *p.High)
}

// Put gives a point a value in engineering units, and returns what stands there
// then. It fails where the point cannot hold it; what stood there stays.
func (m *Image) Put(id string, v value.Value) (raw value.Value, err error) {
	c := m.points[id]
	if c == nil {
		return value.Value{}, fmt.Errorf("the point is not in the map that is served")
	}
	if c.in == nil {
		if raw, err = value.As(c.point.Scale().Invert(v), c.point.Shape(0)); err == nil {
			c.alone, c.has = raw, true
		}
		return raw, err
	}
	span := c.span()
	before := slices.Clone(span)
	if err := c.codec.Encode(c.point.Scale().Invert(v), span); err != nil {
		copy(span, before)
		return value.Value{}, err
	}
	if raw, err = c.codec.Decode(span, value.Value{}); err != nil {
		copy(span, before)
		return value.Value{}, err
	}
	if c.half = 0; !c.has {
		c.has = true
		c.lack(-1)
	}
	return raw, nil
}

// Shown prints a raw value of a point.
func (m *Image) Shown(id string, raw value.Value) string {
	c := m.points[id]
	if c == nil {
		return ""
	}
	return c.point.Shown(c.point.Scale().Apply(raw))
}

// Scaled is a raw value of a point in engineering units.
func (m *Image) Scaled(id string, raw value.Value) value.Value {
	c := m.points[id]
	if c == nil {
		return raw
	}
	return c.point.Scale().Apply(raw)
}

// Raw returns what stands in a point, and its octets where it lies in an area; ok is false
// where it has no value.
func (m *Image) Raw(id string) (raw value.Value, octets []byte, ok bool) {
	c := m.points[id]
	if c == nil || !c.has {
		return value.Value{}, nil, false
	}
	if c.in == nil {
		return c.alone, nil, true
	}
	raw, err := c.codec.Decode(c.span(), value.Value{})
	return raw, c.span(), err == nil
}

// Keep takes over the values of points that mean the same as in an image of
// before.
func (m *Image) Keep(before *Image) {
	for id, c := range m.points {
		was := before.points[id]
		if was == nil || !was.has || !was.point.SameReading(c.point) || !c.fed && c.point.Access == site.ReadOnly {
			continue
		}
		if c.in == nil || was.in == nil {
			if c.in == was.in {
				c.alone, c.has = was.alone, true
			}
			continue
		}
		raw, err := was.codec.Decode(was.span(), value.Value{})
		if err != nil || c.codec.Encode(raw, c.span()) != nil {
			continue
		}
		if !c.has {
			c.has = true
			c.lack(-1)
		}
	}
}
