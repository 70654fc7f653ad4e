package enip

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ferry/internal/core/charset"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// EDS is an electronic data sheet (CIP volume 1, chapter 7): what the maker of a device says
// of it.
type EDS struct {
	Vendor, Type, Product int // -1 where it does not say
	Major, Minor          int
	VendorName, Name      string
	Params                []Param
	Assemblies            []Assembly
	Connections           []Connection
	// MaxIO is how many cyclic connections it bears, and PerSecond how many packets a
	// second; 0 where it does not say (clause 7-3.6.13).
	MaxIO, PerSecond int
	// Unread are entries that could not be read.
	Unread []protocol.Unread
}

// Param is a parameter (clause 7-3.6.7).
type Param struct {
	Number             int
	Path               []byte // a logical path, empty for none
	Descriptor         uint16
	Kind               Kind
	Octets             int
	Name, Unit, Help   string
	Least, Most, Usual string
	// Factor and Offset scale it, 0 for not: scaled is (raw + offset) × multiplier × base /
	// divisor (clause 7-3.6.7.13).
	Factor, Offset float64
	Decimals       int            // -1 where it does not say
	Names          map[int]string // of its values, by its Enum
	// Scaleless says why a scale that it states is not used, empty for no such.
	Scaleless string
}

// Descriptor bits of a parameter.
const (
	paramReadOnly = 1 << 4
	paramScaled   = 1 << 2
	paramNamed    = 1 << 1
)

// Assembly is an assembly with its members in their order (clause 7-3.6.8).
type Assembly struct {
	Number  int
	Name    string
	Path    []byte
	Octets  int // -1 where it does not say
	Members []Member
}

// Member is a part of an assembly: so many bits, which are those of a parameter, of
// another assembly, or nobody's.
type Member struct {
	Bits int
	Ref  string // Param1, Assem2, a path, or empty
}

// Connection is a cyclic connection that the device takes (clause 7-3.6.10).
type Connection struct {
	Number            int
	Trigger, Params   uint32
	OutEvery, OutSize string // of what goes to the device: numbers, or parameters
	OutFormat         string
	InEvery, InSize   string
	InFormat          string
	ConfigSize        string
	ConfigFormat      string
	Name, Help        string
	Path              []byte
}

// Of files: how large one may be, and how many entries and values are read.
const (
	mostEDS     = 8 << 20
	mostEntries = 100_000
	mostValues  = 20_000
)

// entry is one entry of a section: its values as they stand there, texts without their
// quotes.
type entry struct {
	section, key string
	values       []string
	line         int
}

// ParseEDS reads a data sheet. What of it cannot be read is told with its line; it fails
// where it is none.
func ParseEDS(data []byte) (e EDS, err error) {
	if len(data) > mostEDS {
		return e, fmt.Errorf("the data sheet has %d octets: %d are the most", len(data), mostEDS)
	}
	text := charset.Text(data)
	if !looksEDS(text) {
		return e, errors.New("it is no electronic data sheet: it has no sections [File] and [Device]")
	}
	entries, unread := entriesOf(text)
	e = EDS{Vendor: -1, Type: -1, Product: -1, Major: -1, Minor: -1, Unread: unread}
	params := map[int]int{}
	names := map[int]map[int]string{}
	for i := range entries {
		if err := e.take(&entries[i], params, names); err != nil {
			en := &entries[i]
			e.unread(en.line, "["+en.section+"] "+en.key, err.Error())
		}
	}
	for i := range e.Params {
		if p := &e.Params[i]; p.Scaleless != "" {
			e.unread(0, fmt.Sprintf("Param%d %s", p.Number, p.Name), p.Scaleless)
		}
	}
	for number, list := range names {
		if at, known := params[number]; known {
			e.Params[at].Names = list
		}
	}
	return e, nil
}

func (e *EDS) unread(line int, what, why string) {
	const most = 1000
	if len(e.Unread) < most {
		e.Unread = append(e.Unread, protocol.Unread{Line: line, What: what, Reason: why})
	}
}

