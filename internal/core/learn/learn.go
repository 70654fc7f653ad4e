// Package learn guesses the points of a device that nobody documented, from what others
// ask it for and how its values move.
package learn

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Asked is a run of units that is asked for again and again, with what was answered, in
// the order of time: each unit in whole octets.
type Asked struct {
	Range    block.Range
	Every    time.Duration // 0 for once
	Written  bool
	Readings [][]byte
}

// Guess is a point as it may be.
type Guess struct {
	Address address.Address `json:"-"`
	At      string          `json:"at"`
	Type    value.Type      `json:"type"`
	Order   value.Order     `json:"order,omitempty"`
	PaceMs  int             `json:"paceMs"`
	Access  site.Access     `json:"access"`
	Sure    float64         `json:"sure"`
	Why     string          `json:"why"`
	Seen    string          `json:"seen"` // values that it had
}

// Points guesses the points of a device whose addresses are of a scheme. Bits come as
// bits, registers as whole numbers or, in pairs, as numbers with a fraction.
func Points(scheme address.Scheme, asked []Asked) []Guess {
	written := map[block.Place]bool{}
	for _, a := range asked {
		if a.Written {
			for i := range a.Range.Count {
				written[block.Place{Area: a.Range.Area, Offset: a.Range.Start + uint32(i), Bit: -1}] = true
			}
		}
	}
	// What was read most tells most.
	asked = slices.Clone(asked)
	slices.SortStableFunc(asked, func(a, b Asked) int { return cmp.Compare(len(b.Readings), len(a.Readings)) })
	var found []Guess
	covered := map[block.Place]bool{}
	for _, a := range asked {
		area, ok := block.AreaOf(scheme, a.Range.Area)
		if !ok || a.Written || len(a.Readings) == 0 {
			continue
		}
		for i := 0; i < a.Range.Count; {
			place := block.Place{Area: a.Range.Area, Offset: a.Range.Start + uint32(i), Bit: -1}
			if covered[place] {
				i++
				continue
			}
			g, units := guess(&a, i, area)
			next := place
			next.Offset++
			if units == 2 && covered[next] {
				g, units = whole(&a, i, area)
			}
			g.Address, g.At = place.Address(), scheme.Short(place.Address())
			g.PaceMs, g.Access = paceOf(a.Every), site.ReadOnly
			for range units {
				if covered[place] = true; written[place] {
					g.Access = site.ReadWrite
				}
				place.Offset++
			}
			found = append(found, g)
			i += units
		}
	}
	slices.SortStableFunc(found, func(a, b Guess) int {
		p, q := block.Of(a.Address), block.Of(b.Address)
		return cmp.Or(cmp.Compare(p.Area, q.Area), cmp.Compare(p.Offset, q.Offset))
	})
	return found
}

// paceOf is a time between questions as people set it.
func paceOf(every time.Duration) int {
	ms := int(every.Milliseconds())
	switch {
	case ms == 0:
		return 0
	case ms >= 950:
		return (ms + 250) / 500 * 500
	}
	return max((ms+25)/50*50, 50)
}

// guess judges what begins at unit i of a run.
func guess(a *Asked, i int, area block.Area) (g Guess, units int) {
	if area.UnitBits == 1 {
		g = Guess{Type: value.TypeBool, Sure: 1, Why: "a bit of its own"}
		g.Seen = seen(a, i, 1, func(b []byte) string { return fmt.Sprint(b[0]) })
		return g, 1
	}
	if area.UnitBits == 16 && i+1 < a.Range.Count {
		if g, ok := fraction(a, i); ok {
			return g, 2
		}
	}
	return whole(a, i, area)
}

// each hands on the octets of some units in every reading.
func (a *Asked) each(i, units, octets int, f func(b []byte)) {
	for _, r := range a.Readings {
		if from, to := i*octets, (i+units)*octets; to <= len(r) {
			f(r[from:to])
		}
	}
}

