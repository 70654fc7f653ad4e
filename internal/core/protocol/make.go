package protocol

// Makes is the ability of a protocol whose answering ends are made of the values of others: each becomes a
// place of a kind that suits it.
type Makes interface {
	// Made is what such a place is called, in small letters: "object".
	Made() string
	// Make returns the place for a value, which is scaled and in its unit, with so many decimals; number tells
	// it apart from the others of its device. What of it cannot be kept is said in words.
	Make(of Held, number int) (as Held, lost string)
	// Ends are the settings of an answering end that is one of several at an address, the n-th from 0 on:
	// after those of the first.
	Ends(first Settings, n int) Settings
}

// Making returns the ability of d to be made of the values of others.
func (d *Def) Making() (Makes, bool) {
	if d == nil {
		return nil, false
	}
	m, ok := d.Rules.(Makes)
	return m, ok
}
