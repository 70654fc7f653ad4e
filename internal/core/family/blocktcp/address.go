package blocktcp

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/value"
)

// The areas of a controller's memory, addressed by byte and bit. Data blocks
// are areas of their own: db1, db2 and so on.
const (
	Inputs  = "i"
	Outputs = "q"
	Flags   = "m"
)

// Block is the key of a data block.
func Block(number int) string { return "db" + strconv.Itoa(number) }

// BlockOf returns the number of the data block that an area is; ok is false for
// any other area.
func BlockOf(area string) (number int, ok bool) {
	digits, found := strings.CutPrefix(area, "db")
	if !found || digits == "" || digits[0] == '0' {
		return 0, false
	}
	n, err := strconv.ParseUint(digits, 10, 32)
	if err != nil || n < 1 || n > mostBlock {
		return 0, false
	}
	return int(n), true
}

// Scheme is the addressing of what a controller keeps in bytes: its inputs,
// outputs and flags, and numbered data blocks. Bytes count from 0, bits of a
// byte from 0 to 7, and the number is that of the byte whatever the width.
//
// It reads and prints three kinds of notation:
//
//   - the direct addresses of IEC 61131-3, clause 6.5.5: %IX0.3, %IB2, %QW12,
//     %MD40, %ML8, and %DB7.DBW12 for a data block;
//   - area or block and byte with a letter for the width, as lists have it:
//     I0.3, MW40, DB7.DBX12.3, DB7.DBD4 (also DB7.W12 and DB7,D4);
//   - block, colon, byte, bit: db7:12, db7:12.3, and i0.3, q12, m40.
var Scheme block.Shape = scheme{}

type scheme struct{}

const (
	// mostBlock is the greatest number of a data block, mostBytes what an area
	// holds: 16 bits each.
	mostBlock = 65535
	mostBytes = 65536
)

var areas = []block.Area{
	{Key: Inputs, Title: "inputs", UnitBits: 8, Units: mostBytes},
	{Key: Outputs, Title: "outputs", UnitBits: 8, Units: mostBytes, Writable: true},
	{Key: Flags, Title: "flags", UnitBits: 8, Units: mostBytes, Writable: true},
	{Key: "db1", Title: "data block 1", UnitBits: 8, Units: mostBytes, Writable: true},
}

func (scheme) Areas() []block.Area { return areas }

// Area knows every data block, of which Areas lists only the first.
func (scheme) Area(key string) (block.Area, bool) {
	for _, a := range areas {
		if a.Key == key {
			return a, true
		}
	}
	n, ok := BlockOf(key)
	if !ok {
		return block.Area{}, false
	}
	title := fmt.Sprintf("data block %d", n)
	return block.Area{Key: key, Title: title, UnitBits: 8, Units: mostBytes, Writable: true}, true
}

// areaWords are the ways in which lists name the areas, in small letters.
var areaWords = map[string]string{
	"input": Inputs, "process inputs": Inputs, "pi": Inputs, "e": Inputs, "output": Outputs, "process outputs": Outputs,
	"pq": Outputs, "a": Outputs, "flag": Flags, "memory": Flags, "marker": Flags, "markers": Flags, "bit memory": Flags,
}

var blockWords = regexp.MustCompile(`^(?:data ?block|db) ?([1-9]\d{0,4})$`)

// AreaNamed reads how a list names an area: DB7, data block 7, flags.
func (s scheme) AreaNamed(text string) (string, bool) {
	text = strings.ToLower(strings.Join(strings.Fields(strings.TrimPrefix(strings.TrimSpace(text), "%")), " "))
	if key, ok := areaWords[text]; ok {
		return key, true
	}
	if m := blockWords.FindStringSubmatch(text); m != nil {
		text = "db" + m[1]
	}
	_, ok := s.Area(text)
	return text, ok
}

var (
	// directPattern is an area letter, perhaps a width letter, byte and bit. E
	// and A are what some lists write for I and Q.
	directPattern = regexp.MustCompile(`^(%?)([IQMEA])([XBWDL]?)(\d{1,6})(?:\.(\d))?$`)
	blockPattern  = regexp.MustCompile(`^%?DB(\d{1,6})[.,] ?(?:DB)?([XBWDL])(\d{1,6})(?:\.(\d))?$`)
	colonPattern  = regexp.MustCompile(`^DB(\d{1,6}):(\d{1,6})(?:\.(\d))?$`)
	placePattern  = regexp.MustCompile(`^(\d{1,6})(?:\.(\d))?$`)
)

