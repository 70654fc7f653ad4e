package protocol

import "ferry/internal/core/address"

// Messages is the ability of a protocol to carry a text to whoever listens for it, as
// that something is wrong.
type Messages interface {
	// CheckMessage says why nothing can be sent under a name.
	CheckMessage(to string) error
	// IsOf reports whether what is sent under a name would be the value of a place.
	IsOf(a address.Address, to string) bool
}

// Messages returns the ability of d to carry a text.
func (d *Def) Messages() (Messages, bool) {
	if d == nil {
		return nil, false
	}
	m, ok := d.Rules.(Messages)
	return m, ok
}
