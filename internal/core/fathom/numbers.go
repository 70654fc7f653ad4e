package fathom

import (
	"math"
	"slices"

	"ferry/internal/core/value"
)

// spec is one way of reading words as a number, with what it costs in bits to
// suppose it.
type spec struct {
	codec value.Codec
	cost  float64
	words int
	bits  int
	float bool // an IEEE 754 number
	// signed tells whether raw values go below zero; least and greatest are
	// the raw values there are.
	signed          bool
	least, greatest float64
	// plain is the codec in alphabetical order, for pattern.
	plain value.Codec
}

// orderCosts are those of the orders in value.Orders.
var orderCosts = map[int][]float64{
	2: {0, 6},
	4: {0.8, 0.8, 4, 3},
	6: {1, 1.5, 6, 5},
	8: {1, 1.5, 5, 3, 6, 6},
}

// newSpec makes a way of reading; the shapes are those written here.
func newSpec(shape value.Shape, cost float64) spec {
	codec, err := value.NewCodec(shape)
	if err != nil {
		panic("fathom: " + err.Error())
	}
	plain := shape
	plain.Order, plain.Bit = "", -1
	width := shape.Type.Bytes(shape.Length)
	if width == 1 {
		plain.Unit = 8
	}
	s := spec{codec: codec, cost: cost, words: (width + 1) / 2, bits: 8 * width, float: shape.Type.IsFloat()}
	if s.plain, err = value.NewCodec(plain); err != nil {
		panic("fathom: " + err.Error())
	}
	s.least, s.greatest = shape.Type.Range(shape.Length)
	s.signed = s.least < 0
	return s
}

// inEveryOrder lists a type in all usual orders.
func inEveryOrder(t value.Type, length int, cost float64) (specs []spec) {
	width := t.Bytes(length)
	for i, order := range value.Orders(width) {
		specs = append(specs,
			newSpec(value.Shape{Type: t, Order: order, Bit: -1, Length: length}, cost+orderCosts[width][i]))
	}
	return specs
}

var numberSpecs = func() (specs []spec) {
	for _, t := range []struct {
		typ    value.Type
		length int
		cost   float64
	}{
		{value.TypeUint16, 0, 1}, {value.TypeInt16, 0, 1.2}, {value.TypeFloat32, 0, 1}, {value.TypeUint32, 0, 5},
		{value.TypeInt32, 0, 5.2},
		{value.TypeFloat64, 0, 4}, {value.TypeInt64, 0, 8.7}, {value.TypeUint64, 0, 8.5}, {value.TypeBCD16, 0, 5},
		{value.TypeBCD32, 0, 9.5},
		{value.TypeBase10k, 2, 7}, {value.TypeBase10k, 3, 9}, {value.TypeBase10k, 4, 11},
	} {
		specs = append(specs, inEveryOrder(t.typ, t.length, t.cost)...)
	}
	for _, t := range []value.Type{value.TypeUint8, value.TypeInt8} {
		for _, bit := range []int{0, 8} {
			specs = append(specs, newSpec(value.Shape{Type: t, Bit: bit}, 6))
		}
	}
	return specs
}()

// scaling is a scale that devices use, with what it costs to suppose it: of a
// whole number, and of a float.
type scaling struct {
	factor, offset float64
	whole, float   float64
}

var scalings = []scaling{
	{1, 0, 0, 0}, {0.1, 0, 1, 7}, {0.01, 0, 1.5, 7}, {0.001, 0, 2.5, 6}, {1e-4, 0, 5, 10}, {1e-5, 0, 7, 12},
	{1e-6, 0, 7, 8},
	{10, 0, 3, 8}, {100, 0, 4, 7}, {1000, 0, 4, 6}, {1e4, 0, 8, 12}, {1e6, 0, 8, 8},
	{0.5, 0, 4, 10}, {0.25, 0, 5, 12}, {0.2, 0, 5.5, 12}, {0.05, 0, 5.5, 12}, {0.02, 0, 6, 12}, {0.025, 0, 7, 12},
	{0.125, 0, 6, 12}, {0.0625, 0, 6.5, 12},
	{2, 0, 5.5, 10}, {5, 0, 6, 12}, {1.0 / 256, 0, 7, 14}, {1.0 / 60, 0, 7, 9}, {1.0 / 3600, 0, 7, 9}, {60, 0, 8, 9},
	{3600, 0, 8, 9}, {3.6, 0, 9, 8}, {1 / 3.6, 0, 9, 8},
	{1, -273.15, 6, 6}, {0.1, -273.15, 6, 12}, {0.01, -273.15, 7, 12}, // kelvin read as °C
	{1.8, 32, 8, 7}, {0.18, 32, 7, 12}, {1 / 1.8, -32 / 1.8, 8, 7}, {0.1 / 1.8, -32 / 1.8, 7, 12}, // °C and °F
	{-1, 0, 9, 9}, {-0.1, 0, 10, 12},
}

// numbers tries every place, type, order and scale.
func (s *search) numbers() {
	length := len(s.query.Moments[0])
	for i := range numberSpecs {
		sp := &numberSpecs[i]
		for at := 0; at+sp.words <= length; at++ {
			if s.decode(&sp.codec, at) {
				s.scales(sp, at)
			}
		}
	}
}

// near is how far outside its tolerance, in tolerances, a value may be and
// still be listed: a display is easily misread by a digit, and the value moves
// between the glance and the read.
const near = 12

