package enip

import (
	"errors"
	"fmt"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/charset"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Description is what files about devices are called.
func (rules) Description() string { return "electronic data sheets" }

// Described reports whether a file is such a one.
func (rules) Described(data []byte) bool {
	return looksEDS(charset.Text(data[:min(len(data), 64<<10)]))
}

// Describe makes places of the parameters of a data sheet, and of the members of its
// assemblies.
func (rules) Describe(data []byte) (held []protocol.Held, unread []protocol.Unread, err error) {
	e, err := ParseEDS(data)
	if err != nil {
		return nil, nil, err
	}
	seen := map[address.Address]bool{}
	add := func(a Attribute, name string, p *Param, kind Kind, writable bool) {
		at := address.Named(Attributes, a.String())
		shape := value.Shape{Type: kind.Type()}
		if seen[at] || shape.Type == "" {
			return
		}
		if shape.Type.IsText() {
			shape.Length = 64
		}
		seen[at] = true
		h := protocol.Held{Address: at, Name: name, Shape: shape, Unit: p.Unit, Remark: p.Help, Writable: writable}
		p.dress(&h)
		held = append(held, h)
	}
	of := map[string]*Param{}
	for i := range e.Params {
		p := &e.Params[i]
		of[fmt.Sprintf("param%d", p.Number)] = p
		if a, ok := attributeAt(p.Path); ok {
			add(a, p.Name, p, p.Kind, p.Descriptor&paramReadOnly == 0)
		}
	}
	for _, as := range e.Assemblies {
		a, ok := attributeAt(as.Path)
		if !ok {
			continue
		}
		bit := 0
		for _, m := range as.Members {
			p := of[strings.ToLower(m.Ref)]
			bits := m.Bits
			if bits == 0 && p != nil {
				bits = 8 * p.Octets
			}
			if p != nil {
				a.Octet, a.Bit = bit/8, -1
				kind := p.Kind
				if bits == 1 {
					a.Bit, kind = bit%8, BOOL
				}
				if a.Bit >= 0 || bit%8 == 0 && 8*kind.Octets() == bits {
					add(a, as.Name+" "+p.Name, p, kind, false)
				}
			}
			bit += bits
		}
	}
	if len(held) == 0 {
		return nil, e.Unread, errors.New("it names no parameter that can be read by class, instance and attribute")
	}
	return held, e.Unread, nil
}

// attributeAt is the attribute that a path of logical segments leads to; that of an
// assembly is its data, 3.
func attributeAt(path []byte) (a Attribute, ok bool) {
	a = Attribute{Class: -1, Instance: -1, Number: -1, Bit: -1}
	for len(path) >= 2 {
		var n int
		kind := path[0]
		switch kind & 3 {
		case 0:
			n, path = int(path[1]), path[2:]
		case 1:
			if len(path) < 4 {
				return a, false
			}
			n, path = int(path[2])|int(path[3])<<8, path[4:]
		default:
			return a, false
		}
		switch kind &^ 3 {
		case 0x20:
			a.Class = n
		case 0x24, 0x2C:
			a.Instance = n
		case 0x30:
			a.Number = n
		default:
			return a, false
		}
	}
	if a.Number < 0 && a.Class == 4 {
		a.Number = 3
	}
	return a, a.Class >= 0 && a.Instance >= 0 && a.Number >= 0
}
