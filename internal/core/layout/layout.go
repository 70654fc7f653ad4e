// Package layout computes where the members of structured data lie: arrays,
// nested structures, bits packed in bytes, alignment.
package layout

import (
	"fmt"
	"slices"
	"strconv"
)

// Rule says how members follow each other.
type Rule string

const (
	// Registers packs members into 16-bit registers: a value of 16 bits or
	// more begins a register, bytes share one (the high byte first), and bits
	// that follow each other fill one from bit 0 up. Structures and arrays
	// begin a register.
	Registers Rule = "registers"
	// Words is the fixed layout of block-addressed controllers: bits are
	// packed low to high into bytes, bytes follow each other, anything wider
	// lies on an even byte, and structures and arrays begin and end on one.
	Words Rule = "words"
	// Natural aligns each member to its own width (at most 8 bytes) and each
	// structure to its widest member; a bool takes a byte, bit fields that
	// follow each other share one while they fit.
	Natural Rule = "natural"
)

// Rules lists the rules with a title for each.
func Rules() []struct {
	Rule  Rule
	Title string
} {
	return []struct {
		Rule  Rule
		Title string
	}{{Registers, "packed registers"}, {Words, "word-aligned"}, {Natural, "naturally aligned"}}
}

// Known reports whether r is one of Rules.
func (r Rule) Known() bool { return r == Registers || r == Words || r == Natural }

// Type is a structure.
type Type struct {
	Name    string
	Members []Member
}

// Member is one part of a structure: a value of so many bits, or a structure.
type Member struct {
	Name string
	// Bits is the width of an elementary value: 1 for a bool, otherwise the
	// width of a bit field or a multiple of 8. PartOfUnit tells the two apart.
	Bits       int
	PartOfUnit bool
	Of         *Type // a nested structure
	// Count makes an array of so many elements, numbered from First; 0 is a
	// single element. More are its further dimensions, of which the last counts
	// fastest.
	Count, First int
	More         []Dim
	// Reserve elements take their room and become no points.
	Reserve bool
}

// Dim is a dimension of an array: so many elements, numbered from First.
type Dim struct {
	Count int `json:"count"`
	First int `json:"first"`
}

// elements is how many a member has, more than MostPlaces for too many.
func (m *Member) elements() int {
	n := m.Count
	for _, d := range m.More {
		if n *= d.Count; n > MostPlaces {
			return MostPlaces + 1
		}
	}
	return n
}

// index prints the indices of an element by its place among all: "[2,1]".
func (m *Member) index(i int) string {
	text := ""
	for _, d := range slices.Backward(m.More) {
		text = "," + strconv.Itoa(d.First+i%d.Count) + text
		i /= d.Count
	}
	return "[" + strconv.Itoa(m.First+i) + text + "]"
}

// Place is where one elementary value lies.
type Place struct {
	Path string // "Row[3].Pump.Speed"
	// Members leads to the member: the index in each structure on the way.
	Members []int
	// Byte counts from the start; in a register, byte 0 is the high byte. Bit
	// is the lowest bit of the value within its byte, 0 to 7; for a bit field
	// it may run on into the next lower byte of the register.
	Byte, Bit int
	// Bits is the width of the value.
	Bits       int
	PartOfUnit bool
}

// Register returns the place in 16-bit registers: the register from the start
// and the bit within it, 0 the lowest.
func (p Place) Register() (register, bit int) {
	return p.Byte / 2, p.Bit + 8*(1-p.Byte%2)
}

// MostPlaces bounds a layout, against arrays of arrays that fill the memory.
const MostPlaces = 100_000

// longestPath bounds the names of elements, which grow with each structure in
// another.
const longestPath = 1000

// Lay lays out one t by a rule and returns the places of its elementary values
// and its size in bytes. It fails if t is unknown to itself (a structure inside
// itself), has too many elements, or holds what the rule cannot place.
func Lay(t *Type, rule Rule) ([]Place, int, error) {
	if !rule.Known() {
		return nil, 0, fmt.Errorf("layout rule %q is not known: use registers, words or natural", rule)
	}
	l := layer{rule: rule, widest: map[*Type]int{}}
	if err := l.sound(t, map[*Type]bool{}, 0); err != nil {
		return nil, 0, err
	}
	if err := l.structure(t, "", nil, false); err != nil {
		return nil, 0, err
	}
	l.flush()
	if rule != Natural {
		l.align(2)
	}
	return l.places, l.at, nil
}

type layer struct {
	rule   Rule
	places []Place
	at     int           // next free byte
	bit    int           // bits used of the byte (of the register) before at, 0 for none
	steps  int           // elements and structures gone through
	widest map[*Type]int // alignment of each structure
}

// mostSteps bounds the work of a layout, reserves and structures of nothing
// included; mostDepth how deep structures may nest.
const (
	mostSteps = 4 * MostPlaces
	mostDepth = 64
)

