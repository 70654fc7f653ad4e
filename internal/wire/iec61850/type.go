package iec61850

import (
	"errors"
	"fmt"

	family "ferry/internal/core/family/iec61850"
)

// Type is what a variable is built of (ISO 9506-2, TypeDescription).
type Type struct {
	Name string // of a part
	Kind family.Kind
	// Size is how many bits a number or a bit string has, or octets a string; less than 0 for up to so
	// many. Of an array it is how many elements there are.
	Size  int
	Parts []Type // of a structure; of an array the one that all elements are
}

// Octets are those of the description.
func (t *Type) Octets() []byte {
	size := int64(t.Size)
	switch t.Kind {
	case family.Structure:
		var parts []byte
		for i := range t.Parts {
			p := &t.Parts[i]
			parts = append(parts, wrap(sequenceTag, wrap(0x80, []byte(p.Name)), wrap(0xA1, p.Octets()))...)
		}
		return wrap(0xA2, wrap(0xA1, parts))
	case family.Array:
		var element []byte
		if len(t.Parts) > 0 {
			element = t.Parts[0].Octets()
		}
		return wrap(0xA1, natural(0x81, uint64(size)), wrap(0xA2, element))
	case family.Boolean:
		return []byte{0x83, 0}
	case family.BitString:
		return whole(0x84, size)
	case family.Integer:
		return natural(0x85, uint64(size))
	case family.Unsigned:
		return natural(0x86, uint64(size))
	case family.Floating:
		exponent := byte(8)
		if size == 64 {
			exponent = 11
		}
		return wrap(0xA7, []byte{2, 1, byte(size), 2, 1, exponent})
	case family.OctetString:
		return whole(0x89, -size)
	case family.VisibleString:
		return whole(0x8A, -size)
	case family.MMSString:
		return whole(0x90, -size)
	case family.EntryTime:
		return []byte{0x8C, 1, 0xFF}
	case family.UTCTime:
		return []byte{0x91, 0}
	}
	return wrap(0xA2, wrap(0xA1))
}

// TypeAnswer is the answer to TypeOf.
func TypeAnswer(t *Type) []byte { return append([]byte{0x80, 1, 0}, wrap(0xA2, t.Octets())...) }

// ReadTypeAnswer reads it.
func ReadTypeAnswer(b []byte) (Type, error) {
	of, err := find(b, 0xA2)
	if err != nil {
		return Type{}, err
	}
	left := mostParts
	return readType(of, 0, &left)
}

func readType(b []byte, depth int, left *int) (t Type, err error) {
	e, _, err := next(b)
	if err != nil {
		return t, err
	}
	if *left--; *left < 0 || depth > mostDepth {
		return t, fmt.Errorf("a type of more than %d parts, or %d deep", mostParts, mostDepth)
	}
	simple := func(kind family.Kind) (Type, error) {
		size, err := intOf(e.content)
		return Type{Kind: kind, Size: int(size)}, err
	}
	switch e.tag {
	case 0xA1:
		element, err := find(e.content, 0xA2)
		if err != nil {
			return t, err
		}
		of, err := readType(element, depth+1, left)
		if err != nil {
			return t, err
		}
		t = Type{Kind: family.Array, Parts: []Type{of}}
		if n, err := find(e.content, 0x81); err == nil {
			v, _ := uintOf(n) // how many there are is not needed
			t.Size = int(v)
		}
		return t, nil
	case 0xA2:
		parts, err := find(e.content, 0xA1)
		if err != nil {
			return t, err
		}
		t.Kind = family.Structure
		err = each(parts, func(part element) error {
			name, err := find(part.content, 0x80)
			if err != nil {
				name = nil // it may have none
			}
			inner, err := find(part.content, 0xA1)
			if err != nil {
				return err
			}
			of, err := readType(inner, depth+1, left)
			if of.Name = string(name); len(name) > mostIdentifier {
				return fmt.Errorf("a name of %d octets", len(name))
			}
			t.Parts = append(t.Parts, of)
			return err
		})
		return t, err
	case 0x83:
		return Type{Kind: family.Boolean, Size: 1}, nil
	case 0x84:
		return simple(family.BitString)
	case 0x85:
		return simple(family.Integer)
	case 0x86:
		return simple(family.Unsigned)
	case 0xA7:
		width, _, err := next(e.content)
		if err != nil {
			return t, err
		}
		v, err := intOf(width.content)
		return Type{Kind: family.Floating, Size: int(v)}, err
	case 0x89:
		return simple(family.OctetString)
	case 0x8A:
		return simple(family.VisibleString)
	case 0x90:
		return simple(family.MMSString)
	case 0x8C:
		return Type{Kind: family.EntryTime, Size: 48}, nil
	case 0x91:
		return Type{Kind: family.UTCTime, Size: 64}, nil
	}
	return t, errors.New("a type of a tag that is not in use")
}