// What numbers with a fraction are, as instruments have them.
const (
	least  = 1e-3
	most   = 1e7
	smooth = 0.3  // how much of itself a number moves at most from reading to reading
	still  = 2e-5 // and at least, where it moves: what moves less is a whole number beside one that stands still
)

// fraction judges whether two registers are one number with a fraction.
func fraction(a *Asked, i int) (g Guess, ok bool) {
	for _, order := range value.Orders(4) {
		codec, err := value.NewCodec(value.Shape{Type: value.TypeFloat32, Order: order, Bit: -1, Unit: 16})
		if err != nil {
			continue
		}
		all, good, nonzero, changes := 0, 0, 0, 0
		moved, was := 0.0, math.NaN()
		a.each(i, 2, 2, func(b []byte) {
			v, err := codec.Decode(b, value.Value{})
			if err != nil {
				return
			}
			f := v.Float()
			all++
			if f == 0 || math.Abs(f) >= least && math.Abs(f) <= most {
				good++
			}
			if f != 0 {
				nonzero++
			}
			if all > 1 && f != was {
				changes++
				moved += math.Abs(f-was) / max(math.Abs(f), math.Abs(was))
			}
			was = f
		})
		if all == 0 || good < all || nonzero*2 < all || moved > smooth*float64(all) ||
			moved < still*float64(changes) {
			continue
		}
		sure, why := 0.9, fmt.Sprintf("in this order it moves smoothly over %d readings", all)
		if changes == 0 {
			if sure, why = 0.6, "it is a round number in this order, and has not moved"; !round(was) {
				continue
			}
		} else if changes < 3 {
			sure, why = 0.7, "it makes sense in this order"
		}
		if sure > g.Sure {
			g = Guess{Type: value.TypeFloat32, Order: order, Sure: sure, Why: why}
			g.Seen = seen(a, i, 2, func(b []byte) string {
				v, _ := codec.Decode(b, value.Value{}) // it was read above
				return fmt.Sprintf("%.4g", v.Float())
			})
		}
	}
	return g, g.Sure > 0
}

// round reports whether a number has few digits.
func round(f float64) bool {
	scaled := f * 1000
	return math.Abs(scaled-math.Round(scaled)) < 1e-3*max(1, math.Abs(scaled)*1e-4)
}

// whole is one unit as a whole number, with a sign where it goes through zero.
func whole(a *Asked, i int, area block.Area) (Guess, int) {
	octets := area.Octets()
	high, low, changes, all := 0, 0, 0, 0
	was := -1
	a.each(i, 1, octets, func(b []byte) {
		n := int(b[0])
		if octets == 2 {
			n = n<<8 | int(b[1])
		}
		if all++; all > 1 && n != was {
			changes++
		}
		was = n
		if n >= 0xF000 {
			high++
		} else if n < 0x1000 {
			low++
		}
	})
	g := Guess{Type: value.TypeUint16, Sure: 0.6, Why: "a whole number"}
	if octets == 1 {
		g.Type = value.TypeUint8
	}
	switch {
	case octets == 2 && high > 0 && low > 0 && high+low == all:
		g.Type, g.Sure, g.Why = value.TypeInt16, 0.8, "it goes through zero"
	case changes == 0:
		g.Sure, g.Why = 0.3, "it has not moved"
	}
	g.Seen = seen(a, i, 1, func(b []byte) string {
		n := int(b[0])
		if octets == 2 {
			n = n<<8 | int(b[1])
		}
		if g.Type == value.TypeInt16 {
			n = int(int16(n))
		}
		return fmt.Sprint(n)
	})
	return g, 1
}

// seen are the first few values that differ.
func seen(a *Asked, i, units int, show func([]byte) string) string {
	text, n, last := "", 0, ""
	octets := 1
	if len(a.Readings) > 0 && a.Range.Count > 0 {
		octets = max(len(a.Readings[0])/a.Range.Count, 1)
	}
	a.each(i, units, octets, func(b []byte) {
		if v := show(b); n < 4 && v != last {
			if n > 0 {
				text += ", "
			}
			text += v
			last = v
			n++
		}
	})
	return text
}
