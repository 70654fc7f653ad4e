package iec61850

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Space is the space of addresses that name an attribute, in the notation of IEC 61850-7-2, clause
// 22: "LD0/GGIO1.AnIn1.mag.f[MX]".
const Space = "attribute"

// Ref is an address of IEC 61850, taken apart.
type Ref struct {
	// Device is a logical device: its name on the wire, or its instance, which is the end of that name.
	Device string
	Node   string
	// Path leads from the logical node to the attribute: "AnIn1", "mag", "f".
	Path []string
	FC   string
}

// constraints are the functional constraints with what they are for (IEC 61850-7-2, annex B; those of
// control blocks are not of attributes).
var constraints = map[string]string{"ST": "status", "MX": "measured value", "CO": "control", "SP": "setpoint",
	"SV": "substitution",
	"CF": "configuration", "DC": "description", "SG": "setting of a group", "SE": "setting of a group that is edited",
	"SR": "service tracking", "OR": "operate received", "BL": "blocking", "EX": "extended definition"}

// mostReference is the longest reference (IEC 61850-7-2, clause 22.3), with some room for long names.
const mostReference = 255

// String prints the reference.
func (r Ref) String() string {
	return r.Device + "/" + r.Node + "." + strings.Join(r.Path, ".") + "[" + r.FC + "]"
}

// Item is the reference as the wire has it, without the domain: "GGIO1$MX$AnIn1$mag$f".
func (r Ref) Item() string { return r.Node + "$" + r.FC + "$" + strings.Join(r.Path, "$") }

// Address returns the reference as an address.
func (r Ref) Address() address.Address { return address.Named(Space, r.String()) }

// Beside is another attribute of the same data: "t" beside "mag.f".
func (r Ref) Beside(n int, name string) Ref {
	r.Path = append(slices.Clone(r.Path[:n]), name)
	return r
}

var partName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]*$`)

// ParseRef reads a reference in either notation: "LD0/GGIO1.AnIn1.mag.f[MX]", "LD0/GGIO1$MX$AnIn1$mag$f".
func ParseRef(text string) (r Ref, err error) {
	text = strings.TrimSpace(text)
	fail := func(why string) (Ref, error) { return Ref{}, fmt.Errorf("address %s: %s", text, why) }
	if len(text) > mostReference {
		return Ref{}, fmt.Errorf("address %.40s…: it has %d octets, up to %d can be", text, len(text), mostReference)
	}
	device, rest, found := strings.Cut(text, "/")
	if !found {
		return fail("it is a logical device, a stroke and what is in it: LD0/GGIO1.AnIn1.mag.f[MX]")
	}
	r.Device = device
	if strings.Contains(rest, "$") {
		parts := strings.Split(rest, "$")
		if len(parts) < 3 {
			return fail("behind the stroke come node, constraint, data and attribute: GGIO1$MX$AnIn1$mag$f")
		}
		r.Node, r.FC, r.Path = parts[0], strings.ToUpper(parts[1]), parts[2:]
	} else {
		plain, fc, found := strings.Cut(rest, "[")
		if !found || !strings.HasSuffix(fc, "]") {
			return fail("its functional constraint is missing at the end: [ST], [MX] or [CO]")
		}
		r.FC = strings.ToUpper(strings.TrimSuffix(fc, "]"))
		parts := strings.Split(strings.TrimSpace(plain), ".")
		if r.Node, r.Path = parts[0], parts[1:]; len(r.Path) == 0 {
			return fail("behind the logical node come data and attribute: GGIO1.AnIn1.mag.f")
		}
	}
	for _, name := range append([]string{r.Device, r.Node}, r.Path...) {
		if !partName.MatchString(name) {
			return fail(fmt.Sprintf("%q is no name: letters, digits and underlines, a letter first", name))
		}
	}
	if constraints[r.FC] == "" {
		return fail(fmt.Sprintf("there is no functional constraint %s", r.FC))
	}
	return r, nil
}

// RefOf takes an address apart; ok is false for one of another space.
func RefOf(a address.Address) (r Ref, ok bool) {
	space, name, ok := a.Name()
	if !ok || space != Space {
		return Ref{}, false
	}
	r, err := ParseRef(name)
	return r, err == nil
}

// Folder is the space of logical devices and nodes, which have no values: "LD0/", "LD0/GGIO1/".
const Folder = "folder"

// FolderOf is a logical device, or a node in it where that is given.
func FolderOf(device, node string) address.Address {
	name := device + "/"
	if node != "" {
		name += node + "/"
	}
	return address.Named(Folder, name)
}

// ParseFolder reads one.
func ParseFolder(text string) (a address.Address, ok bool) {
	parts := strings.Split(strings.TrimSuffix(text, "/"), "/")
	if !strings.HasSuffix(text, "/") || len(parts) > 2 || len(text) > mostReference {
		return a, false
	}
	for _, name := range parts {
		if !partName.MatchString(name) {
			return a, false
		}
	}
	return address.Named(Folder, text), true
}

type scheme struct{}

// Scheme is the addressing of IEC 61850.
var Scheme address.Scheme = scheme{}

func (scheme) Parse(text, _ string) (address.Address, error) {
	if folder, ok := ParseFolder(text); ok {
		return folder, nil
	}
	r, err := ParseRef(text)
	if err != nil {
		return address.Address{}, err
	}
	return r.Address(), nil
}

func (scheme) Short(a address.Address) string {
	_, name, _ := a.Name()
	return name
}

func (scheme) Notations(a address.Address) []address.Notation {
	r, ok := RefOf(a)
	if !ok {
		return nil
	}
	return []address.Notation{{Name: "reference", Text: r.String()},
		{Name: "on the wire", Text: r.Device + "/" + r.Item()}}
}

// Compare orders references as a file of the standard lists them: numbers at the ends of names count as
// such.
func (scheme) Compare(a, b address.Address) int {
	one, _ := RefOf(a)
	other, _ := RefOf(b)
	return cmp.Or(natural(one.Device, other.Device), natural(one.Node, other.Node),
		slices.CompareFunc(one.Path, other.Path, natural), cmp.Compare(one.FC, other.FC), address.Compare(a, b))
}

// natural compares names, a number at their ends as a number.
func natural(a, b string) int {
	nameA, numberA := cutNumber(a)
	nameB, numberB := cutNumber(b)
	return cmp.Or(cmp.Compare(nameA, nameB), cmp.Compare(len(numberA), len(numberB)), cmp.Compare(numberA, numberB))
}

func cutNumber(name string) (before, digits string) {
	before = strings.TrimRight(name, "0123456789")
	return before, strings.TrimLeft(name[len(before):], "0")
}

// Unmistakable reports whether a text can hardly be anything but a reference.
func (scheme) Unmistakable(text string) bool {
	_, err := ParseRef(text)
	return err == nil
}

func (scheme) Check(a address.Address, shape value.Shape) error {
	if _, ok := RefOf(a); !ok {
		return fmt.Errorf("address %s names no attribute", a)
	}
	if shape.Type == value.TypeBits {
		return errors.New("an attribute is no field of bits: give it a whole number")
	}
	return nil
}