// scales tries every scale on the raw values in hand.
func (s *search) scales(sp *spec, at int) {
	for i := range s.raws {
		if f := s.raws[i].Float(); math.IsNaN(f) || math.IsInf(f, 0) {
			return
		}
	}
	for i := range scalings {
		sc := &scalings[i]
		gain, fits := 0.0, true
		for k := range s.group.readings {
			r := &s.group.readings[k]
			off := math.Abs(s.raws[k].Float()*sc.factor+sc.offset-r.number) / r.within
			if off > near {
				fits, gain = false, -1
				break
			}
			fits = fits && off <= 1
			gain -= math.Log2(s.chance(sp, sc, k))
			if off <= 1 {
				gain -= 0.5 * off * off
			} else {
				gain -= 2 + 3*math.Log2(off)
			}
		}
		if gain <= 0 {
			continue
		}
		cost := sc.whole
		if sp.float {
			cost = sc.float
		}
		c := Candidate{At: at, Bit: sp.codec.Bit, Type: sp.codec.Type, Length: sp.codec.Length, Order: sp.codec.Order,
			Scale: sc.factor, Offset: sc.offset, Fits: fits}
		linear := value.Linear{Factor: sc.factor, Offset: sc.offset}
		for k := range s.raws {
			c.Values = append(c.Values, linear.Apply(s.raws[k]))
		}
		s.keep(c, cost+sp.cost, gain)
	}
}

// chance is how likely words of no meaning are to show reading k. It is worked
// out word by word, from the most significant on, until the tolerance leaves
// the rest free: so a wide value gains nothing by the zeros above a small one,
// nor by digits that the display does not show.
func (s *search) chance(sp *spec, sc *scaling, k int) float64 {
	r := &s.group.readings[k]
	a, b := (r.number-r.within-sc.offset)/sc.factor, (r.number+r.within-sc.offset)/sc.factor
	low, high := min(a, b), max(a, b)
	raw := s.raws[k].Float()
	low, high = min(low, raw), max(high, raw) // a near miss counts as if it were within
	var before *uint64
	if k > 0 {
		pattern := sp.pattern(s.raws[k-1].Float())
		before = &pattern
	}
	p := 0.0
	if high >= 0 {
		p += sp.between(max(low, 0), high, before)
	}
	if low < 0 && sp.signed {
		p += sp.between(low, min(high, -sp.step()), before)
	}
	return math.Min(0.95, math.Max(p, 1e-18))
}

// step is the smallest distance of two raw values; 0 for floats.
func (sp *spec) step() float64 {
	if sp.float {
		return 0
	}
	return 1
}

// between is the chance of a pattern from low to high, both of one sign.
func (sp *spec) between(low, high float64, before *uint64) float64 {
	if !sp.float {
		low, high = math.Ceil(low), math.Floor(high)
		if low > high {
			return 0
		}
	}
	a, b := sp.pattern(low), sp.pattern(high)
	if a > b { // floats below zero grow downwards
		a, b = b, a
	}
	if sp.bits == 8 {
		return float64(b-a+1) / 256
	}
	p := 1.0
	for i := sp.words - 1; i >= 0; i-- {
		from, to := uint16(a>>(16*i)), uint16(b>>(16*i))
		q := noise(from, to)
		if before != nil {
			// Most words of most devices stand still from one moment to the next.
			if was := uint16(*before >> (16 * i)); was >= from && was <= to {
				q = stands + (1-stands)*q
			} else {
				q *= 1 - stands
			}
		}
		p *= q
		if from != to {
			break
		}
	}
	return p
}

// stands is how likely a word is to be the same at the next moment.
const stands = 0.6

// pattern returns the bits of a raw value, most significant word first.
func (sp *spec) pattern(raw float64) uint64 {
	raw = math.Max(sp.least, math.Min(sp.greatest, raw))
	var b [8]byte
	if err := sp.plain.Encode(value.OfFloat(raw), b[:]); err != nil {
		// Only the two ends of the widest integers round out of their range.
		return math.MaxUint64
	}
	var bits uint64
	for _, octet := range b[:sp.plain.Width()] {
		bits = bits<<8 | uint64(octet)
	}
	return bits
}

// noise is the chance that a word of no meaning lies from low to high. Registers
// are not evenly filled: many are zero, some are all ones, many hold small
// numbers, each size alike on a logarithmic scale, the rest anything.
func noise(low, high uint16) float64 {
	p := 0.25 * float64(int(high)-int(low)+1) / 65536
	if low == 0 {
		p += 0.35
	}
	if high == 0xFFFF {
		p += 0.05
	}
	return p + 0.35*(math.Log2(float64(high)+1)-math.Log2(math.Max(float64(low), 0.5)))/17
}

var timeSpecs = slices.Concat(inEveryOrder(value.TypeUnix, 0, 1), inEveryOrder(value.TypeUnixMs, 0, 2),
	inEveryOrder(value.TypeCP56, 0, 2))

// times tries the types that hold a moment.
func (s *search) times() {
	for i := range timeSpecs {
		sp := &timeSpecs[i]
		for at := 0; at+sp.words <= len(s.query.Moments[0]); at++ {
			if !s.decode(&sp.codec, at) {
				continue
			}
			gain, fits := 0.0, true
			for k := range s.group.readings {
				r := &s.group.readings[k]
				off := math.Abs(s.raws[k].Float()-r.number) / r.within
				fits = fits && off <= 1
				if off > near {
					gain = -1
					break
				}
				gain += float64(sp.bits) - math.Log2(2*r.within+1)
			}
			if gain > 0 {
				s.keep(Candidate{At: at, Bit: -1, Type: sp.codec.Type, Order: sp.codec.Order, Scale: 1, Values: s.raws,
					Fits: fits}, sp.cost, gain)
			}
		}
	}
}
