package protocol

// Unique is the ability of a protocol whose stations are told apart on all networks together: no two ends of a
// site may have the same.
type Unique interface{ Unique() }

// Unique reports whether d has it.
func (d *Def) Unique() bool {
	if d == nil {
		return false
	}
	_, ok := d.Rules.(Unique)
	return ok
}

// Clashes is the ability of a protocol to say why two ends cannot share an address.
type Clashes interface {
	// Clash says why ends with such settings cannot both be at one address; empty where they can.
	Clash(one, other Settings) string
}

// Clash is that of Clashes; empty where d has no such ability.
func (d *Def) Clash(one, other Settings) string {
	if d != nil {
		if c, ok := d.Rules.(Clashes); ok {
			return c.Clash(one, other)
		}
	}
	return ""
}
