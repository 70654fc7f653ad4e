// Package address holds where a point lives in a device: a reference that only
// the family of its protocol understands.
//
// An Address is opaque to everyone else. It is comparable, may be a map key,
// and has one form in files, which needs no family to be read. A family's
// Scheme reads it as people write it, prints it in every notation, orders it
// and says what fits there.
package address

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/value"
)

// Address is one place in a device. The zero Address is nowhere.
type Address struct {
	// space is the table, block, class or kind of name, as its family calls it.
	space string
	// number counts within the space, and part within what the number names, plus
	// one: 0 is none.
	number uint32
	part   uint8
	// name takes the place of number and part where places have names.
	name string
}

// MostPart is the greatest part of a numbered place.
const MostPart = 63

// Numbered returns the place with a number in a space, or, with a part from 0
// to MostPart, something in it; a negative part is none. It is for families and
// the shapes that they share.
func Numbered(space string, number uint32, part int) Address {
	return Address{space: space, number: number, part: uint8(max(part, -1) + 1)}
}

// Named returns the place with a name in a space. It is for families.
func Named(space, name string) Address { return Address{space: space, name: name} }

// Number takes apart what Numbered made; ok is false for any other address.
func (a Address) Number() (space string, number uint32, part int, ok bool) {
	if a.name != "" || a.IsZero() {
		return "", 0, -1, false
	}
	return a.space, a.number, int(a.part) - 1, true
}

// Name takes apart what Named made; ok is false for any other address.
func (a Address) Name() (space, name string, ok bool) { return a.space, a.name, a.name != "" }

// IsZero reports whether a is nowhere.
func (a Address) IsZero() bool { return a == Address{} }

// String prints the canonical form, the one kept in files: the space and the
// number ("m2"), with a part after a point ("m2.5"). A space with a digit in it
// is set off by a colon ("block7:12.3"), a name by an equals sign, behind which
// anything may stand ("topic=1/temp", "node=ns=2;s=Tank.O2").
func (a Address) String() string {
	if a.IsZero() {
		return ""
	}
	if a.name != "" {
		return a.space + "=" + a.name
	}
	var b strings.Builder
	b.WriteString(a.space)
	if a.space == "" || strings.ContainsAny(a.space, "0123456789") {
		b.WriteByte(':')
	}
	b.WriteString(strconv.FormatUint(uint64(a.number), 10))
	if a.part > 0 {
		b.WriteByte('.')
		b.WriteString(strconv.Itoa(int(a.part) - 1))
	}
	return b.String()
}

// ParseCanonical reads what String prints.
func ParseCanonical(text string) (Address, error) {
	if text == "" {
		return Address{}, nil
	}
	if space, name, named := strings.Cut(text, "="); named && !strings.Contains(space, ":") {
		if name == "" {
			return Address{}, fmt.Errorf("address %q: the name behind the equals sign is missing", text)
		}
		return Named(space, name), nil
	}
	space, rest, apart := strings.Cut(text, ":")
	if !apart {
		digits := strings.IndexAny(text, "0123456789")
		if digits < 1 {
			return Address{}, fmt.Errorf("address %q: expected letters and a number, or a name behind an equals sign",
				text)
		}
		space, rest = text[:digits], text[digits:]
	}
	if space == "" || rest == "" {
		return Address{}, fmt.Errorf("address %q: what stands before the number is missing, or the number", text)
	}
	unit, partText, hasPart := strings.Cut(rest, ".")
	number, err := strconv.ParseUint(unit, 10, 32)
	if err != nil {
		return Address{}, fmt.Errorf("address %q: %q is not an offset", text, unit)
	}
	part := -1
	if hasPart {
		n, err := strconv.ParseUint(partText, 10, 8)
		if err != nil || n > MostPart {
			return Address{}, fmt.Errorf("address %q: %q is not a bit", text, partText)
		}
		part = int(n)
	}
	return Numbered(space, uint32(number), part), nil
}

// MarshalText writes the canonical form.
func (a Address) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText reads the canonical form.
func (a *Address) UnmarshalText(text []byte) (err error) {
	*a, err = ParseCanonical(string(text))
	return err
}

// Compare orders addresses as their canonical forms read: by space, number,
// part and name. A Scheme may know a better order.
func Compare(a, b Address) int {
	return cmp.Or(cmp.Compare(a.space, b.space), cmp.Compare(a.number, b.number), cmp.Compare(a.part, b.part),
		cmp.Compare(a.name, b.name))
}

// Notation is one address in one notation.
type Notation struct {
	Name string `json:"notation"`
	Text string `json:"text"`
}

// Scheme is the addressing of one family.
type Scheme interface {
	// Parse reads an address in any notation of the scheme. hint is the space
	// in which a bare number or name is, empty for the usual one.
	Parse(text, hint string) (Address, error)
	// Short prints the notation that people use most.
	Short(Address) string
	// Notations prints every notation, the short one first.
	Notations(Address) []Notation
	// Compare orders two addresses as a list of them is read.
	Compare(a, b Address) int
	// Check says why no value of such a shape can be kept at an address, which
	// is not nowhere; nil if one can.
	Check(a Address, shape value.Shape) error
}

// Unmistakable reports whether a text can hardly be anything but an address, in
// schemes that know that: those by which a list without headings is recognised.
func Unmistakable(s Scheme, text string) bool {
	sure, ok := s.(interface{ Unmistakable(string) bool })
	return ok && sure.Unmistakable(text)
}

// Sized prints an address for a value of so many bits, in schemes whose usual
// notation tells the width.
func Sized(s Scheme, a Address, bits int) string {
	if sized, ok := s.(interface{ Sized(Address, int) string }); ok {
		return sized.Sized(a, bits)
	}
	return s.Short(a)
}

// NotationsFor prints every notation of an address for a value of so many bits,
// in schemes whose notations tell the width.
func NotationsFor(s Scheme, a Address, bits int) []Notation {
	if sized, ok := s.(interface {
		NotationsFor(Address, int) []Notation
	}); ok {
		return sized.NotationsFor(a, bits)
	}
	return s.Notations(a)
}
