package protocol

import (
	"fmt"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/serial"
	"ferry/internal/core/value"
)

// Ranges is the ability of a protocol whose devices are asked for runs of
// units: the block shape.
type Ranges interface {
	// MaxUnits is the most units of an area that one range may have, with such
	// settings of the asking end.
	MaxUnits(settings Settings, area string) int
	// ReadBytes gives the octets of a request for some ranges and of its answer,
	// with all framing down to the medium.
	ReadBytes(ranges []block.Range) (out, in int)
	// WriteBytes gives the same for a write to so many units.
	WriteBytes(area string, units int) (out, in int)
	// Operation names a read in words.
	Operation(ranges []block.Range) string
	// Function is the protocol's own name for reading an area, WriteFunction for
	// writing a value of so many units.
	Function(area string) string
	WriteFunction(area string, units int) string
	// Absent reports whether an error code says that the device has no such
	// place, and Divides whether a read that was refused with it may be answered
	// in parts: the device may bear less at once, or miss a place in it.
	Absent(code int) bool
	Divides(code int) bool
}

// Items is the ability of a protocol whose places are written one by one, each by
// its name and with a value of its own type.
type Items interface {
	// Writable says why nothing can be written at an address; nil if something can.
	Writable(a address.Address) error
	// WriteItem is the protocol's own name for writing there.
	WriteItem(a address.Address) string
	// ItemBytes gives the octets of such a write and of its answer, with all
	// framing down to the medium.
	ItemBytes(a address.Address, shape value.Shape) (out, in int)
}

// Commands is the ability of those Items of which some places take commands: what was written there is
// not what is read there.
type Commands interface {
	Commands(a address.Address) bool
}

// Commands reports whether what is written to an address is a command.
func (d *Def) Commands(a address.Address) bool {
	if d == nil {
		return false
	}
	c, ok := d.Rules.(Commands)
	return ok && c.Commands(a)
}

// Batches is the ability of those Ranges that take several ranges in one
// request.
type Batches interface {
	// Room is what one request may hold, with such settings of the asking end.
	Room(settings Settings) block.Room
}

// Tables is the ability of those Ranges whose areas lists confuse with one
// another.
type Tables interface {
	// Alike lists the areas in which a value may be meant that a list has in
	// another.
	Alike(area string) []string
}

// BitWriter is the ability of those Ranges that write a bit of a unit and leave
// its neighbours as they are.
type BitWriter interface{ WritesBits() bool }

// Broadcasts is the ability to ask all stations of a line at once.
type Broadcasts interface {
	// ToAll reports whether settings name all stations rather than one.
	ToAll(settings Settings) bool
}

// Framed is the ability of a protocol whose frames are told apart by a silence
// before and after them, as on a serial line.
type Framed interface {
	// SilenceMs is how long that is on a line of such a format; 0 for none.
	SilenceMs(serial.Format) float64
}

// Explains is the ability to put error codes into words.
type Explains interface {
	// Decline explains an error code of the protocol.
	Decline(code int) Declined
}

// Declined is an error code of a protocol in words.
type Declined struct {
	// Finding is the code of the finding that it is heard as in traffic; empty for
	// "refused".
	Finding string
	Title   string // the standard's name of it
	// Octet is the code as the device's answer holds it, where the code is put together from more; 0
	// elsewhere.
	Octet  int
	Means  string // what the device says with it, as a sentence
	Causes string // what usually causes it, and what to do
	// Unsure is set where a write that was answered so may have been carried out,
	// or may be yet.
	Unsure bool
	// Access are the kinds of access line (site.AccessKind) whose absence shows
	// so; empty where the code does not tell.
	Access []string
	// Session is set where the device says with it that it does not talk with
	// this end at all, whatever it is asked.
	Session bool
	// Beyond is set where it is said of something that the device asks in turn,
	// such as a station behind a gateway: the device itself is not there.
	Beyond bool
	// Less is set where it is too much at once: who asks for less has it.
	Less bool
}

// Ranges returns the ability of d to be asked for runs of units.
func (d *Def) Ranges() (Ranges, bool) {
	if d == nil {
		return nil, false
	}
	r, ok := d.Rules.(Ranges)
	return r, ok
}

// Items returns the ability of d to write places by their names.
func (d *Def) Items() (Items, bool) {
	if d == nil {
		return nil, false
	}
	w, ok := d.Rules.(Items)
	return w, ok
}

// MaxUnits is the most units of an area that one range may have, with such
// settings of the asking end; 0 where nothing bounds it.
func (d *Def) MaxUnits(settings Settings, area string) int {
	if r, ok := d.Ranges(); ok {
		return r.MaxUnits(settings, area)
	}
	return 0
}

// Most returns MaxUnits for such settings.
func (d *Def) Most(settings Settings) func(area string) int {
	return func(area string) int { return d.MaxUnits(settings, area) }
}

// SilenceMs is the silence that parts frames on a line of such a format; 0 for
// none.
func (d *Def) SilenceMs(format serial.Format) float64 {
	if d == nil {
		return 0
	}
	if f, ok := d.Rules.(Framed); ok {
		return f.SilenceMs(format)
	}
	return 0
}

// WritesBits reports whether a bit is written alone.
func (d *Def) WritesBits() bool {
	w, ok := d.Rules.(BitWriter)
	return ok && w.WritesBits()
}

// ToAll reports whether settings name all stations of a line at once.
func (d *Def) ToAll(settings Settings) bool {
	b, ok := d.Rules.(Broadcasts)
	return ok && b.ToAll(settings)
}

// Sent is the code as the device sent it.
func (d Declined) Sent(code int) int {
	if d.Octet != 0 {
		return d.Octet
	}
	return code
}

// Decline explains an error code, as well as the protocol can.
func (d *Def) Decline(code int) Declined {
	if d != nil {
		if e, ok := d.Rules.(Explains); ok {
			return e.Decline(code)
		}
	}
	return Declined{Title: fmt.Sprintf("code %d", code), Means: "The device refuses with a code of its own.",
		Causes: "Look the code up in the device's own manual.", Unsure: true}
}
