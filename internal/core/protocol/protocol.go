// Package protocol keeps what the rules need to know of each protocol: its
// addressing, its settings, its limits and its cost on the wire. The bytes
// themselves are the business of package wire, the connections that of field.
package protocol

import (
	"fmt"
	"slices"
	"strconv"

	"ferry/internal/core/address"
)

// End says which end of a link has a setting.
type End string

// A setting belongs to both ends, and must then agree, or to one of them.
const (
	BothEnds  End = "both"
	Asking    End = "asking"
	Answering End = "answering"
)

// Setting is one number that an end of a link is set to.
type Setting struct {
	Key     string `json:"key"`
	Title   string `json:"title"`
	End     End    `json:"end"`
	Unit    string `json:"unit,omitempty"`
	Default int    `json:"default"`
	Least   int    `json:"least"`
	Most    int    `json:"most"`
	// Stop is the stop of the route at which a mismatch shows.
	Stop string `json:"stop"`
}

// Def is one protocol.
type Def struct {
	Name     string `json:"name"`     // as in files and URLs: "modbus-tcp"
	Title    string `json:"title"`    // as in words: "Modbus TCP"
	Asker    string `json:"asker"`    // the protocol's own word for the asking end
	Answerer string `json:"answerer"` // and for the answering end
	Medium   string `json:"medium"`   // medium of the lines it runs over
	// Usual is set for what is meant on such a line where nobody says another.
	Usual    bool      `json:"usual"`
	Settings []Setting `json:"settings"`
	// MapOnly is set where maps are written but no link speaks the protocol.
	MapOnly bool `json:"mapOnly,omitempty"`
	// Areas are those of Scheme, filled in by Register.
	Areas []address.Area `json:"areas"`

	// Scheme is the addressing of the maps that the protocol reads.
	Scheme address.Scheme `json:"-"`
	// MaxUnits is the most units of an area that one request may ask for.
	MaxUnits func(area string) int `json:"-"`
	// WireBytes gives the octets of a read request and of its answer, with
	// all framing down to the medium, for a number of units of an area.
	WireBytes func(area string, units int) (out, in int) `json:"-"`
	// WriteBytes gives the same for a write.
	WriteBytes func(area string, units int) (out, in int) `json:"-"`
	// Silence is set where frames are told apart by a silence before and after
	// them, as on a serial line.
	Silence bool `json:"-"`
	// Turns says what has to be shared between links, one request at a time.
	Turns Turns `json:"turns"`
	// Operation names a read in words: "read 12 holding @ 40001".
	Operation func(area string, address uint32, units int) string `json:"-"`
	// Function is the protocol's own name for reading an area.
	Function func(area string) string `json:"-"`
	// WriteFunction names the function that writes a value of so many units.
	WriteFunction func(area string, units int) string `json:"-"`
	// BadAddress is the error code for an address that the device has not.
	BadAddress int `json:"-"`
	// Divides reports whether a read that was refused with an error code may be
	// answered in parts: the device may bear less at once, or miss a place in it.
	Divides func(code int) bool `json:"-"`
	// Decline explains an error code of the protocol.
	Decline func(code int) Declined `json:"-"`
}

// Turns says among whom requests take turns.
type Turns string

// The resources that serve one request at a time.
const (
	TurnsOfLink    Turns = "link"    // each link has a connection of its own
	TurnsOfAddress Turns = "address" // all links to one address share a connection
	TurnsOfLine    Turns = "line"    // the whole line
)

// Declined is an error code of a protocol in words.
type Declined struct {
	Title  string // the standard's name of it
	Means  string // what the device says with it, as a sentence
	Causes string // what usually causes it, and what to do
	// Unsure is set where a write that was answered so may have been carried out,
	// or may be yet.
	Unsure bool
	// Beyond is set where it is said of something that the device asks in turn,
	// such as a unit behind a gateway: the device itself is not there.
	Beyond bool
}

// Setting finds a setting by its key.
func (d *Def) Setting(key string) (Setting, bool) {
	if d == nil {
		return Setting{}, false
	}
	i := slices.IndexFunc(d.Settings, func(s Setting) bool { return s.Key == key })
	if i < 0 {
		return Setting{}, false
	}
	return d.Settings[i], true
}

// Value returns the setting key from values, or its default.
func (d *Def) Value(values map[string]int, key string) int {
	if v, ok := values[key]; ok {
		return v
	}
	s, _ := d.Setting(key)
	return s.Default
}

// CheckSettings reports the first value that is out of range or unknown.
func (d *Def) CheckSettings(values map[string]int) error {
	for key, v := range values {
		s, ok := d.Setting(key)
		if !ok {
			return fmt.Errorf("%s has no setting %q", d.Title, key)
		}
		if v < s.Least || v > s.Most {
			return fmt.Errorf("%s is %d: give %d to %d", s.Title, v, s.Least, s.Most)
		}
	}
	return nil
}

var defs = map[string]*Def{}

// Register adds a protocol. Registering a name twice is a programming error.
func Register(d *Def) {
	if _, dup := defs[d.Name]; dup {
		panic("protocol registered twice: " + d.Name)
	}
	d.Areas = d.Scheme.Areas()
	defs[d.Name] = d
}

// Named returns a protocol by its name.
func Named(name string) (*Def, bool) {
	d, ok := defs[name]
	return d, ok
}

// All lists the protocols by name.
func All() []*Def {
	all := make([]*Def, 0, len(defs))
	for _, d := range defs {
		all = append(all, d)
	}
	slices.SortFunc(all, func(a, b *Def) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	return all
}

// UsualOn returns what is meant on lines of a medium where nobody says another
// protocol, or the first by name; nil where none runs over it.
func UsualOn(medium string) (usual *Def) {
	for _, d := range All() {
		if d.Medium == medium && !d.MapOnly && (usual == nil || d.Usual && !usual.Usual) {
			usual = d
		}
	}
	return usual
}

// MapOr returns the protocol that a map is written for: the one named, or the
// usual one where none is.
func MapOr(name string) string {
	if name == "" {
		return UsualOn("ethernet").Name
	}
	return name
}

// SchemeOf returns the addressing that a map is written in. A map names a
// protocol for it; protocols of one family share their scheme.
func SchemeOf(name string) (address.Scheme, error) {
	if d, ok := defs[name]; ok {
		return d.Scheme, nil
	}
	return nil, fmt.Errorf("protocol %s is not one that this version speaks", strconv.Quote(name))
}
