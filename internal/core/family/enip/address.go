// Package enip holds the rules of EtherNet/IP: how places are named, their types, and what
// devices answer, in words. The octets are the business of package wire.
package enip

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// The spaces of addresses: of tags by their names, and of attributes by class, instance and
// number.
const (
	Tags       = "tag"
	Attributes = "attr"
)

type scheme struct{}

// Scheme is the addressing of explicit messages: Row[3].Level names a tag with its members
// and indexes, 4/150/3 an attribute by class, instance and number, and 4/150/3:12.5 bit 5
// of octet 12 in it.
var Scheme address.Scheme = scheme{}

// Attribute is a place in an object.
type Attribute struct {
	Class, Instance, Number int
	// Octet and Bit say where in the attribute the value is; Bit is -1 for none.
	Octet, Bit int
}

// mostOctet bounds where in an attribute a value may be.
const mostOctet = 1<<16 - 1

func (a Attribute) String() string {
	s := fmt.Sprintf("%d/%d/%d", a.Class, a.Instance, a.Number)
	if a.Octet > 0 || a.Bit >= 0 {
		s += ":" + strconv.Itoa(a.Octet)
	}
	if a.Bit >= 0 {
		s += "." + strconv.Itoa(a.Bit)
	}
	return s
}

// AttributeOf takes the address of an attribute apart; ok is false for a tag.
func AttributeOf(a address.Address) (at Attribute, ok bool) {
	space, name, named := a.Name()
	if !named || space != Attributes {
		return at, false
	}
	at, err := parseAttribute(name)
	return at, err == nil
}

// TagOf is the name of a tag; ok is false for an attribute.
func TagOf(a address.Address) (name string, ok bool) {
	space, name, named := a.Name()
	return name, named && space == Tags
}

// Part is a part of the name of a tag: a member, with the indexes behind it.
type Part struct {
	Text    string
	Indexes []uint32
}

// mostParts and mostIndexes bound the name of a tag, mostName each part of it in octets.
const (
	mostParts   = 20
	mostIndexes = 3
	mostName    = 40
)

// ParseTag takes the name of a tag apart. A last part that is a number is a bit of the
// value.
func ParseTag(name string) (parts []Part, bit int, err error) {
	bit = -1
	bad := func(format string, args ...any) ([]Part, int, error) {
		return nil, -1, fmt.Errorf("tag %s: "+format, append([]any{name}, args...)...)
	}
	for i, text := range strings.Split(name, ".") {
		if i >= mostParts {
			return bad("it has more than %d parts", mostParts)
		}
		if n, err := strconv.Atoi(text); err == nil && i > 0 && i == strings.Count(name, ".") {
			if n < 0 || n > 63 {
				return bad("%d is no bit: 0 to 63 are", n)
			}
			bit = n
			break
		}
		word, rest, indexed := strings.Cut(text, "[")
		part := Part{Text: word}
		switch {
		case word == "":
			return bad("a part of the name is empty: write it as Row[3].Level")
		case len(word) > mostName:
			return bad("%s has %d characters: %d are the most", word, len(word), mostName)
		case !isWord(word):
			return bad("%q is no name: letters, digits, _ and : are", word)
		}
		if indexed {
			inner, closed := strings.CutSuffix(rest, "]")
			if !closed {
				return bad("the bracket behind %s is not closed", word)
			}
			for index := range strings.SplitSeq(inner, ",") {
				n, err := strconv.ParseUint(strings.TrimSpace(index), 10, 32)
				if err != nil || len(part.Indexes) >= mostIndexes {
					return bad("%q is no index: up to %d numbers are", inner, mostIndexes)
				}
				part.Indexes = append(part.Indexes, uint32(n))
			}
		}
		parts = append(parts, part)
	}
	return parts, bit, nil
}

func isWord(s string) bool {
	for i, r := range s {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '_'
		if !letter && (i == 0 || !(r >= '0' && r <= '9' || r == ':')) {
			return false
		}
	}
	return s != ""
}

func parseAttribute(text string) (a Attribute, err error) {
	path, at, inside := strings.Cut(text, ":")
	numbers := strings.Split(path, "/")
	if len(numbers) != 3 {
		return a, fmt.Errorf("attribute %s: write it as class/instance/attribute, such as 4/150/3", text)
	}
	for i, to := range []*int{&a.Class, &a.Instance, &a.Number} {
		n, err := strconv.ParseUint(strings.TrimSpace(numbers[i]), 0, 16)
		if err != nil {
			return a, fmt.Errorf("attribute %s: %q is no number from 0 to 65535", text, numbers[i])
		}
		*to = int(n)
	}
	a.Bit = -1
	if !inside {
		return a, nil
	}
	octet, bit, hasBit := strings.Cut(at, ".")
	if a.Octet, err = strconv.Atoi(octet); err != nil || a.Octet < 0 || a.Octet > mostOctet {
		return a, fmt.Errorf("attribute %s: %q is no octet in it", text, octet)
	}
	if hasBit {
		if a.Bit, err = strconv.Atoi(bit); err != nil || a.Bit < 0 || a.Bit > 7 {
			return a, fmt.Errorf("attribute %s: %q is no bit of an octet: 0 to 7 are", text, bit)
		}
	}
	return a, nil
}

