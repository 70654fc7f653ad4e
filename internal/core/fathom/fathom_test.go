package fathom

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"ferry/internal/core/value"
)

func at(n int) *int { return &n }

func TestSearch(t *testing.T) {
	for _, c := range []struct {
		name  string
		query Query
		want  string
		sure  float64
	}{
		{"a float with its low word first",
			Query{[][]uint16{{0x9F3A, 0x4148}}, []Reading{{Shows: "12.5", Within: 0.1}}}, "0 float32 CDAB 1", 0.9},
		{"one register off", Query{[][]uint16{{0x0311, 0x027B, 0xFFF1, 0x0102}}, []Reading{{Shows: "63.5", At: at(0)}}},
			"1 uint16  0.1", 0.5},
		{"below zero", Query{[][]uint16{{0x12, 0xFDF4, 0x77}, {0x12, 0xFE01, 0x77}},
			[]Reading{{Moment: 0, Shows: "-52.4"}, {Moment: 1, Shows: "-51.1"}}}, "1 int16  0.1", 0.9},
		{"a packed decimal", Query{[][]uint16{{0x0061, 0x2034, 0x5678}, {0x0061, 0x2035, 0x0002}},
			[]Reading{{Moment: 0, Shows: "20345678"}, {Moment: 1, Shows: "20350002"}}}, "1 bcd32  1", 0.9},
		{"to the base 10 000", Query{[][]uint16{{3, 4711, 12, 5}}, []Reading{{Shows: "47110012"}}}, "1 base10k  1",
			0.6},
		{"kelvin", Query{[][]uint16{{28565, 1}, {28612, 1}},
			[]Reading{{Moment: 0, Shows: "12.5"}, {Moment: 1, Shows: "12.97"}}}, "0 uint16  0.01", 0.5},
		{"a text, bytes swapped",
			Query{[][]uint16{{1, 0x5044, 0x322D, 0x3430, 0x3731, 0}}, []Reading{{Shows: "DP-20417"}}}, "1 text BA 1",
			0.9},
		{"a time", Query{[][]uint16{{7, 0x6922, 0xFD20, 9}}, []Reading{{Shows: "2025-11-23 12:26"}}}, "1 unix  1", 0.9},
		{"a bit", Query{[][]uint16{{4, 0x10}, {12, 0x10}, {4, 0x12}, {12, 0x12}},
			[]Reading{{Moment: 0, Shows: "off"}, {Moment: 1, Shows: "on"}, {Moment: 2, Shows: "off"},
				{Moment: 3, Shows: "on"}}}, "0 bool  1", 0.5},
		{"states", Query{[][]uint16{{900, 3}, {901, 4}, {902, 3}},
			[]Reading{{Moment: 0, Shows: "Auto"}, {Moment: 1, Shows: "Manual"}, {Moment: 2, Shows: "Auto"}}},
			"1 enum  1", 0.3},
	} {
		t.Run(c.name, func(t *testing.T) {
			answer, err := Search(&c.query)
			if err != nil || len(answer.Candidates) == 0 {
				t.Fatal(err, answer)
			}
			best := answer.Candidates[0]
			if got := fmt.Sprintf("%d %s %s %v", best.At, best.Type, best.Order, best.Scale); got != c.want ||
				best.Sure < c.sure {
				t.Errorf("%s, %.2f sure, want %s; then %+v", got, best.Sure, c.want,
					answer.Candidates[1:min(3, len(answer.Candidates))])
			}
		})
	}
}

// TestSearchTogether: readings of several points settle the shift and the order
// that none of them could settle alone.
func TestSearchTogether(t *testing.T) {
	words := []uint16{0x0000, 0x3F80, 0x4000, 0x4000, 0x999A, 0x4109, 0x0000, 0x41BA}
	one := Reading{Shows: "2", Within: 0.5, Point: "a", At: at(1)}
	alone, err := Search(&Query{[][]uint16{words}, []Reading{one}})
	if err != nil {
		t.Fatal(err)
	}
	both, err := Search(&Query{[][]uint16{words},
		[]Reading{one, {Shows: "8.6", Point: "b", At: at(3)}, {Shows: "23.25", Point: "c", At: at(5)}}})
	if err != nil {
		t.Fatal(err)
	}
	best := both.Candidates[0]
	if best.At != 2 || best.Type != value.TypeFloat32 || best.Order != "CDAB" || best.Sure <= alone.Candidates[0].Sure {
		t.Errorf("together: %+v, alone: %+v", best, alone.Candidates[0])
	}
}

