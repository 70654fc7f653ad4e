// Package configured takes apart the octets with which a connection is opened: each is
// that of a point of the map, whose value is seen and set in its own words.
package configured

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Configuration is one with its points in the order of their places.
type Configuration struct {
	Area string `json:"area"`
	// Octets is how many are sent, and Wants how many the device wants, -1 for not known.
	Octets int    `json:"octets"`
	Wants  int    `json:"wants"`
	Hex    string `json:"hex"`
	// Free are those of them that no point has.
	Free int `json:"free"`
	// Problem says why the octets cannot be read as they are set, empty where they can.
	Problem    string      `json:"problem,omitempty"`
	Parameters []Parameter `json:"parameters"`

	octets []byte
}

// Parameter is a point of a configuration.
type Parameter struct {
	Point  string        `json:"point"`
	Name   string        `json:"name"`
	Place  string        `json:"place"`
	Shown  string        `json:"shown"` // empty where it is not sent
	Unit   string        `json:"unit,omitempty"`
	Remark string        `json:"remark,omitempty"`
	Names  []site.Naming `json:"names,omitempty"`
	// Limits are the values that make sense, in words, empty for not known; Beyond is set
	// where the one that is sent is none of them.
	Limits string `json:"limits,omitempty"`
	Beyond bool   `json:"beyond"`
	// Problem says why it cannot be read.
	Problem string `json:"problem,omitempty"`
	// Device is what the device holds there, once it has been asked; Differs is set where
	// that is something else.
	Device  string `json:"device,omitempty"`
	Differs bool   `json:"differs"`
}

// part is what a link and its device say of a configuration.
type part struct {
	rules  protocol.Configures
	link   *site.Link
	device *site.Device
	port   *site.Port
	shape  block.Shape
	area   block.Area
	octets []byte
	wants  int
	err    error
}

func partOf(s *site.Site, l *site.Link) (p part, ok bool) {
	def, _ := protocol.Named(l.Protocol)
	if p.rules, ok = def.Configures(); !ok {
		return p, false
	}
	p.link, p.device = l, s.Device(l.Answering)
	if p.device == nil {
		return p, false
	}
	if p.port = p.device.PortFor(l); p.port == nil {
		return p, false
	}
	var key string
	key, p.octets, p.err = p.rules.Configured(l.Settings)
	p.wants = p.rules.Wants(p.port.Settings, p.port.Knows)
	if p.shape, ok = block.ShapeOf(def.Scheme); !ok {
		return p, false
	}
	p.area, ok = p.shape.Area(key)
	return p, ok
}

// points are those of the configuration that a link carries, in the order of their places.
func (p *part) points() (list []*site.Point) {
	for i := range p.device.Points {
		if point := &p.device.Points[i]; point.Place().Area == p.area.Key && (point.Link == "" || point.Link == p.link.ID) &&
			(point.Map == "" && p.device.Map == p.link.Protocol || point.Map == p.link.Protocol) {
			list = append(list, point)
		}
	}
	slices.SortFunc(list, func(a, b *site.Point) int { return block.Compare(p.shape, a.Address, b.Address) })
	return list
}

// Of takes the configuration of a link apart; nil where it has none, and no point either.
func Of(s *site.Site, l *site.Link) *Configuration {
	p, ok := partOf(s, l)
	if !ok {
		return nil
	}
	points := p.points()
	if len(points) == 0 && len(p.octets) == 0 && p.wants <= 0 && p.err == nil {
		return nil
	}
	v := &Configuration{Area: p.area.Key, Octets: len(p.octets), Wants: p.wants, Hex: spaced(p.octets),
		Parameters: []Parameter{}, octets: p.octets}
	if p.err != nil {
		v.Problem = p.err.Error()
	}
	taken := make([]bool, len(p.octets))
	for _, point := range points {
		each := Parameter{Point: point.ID, Name: point.Name, Place: p.shape.Short(point.Address), Unit: point.Unit,
			Remark: point.Remark, Names: point.Names, Limits: limits(point)}
		raw, err := p.read(point, p.octets)
		if err != nil {
			each.Problem = err.Error()
		} else {
			scaled := point.Scale().Apply(raw)
			each.Shown, each.Beyond = point.Shown(scaled), beyond(point, scaled)
		}
		from := int(point.Place().Offset)
		for i := from; i < from+point.Units(p.area.UnitBits) && i < len(taken); i++ {
			taken[i] = true
		}
		v.Parameters = append(v.Parameters, each)
	}
	for _, is := range taken {
		if !is {
			v.Free++
		}
	}
	return v
}

