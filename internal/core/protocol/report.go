package protocol

import (
	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Reports is the ability of a protocol whose answering ends send values without
// being asked for each: by subscription, in cycles, or as they please.
type Reports interface {
	// Expected lists what comes over a link for these points, with such settings
	// of its asking end.
	Expected(settings Settings, wanted []Wanted) []Load
	// Lapse says how long nothing at all may come.
	Lapse(settings Settings) Lapse
}

// Told is the ability of a protocol whose messages can be read where they are heard, each
// for itself.
type Told interface {
	// ToldAs is the name under which a place is told of.
	ToldAs(a address.Address) string
	// Unreadable says why a payload holds no value of a place; empty where it does.
	Unreadable(w Wanted, payload []byte) string
}

// Wanted is a point that is to be reported, or written by its name.
type Wanted struct {
	ID      string
	Address address.Address
	Shape   value.Shape
	PaceMs  int // at which it is wanted, 0 for once
	// Band is by how much what stands there has to move until it is told, before any scale; 0
	// for not at all.
	Band float64
}

// Deadbands is the ability of a protocol whose devices can be asked to tell of a value only once
// it has moved so far.
type Deadbands interface{ Deadbands() }

// Deadbands reports whether d has it.
func (d *Def) Deadbands() bool {
	if d == nil {
		return false
	}
	_, ok := d.Rules.(Deadbands)
	return ok
}

// Load is something that takes the time of a link again and again, though this
// end does not ask for it each time.
type Load struct {
	Title string // what comes, as a list names it
	// Octets is how much, with all framing and whatever confirms it, and PeriodMs
	// how often, where it comes in cycles; for events the rate that is assumed.
	Octets   int
	PeriodMs float64
	Event    bool
	// ToldMs is how long a change that the far end has seen waits at most until it is told; 0
	// for not known. What comes in cycles waits for its cycle.
	ToldMs float64
	Points []string // ids of those that it brings, or takes along
	// Sent is set where this end sends it: of its points nothing comes by it.
	Sent bool
}

// Lapse is what silence of an end that reports means. A point that reports on
// change is not old for being quiet: what must come is any sign of life.
type Lapse struct {
	// AfterMs is how long nothing may come, keep-alives included; 0 for as long
	// as the connection stands.
	AfterMs int
	// Quality is what its values are from then on, Doubtful or Bad.
	Quality value.Quality
}

// Reports returns the ability of d to send values without being asked.
func (d *Def) Reports() (Reports, bool) {
	if d == nil {
		return nil, false
	}
	r, ok := d.Rules.(Reports)
	return r, ok
}