// TestMapCounts: one register off or two words swapped, the same reading fits
// both, and Fathom says so instead of believing one of them.
func TestMapCounts(t *testing.T) {
	words := []uint16{0xA000, 0x40ED, 0xB000, 0x414A, 0x011C}
	reading := Reading{Shows: "7.4", Within: 0.3, At: at(1)}
	shift := func(r Reading) (first Candidate, ask string) {
		answer, err := Search(&Query{[][]uint16{words}, []Reading{r}})
		if err != nil {
			t.Fatal(err)
		}
		return answer.Candidates[0], answer.Ask
	}
	if best, _ := shift(reading); best.Order != "" || best.At != 1 {
		t.Errorf("without a word of the order: %+v", best)
	}
	reading.Type, reading.Order = value.TypeFloat32, "CDAB"
	if best, ask := shift(reading); best.Sure > 0.6 || !strings.Contains(ask, "more digits") {
		t.Errorf("with the order of the map: %+v, %q", best, ask)
	}
	// A second display, misread by a little, does not make it sure either.
	second := Reading{Shows: "12.5", Point: "temperature", At: at(3), Type: value.TypeFloat32, Order: "CDAB"}
	if answer, err := Search(&Query{[][]uint16{words}, []Reading{reading, second}}); err != nil ||
		answer.Candidates[0].Sure > 0.9 {
		t.Errorf("with a misread neighbour: %+v, %v", answer.Candidates[0], err)
	}
	reading.Shows, reading.Within = "7.4258", 0
	if best, _ := shift(reading); best.At != 0 || best.Order != "CDAB" || best.Sure < 0.9 {
		t.Errorf("with more digits: %+v", best)
	}
}

func TestSearchRefuses(t *testing.T) {
	words := [][]uint16{{1, 2}}
	for name, q := range map[string]Query{
		"no words":       {nil, []Reading{{Shows: "1"}}},
		"no reading":     {words, nil},
		"an empty one":   {words, []Reading{{Shows: " "}}},
		"another moment": {words, []Reading{{Moment: 1, Shows: "1"}}},
		"uneven moments": {[][]uint16{{1}, {1, 2}}, []Reading{{Shows: "1"}}},
	} {
		if _, err := Search(&q); err == nil {
			t.Errorf("%s is accepted", name)
		}
	}
}

func TestHints(t *testing.T) {
	words := []uint16{0x9F3A, 0x4148, 0x999A, 0x4109, 0, 0, 0x5450, 0x2D31, 0x3230, 0x3431, 0, 0x6922, 0xFC20, 1, 2}
	var got string
	for _, h := range Hints(words) {
		got += fmt.Sprintf("%d+%d %s %s %s; ", h.At, h.Words, h.Type, h.Order, h.Shows)
	}
	const want = "0+2 float32 CDAB 12.539; 2+2 float32 CDAB 8.600; 6+5 text  TP-12041; 11+2 unix  2025-11-23 12:20:48; "
	if got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
}

// riddle is a made-up case: a device's registers at two moments, and the truth.
type riddle struct {
	query Query
	truth Candidate
}

var riddleTypes = []value.Type{value.TypeInt16, value.TypeUint16, value.TypeInt32, value.TypeUint32, value.TypeInt64,
	value.TypeUint64, value.TypeFloat32, value.TypeFloat64, value.TypeBCD16, value.TypeBCD32}

// newRiddle hides a value of a random type, order, shift and scale among words
// such as devices have. The readings are such that the type can be told from
// them: a signed one goes below zero, a wide one above what a narrower holds.
func newRiddle(r *rand.Rand) riddle {
	const size = 60
	words := [2][]uint16{make([]uint16, size), make([]uint16, size)}
	for i := 0; i < size; i++ {
		var w uint16
		switch r.IntN(4) {
		case 0:
		case 1:
			w = uint16(r.IntN(200))
		case 2:
			w = uint16(r.IntN(12000))
		case 3:
			w = uint16(r.Uint32())
		}
		words[0][i], words[1][i] = w, w
		if r.IntN(3) == 0 {
			words[1][i] += uint16(r.IntN(50)) - 25
		}
	}
	typ := riddleTypes[r.IntN(len(riddleTypes))]
	width := typ.Bytes(0)
	orders := value.Orders(width)
	order := orders[r.IntN(len(orders))]
	if width == 2 {
		order = orders[0]
	}
	scale := []float64{1, 0.1, 0.01, 0.001, 10, 100}[r.IntN(6)]
	if typ.IsFloat() {
		scale = 1
	}
	place := 3 + r.IntN(size-8)
	shift := []int{0, 0, 1, -1, 1, -1, 2, -2}[r.IntN(8)]
	codec, err := value.NewCodec(value.Shape{Type: typ, Order: order, Bit: -1})
	if err != nil {
		panic(err)
	}
	q := riddle{truth: Candidate{At: place, Type: typ, Order: codec.Order, Scale: scale}}
	linear := value.Linear{Factor: scale}
	for moment := range 2 {
		raw := rawFor(r, typ, moment)
		b := make([]byte, width)
		if err := codec.Encode(raw, b); err != nil {
			panic(err)
		}
		for k := range width / 2 {
			words[moment][place+k] = uint16(b[2*k])<<8 | uint16(b[2*k+1])
		}
		back, _ := codec.Decode(b, value.Value{})
		v := linear.Apply(back).Float()
		decimals := max(0, int(-math.Floor(math.Log10(scale))))
		switch typ {
		case value.TypeFloat32:
			decimals = 2
		case value.TypeFloat64:
			decimals = 9 // fewer would not show its lower half at all
		}
		q.query.Readings = append(q.query.Readings,
			Reading{Moment: moment, Shows: strconv.FormatFloat(v, 'f', decimals, 64), At: at(place - shift)})
	}
	q.query.Moments = [][]uint16{words[0], words[1]}
	return q
}

