package fathom

import (
	"bytes"
	"math"
	"slices"
	"strings"
	"unicode/utf16"

	"ferry/internal/core/value"
)

// coding is one way of writing a text into registers.
type coding struct {
	charset value.Charset
	order   value.Order
	cost    float64
}

var codings = []coding{{value.AnyCharset, "", 1}, {value.AnyCharset, "BA", 2}, {value.Latin1, "", 3},
	{value.Latin1, "BA", 4}, {value.UTF16, "", 4}, {value.UTF16, "BA", 5}}

// texts looks for the readings as characters.
func (s *search) texts() {
	for _, co := range codings {
		first := encode(s.group.readings[0].Shows, co)
		if len(first) == 0 {
			continue
		}
		for at := range s.query.Moments[0] {
			gain, fits := 0.0, true
			longest := 0
			var values []value.Value
			for k := range s.group.readings {
				want := encode(strings.TrimSpace(s.group.readings[k].Shows), co)
				have := octetsFrom(s.query.Moments[s.group.readings[k].Moment], at, co.order)
				if !bytes.HasPrefix(have, want) {
					fits = false
					break
				}
				gain += 7 * float64(len([]rune(s.group.readings[k].Shows)))
				longest = max(longest, textLength(have, len(want), co.charset))
				values = append(values, value.OfText(strings.TrimSpace(s.group.readings[k].Shows)))
			}
			if fits {
				s.keep(Candidate{At: at, Bit: -1, Type: value.TypeText, Length: min(longest, 246), Order: co.order,
					Scale: 1, Values: values, Fits: true}, co.cost, gain)
			}
		}
	}
}

func encode(text string, co coding) []byte {
	switch co.charset {
	case value.UTF16:
		var out []byte
		for _, unit := range utf16.Encode([]rune(text)) {
			out = append(out, byte(unit>>8), byte(unit))
		}
		return out
	case value.Latin1:
		var out []byte
		plain := true
		for _, r := range text {
			if r > 0xFF {
				return nil
			}
			plain = plain && r < 0x80
			out = append(out, byte(r))
		}
		if plain {
			return nil // the same as any other
		}
		return out
	}
	return []byte(text)
}

func octetsFrom(words []uint16, at int, order value.Order) []byte {
	out := make([]byte, 0, 2*(len(words)-at))
	for _, w := range words[at:] {
		if order == "BA" {
			w = w<<8 | w>>8
		}
		out = append(out, byte(w>>8), byte(w))
	}
	return out
}

// textLength is how many octets belong to a text of so many: with the padding
// behind it, up to a whole register.
func textLength(have []byte, length int, charset value.Charset) int {
	n := length
	for n < len(have) && n < 64 && (have[n] == 0 || have[n] == ' ') {
		n++
	}
	if charset == value.UTF16 || n%2 == 1 {
		n += n % 2
	}
	return min(n, len(have))
}

// switches looks for bits that follow on and off.
func (s *search) switches() {
	for at := range s.query.Moments[0] {
		for bit := range 16 {
			for _, inverse := range []bool{false, true} {
				s.bit(at, bit, inverse)
			}
		}
	}
}

func (s *search) bit(at, bit int, inverse bool) {
	gain, changed := 0.0, false
	var values []value.Value
	var last float64
	for k := range s.group.readings {
		r := &s.group.readings[k]
		on := s.query.Moments[r.Moment][at]>>bit&1 == 1
		if on == inverse == (r.number == 1) {
			return
		}
		if k > 0 && last != r.number {
			changed = true
			gain += 4 // most bits never move; one that moves at the same time says much
		} else {
			gain++
		}
		last = r.number
		values = append(values, value.OfBool(on))
	}
	cost := 5.0
	if inverse {
		cost += 4
		if !changed {
			return // everything that never moves would be listed twice
		}
	}
	scale := 1.0
	if inverse {
		scale = -1
	}
	s.keep(Candidate{At: at, Bit: bit, Type: value.TypeBool, Scale: scale, Values: values, Fits: true}, cost, gain)
}