// take takes in an entry.
func (e *EDS) take(en *entry, params map[int]int, names map[int]map[int]string) error {
	number := func(to *int) error {
		n, err := whole(en.at(0))
		if err == nil {
			*to = n
		}
		return err
	}
	switch strings.ToLower(en.section) {
	case "device":
		switch strings.ToLower(en.key) {
		case "vendcode":
			return number(&e.Vendor)
		case "prodtype":
			return number(&e.Type)
		case "prodcode":
			return number(&e.Product)
		case "majrev":
			return number(&e.Major)
		case "minrev":
			return number(&e.Minor)
		case "vendname":
			e.VendorName = en.at(0)
		case "prodname":
			e.Name = en.at(0)
		}
	case "params":
		if n, is := numbered(en.key, "param"); is {
			p, err := param(n, en)
			if err != nil {
				return err
			}
			if _, twice := params[n]; twice {
				return fmt.Errorf("there are two of the number %d", n)
			}
			params[n] = len(e.Params)
			e.Params = append(e.Params, p)
		} else if n, is := numbered(en.key, "enum"); is {
			names[n] = map[int]string{}
			for i := 0; i+1 < len(en.values); i += 2 {
				v, err := whole(en.at(i))
				if err != nil {
					return err
				}
				names[n][v] = en.at(i + 1)
			}
		}
	case "capacity":
		key := strings.ToLower(en.key)
		if key == "maxioconnections" {
			return number(&e.MaxIO)
		}
		if _, is := numbered(key, "tspec"); is {
			rate, err := whole(en.at(2))
			if err == nil && rate > 0 && (e.PerSecond == 0 || rate < e.PerSecond) {
				e.PerSecond = rate // the device bears the least of what it says for several sizes
			}
			return err
		}
	case "assembly":
		if n, is := numbered(en.key, "assem"); is {
			a, err := assembly(n, en)
			if err != nil {
				return err
			}
			e.Assemblies = append(e.Assemblies, a)
		}
	case "connection manager":
		if n, is := numbered(en.key, "connection"); is {
			c, err := connection(n, en)
			if err != nil {
				return err
			}
			e.Connections = append(e.Connections, c)
		}
	}
	return nil
}

// at is a value of an entry, empty where it has none.
func (en *entry) at(i int) string {
	if i < len(en.values) {
		return en.values[i]
	}
	return ""
}

func param(n int, en *entry) (p Param, err error) {
	p = Param{Number: n, Name: en.at(6), Unit: en.at(7), Help: en.at(8), Least: en.at(9), Most: en.at(10),
		Usual: en.at(11)}
	if len(en.values) < 7 {
		return p, fmt.Errorf("it has %d values, and its name is the seventh", len(en.values))
	}
	if p.Path, err = pathOctets(en.at(2)); err != nil {
		return p, err
	}
	descriptor, err := whole(en.at(3))
	if err != nil {
		return p, fmt.Errorf("its descriptor: %w", err)
	}
	kind, err := whole(en.at(4))
	if err != nil {
		return p, fmt.Errorf("its type: %w", err)
	}
	if p.Octets, err = whole(orZero(en.at(5))); err != nil || p.Octets < 0 || p.Octets > mostOctet {
		return p, fmt.Errorf("its size %q is none", en.at(5))
	}
	p.Descriptor, p.Kind = uint16(descriptor), Kind(kind)
	if p.Decimals, err = whole(en.at(20)); err != nil || p.Decimals < 0 || p.Decimals > 15 {
		p.Decimals = -1 // it is for show
	}
	p.scale(en.values[min(12, len(en.values)):])
	return p, nil
}

// scale takes the scale of a parameter: multiplier, divisor, base, offset, and parameters
// that hold these.
func (p *Param) scale(values []string) {
	numbers := [4]float64{1, 1, 1, 0}
	stated := false
	for i, text := range values[:min(4, len(values))] {
		if text == "" {
			continue
		}
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || i < 3 && n == 0 {
			p.Scaleless = fmt.Sprintf("its scale %q is none", text)
			return
		}
		stated = stated || n != numbers[i]
		numbers[i] = n
	}
	held := false
	for _, link := range values[min(4, len(values)):min(8, len(values))] {
		held = held || link != "" && link != "0"
	}
	switch scaled := p.Descriptor&paramScaled != 0; {
	case held && scaled:
		p.Scaleless = "other parameters hold its scale: it is read as it is, without one"
	case stated && !scaled:
		p.Scaleless = "it states a scale, and its descriptor says that it has none: it is read as it is"
	case stated:
		p.Factor = numbers[0] * numbers[2] / numbers[1]
		p.Offset = numbers[3] * p.Factor
	}
}

