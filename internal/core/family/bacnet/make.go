package bacnet

import (
	"fmt"
	"math"

	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Made is what a place is called that is made of a value.
func (rules) Made() string { return "object" }

// bandSteps is by how many of the last decimal that is shown a value has to move until it is told.
const bandSteps = 10

// Make has a value become an object: a state a binary one, a state with names from 1 on a multi-state one, a
// text a text, a total that may outgrow 24 bits a large analog value, and any other number an analog one; an
// input where it is only read, and a value with priorities where it is written.
func (rules) Make(of protocol.Held, number int) (as protocol.Held, lost string) {
	as = protocol.Held{Name: of.Name, Remark: of.Remark, Writable: of.Writable, Low: of.Low, High: of.High,
		Names: of.Names, Decimals: of.Decimals}
	kind := AnalogInput
	if of.Writable {
		kind = AnalogValue
	}
	switch t := of.Shape.Type; {
	case t == value.TypeBool:
		if kind = BinaryInput; of.Writable {
			kind = BinaryValue
		}
	case t.IsText() || t.IsTime():
		kind = CharacterValue
		if t.IsTime() {
			lost = "a time becomes a text"
		}
	case len(of.Names) > 0 && statesFrom1(of.Names):
		if kind = MultiInput; of.Writable {
			kind = MultiValue
		}
	case len(of.Names) > 0:
		lost = "its states are not numbered from 1 on, as those of a multi-state object are: it is a number"
	case totals(of):
		kind = LargeAnalogValue
	}
	as.Address = Place{Type: kind, Instance: uint32(number), Property: PresentValue, Index: -1}.Address()
	as.Shape = value.Shape{Type: kind.Holds(), Bit: -1}
	if kind == CharacterValue {
		as.Shape.Length = max(of.Shape.Length, 40)
	}
	if !kind.Holds().IsFloat() {
		as.Low, as.High = nil, nil
		return as, lost
	}
	as.Names = nil
	if of.Unit != "" {
		if u, known := UnitCalled(of.Unit); known {
			as.Unit = u.Short()
		} else {
			lost = fmt.Sprintf("the standard has no unit %s: it stands in the description", of.Unit)
			as.Remark = joined(of.Remark, "in "+of.Unit)
		}
	}
	decimals := 2
	if of.Decimals != nil {
		decimals = *of.Decimals
	}
	as.Band = bandSteps * math.Pow(10, -float64(decimals))
	return as, lost
}

func joined(a, b string) string {
	if a == "" {
		return b
	}
	return a + ", " + b
}

// statesFrom1 reports whether names are those of numbers from 1 on, without a gap.
func statesFrom1(names map[int]string) bool {
	for n := 1; n <= len(names); n++ {
		if _, has := names[n]; !has {
			return false
		}
	}
	return true
}

// totals reports whether a value counts up over more digits than a number of 32 bits keeps.
func totals(of protocol.Held) bool {
	switch of.Shape.Type {
	case value.TypeUint64, value.TypeInt64, value.TypeFloat64:
		return true
	case value.TypeUint32, value.TypeInt32:
		u, _ := UnitCalled(of.Unit)
		return of.Unit != "" && countedUnits[u]
	}
	return false
}

// countedUnits are those of what is counted up: energy and volume.
var countedUnits = map[Unit]bool{16: true, 17: true, 18: true, 19: true, 126: true, 146: true, 203: true, 204: true,
	205: true, 239: true, 240: true, 241: true, 80: true, 82: true}

// Ends are the settings of devices behind a network number: each has the next instance.
func (rules) Ends(first protocol.Settings, n int) protocol.Settings {
	s := protocol.Settings{}
	for k, v := range first {
		s[k] = v
	}
	s[KeyDevice] = protocol.OfInt(min(IP.Int(first, KeyDevice)+n, MostDevice))
	if n > 0 && IP.Int(s, KeyNetwork) == 0 {
		s[KeyNetwork] = protocol.OfInt(usualBehind)
	}
	if n == 0 {
		delete(s, KeyNetwork)
	}
	return s
}

// usualBehind is the network number of devices behind an address where nobody says another.
const usualBehind = 1001
