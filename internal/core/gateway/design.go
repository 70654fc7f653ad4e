package gateway

import (
	"cmp"
	"fmt"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Design is what is wanted.
type Design struct {
	// Line is the line that the meters are on, by its id; a new one is made where it is empty.
	Line    string  `json:"line"`
	NewLine NewLine `json:"newLine"`
	// PaceMs is how often everything is read, 0 for as the lists say; Fastest has it be as often as the line can.
	PaceMs  int  `json:"paceMs,omitempty"`
	Fastest bool `json:"fastest,omitempty"`
	// All has what is on the line already be read at that pace, too.
	All    bool     `json:"all,omitempty"`
	Models []Model  `json:"models"`
	Meters []Meter  `json:"meters"`
	As     Upstream `json:"as"`
	Reader Reader   `json:"reader"`
}

// NewLine is a serial line that is not there yet.
type NewLine struct {
	Name    string          `json:"name"`
	Format  serial.Format   `json:"format"`
	LengthM float64         `json:"lengthM,omitempty"`
	Kind    serial.Standard `json:"kind" jsonschema:"enum=tia-232,enum=tia-422,enum=tia-485-2w,enum=tia-485-4w"`
	Here    string          `json:"here,omitempty"` // the serial port of this machine, on the plant
}

// Model is a ready list, with those of its values that are wanted.
type Model struct {
	Datasheet string `json:"datasheet"`
	// Picks are the ids of its points, absent for the useful ones; More are added by hand.
	Picks []string `json:"picks,omitempty"`
	More  []Typed  `json:"more,omitempty"`
	// Bench is the simulated device that stands in for one.
	Bench string `json:"bench,omitempty"`
}

// Typed is a value that is added by hand, as its cells are typed into a map.
type Typed struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Type    string `json:"type"`
	Scale   string `json:"scale"`
	Unit    string `json:"unit"`
}

// point reads what was typed.
func (t *Typed) point(scheme address.Scheme) (site.Point, error) {
	p := site.Point{Type: value.TypeUint16, Access: site.ReadOnly, PaceMs: usualPace}
	for _, c := range []struct {
		column regmap.Column
		text   string
	}{{regmap.Name, t.Name}, {regmap.Address, t.Address}, {regmap.Type, t.Type}, {regmap.Scale, t.Scale},
		{regmap.Unit, t.Unit}} {
		if strings.TrimSpace(c.text) == "" && c.column != regmap.Name && c.column != regmap.Address &&
			c.column != regmap.Type {
			continue
		}
		if err := regmap.SetCell(scheme, &p, c.column, strings.TrimSpace(c.text)); err != nil {
			return p, fmt.Errorf("%s, added by hand: %w", cmp.Or(strings.TrimSpace(t.Name), "a value"), err)
		}
	}
	return p, site.CheckPoint(scheme, &p)
}

// usualPace is that of a value that is added by hand, in milliseconds.
const usualPace = 1000

// Meter is one device on the line: a new one of a model, or one that is there already.
type Meter struct {
	Name    string `json:"name"`
	Station int    `json:"station"`
	Model   int    `json:"model"` // its place among the models
	Device  string `json:"device,omitempty"`
}

// Upstream says as what the values are given on.
type Upstream struct {
	// Device is a gateway that is there already, by its id. It keeps its protocol, name, network and settings:
	// these say something of a new one only.
	Device   string            `json:"device,omitempty"`
	Protocol string            `json:"protocol"`
	Name     string            `json:"name"` // of the device that Ferry is
	Line     string            `json:"line"` // the network
	Host     string            `json:"host"`
	Settings protocol.Settings `json:"settings"`
	// Each makes a device of its own for each meter, behind the first.
	Each bool `json:"each,omitempty"`
	// Names is the template of the names: {device} and {point} stand for those of the meter.
	Names string `json:"names,omitempty"`
	// Writable has what is written at a meter be written by who reads, too.
	Writable bool `json:"writable,omitempty"`
}

// Reader is who reads.
type Reader struct {
	Name string `json:"name,omitempty"`
	Host string `json:"host,omitempty"` // its address
	// PaceMs is how often it reads, 0 where it is told of changes.
	PaceMs int `json:"paceMs,omitempty"`
	// Only lets nobody else read.
	Only bool `json:"only,omitempty"`
	// OldestMs is how old a value may be for it, 0 for not said.
	OldestMs int `json:"oldestMs,omitempty"`
}

// UsualNames is the template of names where none is given, and EachNames where each meter is a device of its own.
const (
	UsualNames = "{device} {point}"
	EachNames  = "{point}"
)

// perMeter is how many numbers of objects each meter has for itself, so that those of one are not moved by
// another.
const perMeter = 100

// perLine is how many such numbers a line has for itself: those of a second line begin behind those of the first.
const perLine = 300

// Made is a value of a meter and what it has become.
type Made struct {
	Meter   int     `json:"meter"` // its place in the order
	Point   string  `json:"point"` // ids
	Object  string  `json:"object"`
	At      string  `json:"at"`      // the address of the value at the meter
	Source  string  `json:"source"`  // its name there
	Address string  `json:"address"` // of what it has become
	Name    string  `json:"name"`
	Type    string  `json:"type"`
	Unit    string  `json:"unit"`
	Band    float64 `json:"band,omitempty"`
	PaceMs  int     `json:"paceMs"`
	// Lost says what of it cannot be kept.
	Lost string `json:"lost,omitempty"`
	// OldestMs is how old it gets here, and ReadMs how old at who reads; 0 for not known.
	OldestMs float64 `json:"oldestMs"`
	ReadMs   float64 `json:"readMs"`
}

// Built is a gateway that is made.
type Built struct {
	Edits   []site.Edit `json:"-"`
	Objects []Made      `json:"objects"`
	// Line is that of the meters, Devices those that Ferry is, the first the one that has the address.
	Line    string   `json:"line"`
	Devices []string `json:"devices"`
}
