package protocol

import (
	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Presence is whether a place is there.
type Presence string

// What may be known of a place.
const (
	Here    Presence = "here"
	Missing Presence = "missing" // the device has no such place
	Barred  Presence = "barred"  // and this one it does not let be read
	Unclear Presence = "unclear" // it says something else of it
)

// Looked is what a device says of a place that it was asked for by its name.
type Looked struct {
	// Address is the place as it is kept: by what stays when a device numbers its names otherwise.
	Address  address.Address
	Presence Presence
	Type     value.Type  // empty where it is not told, or none of Ferry's
	Value    value.Value // none where it has none now
	Writable bool
	Reason   string // why it is not here, or its value not good
}

// Looks is the ability of a protocol whose devices can be asked for places by names that may not
// be there.
type Looks interface {
	// Before is what stands before a bare name so that it is an address of a device with such
	// places already: empty for nothing.
	Before(known []address.Address) string
}

// Before is what stands before a bare name; ok is false where a protocol cannot be asked for names.
func (d *Def) Before(known []address.Address) (before string, ok bool) {
	if d == nil {
		return "", false
	}
	l, ok := d.Rules.(Looks)
	if ok {
		before = l.Before(known)
	}
	return before, ok
}