func (s scheme) Parse(text, hint string) (address.Address, error) {
	clean := strings.ToUpper(strings.TrimSpace(text))
	if m := directPattern.FindStringSubmatch(clean); m != nil {
		key := map[string]string{"E": Inputs, "A": Outputs}[m[2]]
		if key == "" {
			key = strings.ToLower(m[2])
		}
		return s.sized(text, m[1]+m[2], key, m[3], m[4], m[5])
	}
	if m := blockPattern.FindStringSubmatch(clean); m != nil {
		return s.sized(text, "DB"+m[1]+".DB", "db"+strings.TrimLeft(m[1], "0"), m[2], m[3], m[4])
	}
	if m := colonPattern.FindStringSubmatch(clean); m != nil {
		return s.at(text, "db"+strings.TrimLeft(m[1], "0"), m[2], m[3])
	}
	if m := placePattern.FindStringSubmatch(clean); m != nil {
		if hint == "" {
			hint = Flags
		}
		return s.at(text, hint, m[1], m[2])
	}
	return address.Address{}, fmt.Errorf("address %q is in no notation of a controller's memory: write it as %%IX0.3, "+
		"%%QW12, %%MD40, DB7.DBW12 or db7:12", text)
}

// sized reads an address with a letter for its width: X a bit, B, W, D and L
// one, two, four and eight bytes. Only a bit has a point.
func (s scheme) sized(text, before, key, width, unit, bit string) (address.Address, error) {
	switch {
	case width == "X" && bit == "":
		return address.Address{},
			fmt.Errorf("address %q: a bit needs its byte and its bit, such as %sX0.3", text, before)
	case bit != "" && width != "X" && width != "":
		return address.Address{},
			fmt.Errorf("address %q: only a single bit, as in %sX%s.%s, has a point", text, before, unit, bit)
	}
	return s.at(text, key, unit, bit)
}

func (s scheme) at(text, key, unit, bitText string) (address.Address, error) {
	area, ok := s.Area(key)
	if !ok {
		return address.Address{}, fmt.Errorf("address %q: data blocks are numbered from 1 to %d", text, mostBlock)
	}
	n, err := strconv.ParseUint(unit, 10, 32)
	if err != nil || n >= uint64(area.Units) {
		return address.Address{},
			fmt.Errorf("address %q: byte %s is past the last of the %s, %d", text, unit, area.Title, area.Units-1)
	}
	a := block.At(area.Key, uint32(n))
	if bitText != "" {
		if bitText > "7" {
			return address.Address{}, fmt.Errorf("address %q: the bits of a byte run from 0 to 7", text)
		}
		a = block.WithBit(a, int(bitText[0]-'0'))
	}
	return a, nil
}

// Unmistakable reports whether a text can hardly be anything but a place in a
// controller's memory: one with a percent sign, or with its data block.
func (s scheme) Unmistakable(text string) bool {
	clean := strings.ToUpper(strings.TrimSpace(text))
	return strings.HasPrefix(clean, "%") && directPattern.MatchString(clean) || blockPattern.MatchString(clean) ||
		colonPattern.MatchString(clean)
}

func (s scheme) Short(a address.Address) string { return s.Sized(a, 8) }

// Sized prints an address for a value of so many bits: %QW12 for 16. Data
// blocks are printed with a colon, which holds for every width.
func (scheme) Sized(a address.Address, bits int) string {
	at := block.Of(a)
	if _, is := BlockOf(at.Area); is || !slices.Contains([]string{Inputs, Outputs, Flags}, at.Area) {
		return a.String()
	}
	return "%" + lettered(at, bits)
}

// lettered prints a place with the letter of a width: IX0.3, QW12, DB7.DBD4.
func lettered(at block.Place, bits int) string {
	before := strings.ToUpper(at.Area)
	if n, is := BlockOf(at.Area); is {
		before = fmt.Sprintf("DB%d.DB", n)
	}
	if at.Bit >= 0 {
		return fmt.Sprintf("%sX%d.%d", before, at.Offset, at.Bit)
	}
	letter, ok := map[int]string{16: "W", 32: "D", 64: "L"}[bits]
	if !ok {
		letter = "B"
	}
	return fmt.Sprintf("%s%s%d", before, letter, at.Offset)
}

// Notations prints the three kinds for an address whose width is not known.
func (s scheme) Notations(a address.Address) []address.Notation { return s.NotationsFor(a, 8) }

// NotationsFor prints the three kinds for a value of so many bits.
func (s scheme) NotationsFor(a address.Address, bits int) []address.Notation {
	at := block.Of(a)
	if _, ok := s.Area(at.Area); !ok {
		return nil
	}
	plain := lettered(at, bits)
	percent := "%" + plain
	if _, is := BlockOf(at.Area); !is && at.Bit >= 0 {
		plain = fmt.Sprintf("%s%d.%d", strings.ToUpper(at.Area), at.Offset, at.Bit)
	}
	// The usual one is one of the three: of inputs and the like the first, of
	// blocks the last.
	usual := s.Sized(a, bits)
	out := []address.Notation{{Name: "usual", Text: usual}}
	for _, n := range []address.Notation{{Name: "IEC 61131-3", Text: percent}, {Name: "with the width", Text: plain},
		{Name: "byte and bit", Text: a.String()}} {
		if n.Text != usual {
			out = append(out, n)
		}
	}
	return out
}

// Compare orders addresses by area, byte and bit.
func (s scheme) Compare(a, b address.Address) int { return block.Compare(s, a, b) }

// Check says why a value cannot be kept at an address.
func (s scheme) Check(a address.Address, shape value.Shape) error { return block.Check(s, a, shape) }
