// Package site is the model of one commissioning job: its lines, devices,
// links, points and crossings, the rules that hold them together, and the one
// way in which they change.
package site

import (
	"ferry/internal/core/address"
	"ferry/internal/core/value"
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
}

// Line is a shared medium.
type Line struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Medium  string `json:"medium" jsonschema:"enum=ethernet"`
	Network string `json:"network,omitempty" jsonschema:"description=IPv4 or IPv6 network in CIDR form, such as 192.0.2.0/24"`
	Gateway string `json:"gateway,omitempty"`
	Remark  string `json:"remark,omitempty"`
}

// Device is anything with a port on a line.
type Device struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Model  string `json:"model,omitempty"`
	Remark string `json:"remark,omitempty"`
	Ports  []Port `json:"ports"`
	// Map names the protocol whose addressing the points use.
	Map string `json:"map,omitempty" jsonschema:"description=protocol whose addressing the points use, such as modbus-tcp"`
	// Limits are what the device bears less than its protocol allows.
	Limits Limits `json:"limits,omitzero"`
	// Bench says which simulated device stands in for this one.
	Bench  string  `json:"bench,omitempty"`
	Points []Point `json:"points"`
}

// Port is where a device meets a line, and what its answering end is set to.
type Port struct {
	Line     string `json:"line"`
	Host     string `json:"host,omitempty" jsonschema:"description=IP address on an Ethernet line"`
	Protocol string `json:"protocol,omitempty"`
	// Settings of the answering end, by the keys of the protocol. A key that
	// is missing has the protocol's default.
	Settings map[string]int `json:"settings,omitempty"`
}

// Limits of one device. A zero field means what the protocol allows.
type Limits struct {
	// MaxRegisters and MaxBits bound one request.
	MaxRegisters int `json:"maxRegisters,omitempty"`
	MaxBits      int `json:"maxBits,omitempty"`
	// NoBridging forbids to read over units that no point covers.
	NoBridging bool `json:"noBridging,omitempty"`
	// Areas gives the declared size of an area in units, where it ends
	// before the protocol's own limit.
	Areas map[string]uint32 `json:"areas,omitempty"`
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
	Settings map[string]int `json:"settings,omitempty"`
	Remark   string         `json:"remark,omitempty"`
}

// Access says which way a point may be carried.
type Access string

// The ways of access, as the trade abbreviates them.
const (
	ReadOnly  Access = "r"
	ReadWrite Access = "rw"
	WriteOnly Access = "w"
)

// Point is one named value of a device.
type Point struct {
	ID      string          `json:"id"`
	Name    string          `json:"name"`
	Address address.Address `json:"address"`
	Type    value.Type      `json:"type"`
	// Length of a text in characters (bytes on the wire).
	Length int         `json:"length,omitempty"`
	Order  value.Order `json:"order,omitempty"`
	// Factor 0 or missing stands for 1: see value.Linear.
	Factor float64 `json:"factor,omitempty"`
	Offset float64 `json:"offset,omitempty"`
	Unit   string  `json:"unit,omitempty"`
	// Decimals shown; missing means as many as the value needs.
	Decimals *int `json:"decimals,omitempty"`
	// PaceMs is the time between two reads in milliseconds, 0 for a point
	// that is read once when a run starts.
	PaceMs int    `json:"paceMs"`
	Access Access `json:"access" jsonschema:"enum=r,enum=rw,enum=w"`
	Remark string `json:"remark,omitempty"`
}

// Scale returns the linear scale of p.
func (p *Point) Scale() value.Linear { return value.Linear{Factor: p.Factor, Offset: p.Offset} }

// Codec returns the codec for p's type, order, length and bit.
func (p *Point) Codec() (value.Codec, error) {
	return value.NewCodec(p.Type, p.Order, p.Address.Bit(), p.Length)
}

// Units returns how many units of the given width in bits p covers.
func (p *Point) Units(unitBits int) int {
	if p.Type == value.TypeBool {
		return 1
	}
	return (p.Type.Bytes(p.Length)*8 + unitBits - 1) / unitBits
}

// Shown prints v with p's decimals, without the unit.
func (p *Point) Shown(v value.Value) string {
	if p.Decimals == nil {
		return v.Format(-1)
	}
	return v.Format(*p.Decimals)
}

// Crossing carries one point into another:
//
//	to = from × Factor + Offset, written when it differs by Deadband or more
//
// from what was written last.
type Crossing struct {
	ID       string  `json:"id"`
	From     string  `json:"from"`
	To       string  `json:"to"`
	Factor   float64 `json:"factor,omitempty"`
	Offset   float64 `json:"offset,omitempty"`
	Deadband float64 `json:"deadband,omitempty"`
	Off      bool    `json:"off,omitempty"`
	Remark   string  `json:"remark,omitempty"`
}

// Scale returns the linear scale of c.
func (c *Crossing) Scale() value.Linear { return value.Linear{Factor: c.Factor, Offset: c.Offset} }

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

// LinkTo returns the first link whose answering end is the given device.
func (s *Site) LinkTo(device string) *Link {
	for i := range s.Links {
		if s.Links[i].Answering == device {
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

// Port returns the port of d on the given line, or nil.
func (d *Device) Port(line string) *Port {
	for i := range d.Ports {
		if d.Ports[i].Line == line {
			return &d.Ports[i]
		}
	}
	return nil
}
