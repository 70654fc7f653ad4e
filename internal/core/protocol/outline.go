package protocol

// Outlines is the ability of a protocol whose device files have an order of their own, in which people
// look for what they need before anything is made of it.
type Outlines interface {
	Draws
	// Outline reads a file.
	Outline(data []byte) (Outline, error)
}

// Outline is what is in such a file.
type Outline interface {
	// Heads are the devices that it describes.
	Heads() []Outlined
	// Under is all that lies in one of them: each entry lies in the last before it that is less deep;
	// those in the device itself have depth 0.
	Under(head int) []Outlined
	// Places are the values in one of them, as points have them; listed as the device itself lists them.
	Places(head int, listed bool) []Held
	// Unread is what of the file cannot be used.
	Unread() []Unread
}

// Outlined is an entry of an outline.
type Outlined struct {
	Depth int
	Name  string
	Kind  string // what it is, as people of the trade say
	Says  string // what the file says of it: type, class, settings
	// Remark is its description; two entries that differ in it alone are alike.
	Remark string
	// Address is the place of a value, as points have it; empty for all else.
	Address string
}

// Outlines returns the ability of d to show what is in files that describe its devices.
func (d *Def) Outlines() (Outlines, bool) {
	if d == nil {
		return nil, false
	}
	a, ok := d.Rules.(Outlines)
	return a, ok
}
