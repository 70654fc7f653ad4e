package bacnet

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Space is the space of addresses that name a property of an object: "analog-input:3".
const Space = "bacnet"

// mostInstance is the greatest instance of an object (clause 12).
const mostInstance = 1<<22 - 2

// Place is an address taken apart: a property of an object, the present value where nobody says another, or
// one element of it.
type Place struct {
	Type     Type
	Instance uint32
	Property Property
	Index    int64 // of the element, -1 for the whole
}

// String prints a place as "analog-input:3", "analog-value:2.priority-array[8]".
func (p Place) String() string {
	text := p.Type.Name() + ":" + strconv.FormatUint(uint64(p.Instance), 10)
	if p.Property != PresentValue || p.Index >= 0 {
		text += "." + p.Property.Name()
	}
	if p.Index >= 0 {
		text += "[" + strconv.FormatInt(p.Index, 10) + "]"
	}
	return text
}

// Address returns the place as an address.
func (p Place) Address() address.Address { return address.Named(Space, p.String()) }

// PlaceOf takes an address apart; ok is false for one of another space.
func PlaceOf(a address.Address) (p Place, ok bool) {
	space, name, ok := a.Name()
	if !ok || space != Space {
		return Place{}, false
	}
	p, err := ParsePlace(name)
	return p, err == nil
}

// ParsePlace reads a place: "analog-input:3", "AI3", "analog input 3", "0:3", each with a property behind a
// point and an element of it in brackets.
func ParsePlace(text string) (p Place, err error) {
	text = strings.TrimSpace(text)
	fail := func(format string, more ...any) (Place, error) {
		return Place{}, fmt.Errorf("address %.60s: %s", text, fmt.Sprintf(format, more...))
	}
	p.Property, p.Index = PresentValue, -1
	object, property, named := strings.Cut(text, ".")
	if named {
		name, element, indexed := strings.Cut(strings.TrimSpace(property), "[")
		if indexed {
			digits, closed := strings.CutSuffix(element, "]")
			n, err := strconv.ParseUint(strings.TrimSpace(digits), 10, 32)
			if err != nil || !closed {
				return fail("behind the property comes the number of an element in brackets: priority-array[8]")
			}
			p.Index = int64(n)
		}
		var known bool
		if p.Property, known = PropertyCalled(name); !known {
			return fail("there is no property %q: present-value, units, priority-array, or its number", strings.TrimSpace(name))
		}
	}
	object = strings.TrimSpace(object)
	at := strings.LastIndexFunc(object, func(r rune) bool { return r < '0' || r > '9' })
	n, err := strconv.ParseUint(object[at+1:], 10, 32)
	if err != nil {
		return fail("it is a type of object and an instance: analog-input:3, AI3, or 0:3")
	}
	if n > mostInstance {
		return fail("an instance is a number from 0 to %d", mostInstance)
	}
	p.Instance = uint32(n)
	kind := strings.TrimRight(object[:at+1], " :,#-")
	if kind == "" {
		return fail("say of which type it is: AI%d, AV%d or BI%d", n, n, n)
	}
	var known bool
	if p.Type, known = TypeCalled(kind); !known {
		return fail("there is no type of object %q: analog-input, binary-value, accumulator, or its number", kind)
	}
	return p, nil
}

type scheme struct{}

// Scheme is the addressing of BACnet.
var Scheme address.Scheme = scheme{}

func (scheme) Parse(text, hint string) (address.Address, error) {
	if _, err := strconv.ParseUint(strings.TrimSpace(text), 10, 32); err == nil && hint != "" {
		text = hint + ":" + strings.TrimSpace(text)
	}
	if kind, is := strings.CutSuffix(strings.TrimSpace(text), "/"); is {
		if t, known := TypeCalled(kind); known {
			return Folder(t), nil
		}
	}
	p, err := ParsePlace(text)
	if err != nil {
		return address.Address{}, err
	}
	return p.Address(), nil
}

func (scheme) Short(a address.Address) string {
	_, name, _ := a.Name()
	return name
}

func (scheme) Notations(a address.Address) []address.Notation {
	p, ok := PlaceOf(a)
	if !ok {
		return nil
	}
	tail := strings.TrimPrefix(p.String(), p.Type.Name()+":"+strconv.FormatUint(uint64(p.Instance), 10))
	return []address.Notation{{Name: "type and instance", Text: p.String()},
		{Name: "in short", Text: fmt.Sprintf("%s%d%s", p.Type.Short(), p.Instance, tail)},
		{Name: "by numbers", Text: fmt.Sprintf("%d:%d%s", p.Type, p.Instance, tail)}}
}

func (scheme) Compare(a, b address.Address) int {
	one, _ := PlaceOf(a)
	other, _ := PlaceOf(b)
	return cmp.Or(cmp.Compare(one.Type, other.Type), cmp.Compare(one.Instance, other.Instance),
		cmp.Compare(one.Property, other.Property), cmp.Compare(one.Index, other.Index), address.Compare(a, b))
}

func (scheme) Check(a address.Address, shape value.Shape) error {
	p, ok := PlaceOf(a)
	holds := p.Type.Holds()
	switch {
	case !ok:
		return fmt.Errorf("address %s is no object", a)
	case shape.Type == value.TypeBits:
		return errors.New("a property is no field of bits: give it a whole number")
	case p.Property != PresentValue || holds == "" || shape.Type == "":
		return nil
	case holds.IsText() != shape.Type.IsText():
		return fmt.Errorf("the present value of %s is a %s", p.Type.Name(), holds)
	}
	return nil
}

// KindNamed, Holds and Behind are those of address.Kinds.
func (scheme) KindNamed(word string) (hint string, ok bool) {
	if _, err := strconv.ParseUint(word, 10, 16); err == nil {
		return "", false
	}
	t, ok := TypeCalled(word)
	return t.Name(), ok
}

// Holds is as KindNamed.
func (scheme) Holds(a address.Address) value.Type {
	p, _ := PlaceOf(a)
	if p.Property != PresentValue {
		return ""
	}
	return p.Type.Holds()
}

// Behind is as KindNamed.
func (scheme) Behind(a address.Address, n int) (address.Address, bool) {
	p, ok := PlaceOf(a)
	if !ok || n < 0 || uint64(p.Instance)+uint64(n) > mostInstance {
		return address.Address{}, false
	}
	p.Instance += uint32(n)
	return p.Address(), true
}

// Folder is where the objects of a type lie, as a place that is looked into and holds nothing itself.
func Folder(t Type) address.Address { return address.Named(Space, t.Name()+"/") }

// TypeOfFolder is the type of such a place.
func TypeOfFolder(a address.Address) (Type, bool) {
	space, name, ok := a.Name()
	kind, is := strings.CutSuffix(name, "/")
	if !ok || !is || space != Space {
		return 0, false
	}
	return TypeCalled(kind)
}
