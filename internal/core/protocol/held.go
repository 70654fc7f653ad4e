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
