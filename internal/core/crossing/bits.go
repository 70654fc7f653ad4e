package crossing

import (
	"errors"
	"fmt"
	"math"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

func not(v value.Value) (value.Value, error) {
	if v.Kind() == value.Bool {
		return value.OfBool(!v.Bool()), nil
	}
	if f := v.Float(); v.Kind() != value.Text && (f == 0 || f == 1) {
		return value.OfUint(uint64(1 - f)), nil
	}
	return v, fmt.Errorf("%s is neither on nor off, 0 nor 1", v)
}

// wholeOf returns a value as a word of bits; a negative number in two's complement
// of 64 bits.
func wholeOf(v value.Value) (uint64, error) {
	switch v.Kind() {
	case value.Int, value.Uint, value.Bool:
		return v.Uint(), nil
	case value.Float:
		if f := v.Float(); f == math.Trunc(f) && math.Abs(f) < 1<<53 {
			return uint64(int64(f)), nil
		}
	}
	return 0, fmt.Errorf("%s is no whole number", v)
}

func (w *Way) put(s *site.Step, to *site.Point) error {
	most := 64
	if n := to.Type.Bytes(to.Length) * 8; n > 0 {
		most = n
	}
	if !to.Type.IsWhole() {
		return fmt.Errorf("the target is a %s, which has no bits", to.Type)
	}
	if s.Bit < 0 || s.Bit >= most {
		return fmt.Errorf("there is no bit %d in a %s", s.Bit, to.Type)
	}
	w.oneWay("a bit that was put into a word is not told apart from what was there",
		func(v value.Value, _ []value.Value, stands value.Value) (value.Value, error) {
			word, err := wholeOf(stands)
			if stands.IsNone() || err != nil {
				return v, errors.New("the word in the target has not been read yet")
			}
			word &^= 1 << uint(s.Bit)
			if v.Bool() {
				word |= 1 << uint(s.Bit)
			}
			if stands.Kind() == value.Int {
				return value.OfInt(int64(word)), nil
			}
			return value.OfUint(word), nil
		})
	return nil
}

func (w *Way) pack(s *site.Step, sources int, to *site.Point) error {
	if s.Bit < 0 || s.Bit+sources > 64 {
		return fmt.Errorf("%d sources from bit %d on run past the last bit", sources, s.Bit)
	}
	if most := to.Type.Bytes(to.Length) * 8; to.Type.IsWhole() && most > 0 && s.Bit+sources > most {
		return fmt.Errorf("%d sources from bit %d on do not fit into the %d bits of the target", sources, s.Bit, most)
	}
	w.oneWay("a word that was packed from several sources belongs to none of them",
		func(_ value.Value, all []value.Value, _ value.Value) (value.Value, error) {
			var word uint64
			for i, v := range all {
				if err := number(v, "packed"); err != nil {
					return v, err
				}
				if v.Bool() {
					word |= 1 << uint(s.Bit+i)
				}
			}
			return value.OfUint(word), nil
		})
	return nil
}

func (w *Way) table(s *site.Step) error {
	if len(s.Table) == 0 && s.Else == nil {
		return errors.New("the table is empty")
	}
	forth, back := map[int64]int64{}, map[int64]int64{}
	why := ""
	for _, row := range s.Table {
		if to, twice := forth[row.From]; twice && to != row.To {
			return fmt.Errorf("%d stands in the table twice, as %d and as %d", row.From, to, row.To)
		}
		if from, twice := back[row.To]; twice && from != row.From && why == "" {
			why = fmt.Sprintf("%d comes of %d and of %d", row.To, from, row.From)
		}
		forth[row.From], back[row.To] = row.To, row.From
	}
	if s.Else != nil && why == "" {
		why = fmt.Sprintf("%d comes of several values", *s.Else)
	}
	through := func(table map[int64]int64, others *int64) func(value.Value) (value.Value, error) {
		return func(v value.Value) (value.Value, error) {
			word, err := wholeOf(v)
			if err != nil {
				return v, err
			}
			n, ok := table[int64(word)]
			switch {
			case ok:
				return value.OfInt(n), nil
			case others != nil:
				return value.OfInt(*others), nil
			}
			return v, fmt.Errorf("%d is not in the table", int64(word))
		}
	}
	to := through(forth, s.Else)
	step := func(v value.Value, _ []value.Value, _ value.Value) (value.Value, error) { return to(v) }
	if why != "" {
		w.oneWay(why, step)
		return nil
	}
	w.add(step, through(back, nil))
	return nil
}

// reread reads the octets of the source as another type.
func (w *Way) reread(s *site.Step, from *site.Point) error {
	plain, err := value.NewCodec(value.Shape{Type: from.Type, Bit: -1, Length: from.Length})
	if err != nil {
		return err
	}
	shape := value.Shape{Type: s.Type, Order: s.Order, Bit: -1, Length: s.Length}
	if s.Type == "" {
		shape.Type, shape.Length = from.Type, from.Length
	}
	anew, err := value.NewCodec(shape)
	if err != nil {
		return err
	}
	if plain.Width() != anew.Width() {
		return fmt.Errorf("a %s has %d octets and a %s %d", from.Type, plain.Width(), shape.Type, anew.Width())
	}
	through := func(a, b value.Codec) func(v value.Value) (value.Value, error) {
		return func(v value.Value) (value.Value, error) {
			octets := make([]byte, a.Width())
			if err := a.Encode(v, octets); err != nil {
				return v, err
			}
			return b.Decode(octets, value.Value{})
		}
	}
	forth, back := through(plain, anew), through(anew, plain)
	scale := from.Scale()
	w.add(func(v value.Value, _ []value.Value, _ value.Value) (value.Value, error) {
		return forth(scale.Invert(v))
	},
		func(v value.Value) (value.Value, error) {
			raw, err := back(v)
			return scale.Apply(raw), err
		})
	return nil
}
