package address

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// The areas of a process image, addressed by byte and bit. Data blocks are
// areas of their own: db1, db2 and so on.
const (
	ImageInputs  = "i"
	ImageOutputs = "q"
	ImageFlags   = "m"
)

// Image is the addressing of what a controller keeps in bytes rather than
// registers: its inputs, outputs and flags, and numbered data blocks. It reads
// and prints the direct addresses of IEC 61131-3, clause 6.5.5 (%IX0.3, %IB2,
// %QW12, %MD40, %ML8), whose number counts bytes whatever the width, and data
// blocks as db7:12 and db7:12.3. Bytes count from 0, bits of a byte from 0 to 7.
var Image Scheme = image{}

type image struct{}

var imageAreas = []Area{
	{ImageInputs, "inputs", 8, 65536, false},
	{ImageOutputs, "outputs", 8, 65536, true},
	{ImageFlags, "flags", 8, 65536, true},
	{"db1", "data block 1", 8, 65536, true},
}

func (image) Areas() []Area { return imageAreas }

// mostBlock is the greatest number of a data block.
const mostBlock = 65535

// Area knows every data block, of which Areas lists only the first.
func (image) Area(key string) (Area, bool) {
	for _, a := range imageAreas {
		if a.Key == key {
			return a, true
		}
	}
	n, err := strconv.ParseUint(strings.TrimPrefix(key, "db"), 10, 32)
	if err != nil || !strings.HasPrefix(key, "db") || n < 1 || n > mostBlock {
		return Area{}, false
	}
	return Area{fmt.Sprintf("db%d", n), fmt.Sprintf("data block %d", n), 8, 65536, true}, true
}

var (
	directPattern = regexp.MustCompile(`^%([IQM])([XBWDL]?)(\d{1,6})(?:\.(\d))?$`)
	blockPattern  = regexp.MustCompile(`^DB(\d{1,6}):(\d{1,6})(?:\.(\d))?$`)
	placePattern  = regexp.MustCompile(`^([IQM])?(\d{1,6})(?:\.(\d))?$`)
)

func (s image) Parse(text, hint string) (Address, error) {
	clean := strings.ToUpper(strings.TrimSpace(text))
	if m := directPattern.FindStringSubmatch(clean); m != nil {
		if m[2] == "X" && m[4] == "" {
			return Address{}, fmt.Errorf("address %q: a bit needs its byte and its bit, such as %%%sX0.3", text, m[1])
		}
		if m[4] != "" && m[2] != "X" && m[2] != "" {
			return Address{}, fmt.Errorf("address %q: only a single bit, as in %%%sX%s.%s, has a point", text, m[1], m[3], m[4])
		}
		return s.at(text, strings.ToLower(m[1]), m[3], m[4])
	}
	if m := blockPattern.FindStringSubmatch(clean); m != nil {
		return s.at(text, "db"+strings.TrimLeft(m[1], "0"), m[2], m[3])
	}
	if m := placePattern.FindStringSubmatch(clean); m != nil {
		area := strings.ToLower(m[1])
		if area == "" {
			if area = hint; area == "" {
				area = ImageFlags
			}
		}
		return s.at(text, area, m[2], m[3])
	}
	return Address{}, fmt.Errorf("address %q is in no notation of a process image: write it as %%IX0.3, %%QW12, %%MD40 or db7:12.3", text)
}

func (s image) at(text, key, unit, bitText string) (Address, error) {
	area, ok := s.Area(key)
	if !ok {
		return Address{}, fmt.Errorf("address %q: data blocks are numbered from 1 to %d", text, mostBlock)
	}
	n, err := strconv.ParseUint(unit, 10, 32)
	if err != nil || n >= uint64(area.Units) {
		return Address{}, fmt.Errorf("address %q: byte %s is past the last of the %s, %d", text, unit, area.Title, area.Units-1)
	}
	a := At(area.Key, uint32(n))
	if bitText != "" {
		if bitText > "7" {
			return Address{}, fmt.Errorf("address %q: the bits of a byte run from 0 to 7", text)
		}
		a = a.WithBit(int(bitText[0] - '0'))
	}
	return a, nil
}

func (s image) Short(a Address) string { return s.Sized(a, 8) }

// Sized prints an address for a value of so many bits: %QW12 for 16.
func (image) Sized(a Address, bits int) string {
	if strings.HasPrefix(a.Area, "db") {
		return a.String()
	}
	if a.Bit() >= 0 {
		return fmt.Sprintf("%%%sX%d.%d", strings.ToUpper(a.Area), a.Offset, a.Bit())
	}
	letter, ok := map[int]string{16: "W", 32: "D", 64: "L"}[bits]
	if !ok {
		letter = "B"
	}
	return fmt.Sprintf("%%%s%s%d", strings.ToUpper(a.Area), letter, a.Offset)
}

func (s image) Notations(a Address) []Notation {
	if _, ok := s.Area(a.Area); !ok {
		return nil
	}
	out := []Notation{{"usual", s.Short(a)}, {"byte", a.String()}}
	if a.Bit() >= 0 {
		return append(out, Notation{"bit from 1", fmt.Sprintf("byte %d, bit %d of 8", a.Offset, a.Bit()+1)})
	}
	if !strings.HasPrefix(a.Area, "db") {
		for _, bits := range []int{16, 32} {
			out = append(out, Notation{fmt.Sprintf("as %d bits", bits), s.Sized(a, bits)})
		}
	}
	return out
}

// Neighbours prints a bit of a 16-bit register in the ways in which
// neighbours count: by register and bit 0 to 15, by byte and bit with the high
// byte first or the low one, and by bit 1 to 16.
func Neighbours(register uint32, bit int) []Notation {
	return []Notation{
		{"register and bit from 0", fmt.Sprintf("%d.%d", register, bit)},
		{"byte and bit, high byte first", fmt.Sprintf("%d.%d", 2*register+uint32(1-bit/8), bit%8)},
		{"byte and bit, low byte first", fmt.Sprintf("%d.%d", 2*register+uint32(bit/8), bit%8)},
		{"bit from 1", fmt.Sprintf("register %d, bit %d of 16", register, bit+1)},
	}
}
