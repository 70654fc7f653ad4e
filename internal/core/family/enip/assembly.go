package enip

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/value"
)

// The areas of a cyclic connection: what the asking end takes in, what it gives out, with
// what it opens the connection, and what it knows of that itself.
const (
	AreaIn     = "in"
	AreaOut    = "out"
	AreaConfig = "config"
	AreaConn   = "conn"
)

// mostAssembly is how many octets an assembly can have over a connection (volume 1, clause
// 3-5.5.1.1: 16 bits).
const mostAssembly = 65535

type assemblies struct{}

// Assemblies is the addressing of what a cyclic connection carries: in:12 is octet 12 of
// the data that comes in, out:0.3 bit 3 of the first octet that goes out, config:2 octet 2
// of the configuration with which the connection is opened, and conn:1.1 what the asking end knows of the connection.
// Header and sequence count are no part of
// it, and numbers begin with their least significant octet (volume 1, appendix C-1.2).
var Assemblies block.Shape = assemblies{}

var areasOfAssemblies = []block.Area{
	{Key: AreaIn, Title: "inputs", UnitBits: 8, Units: mostAssembly, Little: true},
	{Key: AreaOut, Title: "outputs", UnitBits: 8, Units: mostAssembly, Writable: true, Little: true},
	{Key: AreaConfig, Title: "configuration", UnitBits: 8, Units: mostConfig, Little: true},
	{Key: AreaConn, Title: "connection", UnitBits: 8, Units: connOctets, Writable: true, Little: true},
}

func (assemblies) Areas() []block.Area { return areasOfAssemblies }

func (assemblies) Area(key string) (block.Area, bool) {
	for _, a := range areasOfAssemblies {
		if a.Key == key {
			return a, true
		}
	}
	return block.Area{}, false
}

// AreaNamed reads how a list names an area.
func (s assemblies) AreaNamed(text string) (string, bool) {
	switch text = strings.ToLower(strings.TrimSpace(text)); text {
	case "in", "input", "inputs", "t->o", "t→o", "produced", "input assembly":
		return AreaIn, true
	case "out", "output", "outputs", "o->t", "o→t", "consumed", "output assembly":
		return AreaOut, true
	case "config", "configuration":
		return AreaConfig, true
	case "conn", "connection":
		return AreaConn, true
	}
	return "", false
}

var assemblyPlace = regexp.MustCompile(`^(?i)(?:(in|out|config|conn)[: ]?)?\s*(\d{1,5})(?:\.(\d))?$`)

func (s assemblies) Parse(text, hint string) (address.Address, error) {
	m := assemblyPlace.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return address.Address{}, fmt.Errorf("address %q is no place of an assembly: write it as in:12, in:12.5 or out:0",
			text)
	}
	key := strings.ToLower(m[1])
	if key == "" {
		key = hint
	}
	if key == "" {
		key = AreaIn
	}
	area, known := s.Area(key)
	at, err := strconv.ParseUint(m[2], 10, 32)
	if err != nil || !known || uint32(at) >= area.Units {
		return address.Address{}, fmt.Errorf("address %q: %s have octets 0 to %d", text, area.Title, area.Units-1)
	}
	if m[3] == "" {
		return block.At(key, uint32(at)), nil
	}
	if m[3] > "7" {
		return address.Address{}, fmt.Errorf("address %q: an octet has bits 0 to 7", text)
	}
	return block.WithBit(block.At(key, uint32(at)), int(m[3][0]-'0')), nil
}

// Short puts a colon behind the area.
func (assemblies) Short(a address.Address) string {
	text := a.String()
	area := block.Of(a).Area
	if rest, ok := strings.CutPrefix(text, area); ok && area != "" {
		return area + ":" + rest
	}
	return text
}

func (s assemblies) Notations(a address.Address) []address.Notation {
	list := []address.Notation{{Name: "short", Text: s.Short(a)}}
	at := block.Of(a)
	area, ok := s.Area(at.Area)
	if !ok {
		return list
	}
	words := fmt.Sprintf("%s, octet %d", area.Title, at.Offset)
	if at.Bit >= 0 {
		words += fmt.Sprintf(", bit %d", at.Bit)
	}
	return append(list, address.Notation{Name: "in words", Text: words},
		address.Notation{Name: "word of 16 bits", Text: fmt.Sprintf("%s, word %d", area.Title, at.Offset/2)})
}

func (s assemblies) Compare(a, b address.Address) int { return block.Compare(s, a, b) }

func (s assemblies) Check(a address.Address, shape value.Shape) error {
	return block.Check(s, a, shape)
}

// Unmistakable reports whether a text can hardly be anything but a place of an assembly.
func (assemblies) Unmistakable(text string) bool {
	m := assemblyPlace.FindStringSubmatch(strings.TrimSpace(text))
	return m != nil && m[1] != ""
}
