package value

import (
	"errors"
	"math"
)

// Linear is the scale from raw to engineering value:
//
//	engineering = raw × Factor + Offset
//
// A Factor of 0 stands for 1, so the zero Linear leaves values as they are.
type Linear struct {
	Factor float64
	Offset float64
}

// IsIdentity reports whether l changes nothing.
func (l Linear) IsIdentity() bool { return (l.Factor == 0 || l.Factor == 1) && l.Offset == 0 }

// Apply scales a raw value. Bools, texts, times and, under an identity, integers
// stay what they are; everything else becomes a float. A factor that is the inverse
// of a whole number divides by that number, so that 123 × 0.1 is 12.3.
func (l Linear) Apply(raw Value) Value {
	if !raw.scalable() || l.IsIdentity() {
		return raw
	}
	f := raw.Float()
	if n, ok := l.divisor(); ok {
		return OfFloat(f/n + l.Offset)
	}
	return OfFloat(f*l.factor() + l.Offset)
}

// Invert returns the raw value that Apply turns into v. The codec rounds it to
// the nearest whole number if the type is an integer.
func (l Linear) Invert(v Value) Value {
	if !v.scalable() || l.IsIdentity() {
		return v
	}
	f := v.Float() - l.Offset
	if n, ok := l.divisor(); ok {
		return OfFloat(f * n)
	}
	return OfFloat(f / l.factor())
}

func (l Linear) factor() float64 {
	if l.Factor == 0 {
		return 1
	}
	return l.Factor
}

func (l Linear) divisor() (float64, bool) {
	if l.Factor <= 0 || l.Factor >= 1 {
		return 0, false
	}
	n := math.Round(1 / l.Factor)
	return n, n < 1e15 && 1/n == l.Factor
}

func (v Value) scalable() bool { return v.kind == Int || v.kind == Uint || v.kind == Float }

// Range maps a raw range to an engineering range, as transmitters state it:
//
//	engineering = Low + (raw − RawLow) × (High − Low) / (RawHigh − RawLow)
type Range struct {
	RawLow  float64 `json:"rawLow"`
	RawHigh float64 `json:"rawHigh"`
	Low     float64 `json:"low"`
	High    float64 `json:"high"`
	// Clamp holds values outside the range at its ends; without it the line
	// goes on.
	Clamp bool `json:"clamp,omitempty"`
}

// Check reports a range that maps nothing.
func (r *Range) Check() error {
	for _, f := range []float64{r.RawLow, r.RawHigh, r.Low, r.High} {
		if math.IsNaN(f) || math.IsInf(f, 0) {
			return errors.New("the range is not made of numbers")
		}
	}
	if r.RawLow == r.RawHigh || r.Low == r.High {
		return errors.New("the range is empty: its two ends are the same")
	}
	return nil
}

func (r *Range) apply(f float64) float64 {
	v := r.Low + (f-r.RawLow)*(r.High-r.Low)/(r.RawHigh-r.RawLow)
	if r.Clamp {
		v = max(min(r.Low, r.High), min(max(r.Low, r.High), v))
	}
	return v
}

func (r *Range) invert(v float64) float64 {
	if r.Clamp {
		v = max(min(r.Low, r.High), min(max(r.Low, r.High), v))
	}
	return r.RawLow + (v-r.Low)*(r.RawHigh-r.RawLow)/(r.High-r.Low)
}

// Scale is all that lies between a raw and an engineering value. A Range takes
// the place of the Linear scale.
type Scale struct {
	Linear
	Range *Range
	// Power is the power of ten that another register holds; it multiplies
	// the factor.
	Power int
	// Missing are raw values that mean "not available".
	Missing []Value
}

// IsMissing reports whether raw is a code for "not available".
func (s Scale) IsMissing(raw Value) bool {
	for _, code := range s.Missing {
		switch {
		case raw.kind == Float:
			f := code.Float()
			if code.kind == Text && code.text == "NaN" {
				f = math.NaN()
			}
			if f == raw.Float() || math.IsNaN(f) && math.IsNaN(raw.Float()) {
				return true
			}
		case raw.kind == Int || raw.kind == Uint:
			if (code.kind == Int || code.kind == Uint) && code.bits == raw.bits {
				return true
			}
		}
	}
	return false
}

func (s Scale) linear() Linear {
	l := s.Linear
	if s.Power > 0 {
		l.Factor = l.factor() * math.Pow10(s.Power)
	} else if s.Power < 0 {
		// Dividing by 10ⁿ is exact where multiplying by its inverse is not.
		if n, ok := l.divisor(); ok {
			l.Factor = 1 / (n * math.Pow10(-s.Power))
		} else {
			l.Factor = l.factor() / math.Pow10(-s.Power)
		}
	}
	return l
}

// Apply scales a raw value as Linear.Apply does, or over the range.
func (s Scale) Apply(raw Value) Value {
	if s.Range == nil {
		return s.linear().Apply(raw)
	}
	if !raw.scalable() {
		return raw
	}
	return OfFloat(s.Range.apply(raw.Float()))
}

// Invert returns the raw value that Apply turns into v, before rounding. A
// value that a clamped range holds back comes out as the end of the range:
// scale the result again to see what was lost.
func (s Scale) Invert(v Value) Value {
	if s.Range == nil {
		return s.linear().Invert(v)
	}
	if !v.scalable() {
		return v
	}
	return OfFloat(s.Range.invert(v.Float()))
}

// Bounds returns the least and the greatest engineering value that raw values
// from least to greatest can become.
func (s Scale) Bounds(least, greatest float64) (float64, float64) {
	a, b := s.Apply(OfFloat(least)).Float(), s.Apply(OfFloat(greatest)).Float()
	return min(a, b), max(a, b)
}