// sound refuses a structure that contains itself, or is nested too deeply. Each
// structure is looked at once, however often it stands inside another.
func (l *layer) sound(t *Type, open map[*Type]bool, depth int) error {
	if open[t] {
		return fmt.Errorf("the structure %s contains itself", t.Name)
	}
	if depth > mostDepth {
		return fmt.Errorf("structures are nested more than %d deep", mostDepth)
	}
	if l.widest[t] != 0 {
		return nil
	}
	open[t] = true
	widest := 1
	for i := range t.Members {
		m := &t.Members[i]
		switch {
		case m.Of != nil:
			if err := l.sound(m.Of, open, depth+1); err != nil {
				return err
			}
			widest = max(widest, l.widest[m.Of])
		case !m.PartOfUnit && m.Bits > 0:
			widest = max(widest, l.width(m.Bits/8))
		}
	}
	delete(open, t)
	l.widest[t] = widest
	return nil
}

// step counts the work.
func (l *layer) step() error {
	if l.steps++; l.steps > mostSteps {
		return fmt.Errorf("the structure has more than %d elements", MostPlaces)
	}
	return nil
}

func (l *layer) align(to int) {
	if rest := l.at % to; rest != 0 {
		l.at += to - rest
	}
}

// flush ends a run of bits.
func (l *layer) flush() { l.bit = 0 }

func (l *layer) structure(t *Type, path string, members []int, reserve bool) error {
	if err := l.step(); err != nil {
		return err
	}
	if len(path) > longestPath {
		return fmt.Errorf("the name %s… is longer than %d characters", path[:40], longestPath)
	}
	l.flush()
	l.align(l.alignment(t))
	for i := range t.Members {
		m := &t.Members[i]
		name := m.Name
		if path != "" {
			name = path + "." + m.Name
		}
		at := append(members[:len(members):len(members)], i)
		if err := l.member(m, name, at, reserve || m.Reserve); err != nil {
			return err
		}
	}
	l.flush()
	l.align(l.alignment(t))
	return nil
}

func (l *layer) member(m *Member, path string, members []int, reserve bool) error {
	if i := slices.IndexFunc(m.More, func(d Dim) bool { return d.Count < 1 }); i >= 0 {
		return fmt.Errorf("dimension %d of %s has no element: give its first and last index", i+2, path)
	}
	if m.Count < 0 || m.elements() > MostPlaces {
		return fmt.Errorf("%s has %d elements or more: give 1 to %d, or none for a single value", path, m.Count,
			MostPlaces)
	}
	if m.Of == nil && (m.Bits < 1 || !m.PartOfUnit && m.Bits%8 != 0) {
		return fmt.Errorf("%s has no width", path)
	}
	if m.Count == 0 {
		return l.element(m, path, members, reserve)
	}
	l.flush()
	if l.rule != Natural {
		l.align(2)
	}
	for i := range m.elements() {
		if err := l.element(m, path+m.index(i), members, reserve); err != nil {
			return err
		}
	}
	l.flush()
	if l.rule != Natural {
		l.align(2)
	}
	return nil
}

func (l *layer) element(m *Member, path string, members []int, reserve bool) error {
	if m.Of != nil {
		return l.structure(m.Of, path, members, reserve)
	}
	if err := l.step(); err != nil {
		return err
	}
	if len(l.places) >= MostPlaces {
		return fmt.Errorf("the structure has more than %d elements", MostPlaces)
	}
	p := Place{Path: path, Members: members, Bits: m.Bits, PartOfUnit: m.PartOfUnit}
	switch {
	case m.PartOfUnit && m.Bits > 16:
		return fmt.Errorf("%s has %d bits: a bit field holds 1 to 16", path, m.Bits)
	case m.PartOfUnit && l.rule == Registers:
		l.registerBits(&p)
	case m.PartOfUnit:
		if err := l.byteBits(&p); err != nil {
			return err
		}
	default:
		l.flush()
		width := m.Bits / 8
		l.align(l.width(width))
		p.Byte = l.at
		l.at += width
	}
	if !reserve {
		l.places = append(l.places, p)
	}
	return nil
}

// registerBits places bits of a register, bit 0 first: the low byte is byte 1.
func (l *layer) registerBits(p *Place) {
	if l.bit == 0 || l.bit+p.Bits > 16 {
		l.align(2)
		l.at += 2
		l.bit = 0
	}
	register := l.at - 2
	p.Byte, p.Bit = register+1-l.bit/8, l.bit%8
	l.bit += p.Bits
}

// byteBits places bits of a byte, bit 0 first.
func (l *layer) byteBits(p *Place) error {
	if p.Bits > 8 {
		return fmt.Errorf("%s has %d bits: in bytes, a bit field holds 1 to 8", p.Path, p.Bits)
	}
	alone := l.rule == Natural && p.Bits == 1
	if l.bit == 0 || l.bit+p.Bits > 8 || alone {
		l.at++
		l.bit = 0
	}
	p.Byte, p.Bit = l.at-1, l.bit
	l.bit += p.Bits
	if alone {
		l.bit = 0
	}
	return nil
}

// width is the alignment of a value of so many bytes.
func (l *layer) width(bytes int) int {
	switch {
	case l.rule == Natural:
		for _, w := range []int{8, 4, 2} {
			if bytes%w == 0 {
				return w
			}
		}
		return 1
	case bytes > 1:
		return 2
	}
	return 1
}

// alignment is that of a structure.
func (l *layer) alignment(t *Type) int {
	if l.rule != Natural {
		return 2
	}
	return l.widest[t]
}
