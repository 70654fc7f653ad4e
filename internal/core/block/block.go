// Package block is the shape of memory that several families share: areas of
// equal units, each addressed by its number, with bits inside. What works on
// such memory (packing, windows, strips, structures) stands on it, and knows no
// family.
package block

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Place is an address of this shape, taken apart.
type Place struct {
	// Area is the key of an area of the shape; empty for a place of another
	// shape, and for nowhere.
	Area string
	// Offset counts the units of the area from 0, as on the wire.
	Offset uint32
	// Bit is the bit within the unit, 0 the lowest; -1 for the whole unit.
	Bit int
}

// At returns the address of a unit of an area.
func At(area string, offset uint32) address.Address { return address.Numbered(area, offset, -1) }

// Of takes an address apart.
func Of(a address.Address) Place {
	area, offset, bit, _ := a.Number()
	return Place{area, offset, bit}
}

// Address puts a place together.
func (p Place) Address() address.Address { return address.Numbered(p.Area, p.Offset, p.Bit) }

// WithBit returns an address of this shape with the given bit (0 to
// address.MostPart) of its unit; a negative bit takes the bit away. An address
// of another shape is returned as it is.
func WithBit(a address.Address, bit int) address.Address {
	if area, offset, _, ok := a.Number(); ok {
		return address.Numbered(area, offset, bit)
	}
	return a
}

// Moved returns an address of this shape at another offset, with its bit.
func Moved(a address.Address, offset uint32) address.Address {
	if area, _, bit, ok := a.Number(); ok {
		return address.Numbered(area, offset, bit)
	}
	return a
}

// Area describes one area of a shape.
type Area struct {
	Key      string `json:"key"`
	Title    string `json:"title"`    // in words: "inputs"
	UnitBits int    `json:"unitBits"` // width of one unit: 1, 8 or 16
	Units    uint32 `json:"units"`    // how many units the protocol can address
	Writable bool   `json:"writable"`
	// Digit begins the five-digit numbers, counted from 1, by which people name
	// units of the area; empty where they do not.
	Digit string `json:"digit,omitempty"`
	// Little is set where a number begins with its least significant octet. Its key
	// is then that of no area of another shape.
	Little bool `json:"little,omitempty"`
}

// little are the keys of the areas that are Little. It is filled when programs begin.
var little = map[string]bool{}

// Keep notes what the addresses of a scheme alone do not say of its areas.
func Keep(s address.Scheme) {
	for _, area := range AreasOf(s) {
		if area.Little {
			little[area.Key] = true
		}
	}
}

// Usual is the order of the octets of a number in an area, where nobody says another.
func Usual(area string, t value.Type, octets int) value.Order {
	if !little[area] || t.IsText() || t.InUnit() || octets < 2 || octets > 8 || t == value.TypeBytes {
		return ""
	}
	order := []byte("ABCDEFGH")[:octets]
	slices.Reverse(order)
	return value.Order(order)
}

// Octets is the width of one unit where each takes whole octets.
func (a Area) Octets() int { return (a.UnitBits + 7) / 8 }

// Shape is the addressing of a family with such memory.
type Shape interface {
	address.Scheme
	// Areas lists the areas in the order in which people name them. A shape with
	// numbered blocks lists the first alone.
	Areas() []Area
	// Area finds an area by its key.
	Area(key string) (Area, bool)
}

// ShapeOf returns a scheme as a shape, if it is one.
func ShapeOf(s address.Scheme) (Shape, bool) {
	shape, ok := s.(Shape)
	return shape, ok
}

// AreasOf lists the areas of a scheme; none if it has another shape.
func AreasOf(s address.Scheme) []Area {
	if shape, ok := ShapeOf(s); ok {
		return shape.Areas()
	}
	return []Area{}
}

// AreaOf finds an area of a scheme by its key; none if it has another shape.
func AreaOf(s address.Scheme, key string) (Area, bool) {
	if shape, ok := ShapeOf(s); ok {
		return shape.Area(key)
	}
	return Area{}, false
}

// UnitBits is the width of a unit where an address lies; 0 if it lies in no
// area of the scheme.
func UnitBits(s address.Scheme, a address.Address) int {
	area, _ := AreaOf(s, Of(a).Area)
	return area.UnitBits
}

// AreaNamed finds an area by the way in which a list names it: its key, its
// title, or any word that the shape knows for it.
func AreaNamed(s address.Scheme, text string) (Area, bool) {
	if named, ok := s.(interface{ AreaNamed(string) (string, bool) }); ok {
		if key, found := named.AreaNamed(text); found {
			return AreaOf(s, key)
		}
	}
	text = strings.TrimSpace(text)
	for _, area := range AreasOf(s) {
		if strings.EqualFold(area.Key, text) || strings.EqualFold(area.Title, text) {
			return area, true
		}
	}
	return AreaOf(s, strings.ToLower(text))
}

