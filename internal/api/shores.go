package api

import (
	"math"

	"ferry/internal/core/checkout"
	"ferry/internal/core/crossing"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// farOf lists the far shores of a point: into which it is carried, with what is to be
// expected there, and out of which it comes.
func (s *Server) farOf(g *checkout.Ground, p *site.Point) (list []FarView) {
	list = []FarView{}
	for _, x := range g.Crossings(p.ID) {
		other := x.To
		if x.To == p.ID {
			other = x.From
		}
		d, far := g.Point(other)
		if far == nil {
			continue
		}
		view := FarView{Crossing: x.ID, Point: far.ID, Name: d.Name + " · " + far.Name, Unit: far.Unit, Into: x.To == far.ID,
			Words: crossing.Words(x), Off: x.Off}
		view.Expected, view.Agrees = s.expected(g, x)
		list = append(list, view)
	}
	return list
}

// expected is what a crossing makes of its sources as they are now, and whether the target
// shows that, or what it made of them a moment ago: a value is on its way for a while. It is
// empty where it cannot be told.
func (s *Server) expected(g *checkout.Ground, x *site.Crossing) (shown string, agrees bool) {
	_, to := g.Point(x.To)
	var from []*site.Point
	var values []value.Value
	for _, id := range append([]string{x.From}, x.More...) {
		_, p := g.Point(id)
		live, ok := s.Engine.Hub.Point(id)
		if p == nil || !ok || live.AtMs == 0 || live.Quality == value.Bad {
			return "", false
		}
		from, values = append(from, p), append(values, live.Value)
	}
	way, err := crossing.NewWay(x, from, to)
	if err != nil || to == nil {
		return "", false
	}
	there, _ := s.Engine.Hub.Point(to.ID)
	made := func(values []value.Value) (string, bool) {
		v, err := way.Carry(values, there.Value)
		if err == nil {
			v, err = crossing.Fit(v, to)
		}
		return to.Shown(v), err == nil
	}
	shown, ok := made(values)
	switch {
	case !ok:
		return "", false
	case there.AtMs == 0 || there.Quality == value.Bad:
		return shown, false
	case shown == there.Shown:
		return shown, true
	case len(from) > 1 || from[0].Type.IsText():
		return shown, false
	}
	trend := s.Engine.Hub.Trend(x.From)
	for i := len(trend) - 1; i >= 0 && there.AtMs-trend[i].AtMs <= lookedBack(from[0]); i-- {
		if before, ok := made([]value.Value{earlier(values[0], trend[i].V)}); ok && before == there.Shown {
			return shown, true
		}
	}
	return shown, false
}

// earlier is a value of a trend as one of the kind that is read now.
func earlier(now value.Value, v float64) value.Value {
	switch now.Kind() {
	case value.Bool:
		return value.OfBool(v != 0)
	case value.Int:
		return value.OfInt(int64(v))
	case value.Uint:
		return value.OfUint(uint64(v))
	case value.Moment:
		return value.OfMoment(int64(math.Round(1000 * v)))
	case value.Span:
		return value.OfSpan(int64(math.Round(1000 * v)))
	}
	return value.OfFloat(v)
}

// recordedAs is a value of a trend as one of a point, of which nothing may be read now.
func recordedAs(p *site.Point, v float64) value.Value {
	switch {
	case p.Type == value.TypeBool:
		return value.OfBool(v != 0)
	case p.Type.IsWhole() && p.Range == nil && (p.Factor == 0 || p.Factor == 1) && p.Offset == 0:
		return value.OfInt(int64(v))
	}
	return value.OfFloat(v)
}
