package value

import "math"

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

// Apply scales a raw value. Bools, texts and, under an identity, integers stay
// what they are; everything else becomes a float. A factor that is the inverse
// of a whole number divides by that number, so that 123 × 0.1 is 12.3.
func (l Linear) Apply(raw Value) Value {
	if raw.kind == Text || raw.kind == None || raw.kind == Bool || l.IsIdentity() {
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
	if v.kind == Text || v.kind == None || v.kind == Bool || l.IsIdentity() {
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
