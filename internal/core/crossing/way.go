// Package crossing carries the values of points into other points: what becomes of
// them on the way, when they are due, and whether the target can hold them.
package crossing

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"unicode/utf8"

	"ferry/internal/core/site"
	"ferry/internal/core/unit"
	"ferry/internal/core/value"
)

// Way is what happens to a value between its source and its target, made ready. It
// has the memory that its counters need, and one owner.
type Way struct {
	to     *site.Point
	steps  []step
	back   []func(value.Value) (value.Value, error) // from the target to the source
	cannot error                                    // why there is no way back
}

// step makes the next value of one. The first is that of the first source; all are
// those of all sources, and stands what stands in the target.
type step func(v value.Value, all []value.Value, stands value.Value) (value.Value, error)

// NewWay makes the way of a crossing ready. It fails where a step makes no sense
// between these points, and says which.
func NewWay(c *site.Crossing, from []*site.Point, to *site.Point) (*Way, error) {
	w := &Way{to: to}
	if scale := c.Scale(); !scale.IsIdentity() {
		w.add(linear(scale), inverse(scale))
	}
	for i := range c.Way {
		s := &c.Way[i]
		if err := w.step(s, from, to, w.first() && i == 0); err != nil {
			return nil, fmt.Errorf("step %d, %s: %w", i+1, s.Do, err)
		}
	}
	return w, nil
}

func (w *Way) first() bool { return len(w.steps) == 0 }

func (w *Way) add(forth step, back func(value.Value) (value.Value, error)) {
	w.steps = append(w.steps, forth)
	w.back = append(w.back, back)
}

// oneWay adds a step that cannot be undone.
func (w *Way) oneWay(why string, forth step) {
	if w.cannot == nil {
		w.cannot = errors.New(why)
	}
	w.add(forth, nil)
}

func linear(scale value.Linear) step {
	return func(v value.Value, _ []value.Value, _ value.Value) (value.Value, error) {
		if err := number(v, "scaled"); err != nil {
			return v, err
		}
		return scale.Apply(asNumber(v)), nil
	}
}

func inverse(scale value.Linear) func(value.Value) (value.Value, error) {
	return func(v value.Value) (value.Value, error) {
		if err := number(v, "scaled"); err != nil {
			return v, err
		}
		return scale.Invert(asNumber(v)), nil
	}
}

func number(v value.Value, done string) error {
	switch v.Kind() {
	case value.Text:
		return fmt.Errorf("the text %q cannot be %s", v.Text(), done)
	case value.Moment, value.Span:
		return fmt.Errorf("a time cannot be %s", done)
	}
	return nil
}

// asNumber is a bool as 0 or 1; every other number is what it is.
func asNumber(v value.Value) value.Value {
	if v.Kind() == value.Bool {
		return value.OfUint(v.Uint())
	}
	return v
}

