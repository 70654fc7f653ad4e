package field

import (
	"context"

	"ferry/internal/core/address"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Level is a level at which a value is commanded, and what somebody commands there.
type Level struct {
	Address string `json:"address"`
	Title   string `json:"title"`
	// Closed is set where nobody writes it so, Usual for the one at which the link of the point writes.
	Closed bool `json:"closed,omitempty"`
	Usual  bool `json:"usual,omitempty"`
	// Held is set where somebody commands it, Value is what, as shown; Reason says why it is not known.
	Held   bool   `json:"held"`
	Value  string `json:"value,omitempty"`
	Reason string `json:"reason,omitempty"`
}

// Commanding is who commands a value.
type Commanding struct {
	Levels []Level `json:"levels"`
}

// Levels asks the device of a point at which levels its value is commanded; there are none for most values.
func (e *Engine) Levels(ctx context.Context, pointID string) (Commanding, error) {
	is := Commanding{Levels: []Level{}}
	now := e.Site()
	d, p := now.Point(pointID)
	if p == nil {
		return is, problem.New("gone", "The point is no longer in the site.", "Reload to see what changed.").At(pointID)
	}
	link := now.LinkOf(d, p)
	if link == nil {
		return is, nil
	}
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return is, problem.From(err, "protocol").At(d.Name)
	}
	levels := def.Levels(p.Address)
	if len(levels) == 0 {
		return is, nil
	}
	var ask []address.Address
	for i := range levels {
		ask = append(ask, levels[i].At)
	}
	looked, err := e.Look(ctx, link.ID, ask)
	if err != nil {
		return is, err
	}
	usual := def.Rules.(protocol.Levels).Level(p.Address, link.Settings)
	for i := range levels {
		l := Level{Address: def.Scheme.Short(levels[i].At), Title: levels[i].Title, Closed: levels[i].Closed,
			Usual: levels[i].At == usual}
		if looked[i].Presence == protocol.Here && !looked[i].Value.IsNone() {
			l.Held = true
			v := looked[i].Value
			if as, err := value.As(v, p.Shape(0)); err == nil {
				v = p.Scale().Apply(as)
			}
			l.Value = p.Shown(v)
		} else if looked[i].Presence != protocol.Unclear {
			l.Reason = looked[i].Reason
		}
		is.Levels = append(is.Levels, l)
	}
	return is, nil
}

// At says at which level an order is given, and whether it gives the level up.
type At struct {
	// Level is the address of it; empty for that of the link.
	Level  string
	GiveUp bool
}

// atLevel has an order be about a level.
func (o *order) atLevel(at At) error {
	if at.Level == "" && !at.GiveUp {
		return nil
	}
	levels := o.def.Levels(o.point.Address)
	for i := range levels {
		l := &levels[i]
		if o.def.Scheme.Short(l.At) == at.Level && !l.Closed {
			o.level, o.levelTitle, o.gives = l.At, l.Title, at.GiveUp
			return nil
		}
	}
	return problem.New("no-level", "The value has no such level at which it could be commanded.",
		"Choose one that the device lists.").At(o.where)
}