// states looks for words that are the same whenever the display says the same,
// and differ whenever it differs: an enumeration.
func (s *search) states() {
	if len(s.group.readings) < 2 {
		return
	}
	for at := range s.query.Moments[0] {
		byName, byValue := map[string]uint16{}, map[uint16]string{}
		gain, ok := 0.0, true
		var values []value.Value
		var names []State
		for k := range s.group.readings {
			r := &s.group.readings[k]
			w := s.query.Moments[r.Moment][at]
			name := strings.TrimSpace(r.Shows)
			was, known := byName[name]
			other, used := byValue[w]
			if known && was != w || used && other != name || w > 255 {
				ok = false
				break
			}
			values = append(values, value.OfUint(uint64(w)))
			if !known {
				names = append(names, State{int64(w), name})
				if k > 0 {
					gain += 4
				}
			} else {
				gain += 2
			}
			byName[name], byValue[w] = w, name
		}
		if ok && gain > 0 && len(names) > 1 {
			slices.SortFunc(names, func(a, b State) int { return int(a.Value - b.Value) })
			s.keep(Candidate{At: at, Bit: -1, Type: value.TypeEnum, Scale: 1, Names: names, Values: values, Fits: true},
				2, gain)
		}
	}
}

// Hint is a run of words that looks like something other than small numbers.
type Hint struct {
	At     int         `json:"at"`
	Words  int         `json:"words"`
	Type   value.Type  `json:"type"`
	Length int         `json:"length,omitempty"`
	Order  value.Order `json:"order"`
	Shows  string      `json:"shows"`
	// Sure is how much it looks like that, from 0 to 1.
	Sure float64 `json:"sure"`
}

// Hints looks through words without any reading and flags what looks like a
// text, a time, a float or a packed decimal. Runs do not overlap: the one that
// looks most like itself wins.
func Hints(words []uint16) []Hint {
	var all []Hint
	all = append(all, textHints(words)...)
	all = append(all, timeHints(words)...)
	all = append(all, floatHints(words)...)
	all = append(all, decimalHints(words)...)
	slices.SortStableFunc(all, func(a, b Hint) int {
		switch {
		case a.Sure > b.Sure:
			return -1
		case a.Sure < b.Sure:
			return 1
		}
		return b.Words - a.Words
	})
	taken := make([]bool, len(words))
	list := []Hint{}
	for _, h := range all {
		if slices.Contains(taken[h.At:h.At+h.Words], true) {
			continue
		}
		for i := range h.Words {
			taken[h.At+i] = true
		}
		list = append(list, h)
	}
	slices.SortFunc(list, func(a, b Hint) int { return a.At - b.At })
	return list
}

func textHints(words []uint16) (hints []Hint) {
	for _, order := range []value.Order{"", "BA"} {
		for at := 0; at < len(words); at++ {
			b := octetsFrom(words, at, order)
			n, letters := 0, 0
			for n < len(b) && b[n] >= 0x20 && b[n] < 0x7F {
				if c := b[n] | 0x20; c >= 'a' && c <= 'z' || b[n] >= '0' && b[n] <= '9' || b[n] == ' ' || b[n] == '-' {
					letters++
				}
				n++
			}
			if n < 4 || letters*4 < n*3 {
				continue
			}
			length := textLength(b, n, value.AnyCharset)
			sure := 1 - math.Exp2(-float64(n-2))
			if order == "BA" {
				sure *= 0.97 * wordlike(b[:n]) / max(0.01, wordlike(swapped(b[:n])))
			}
			hints = append(hints, Hint{at, (length + 1) / 2, value.TypeText, length + length%2, order,
				strings.TrimRight(string(b[:n]), " "), min(0.99, sure)})
			at += (n+1)/2 - 1
		}
	}
	return hints
}

func swapped(b []byte) []byte {
	out := slices.Clone(b)
	for i := 0; i+1 < len(out); i += 2 {
		out[i], out[i+1] = out[i+1], out[i]
	}
	return out
}