// dress gives a place what the parameter says of a value: its scale, its decimals, its
// limits and the names of its values.
func (p *Param) dress(h *protocol.Held) {
	h.Names = p.Names
	if h.Shape.Type == value.TypeBool || h.Shape.Type.IsText() {
		return
	}
	h.Factor, h.Offset = p.Factor, p.Offset
	if p.Decimals >= 0 && (p.Factor != 0 || h.Shape.Type.IsFloat()) {
		h.Decimals = &p.Decimals
	}
	low, err := strconv.ParseFloat(p.Least, 64)
	high, err2 := strconv.ParseFloat(p.Most, 64)
	if err != nil || err2 != nil || low >= high {
		return
	}
	low, high = value.Scale{Linear: value.Linear{Factor: p.Factor, Offset: p.Offset}}.Bounds(low, high)
	h.Low, h.High = &low, &high
}

func assembly(n int, en *entry) (a Assembly, err error) {
	a = Assembly{Number: n, Name: en.at(0), Octets: -1}
	if a.Path, err = pathOctets(en.at(1)); err != nil {
		return a, err
	}
	if size := en.at(2); size != "" {
		if a.Octets, err = whole(size); err != nil || a.Octets < 0 || a.Octets > mostOctet {
			a.Octets = -1 // that of a parameter
		}
	}
	for i := 6; i < len(en.values); i += 2 {
		m := Member{Ref: en.at(i + 1)}
		size := en.at(i)
		if size == "" && m.Ref == "" {
			continue
		}
		if size != "" {
			if m.Bits, err = whole(size); err != nil || m.Bits < 0 || m.Bits > 8*mostOctet {
				return a, fmt.Errorf("member %d: %q is no number of bits", i/2-2, size)
			}
		}
		a.Members = append(a.Members, m)
	}
	return a, nil
}

func connection(n int, en *entry) (c Connection, err error) {
	if len(en.values) < 13 {
		return c, fmt.Errorf("it has %d values, and its name is the thirteenth", len(en.values))
	}
	trigger, err := whole(en.at(0))
	if err != nil {
		return c, err
	}
	params, err := whole(en.at(1))
	if err != nil {
		return c, err
	}
	c = Connection{Number: n, Trigger: uint32(trigger), Params: uint32(params), OutEvery: en.at(2), OutSize: en.at(3),
		OutFormat: en.at(4), InEvery: en.at(5), InSize: en.at(6), InFormat: en.at(7), ConfigSize: en.at(10),
		ConfigFormat: en.at(11), Name: en.at(12),
		Help: en.at(13)}
	c.Path, err = pathOctets(en.at(14))
	return c, err
}

func orZero(s string) string {
	if s == "" {
		return "0"
	}
	return s
}

// whole reads a number, in decimal or hexadecimal.
func whole(s string) (int, error) {
	n, err := strconv.ParseInt(strings.TrimSpace(s), 0, 64)
	if err != nil {
		if n, err = strconv.ParseInt(strings.TrimLeft(strings.TrimSpace(s), "0"), 10, 64); err == nil {
			return int(n), nil // 08 is no octal number here
		}
		return 0, fmt.Errorf("%q is no number", s)
	}
	return int(n), nil
}

// numbered reads a key such as Param12.
func numbered(key, word string) (n int, is bool) {
	rest, is := strings.CutPrefix(strings.ToLower(key), word)
	if !is || rest == "" {
		return 0, false
	}
	n, err := strconv.Atoi(rest)
	return n, err == nil
}

// pathOctets reads a path in hexadecimal: 20 04 24 64 30 03. Words and brackets in it stand
// for values that are filled in, and leave it empty.
func pathOctets(s string) (path []byte, err error) {
	s = strings.TrimSpace(s)
	if s == "" || strings.ContainsAny(s, "[]") || strings.Contains(strings.ToLower(s), "param") ||
		strings.EqualFold(s, "SYMBOL_ANSI") {
		return nil, nil
	}
	for part := range strings.FieldsFuncSeq(s, func(r rune) bool { return r == ' ' || r == '\t' || r == ',' }) {
		n, err := strconv.ParseUint(part, 16, 8)
		if err != nil || len(path) >= 512 {
			return nil, fmt.Errorf("the path %q: %q is no octet", s, part)
		}
		path = append(path, byte(n))
	}
	return path, nil
}