func (w *Way) step(s *site.Step, from []*site.Point, to *site.Point, first bool) error {
	switch s.Do {
	case site.DoScale:
		scale := value.Linear{Factor: s.Factor, Offset: s.Offset}
		if math.IsNaN(s.Factor+s.Offset) || math.IsInf(s.Factor+s.Offset, 0) {
			return errors.New("factor and offset are no numbers")
		}
		w.add(linear(scale), inverse(scale))
	case site.DoUnit:
		scale, err := unit.Between(orElse(s.From, from[0].Unit), orElse(s.To, to.Unit))
		if err != nil {
			return err
		}
		w.add(linear(scale), inverse(scale))
	case site.DoClamp:
		return w.clamp(s)
	case site.DoNot:
		w.add(func(v value.Value, _ []value.Value, _ value.Value) (value.Value, error) { return not(v) }, not)
	case site.DoBit:
		if s.Bit < 0 || s.Bit > 63 {
			return fmt.Errorf("there is no bit %d: bits run from 0 to 63", s.Bit)
		}
		w.oneWay("a bit that was taken out of a word does not give the word back",
			func(v value.Value, _ []value.Value, _ value.Value) (value.Value, error) {
				word, err := wholeOf(v)
				return value.OfBool(word>>uint(s.Bit)&1 == 1), err
			})
	case site.DoPut:
		return w.put(s, to)
	case site.DoPack:
		return w.pack(s, len(from), to)
	case site.DoTable:
		return w.table(s)
	case site.DoCount:
		return w.count(s, from[0], to)
	case site.DoReread:
		if !first {
			return errors.New("the octets of the source are there at the beginning of the way only: put it first")
		}
		return w.reread(s, from[0])
	case site.DoText:
		return w.text(s)
	case site.DoFormula:
		return w.formula(s, from, to)
	}
	return nil
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func (w *Way) clamp(s *site.Step) error {
	if s.Least == nil && s.Most == nil {
		return errors.New("no bound is given")
	}
	if s.Least != nil && s.Most != nil && *s.Least > *s.Most {
		return fmt.Errorf("its bounds are the wrong way round, %g and %g", *s.Least, *s.Most)
	}
	clamp := func(v value.Value) (value.Value, error) {
		if err := number(v, "clamped"); err != nil {
			return v, err
		}
		f := v.Float()
		switch {
		case s.Least != nil && f < *s.Least:
			return value.OfFloat(*s.Least), nil
		case s.Most != nil && f > *s.Most:
			return value.OfFloat(*s.Most), nil
		}
		return v, nil
	}
	w.add(func(v value.Value, _ []value.Value, _ value.Value) (value.Value, error) { return clamp(v) }, clamp)
	return nil
}

// count makes a total that goes on where the counter begins anew. It takes up what
// stands in the target, so that a restart loses nothing: the total is the least
// one, not below that, that such a counter can stand for. A target that holds less
// than the counter is given what is left over.
func (w *Way) count(s *site.Step, from, to *site.Point) error {
	modulus := s.Modulus
	if modulus == 0 {
		_, most := from.Type.Range(from.Length)
		modulus = from.Scale().Apply(value.OfFloat(most + 1)).Float()
	}
	if !(modulus > 0) || math.IsInf(modulus, 0) || from.Type.IsFloat() && s.Modulus == 0 {
		return fmt.Errorf("a %s does not say at which number it begins anew: give it", from.Type)
	}
	_, holds := to.Type.Range(to.Length)
	holds = to.Scale().Apply(value.OfFloat(holds)).Float()
	least := math.Abs(to.Scale().Apply(value.OfFloat(1)).Float() - to.Scale().Apply(value.OfFloat(0)).Float())
	total, begun := 0.0, false
	w.oneWay("a total does not give its counter back",
		func(v value.Value, _ []value.Value, stands value.Value) (value.Value, error) {
			if err := number(v, "counted"); err != nil {
				return v, err
			}
			now := v.Float()
			if now < 0 || now >= modulus {
				return v, fmt.Errorf("the counter reads %s and is to begin anew at %g", v, modulus)
			}
			if !begun {
				begun = true
				if total = now; !stands.IsNone() && stands.Float() > now {
					total = stands.Float() - least/2 // it holds the total rounded
					total = math.Floor(total/modulus)*modulus + now
					if total < stands.Float()-least/2 {
						total += modulus
					}
				}
			}
			was := math.Mod(total, modulus)
			if now < was {
				total += modulus
			}
			total += now - was
			if !to.Type.IsFloat() && total > holds {
				return value.OfFloat(math.Mod(total, holds+least)), nil
			}
			return value.OfFloat(total), nil
		})
	return nil
}

func (w *Way) text(s *site.Step) error {
	if s.Length < 1 || s.Length > 1000 {
		return fmt.Errorf("a text of %d characters: give 1 to 1000", s.Length)
	}
	if utf8.RuneCountInString(s.Fill) > 1 {
		return fmt.Errorf("%q is to fill it up: give one character", s.Fill)
	}
	w.add(func(v value.Value, _ []value.Value, _ value.Value) (value.Value, error) {
		if v.Kind() != value.Text {
			return v, fmt.Errorf("%s is no text", v)
		}
		runes := []rune(v.Text())
		if len(runes) > s.Length {
			runes = runes[:s.Length]
		}
		text := string(runes)
		if s.Fill != "" {
			text += strings.Repeat(s.Fill, s.Length-len(runes))
		}
		return value.OfText(text), nil
	}, func(v value.Value) (value.Value, error) {
		if s.Fill != "" && v.Kind() == value.Text {
			return value.OfText(strings.TrimRight(v.Text(), s.Fill)), nil
		}
		return v, nil
	})
	return nil
}

func (w *Way) formula(s *site.Step, from []*site.Point, to *site.Point) error {
	kinds := make([]value.Kind, len(from))
	for i, p := range from {
		kinds[i] = kindOf(p)
	}
	forth, err := newFormula(s.Formula, kinds)
	if err != nil {
		return err
	}
	first := w.first()
	step := func(v value.Value, all []value.Value, _ value.Value) (value.Value, error) {
		if !first { // a is what has become of the first source so far
			all = append([]value.Value{v}, all[1:]...)
		}
		return forth.work(all)
	}
	if s.Back == "" {
		w.oneWay("a formula needs another one for the way back", step)
		return nil
	}
	back, err := newFormula(s.Back, []value.Kind{kindOf(to)})
	if err != nil {
		return fmt.Errorf("the way back: %w", err)
	}
	w.add(step, func(v value.Value) (value.Value, error) { return back.work([]value.Value{v}) })
	return nil
}

// kindOf is the kind of value that a point has, as far as formulas tell kinds.
func kindOf(p *site.Point) value.Kind {
	switch {
	case p.Type == value.TypeBool:
		return value.Bool
	case p.Type.IsText():
		return value.Text
	}
	return value.Float
}

// Carry returns what the values of the sources become at the target, in its
// engineering units; stands is what the target reads, none if that is not known.
func (w *Way) Carry(sources []value.Value, stands value.Value) (value.Value, error) {
	v := sources[0]
	for _, step := range w.steps {
		var err error
		if v, err = step(v, sources, stands); err != nil {
			return value.Value{}, err
		}
	}
	return Fit(v, w.to)
}

// Back returns what a value of the target becomes at the source to.
func (w *Way) Back(v value.Value, to *site.Point) (value.Value, error) {
	if w.cannot != nil {
		return v, w.cannot
	}
	for i := len(w.back) - 1; i >= 0; i-- {
		var err error
		if v, err = w.back[i](v); err != nil {
			return v, err
		}
	}
	return Fit(v, to)
}

// Returns says why the way cannot be gone back; nil if it can.
func (w *Way) Returns() error { return w.cannot }

// Fit makes a value one that a point can be given. It fails where the point holds
// another kind of thing, or less.
func Fit(v value.Value, to *site.Point) (value.Value, error) {
	isTime := v.Kind() == value.Moment || v.Kind() == value.Span
	switch {
	case v.IsNone():
		return v, errors.New("there is no value")
	case (v.Kind() == value.Text) != to.Type.IsText():
		return v, errors.New("a text cannot become a number, nor a number a text")
	case to.Type.IsText():
		return v, nil
	case isTime && !to.Type.IsTime() || !isTime && to.Type.IsTime():
		if isTime && (to.Type.IsFloat() || to.Type.IsWhole()) {
			return value.OfFloat(v.Float()), nil // in seconds
		}
		return v, fmt.Errorf("a time cannot become a %s, nor a number a time", to.Type)
	}
	f := v.Float()
	if v.Kind() == value.Float && (math.IsNaN(f) || math.IsInf(f, 0)) && !to.Type.IsFloat() {
		return v, fmt.Errorf("the source reads %s, which a %s cannot hold", v, to.Type)
	}
	if to.Type == value.TypeBool {
		return value.OfBool(v.Bool()), nil
	}
	return asNumber(v), nil
}