// AreaSaid finds the one area that a sentence of a list speaks of, in small
// letters without accents.
func AreaSaid(s address.Scheme, text string) (Area, bool) {
	if said, ok := s.(interface{ AreaSaid(string) (string, bool) }); ok {
		if key, found := said.AreaSaid(text); found {
			return AreaOf(s, key)
		}
	}
	return Area{}, false
}

// AreasIn lists the areas in which some addresses lie: those that the shape
// lists, in its order, and then others that it knows, by their keys. There are
// none in another shape.
func AreasIn(scheme address.Scheme, addresses func(yield func(address.Address) bool)) []Area {
	s, ok := ShapeOf(scheme)
	if !ok {
		return []Area{}
	}
	areas := s.Areas()
	known := len(areas)
	for a := range addresses {
		key := Of(a).Area
		if key == "" || slices.ContainsFunc(areas, func(each Area) bool { return each.Key == key }) {
			continue
		}
		if area, ok := s.Area(key); ok {
			areas = append(areas[:len(areas):len(areas)], area)
		}
	}
	slices.SortStableFunc(areas[known:], func(a, b Area) int { return naturally(a.Key, b.Key) })
	return areas
}

// naturally compares keys with numbers in them: db7 before db10.
func naturally(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b)) }

// Compare orders addresses of a shape by area, in the order of its list, then
// by offset and bit.
func Compare(s Shape, a, b address.Address) int {
	p, q := Of(a), Of(b)
	if p.Area != q.Area {
		rank := func(key string) int {
			areas := s.Areas()
			if i := slices.IndexFunc(areas, func(each Area) bool { return each.Key == key }); i >= 0 {
				return i
			}
			return len(areas)
		}
		return cmp.Or(cmp.Compare(rank(p.Area), rank(q.Area)), naturally(p.Area, q.Area))
	}
	return cmp.Or(cmp.Compare(p.Offset, q.Offset), cmp.Compare(p.Bit, q.Bit), address.Compare(a, b))
}

// Check is the check of a shape: the area must exist, hold such a value, and
// reach to its end.
func Check(s Shape, a address.Address, shape value.Shape) error {
	p := Of(a)
	area, ok := s.Area(p.Area)
	switch {
	case !ok && p.Area == "":
		return fmt.Errorf("address %s names no place in an area", a)
	case !ok:
		return fmt.Errorf("address %s: the protocol has no area %q", a, p.Area)
	case area.UnitBits == 1 && (shape.Type != value.TypeBool || p.Bit >= 0):
		return fmt.Errorf("address %s: %s hold bools, not %s", s.Short(a), area.Title, shape.Type)
	case shape.Type == value.TypeBool && area.UnitBits > 1 && p.Bit < 0:
		return fmt.Errorf("address %s: a bool in %s needs its bit, such as %s", s.Short(a), area.Title,
			s.Short(WithBit(a, 0)))
	}
	shape.Bit, shape.Unit = p.Bit, area.UnitBits
	if _, err := value.NewCodec(shape); err != nil {
		return err
	}
	if units := Units(shape, area.UnitBits); p.Offset >= area.Units || uint32(units) > area.Units-p.Offset {
		return fmt.Errorf("address %s: the value would run past the last of the %s", s.Short(a), area.Title)
	}
	return nil
}

// Units returns how many units of the given width in bits a value covers.
func Units(shape value.Shape, unitBits int) int {
	return max(1, (shape.Octets()*8+unitBits-1)/unitBits)
}

// Range is a run of units of an area.
type Range struct {
	Area  string `json:"area"`
	Start uint32 `json:"start"`
	Count int    `json:"count"`
}

// Room is what one request may hold where it takes several ranges. All counts
// are of octets, but Ranges.
type Room struct {
	// Ranges is how many there may be.
	Ranges int
	// Out and In are left for ranges in a request and in its answer, OutEach and
	// InEach is what each range takes there beside the data of its units, which
	// count in the answer.
	Out, In         int
	OutEach, InEach int
	// Even is set where the data of each range but the last is filled up to an
	// even number of octets.
	Even bool
}

// Neighbours prints a bit of a 16-bit unit in the ways in which neighbours
// count: by unit and bit 0 to 15, by byte and bit with the high byte first or
// the low one, and by bit 1 to 16.
func Neighbours(unit uint32, bit int) []address.Notation {
	return []address.Notation{
		{Name: "register and bit from 0", Text: fmt.Sprintf("%d.%d", unit, bit)},
		{Name: "byte and bit, high byte first", Text: fmt.Sprintf("%d.%d", 2*unit+uint32(1-bit/8), bit%8)},
		{Name: "byte and bit, low byte first", Text: fmt.Sprintf("%d.%d", 2*unit+uint32(bit/8), bit%8)},
		{Name: "bit from 1", Text: fmt.Sprintf("register %d, bit %d of 16", unit, bit+1)},
	}
}