func (scheme) Parse(text, _ string) (address.Address, error) {
	text = strings.TrimSpace(text)
	if strings.Contains(text, "/") {
		a, err := parseAttribute(text)
		if err != nil {
			return address.Address{}, err
		}
		return address.Named(Attributes, a.String()), nil
	}
	if _, _, err := ParseTag(text); err != nil {
		return address.Address{}, err
	}
	return address.Named(Tags, text), nil
}

func (scheme) Short(a address.Address) string {
	_, name, _ := a.Name()
	return name
}

func (s scheme) Notations(a address.Address) []address.Notation {
	list := []address.Notation{{Name: "short", Text: s.Short(a)}}
	if at, ok := AttributeOf(a); ok {
		list = append(list, address.Notation{Name: "in words", Text: at.Words()})
	}
	return list
}

// Words is an attribute as manuals write it.
func (a Attribute) Words() string {
	s := fmt.Sprintf("class %d, instance %d, attribute %d", a.Class, a.Instance, a.Number)
	if a.Octet > 0 || a.Bit >= 0 {
		s += fmt.Sprintf(", octet %d", a.Octet)
	}
	if a.Bit >= 0 {
		s += fmt.Sprintf(", bit %d", a.Bit)
	}
	return s
}

// Compare orders tags by their names, indexes by number, before attributes by theirs.
func (scheme) Compare(a, b address.Address) int {
	x, isX := AttributeOf(a)
	y, isY := AttributeOf(b)
	switch {
	case isX && isY:
		return cmp.Or(cmp.Compare(x.Class, y.Class), cmp.Compare(x.Instance, y.Instance), cmp.Compare(x.Number, y.Number),
			cmp.Compare(x.Octet, y.Octet), cmp.Compare(x.Bit, y.Bit))
	case isX != isY:
		return cmp.Compare(map[bool]int{true: 1}[isX], map[bool]int{true: 1}[isY])
	}
	m, _ := TagOf(a)
	n, _ := TagOf(b)
	return compareNames(m, n)
}

// compareNames orders names with the numbers in them by their size.
func compareNames(a, b string) int {
	digits := func(s string) int {
		n := 0
		for n < len(s) && s[n] >= '0' && s[n] <= '9' {
			n++
		}
		return n
	}
	for a != "" && b != "" {
		if x, y := digits(a), digits(b); x > 0 && y > 0 {
			m, _ := strconv.ParseUint(a[:x], 10, 64)
			n, _ := strconv.ParseUint(b[:y], 10, 64)
			if m != n {
				return cmp.Compare(m, n)
			}
			a, b = a[x:], b[y:]
			continue
		}
		if a[0] != b[0] {
			return cmp.Compare(a[0], b[0])
		}
		a, b = a[1:], b[1:]
	}
	return cmp.Compare(len(a), len(b))
}

// Check says why no value of such a shape can stand at an address.
func (scheme) Check(a address.Address, shape value.Shape) error {
	if at, ok := AttributeOf(a); ok {
		if (at.Bit >= 0) != (shape.Type == value.TypeBool) && shape.Type == value.TypeBool && at.Bit < 0 {
			return nil // a whole octet that is 0 or 1
		}
		if at.Bit >= 0 && shape.Type != value.TypeBool {
			return fmt.Errorf("a bit holds bool, not %s", shape.Type)
		}
		return nil
	}
	name, ok := TagOf(a)
	if !ok {
		return fmt.Errorf("%s is no place of EtherNet/IP", a)
	}
	_, bit, err := ParseTag(name)
	if err == nil && bit >= 0 && shape.Type != value.TypeBool {
		return fmt.Errorf("%s names a bit, which holds bool, not %s", name, shape.Type)
	}
	return err
}

// Unmistakable reports whether a text can hardly be anything but an address.
func (scheme) Unmistakable(text string) bool {
	if _, err := parseAttribute(text); err == nil {
		return true
	}
	parts, _, err := ParseTag(text)
	return err == nil && len(parts) > 0 && strings.ContainsAny(text, "[")
}