// read reads the raw value of a point.
func (p *part) read(point *site.Point, octets []byte) (value.Value, error) {
	codec, err := point.Codec(p.area.UnitBits)
	if err != nil {
		return value.Value{}, err
	}
	from := int(point.Place().Offset)
	if from+codec.Width() > len(octets) {
		return value.Value{}, fmt.Errorf("it is not sent: the configuration has %d octets", len(octets))
	}
	return codec.Decode(octets[from:], value.Value{})
}

func limits(p *site.Point) string {
	switch {
	case p.Low != nil && p.High != nil:
		return p.Shown(value.OfFloat(*p.Low)) + " to " + p.Shown(value.OfFloat(*p.High))
	case p.Low != nil:
		return "from " + p.Shown(value.OfFloat(*p.Low))
	case p.High != nil:
		return "to " + p.Shown(value.OfFloat(*p.High))
	}
	return ""
}

func beyond(p *site.Point, v value.Value) bool {
	if k := v.Kind(); k != value.Int && k != value.Uint && k != value.Float {
		return false
	}
	return p.Low != nil && v.Float() < *p.Low || p.High != nil && v.Float() > *p.High
}

// Beside sets what the device holds beside what is sent.
func (v *Configuration) Beside(s *site.Site, l *site.Link, held []byte) {
	p, ok := partOf(s, l)
	if !ok {
		return
	}
	for i, point := range p.points() {
		if i >= len(v.Parameters) || v.Parameters[i].Point != point.ID {
			return // the map has just changed
		}
		each := &v.Parameters[i]
		raw, err := p.read(point, held)
		if err != nil {
			each.Device, each.Differs = "none", true
			continue
		}
		each.Device = point.Shown(point.Scale().Apply(raw))
		sent, err := p.read(point, v.octets)
		each.Differs = err != nil || sent != raw
	}
}

// Same reports whether a device holds the octets that are sent.
func (v *Configuration) Same(held []byte) bool { return bytes.Equal(v.octets, held) }

// most bounds the octets of a configuration.
const most = 500

// Set returns the edit that has a value of a point sent, in engineering units as a person
// types it. What is sent grows to as many octets as the device wants, or the point needs.
func Set(s *site.Site, l *site.Link, pointID, text string) (site.Edit, error) {
	p, ok := partOf(s, l)
	var point *site.Point
	if ok {
		for _, each := range p.points() {
			if each.ID == pointID {
				point = each
			}
		}
	}
	if point == nil {
		return site.Edit{}, problem.New("gone", "The point is no part of the configuration of this link.",
			"Reload to see what changed.").At(pointID)
	}
	where := p.device.Name + " · " + point.Name
	if p.err != nil {
		return site.Edit{}, problem.New("invalid", "The configuration cannot be read as it is set: "+p.err.Error()+".",
			"Put its octets right first.").At(where)
	}
	wanted, err := point.ParseValue(text)
	if err != nil {
		return site.Edit{}, problem.New("bad-value", err.Error()+".", "").At(where)
	}
	codec, err := point.Codec(p.area.UnitBits)
	if err != nil {
		return site.Edit{}, problem.From(err, "invalid").At(where)
	}
	from := int(point.Place().Offset)
	size := max(len(p.octets), from+codec.Width(), p.wants)
	if size > most {
		return site.Edit{}, problem.New("does-not-fit",
			fmt.Sprintf("The configuration would have %d octets: %d are the most.", size, most), "").At(where)
	}
	octets := append(bytes.Clone(p.octets), make([]byte, size-len(p.octets))...)
	raw := point.Scale().Invert(wanted)
	if raw.Kind() == value.Float && point.Type.IsWhole() {
		raw = value.OfFloat(math.Round(raw.Float()))
	}
	if err := codec.Encode(raw, octets[from:from+codec.Width()]); err != nil {
		return site.Edit{}, problem.New("does-not-fit", err.Error()+".", "Give a value that the point can hold.").At(where)
	}
	return send(l, p.rules, octets), nil
}

// Take returns the edit that has what a device holds sent to it.
func Take(s *site.Site, l *site.Link, held []byte) (site.Edit, error) {
	p, ok := partOf(s, l)
	if !ok || len(held) == 0 || len(held) > most {
		return site.Edit{}, problem.New("invalid", fmt.Sprintf("A configuration of %d octets cannot be sent.", len(held)),
			"").At(l.ID)
	}
	return send(l, p.rules, held), nil
}

// send returns the edit of a link that has octets sent.
func send(l *site.Link, rules protocol.Configures, octets []byte) site.Edit {
	after := *l
	after.Settings = protocol.Settings{}
	for key, v := range l.Settings {
		after.Settings[key] = v
	}
	for key, v := range rules.Configure(octets) {
		after.Settings[key] = v
	}
	return site.Put(site.KindLink, l.ID, "", after)
}

func spaced(b []byte) string { return strings.ToUpper(fmt.Sprintf("% x", b)) }
