package protocol

import (
	"time"

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
	// Factor and Offset scale it, a factor of 0 stands for 1; Decimals are how many are
	// shown, nil for as many as it needs.
	Factor, Offset float64
	Decimals       *int
	// Low and High bound the scaled values that make sense, nil for not known, and Names
	// are those of values.
	Low, High *float64
	Names     map[int]string
	// Source is where what stands there comes from, in words, where something carries it there.
	Source string
	// Told is how the device groups it with others that it tells of, as site.Point has it, and Band by
	// how much it has to move for that, scaled.
	Told string
	Band float64
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

// Describes is the ability of a protocol for whose devices there are files that
// say which places they have.
type Describes interface {
	// Description is what such a file is called, in small letters and the plural:
	// "electronic data sheets".
	Description() string
	// Described reports whether a file is such a one, by how it begins.
	Described(data []byte) bool
	// Describe reads one. What of it cannot be read is told with its place, and
	// the rest is read; it fails where nothing can be.
	Describe(data []byte) (held []Held, unread []Unread, err error)
}

// DescribesOut is the ability of those Describes whose files are written, too.
type DescribesOut interface {
	// DescribeOut is places of an end as a file, as of a time.
	DescribeOut(of Whose, held []Held, at time.Time) []byte
	// DescribedAs is how the names of such files end, ".xml", and what they are: "application/xml".
	DescribedAs() (ending, media string)
}

// DescribesBeside is the ability of those DescribesOut whose files refer to another one, which goes with them. Read,
// the
// one may be joined to the other.
type DescribesBeside interface {
	// Beside is what the other file is called, in small letters: "list of state texts".
	Beside() string
	// BesideAs is how its names end.
	BesideAs() string
	// BesideOut is that to which the file of the same places refers.
	BesideOut(of Whose, held []Held) []byte
}

// Whose says whose places they are.
type Whose struct {
	Site, Name string
	Settings   Settings // of the answering end
}

// DescribesOut returns the ability of d to write files that describe its devices.
func (d *Def) DescribesOut() (DescribesOut, bool) {
	if d == nil {
		return nil, false
	}
	a, ok := d.Rules.(DescribesOut)
	return a, ok
}

// Unread is a place of a file that could not be read.
type Unread struct {
	Line   int    // from 1
	What   string // what stands there
	Reason string
}

// Describes returns the ability of d to read files that describe its devices.
func (d *Def) Describes() (Describes, bool) {
	if d == nil {
		return nil, false
	}
	a, ok := d.Rules.(Describes)
	return a, ok
}

// Draws is the ability of a protocol whose devices can be made out of a file that
// describes them: with what both ends of the link are set to, and the map.
type Draws interface {
	// Drawing reports whether a file is such a one, by how it begins.
	Drawing(data []byte) bool
	// Draw reads one. Where it describes several ways to connect, choice is which.
	Draw(data []byte, choice int) (Drawn, error)
}

// Drawn is a device as a file describes it.
type Drawn struct {
	Name, Model, Remark string
	// Ask and Answer are the settings of both ends, Unknown the keys of those of the
	// answering end that the file does not tell.
	Ask, Answer Settings
	Unknown     []string
	// Held is the map, in the addressing of the protocol, and Sizes how many units of
	// each area the device has. Aside is what can be read in another protocol, and
	// AsideOf its name.
	Held    []Held
	Sizes   map[string]int
	Aside   []Held
	AsideOf string
	// Connections and PerSecond are what the device bears, 0 for not told.
	Connections int
	PerSecond   float64
	// Choices are the ways to connect.
	Choices []string
	Unread  []Unread
	// FileKey is the setting of the answering end that names the file itself, where Ferry can be the
	// device and is built of it; empty for none.
	FileKey string
}

// Draws returns the ability of d to make devices out of files.
func (d *Def) Draws() (Draws, bool) {
	if d == nil {
		return nil, false
	}
	a, ok := d.Rules.(Draws)
	return a, ok
}

// DrawnBy finds the protocol by whose rules a file describes a device.
func DrawnBy(data []byte) (*Def, Draws) {
	for _, d := range All() {
		if a, ok := d.Draws(); ok && a.Drawing(data) {
			return d, a
		}
	}
	return nil, nil
}
