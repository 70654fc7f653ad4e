// Package site is the model of one commissioning job: its lines, devices,
// links, points and crossings, the rules that hold them together, and the one
// way in which they change.
package site

import (
	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
)

// Format and Version stand at the head of every site file.
const (
	Format  = "ferry-site"
	Version = 1
)

// Site is one commissioning job. A Site that others can see is never changed:
// Apply returns a new one that shares what stayed the same.
type Site struct {
	Format    string     `json:"format" jsonschema:"enum=ferry-site"`
	Version   int        `json:"version" jsonschema:"minimum=1"`
	Name      string     `json:"name"`
	Remark    string     `json:"remark,omitempty"`
	Lines     []Line     `json:"lines"`
	Devices   []Device   `json:"devices"`
	Links     []Link     `json:"links"`
	Crossings []Crossing `json:"crossings"`
	Lists     []List     `json:"lists,omitempty"`
	// Datasheets are the maps kept for device models, Structures the types of
	// structured points, Headings the tables whose columns were recognised.
	Datasheets []Datasheet `json:"datasheets,omitempty"`
	Structures []Structure `json:"structures,omitempty"`
	Headings   []Headings  `json:"headings,omitempty"`
	// Lookouts are what is watched for, Outlets who is told.
	Lookouts []Lookout `json:"lookouts,omitempty"`
	Outlets  []Outlet  `json:"outlets,omitempty"`
}

// New returns an empty site.
func New(name string) *Site {
	return &Site{Format: Format, Version: Version, Name: name, Lines: []Line{}, Devices: []Device{}, Links: []Link{},
		Crossings: []Crossing{}}
}

// Device is anything with a port on a line.
type Device struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Model  string `json:"model,omitempty"`
	Remark string `json:"remark,omitempty"`
	Ports  []Port `json:"ports"`
	// Map names the protocol whose addressing the points use.
	Map string `json:"map,omitempty" jsonschema:"description=protocol whose addressing the points use, by its name"`
	// Cabinet is where it is, for whoever walks past: a cabinet, a room, a tank row.
	Cabinet string `json:"cabinet,omitempty"`
	// Limits are what the device bears less than its protocol allows.
	Limits Limits `json:"limits,omitzero"`
	// Bench says which simulated device stands in for this one.
	Bench string `json:"bench,omitempty"`
	// Access is what must be switched on in the device before it answers, and
	// Ticks say what has been.
	Access []AccessLine `json:"access,omitempty"`
	Ticks  []Tick       `json:"ticks,omitempty"`
	// NamesFor lists the far sides that will carry the names of its points, by
	// the keys of regmap.NameRules.
	NamesFor []string `json:"namesFor,omitempty"`
	// Placements say which datasheets and structures its points came from.
	Placements []Placement `json:"placements,omitempty"`
	// Alive is the heartbeat that the device gives; nil for none.
	Alive *Alive `json:"alive,omitempty"`
	// Serving is set where Ferry itself is the device.
	Serving *Serving `json:"serving,omitempty"`
	Points  []Point  `json:"points"`

	whole *Device // of which this is a part; nil for none
}

// Alive is the heartbeat of a device: a point of it that has to change, or what else is
// read of it is doubted.
type Alive struct {
	Point string `json:"point"`
	// WithinMs is how long it may stand still.
	WithinMs int `json:"withinMs"`
}

// Limits of one device. A zero field means what the protocol allows.
type Limits struct {
	// MaxRegisters and MaxBits bound one request.
	MaxRegisters int `json:"maxRegisters,omitempty"`
	MaxBits      int `json:"maxBits,omitempty"`
	// Most bounds one request to an area, in units, more narrowly.
	Most map[string]int `json:"most,omitempty"`
	// Forbidden are units that must not be read, or cannot be.
	Forbidden []Units `json:"forbidden,omitempty"`
	// EvenRequests is set where a request must begin at an even wire offset
	// and ask for an even number of registers.
	EvenRequests bool `json:"evenRequests,omitempty"`
	// Connections is how many connections the device accepts at once, and
	// PerSecond how many requests a second it bears beside its real work.
	Connections int     `json:"connections,omitempty"`
	PerSecond   float64 `json:"perSecond,omitempty"`
	// NoBridging forbids to read over units that no point covers.
	NoBridging bool `json:"noBridging,omitempty"`
	// EvenPairs is set where the device serves values of two registers and
	// more only at even wire offsets.
	EvenPairs bool `json:"evenPairs,omitempty"`
	// Manners are codes of exchange.Manners: odd ways in which the device is
	// known to answer, though it is well.
	Manners []string `json:"manners,omitempty"`
	// Areas gives the declared size of an area in units, where it ends
	// before the protocol's own limit.
	Areas map[string]uint32 `json:"areas,omitempty"`
}

// Units is a run of units of an area.
type Units struct {
	Area  string `json:"area"`
	From  uint32 `json:"from"` // wire offset
	Count uint32 `json:"count"`
}

// Link is one asking end and one answering end that talk one protocol over a
// line.
type Link struct {
	ID        string `json:"id"`
	Asking    string `json:"asking"`
	Answering string `json:"answering"`
	Line      string `json:"line"`
	Protocol  string `json:"protocol"`
	// Settings of the asking end, as for Port.
	Settings protocol.Settings `json:"settings,omitempty"`
	Remark   string            `json:"remark,omitempty"`
	// Typed says what has been typed into the tool of the far end: the value that it was,
	// by the key of the line (protocol.TypedLine).
	Typed map[string]string `json:"typed,omitempty"`
}

// Places goes through the addresses of the points of d, powers of ten included.
func (d *Device) Places(yield func(address.Address) bool) {
	for i := range d.Points {
		if p := &d.Points[i]; !yield(p.Address) || !p.PowerAt.IsZero() && !yield(p.PowerAt) {
			return
		}
	}
}

// Line returns the line with the given id, or nil.
func (s *Site) Line(id string) *Line {
	for i := range s.Lines {
		if s.Lines[i].ID == id {
			return &s.Lines[i]
		}
	}
	return nil
}

// Device returns the device with the given id, or nil.
func (s *Site) Device(id string) *Device {
	for i := range s.Devices {
		if s.Devices[i].ID == id {
			return &s.Devices[i]
		}
	}
	return nil
}

// Link returns the link with the given id, or nil.
func (s *Site) Link(id string) *Link {
	for i := range s.Links {
		if s.Links[i].ID == id {
			return &s.Links[i]
		}
	}
	return nil
}

// Point returns the point with the given id and its device, or nil.
func (s *Site) Point(id string) (*Device, *Point) {
	for i := range s.Devices {
		for j := range s.Devices[i].Points {
			if s.Devices[i].Points[j].ID == id {
				return &s.Devices[i], &s.Devices[i].Points[j]
			}
		}
	}
	return nil, nil
}

// SharesPoints reports whether d and other have the very same points: a change
// of the site shares what it does not touch. False says nothing.
func (d *Device) SharesPoints(other *Device) bool {
	return len(d.Points) == len(other.Points) && (len(d.Points) == 0 || &d.Points[0] == &other.Points[0])
}

// Port returns the port of d on the given line, or nil.
func (d *Device) Port(line string) *Port {
	for i := range d.Ports {
		if d.Ports[i].Line == line {
			return &d.Ports[i]
		}
	}
	return nil
}
