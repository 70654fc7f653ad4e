package protocol

import "ferry/internal/core/address"

// Levels is the ability of a protocol some of whose values are commanded at several levels, of which the strongest
// that is held wins. Whoever commands one may give it up again.
type Levels interface {
	// Levels lists those of a value, the strongest first, and behind them what counts where none is held; none for a
	// value that has no levels.
	Levels(a address.Address) []Level
	// Level is the place of the one at which the settings of an asking end write.
	Level(a address.Address, settings Settings) address.Address
}

// Level is one of them.
type Level struct {
	At    address.Address
	Title string
	// Closed is set where nobody writes it so.
	Closed bool
}

// Levels lists the levels of a value; none where it has none.
func (d *Def) Levels(a address.Address) []Level {
	if d != nil {
		if l, ok := d.Rules.(Levels); ok {
			return l.Levels(a)
		}
	}
	return nil
}
