package protocol

import (
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Note is what is carried beside a value, where the far side can hold it.
type Note struct {
	Quality value.Quality
	Reason  string    // why it is not good
	Time    time.Time // when it was read
	Unit    string
	// Low and High are the limits of the value, nil for none.
	Low, High *float64
	// Text is what the value stands for, where that has a name.
	Text string
}

// Noting is the ability of those Items whose places can hold a Note.
type Noting interface {
	// Notes reports whether a place does, with such settings of the asking end.
	Notes(settings Settings, a address.Address) bool
}

// Seconds is the ability of a protocol in which a second client hears what a first has
// written.
type Seconds interface {
	// Second returns the settings of the asking end for such a client, which is another
	// than the first and changes nothing.
	Second(settings Settings) Settings
}

// Second returns the settings of a second client; ok is false where there is none.
func (d *Def) Second(settings Settings) (second Settings, ok bool) {
	if d == nil {
		return nil, false
	}
	s, ok := d.Rules.(Seconds)
	if !ok {
		return nil, false
	}
	return s.Second(settings), true
}

// Notes reports whether a place can hold a Note.
func (d *Def) Notes(settings Settings, a address.Address) bool {
	if d == nil {
		return false
	}
	n, ok := d.Rules.(Noting)
	return ok && n.Notes(settings, a)
}
