// Package address holds where a point lives in a device, in the notations of
// the protocols that Ferry speaks.
//
// An Address has no protocol of its own. It is an offset in an area, with or
// without a bit (a register, a byte of a data block, an object instance), or a
// name (a node, a tag, a topic). A Scheme gives it meaning: which areas exist,
// how large they are, and how people write them.
package address

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
)

// Address is one place in a device. It is comparable and may be a map key.
// The zero Address is nowhere.
type Address struct {
	// Area is the table, block or object class, as its scheme calls it.
	Area string
	// Offset counts the units of the area from 0, as on the wire.
	Offset uint32
	// bit is the bit within the unit plus one, 0 for none.
	bit uint8
	// Name replaces Offset and bit where places have names.
	Name string
}

// At returns the address of a unit of an area.
func At(area string, offset uint32) Address { return Address{Area: area, Offset: offset} }

// WithBit returns a with the given bit (0 to 63) of its unit; a negative bit
// takes the bit away.
func (a Address) WithBit(bit int) Address {
	a.bit = uint8(max(bit, -1) + 1)
	return a
}

// Bit returns the bit within the unit, or -1 if a names the whole unit.
func (a Address) Bit() int { return int(a.bit) - 1 }

// IsZero reports whether a is nowhere.
func (a Address) IsZero() bool { return a == Address{} }

// String prints the canonical form, the one kept in files: the area and the
// wire offset ("hr2"), with a bit after a point ("hr2.5"). An area with a digit
// in it is set off by a colon ("db7:12.3"), a name by an equals sign, behind
// which anything may stand ("topic=1/temp", "node=ns=2;s=Tank.O2").
func (a Address) String() string {
	if a.IsZero() {
		return ""
	}
	if a.Name != "" {
		return a.Area + "=" + a.Name
	}
	var b strings.Builder
	b.WriteString(a.Area)
	if a.Area == "" || strings.ContainsAny(a.Area, "0123456789") {
		b.WriteByte(':')
	}
	b.WriteString(strconv.FormatUint(uint64(a.Offset), 10))
	if a.bit > 0 {
		b.WriteByte('.')
		b.WriteString(strconv.Itoa(a.Bit()))
	}
	return b.String()
}

// ParseCanonical reads what String prints.
func ParseCanonical(text string) (Address, error) {
	if text == "" {
		return Address{}, nil
	}
	if area, name, named := strings.Cut(text, "="); named && !strings.Contains(area, ":") {
		if name == "" {
			return Address{}, fmt.Errorf("address %q: the name behind the equals sign is missing", text)
		}
		return Address{Area: area, Name: name}, nil
	}
	area, rest, apart := strings.Cut(text, ":")
	if !apart {
		digits := strings.IndexAny(text, "0123456789")
		if digits < 1 {
			return Address{}, fmt.Errorf("address %q: expected an area and an offset, such as hr2", text)
		}
		area, rest = text[:digits], text[digits:]
	}
	if area == "" || rest == "" {
		return Address{}, fmt.Errorf("address %q: the area or the place in it is missing", text)
	}
	unit, bitText, hasBit := strings.Cut(rest, ".")
	offset, err := strconv.ParseUint(unit, 10, 32)
	if err != nil {
		return Address{}, fmt.Errorf("address %q: %q is not an offset", text, unit)
	}
	a := At(area, uint32(offset))
	if hasBit {
		bit, err := strconv.ParseUint(bitText, 10, 6)
		if err != nil {
			return Address{}, fmt.Errorf("address %q: %q is not a bit", text, bitText)
		}
		a = a.WithBit(int(bit))
	}
	return a, nil
}

// MarshalText writes the canonical form.
func (a Address) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText reads the canonical form.
func (a *Address) UnmarshalText(text []byte) (err error) {
	*a, err = ParseCanonical(string(text))
	return err
}

// Compare orders addresses by area, offset, bit and name.
func Compare(a, b Address) int {
	return cmp.Or(cmp.Compare(a.Area, b.Area), cmp.Compare(a.Offset, b.Offset), cmp.Compare(a.bit, b.bit), cmp.Compare(a.Name, b.Name))
}

// Area describes one area of a scheme.
type Area struct {
	Key      string `json:"key"`
	Title    string `json:"title"`    // in words: "holding registers"
	UnitBits int    `json:"unitBits"` // width of one unit: 1 for coils, 16 for registers
	Units    uint32 `json:"units"`    // how many units the protocol can address
	Writable bool   `json:"writable"`
}

// Notation is one address in one notation.
type Notation struct {
	Name string `json:"notation"`
	Text string `json:"text"`
}

// Scheme is the addressing of one protocol.
type Scheme interface {
	// Areas lists the areas in the order in which people name them.
	Areas() []Area
	// Parse reads an address in any notation of the scheme. A bare offset is
	// taken in the area hint.
	Parse(text, hint string) (Address, error)
	// Short prints the notation that people use most.
	Short(Address) string
	// Notations prints every notation, the short one first.
	Notations(Address) []Notation
}

// Sized prints an address for a value of so many bits, in schemes whose usual
// notation tells the width.
func Sized(s Scheme, a Address, bits int) string {
	if sized, ok := s.(interface{ Sized(Address, int) string }); ok {
		return sized.Sized(a, bits)
	}
	return s.Short(a)
}

// AreaNamed finds an area by the way in which a list names it: its key, its
// title, or any word that the scheme knows for it.
func AreaNamed(s Scheme, text string) (Area, bool) {
	if named, ok := s.(interface{ AreaNamed(string) (string, bool) }); ok {
		if key, found := named.AreaNamed(text); found {
			return AreaOf(s, key)
		}
	}
	for _, area := range s.Areas() {
		if strings.EqualFold(area.Key, strings.TrimSpace(text)) || strings.EqualFold(area.Title, strings.TrimSpace(text)) {
			return area, true
		}
	}
	return AreaOf(s, strings.ToLower(strings.TrimSpace(text)))
}

// AreaSaid finds the one area that a sentence of a list speaks of, in small
// letters without accents.
func AreaSaid(s Scheme, text string) (Area, bool) {
	if said, ok := s.(interface{ AreaSaid(string) (string, bool) }); ok {
		if key, found := said.AreaSaid(text); found {
			return AreaOf(s, key)
		}
	}
	return Area{}, false
}

// AreaOf finds an area of a scheme by its key. A scheme without a last area
// knows them itself.
func AreaOf(s Scheme, key string) (Area, bool) {
	if open, ok := s.(interface{ Area(string) (Area, bool) }); ok {
		return open.Area(key)
	}
	for _, area := range s.Areas() {
		if area.Key == key {
			return area, true
		}
	}
	return Area{}, false
}
