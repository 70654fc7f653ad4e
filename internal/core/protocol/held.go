package protocol

import (
	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Lists is the ability of a protocol whose devices tell which places they have.
type Lists interface {
	// Listed is what the places are called together, in small letters: "tags".
	Listed() string
}

// Held is a place that a device says it has.
type Held struct {
	Address address.Address
	Name    string
	// Shape is what stands there, its type empty where the device does not tell.
	Shape    value.Shape
	Unit     string
	Remark   string
	Writable bool
}

// Lists returns what the places of a device are called that d can ask it to list;
// ok is false where it cannot.
func (d *Def) Lists() (called string, ok bool) {
	if d == nil {
		return "", false
	}
	l, ok := d.Rules.(Lists)
	if !ok {
		return "", false
	}
	return l.Listed(), true
}

// Describes is the ability of a protocol for whose devices there are files that
// say which places they have.
type Describes interface {
	// Description is what such a file is called, in small letters and the plural:
	// "electronic data sheets".
	Description() string
	// Described reports whether a file is such a one, by how it begins.
	Described(data []byte) bool
	// Describe reads one. What of it cannot be read is told with its place, and
	// the rest is read; it fails where nothing can be.
	Describe(data []byte) (held []Held, unread []Unread, err error)
}

// Unread is a place of a file that could not be read.
type Unread struct {
	Line   int    // from 1
	What   string // what stands there
	Reason string
}

// Describes returns the ability of d to read files that describe its devices.
func (d *Def) Describes() (Describes, bool) {
	if d == nil {
		return nil, false
	}
	a, ok := d.Rules.(Describes)
	return a, ok
}