// wordlike is how much characters look like words: letters stand by letters,
// capitals at the front, digits by digits.
func wordlike(b []byte) float64 {
	class := func(c byte) int {
		switch {
		case c >= 'a' && c <= 'z':
			return 1
		case c >= 'A' && c <= 'Z':
			return 2
		case c >= '0' && c <= '9':
			return 3
		}
		return 0
	}
	good := 1.0
	for i := 1; i < len(b); i++ {
		was, is := class(b[i-1]), class(b[i])
		if was == is || was == 0 && is != 0 || was == 2 && is == 1 || is == 0 && was != 0 {
			good++
		}
	}
	return good / float64(len(b))
}

func timeHints(words []uint16) (hints []Hint) {
	const from, to = 946684800, 2208988800              // the years 2000 to 2039
	const likelyFrom, likelyTo = 1420070400, 2051222400 // 2015 to 2034
	for i := range timeSpecs {
		sp := &timeSpecs[i]
		s := search{query: &Query{Moments: [][]uint16{words}}, group: group{readings: []seen{{Reading: &Reading{}}}}}
		for at := 0; at+sp.words <= len(words); at++ {
			if !s.decode(&sp.codec, at) {
				continue
			}
			if f := s.raws[0].Float(); f < from || f > to {
				continue
			}
			sure := 0.5
			if f := s.raws[0].Float(); f < likelyFrom || f > likelyTo {
				sure = 0.3
			}
			if sp.bits > 32 {
				sure += 0.4
			}
			if sp.codec.Type == value.TypeCP56 && (sp.codec.Order != "" || words[at]>>8 != 0) &&
				(sp.codec.Order != "HGFEDCBA" || words[at+3]&0xFF != 0) {
				continue // its eighth octet is not empty, or its order one that nobody uses for it
			}
			sure *= math.Exp2(-orderCosts[2*sp.words][slices.Index(value.Orders(2*sp.words),
				orAlphabetical(sp.codec.Order, 2*sp.words))] / 6)
			hints = append(hints, Hint{at, sp.words, sp.codec.Type, 0, sp.codec.Order, s.raws[0].String(), sure})
		}
	}
	return hints
}

func orAlphabetical(order value.Order, width int) value.Order {
	if order == "" {
		return value.Orders(width)[0]
	}
	return order
}

// floatHints flags pairs of words that make a float of a size that instruments
// show, in one order and in no other. A second float beside it in the same
// order makes it surer.
func floatHints(words []uint16) (hints []Hint) {
	// plausible weighs how likely an instrument is to show such a float.
	plausible := func(at, order int) (f, weight float64) {
		hi, lo := words[at], words[at+1]
		switch order {
		case 1:
			hi, lo = lo, hi
		case 2:
			hi, lo = hi<<8|hi>>8, lo<<8|lo>>8
		case 3:
			hi, lo = lo<<8|lo>>8, hi<<8|hi>>8
		}
		f = float64(math.Float32frombits(uint32(hi)<<16 | uint32(lo)))
		switch size := math.Abs(f); {
		case size >= 0.05 && size < 20000:
			return f, 1
		case size >= 1e-3 && size < 1e7:
			return f, 0.2
		}
		return f, 0
	}
	for at := 0; at+1 < len(words); at++ {
		if words[at] == 0 && words[at+1] == 0 {
			continue
		}
		total := 0.0
		for order := range 4 {
			_, weight := plausible(at, order)
			total += weight
		}
		for order := range 4 {
			f, weight := plausible(at, order)
			if weight == 0 {
				continue
			}
			sure := 0.62 * weight / max(1, total)
			for _, beside := range []int{at - 2, at + 2} {
				if beside >= 0 && beside+1 < len(words) && (words[beside] != 0 || words[beside+1] != 0) {
					_, also := plausible(beside, order)
					sure += 0.12 * also
				}
			}
			sure -= []float64{0, 0, 0.1, 0.05}[order]
			if sure >= 0.4 {
				hints = append(hints,
					Hint{at, 2, value.TypeFloat32, 0, value.Orders(4)[order], value.OfFloat(f).Format(3),
						min(sure, 0.95)})
			}
		}
	}
	return hints
}