func rawFor(r *rand.Rand, typ value.Type, moment int) value.Value {
	sign := int64(1)
	if moment == 1 {
		sign = -1
	}
	switch typ {
	case value.TypeInt16:
		return value.OfInt(sign * (100 + r.Int64N(30000)))
	case value.TypeUint16:
		return value.OfUint(uint64(33000 + r.IntN(32000)))
	case value.TypeInt32:
		return value.OfInt(sign * (70000 + r.Int64N(2_000_000_000)))
	case value.TypeUint32:
		return value.OfUint(uint64(2_200_000_000 + r.Int64N(2_000_000_000)))
	case value.TypeInt64:
		return value.OfInt(sign * (5_000_000_000 + r.Int64N(1_000_000_000_000)))
	case value.TypeUint64:
		return value.OfUint(uint64(5_000_000_000 + r.Int64N(1_000_000_000_000)))
	case value.TypeBCD16:
		return value.OfUint(uint64(1000 + r.IntN(9000)))
	case value.TypeBCD32:
		return value.OfUint(uint64(10_000_000 + r.IntN(90_000_000)))
	}
	return value.OfFloat(float64(sign) * (1 + 400*r.Float64()))
}

// solved reports whether the best explanation is the truth. A 64-bit number
// whose readings never reach its sign reads the same signed and unsigned.
func (q *riddle) solved(best *Candidate) bool {
	twin := map[value.Type]value.Type{value.TypeInt64: value.TypeUint64, value.TypeUint64: value.TypeInt64}
	t := &q.truth
	return best.At == t.At && (best.Type == t.Type || best.Type == twin[t.Type]) && best.Order == t.Order &&
		best.Scale == t.Scale
}

func TestRiddles(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 23))
	right := 0
	for range 1000 {
		q := newRiddle(r)
		answer, err := Search(&q.query)
		if err != nil {
			t.Fatal(err)
		}
		if len(answer.Candidates) > 0 && q.solved(&answer.Candidates[0]) {
			right++
		} else if len(answer.Candidates) > 0 {
			t.Logf("%s, %s: %+v, took for %+v", q.query.Readings[0].Shows, q.query.Readings[1].Shows, q.truth,
				answer.Candidates[0])
		}
	}
	if right < 990 {
		t.Errorf("right first in %d of 1000", right)
	}
	t.Logf("right first in %d of 1000", right)
}

func BenchmarkSearch(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	q := Query{Moments: make([][]uint16, 3)}
	for m := range q.Moments {
		q.Moments[m] = make([]uint16, 125)
		for i := range q.Moments[m] {
			q.Moments[m][i] = uint16(r.Uint32())
		}
		q.Moments[m][60] = uint16(1200 + 10*m)
		q.Readings = append(q.Readings, Reading{Moment: m, Shows: strconv.FormatFloat(120+float64(m), 'f', 1, 64)})
	}
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Search(&q); err != nil {
			b.Fatal(err)
		}
	}
}

func FuzzSearch(f *testing.F) {
	f.Add([]byte{0x9F, 0x3A, 0x41, 0x48}, "12.5", 0.1, 0)
	f.Add([]byte("DP-20417"), "DP-20417", 0.0, -3)
	f.Fuzz(func(t *testing.T, data []byte, shows string, within float64, place int) {
		words := make([]uint16, len(data)/2)
		for i := range words {
			words[i] = uint16(data[2*i])<<8 | uint16(data[2*i+1])
		}
		Hints(words)
		answer, err := Search(&Query{[][]uint16{words, words},
			[]Reading{{Shows: shows, Within: within, At: &place}, {Moment: 1, Shows: shows}}})
		if err != nil {
			return
		}
		for _, c := range answer.Candidates {
			if !(c.Sure >= 0 && c.Sure <= 1) {
				t.Fatalf("%+v", c)
			}
		}
	})
}
