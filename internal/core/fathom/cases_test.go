package fathom

import (
	"math"
	"math/rand/v2"
	"strconv"
	"testing"

	"ferry/internal/core/value"
)

// newCase is a case as technicians have it: a device of one order, measured
// values of usual types and scales one after the other, the map right or off by
// one, and one or two readings of a display with few digits.
func newCase(r *rand.Rand) riddle {
	const size = 40
	readings := 1 + r.IntN(2)
	words := [2][]uint16{make([]uint16, size), make([]uint16, size)}
	order := []value.Order{"", "CDAB", "", "CDAB", "", "BADC"}[r.IntN(6)]
	type placed struct {
		at       int
		typ      value.Type
		scale    float64
		decimals int
	}
	var all []placed
	for at := r.IntN(3); at < size-4; {
		kind := []struct {
			typ      value.Type
			scale    float64
			decimals int
			typical  float64
			spread   float64
		}{
			{value.TypeInt16, 0.1, 1, 140, 40}, {value.TypeUint16, 0.01, 2, 900, 200},
			{value.TypeUint16, 1, 0, 1450, 900}, {value.TypeFloat32, 1, 2, 12, 9}, {value.TypeFloat32, 1, 1, 140, 60},
			{value.TypeUint32, 1, 0, 30000, 29000}, {value.TypeUint32, 0.1, 1, 1_800_000, 900_000},
			{value.TypeInt32, 0.001, 3, 250_000, 100_000}, {value.TypeUint16, 1, 0, 3, 3},
		}[r.IntN(9)]
		width := kind.typ.Bytes(0)
		own := order
		if width == 2 {
			own = ""
		}
		codec, err := value.NewCodec(value.Shape{Type: kind.typ, Order: own, Bit: -1})
		if err != nil {
			panic(err)
		}
		v := kind.typical + kind.spread*(2*r.Float64()-1)
		for m := range 2 {
			b := make([]byte, width)
			raw := value.OfFloat(v)
			if !kind.typ.IsFloat() {
				raw = value.OfInt(int64(v))
			}
			if err := codec.Encode(raw, b); err != nil {
				panic(err)
			}
			for k := range width / 2 {
				words[m][at+k] = uint16(b[2*k])<<8 | uint16(b[2*k+1])
			}
			v *= 1 + 0.03*(2*r.Float64()-1)
		}
		all = append(all, placed{at, kind.typ, kind.scale, kind.decimals})
		at += width/2 + []int{0, 0, 0, 1, 3}[r.IntN(5)]
	}
	truth := all[r.IntN(len(all))]
	own := order
	if truth.typ.Bytes(0) == 2 {
		own = ""
	}
	codec, err := value.NewCodec(value.Shape{Type: truth.typ, Order: own, Bit: -1})
	if err != nil {
		panic(err)
	}
	q := riddle{truth: Candidate{At: truth.at, Type: truth.typ, Order: codec.Order, Scale: truth.scale}}
	said := truth.at + []int{0, 0, 0, 1, -1}[r.IntN(5)]
	for m := range readings {
		b := make([]byte, codec.Width())
		for k := range len(b) / 2 {
			b[2*k], b[2*k+1] = byte(words[m][truth.at+k]>>8), byte(words[m][truth.at+k])
		}
		raw, err := codec.Decode(b, value.Value{})
		if err != nil {
			panic(err)
		}
		shown := strconv.FormatFloat(raw.Float()*truth.scale, 'f', truth.decimals, 64)
		q.query.Readings = append(q.query.Readings, Reading{Moment: m, Shows: shown, At: &said})
	}
	q.query.Moments = [][]uint16{words[0], words[1]}
	return q
}

// TestCases: of what technicians ask, most is right first, and how sure Fathom
// is of it is how often it is right.
func TestCases(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 300))
	const cases = 300
	right := 0
	var said, was, count [10]float64
	for range cases {
		q := newCase(r)
		answer, err := Search(&q.query)
		if err != nil || len(answer.Candidates) == 0 {
			t.Fatal(answer, err)
		}
		best := answer.Candidates[0]
		ok := q.solved(&best) || alike(&best, &q)
		if ok {
			right++
		}
		bin := min(9, int(best.Sure*10))
		said[bin] += best.Sure
		count[bin]++
		if ok {
			was[bin]++
		}
	}
	t.Logf("right first in %d of %d", right, cases)
	if right < 250 {
		t.Errorf("right first in %d of %d", right, cases)
	}
	for i := range count {
		if count[i] < 25 {
			continue
		}
		t.Logf("sure %.2f: right %.2f of %.0f", said[i]/count[i], was[i]/count[i], count[i])
		if math.Abs(said[i]-was[i])/count[i] > 0.25 {
			t.Errorf("where it is %.2f sure it is right in %.2f", said[i]/count[i], was[i]/count[i])
		}
	}
}

// alike reports whether signed and unsigned read the same: readings above zero
// do not tell them apart.
func alike(best *Candidate, q *riddle) bool {
	twin := map[value.Type]value.Type{value.TypeInt16: value.TypeUint16, value.TypeUint16: value.TypeInt16,
		value.TypeInt32: value.TypeUint32, value.TypeUint32: value.TypeInt32}
	t := &q.truth
	return best.At == t.At && best.Type == twin[t.Type] && best.Order == t.Order && best.Scale == t.Scale
}