// decimalHints flags words whose nibbles are all decimal digits and that are
// too large to be small counts.
func decimalHints(words []uint16) (hints []Hint) {
	decimal := func(w uint16) bool {
		for ; w != 0; w >>= 4 {
			if w&0xF > 9 {
				return false
			}
		}
		return true
	}
	for at := 0; at < len(words); at++ {
		n := 0
		for at+n < len(words) && decimal(words[at+n]) && words[at+n] > 0x99 {
			n++
		}
		if n == 0 {
			continue
		}
		for i := 0; i < n; i++ {
			codec, err := value.NewCodec(value.Shape{Type: value.TypeBCD16, Bit: -1})
			if err != nil {
				panic("fathom: " + err.Error())
			}
			v, err := codec.Decode([]byte{byte(words[at+i] >> 8), byte(words[at+i])}, value.Value{})
			if err == nil {
				hints = append(hints,
					Hint{at + i, 1, value.TypeBCD16, 0, "", v.String(), min(0.3, 0.15+0.05*float64(n))})
			}
		}
		at += n
	}
	return hints
}

// Plain is what words say in one way of reading them.
type Plain struct {
	Type   value.Type  `json:"type"`
	Length int         `json:"length,omitempty"`
	Order  value.Order `json:"order"`
	Shows  string      `json:"shows"`
	// Likely marks what an instrument could well show.
	Likely bool `json:"likely"`
}

// Everything reads the first of the words in every plausible way.
func Everything(words []uint16) []Plain {
	list := []Plain{}
	octets := octetsFrom(words, 0, "")
	add := func(t value.Type, length int, orders []value.Order) {
		for _, order := range orders {
			codec, err := value.NewCodec(value.Shape{Type: t, Order: order, Bit: -1, Length: length})
			if err != nil || codec.Width() > len(octets) || codec.Width() == 0 {
				return
			}
			v, err := codec.Decode(octets, value.Value{})
			if err != nil {
				continue
			}
			if t == value.TypeText && (v.Text() == "" ||
				strings.ContainsFunc(v.Text(), func(r rune) bool { return r < ' ' || r == 0xFFFD || r > 0x17F })) {
				continue
			}
			size := math.Abs(v.Float())
			likely := t == value.TypeText || t.IsFloat() && (size >= 1e-3 && size < 1e6) || t.IsWhole() && size < 1e6 ||
				t.IsTime() && size > 1e9 && size < 2.1e9
			if t.IsFloat() && (math.IsNaN(size) || size != 0 && (size < 1e-12 || size > 1e15)) {
				continue
			}
			if t.IsTime() && !likely {
				continue
			}
			list = append(list, Plain{t, length, order, v.Format(-1), likely})
		}
	}
	none := []value.Order{""}
	add(value.TypeUint16, 0, none)
	add(value.TypeInt16, 0, none)
	add(value.TypeBCD16, 0, none)
	add(value.TypeFloat32, 0, value.Orders(4))
	add(value.TypeUint32, 0, value.Orders(4)[:2])
	add(value.TypeInt32, 0, value.Orders(4)[:2])
	add(value.TypeBCD32, 0, value.Orders(4)[:2])
	add(value.TypeBase10k, 2, value.Orders(4)[:2])
	add(value.TypeUnix, 0, value.Orders(4)[:2])
	add(value.TypeFloat64, 0, value.Orders(8)[:4])
	add(value.TypeUint64, 0, value.Orders(8)[:2])
	add(value.TypeCP56, 0, []value.Order{"", "HGFEDCBA"})
	if n := min(len(octets), 32); n >= 4 {
		add(value.TypeText, n, []value.Order{"", "BA"})
	}
	return list
}
