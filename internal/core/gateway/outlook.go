package gateway

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"

	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
)

// Growth is the line with so many meters, those that are there already included.
type Growth struct {
	Meters int `json:"meters"`
	// PaceMs is how often everything is read, 0 for as the lists say.
	PaceMs int `json:"paceMs,omitempty"`
	// OldestMs is the oldest that any value gets, ReadMs that at who reads.
	OldestMs    float64 `json:"oldestMs"`
	ReadMs      float64 `json:"readMs"`
	Utilisation float64 `json:"utilisation"`
	Holds       bool    `json:"holds"`
	// Assumed is set where there are more than the order has: others of the last model.
	Assumed bool `json:"assumed,omitempty"`
}

// Forecast is what a gateway does as it is ordered, and how that grows.
type Forecast struct {
	Built *Built `json:"built"`
	// PaceMs is how often everything is read, 0 for as the lists say.
	PaceMs int `json:"paceMs,omitempty"`
	// Already is how many devices answer on the line without those of the order. Steps are the line with one more
	// than these, two, and so on, up to what a line bears.
	Already int      `json:"already"`
	Steps   []Growth `json:"steps"`
	// Most is how many meters the line bears by its drivers, Good how many of these keep all paces and the age that
	// who reads allows.
	Most int `json:"most"`
	Good int `json:"good"`
	// Due says when a second line is due, Fast what else would help.
	Due  string `json:"due"`
	Fast string `json:"fast,omitempty"`
}

// mostOnLine is how many meters the drivers of a line bear, besides who asks: 32 loads (TIA-485-A, clause 4.1).
const mostOnLine = 31

// Settle returns the order with the pace at which everything is read where that is to be the fastest that the line
// can: a round of all requests with something to spare.
func Settle(ctx context.Context, s *site.Site, o *Design, sheet func(id string) *site.Datasheet) (*Design, error) {
	settled := *o
	if !o.Fastest {
		return &settled, nil
	}
	const slow = 3_600_000 // at which any line holds
	settled.PaceMs = slow
	_, plan, line, err := compiled(ctx, s, &settled, sheet)
	if err != nil {
		return nil, err
	}
	for pace := spare * plan.Of(line).RoundMs; ; pace *= spare {
		settled.PaceMs = max(leastPace, int(math.Ceil(pace/paceStep))*paceStep)
		if _, plan, line, err = compiled(ctx, s, &settled, sheet); err != nil || plan.Of(line).Holds ||
			settled.PaceMs >= slow {
			settled.PaceMs = min(settled.PaceMs, slow)
			return &settled, err
		}
	}
}

// spare is how much longer a pace is than what it has to hold, paceStep in which steps it goes, in milliseconds.
const (
	spare     = 1.05
	paceStep  = 10
	leastPace = 100
)

// compiled is the line as it is with an order.
func compiled(ctx context.Context, s *site.Site, o *Design, sheet func(id string) *site.Datasheet) (*Built,
	*timetable.Plan, string, error) {
	n := 0
	built, err := Build(s, o, sheet, func() string { n++; return "gateway-" + strconv.Itoa(n) })
	if err != nil {
		return nil, nil, "", err
	}
	next, _, err := s.Apply(built.Edits)
	if err != nil {
		return nil, nil, "", err
	}
	if err := ctx.Err(); err != nil {
		return nil, nil, "", err
	}
	return built, timetable.CompileLine(ctx, next, built.Line), built.Line, ctx.Err()
}

// Look builds a gateway without keeping it, and works out how old its values get.
func Look(ctx context.Context, s *site.Site, o *Design, sheet func(id string) *site.Datasheet) (*Forecast, error) {
	look := &Forecast{Most: mostOnLine, Already: already(s, o)}
	part := narrowed(s, o)
	last := max(mostOnLine-look.Already, len(o.Meters))
	for meters := 1; meters <= last; meters++ {
		in := part
		if meters == len(o.Meters) {
			in = s // which also says what of the whole does not go together
		}
		step, built, plan, err := stepOf(ctx, in, o, sheet, meters)
		if err != nil {
			if meters > len(o.Meters) && ctx.Err() == nil {
				break // there are no free numbers for more
			}
			return nil, err
		}
		if meters == len(o.Meters) {
			built.ages(plan, o)
			look.Built, look.PaceMs = built, step.PaceMs
		}
		step.Meters += look.Already
		look.Steps = append(look.Steps, step)
	}
	look.judge(o)
	return look, nil
}

// already is how many devices answer on the line of an order that are none of its meters.
func already(s *site.Site, o *Design) int {
	on := map[string]bool{}
	for i := range s.Links {
		if k := &s.Links[i]; k.Line == o.Line && o.Line != "" {
			on[k.Answering] = true
		}
	}
	for i := range o.Meters {
		delete(on, o.Meters[i].Device)
	}
	return len(on)
}

// narrowed is the part of a site that has to do with the line of a gateway, and its network.
func narrowed(s *site.Site, o *Design) *site.Site {
	part := *s
	part.Crossings, part.Lists, part.Lookouts, part.Outlets = nil, nil, nil, nil
	part.Links, part.Devices = nil, nil
	needed := map[string]bool{o.As.Device: true}
	for i := range s.Links {
		if k := &s.Links[i]; k.Line == o.Line && o.Line != "" {
			part.Links = append(part.Links, *k)
			needed[k.Asking], needed[k.Answering] = true, true
		}
	}
	for i := range o.Meters {
		needed[o.Meters[i].Device] = true
	}
	for i := range s.Devices {
		if d := &s.Devices[i]; needed[d.ID] || o.Line != "" && d.Port(o.Line) != nil {
			part.Devices = append(part.Devices, *d)
		}
	}
	return &part
}

// stepOf is the line with so many meters.
func stepOf(ctx context.Context, s *site.Site, o *Design, sheet func(id string) *site.Datasheet, meters int) (Growth,
	*Built, *timetable.Plan, error) {
	part := *o
	part.Meters = slices.Clone(o.Meters[:min(meters, len(o.Meters))])
	step := Growth{Meters: meters, Assumed: meters > len(o.Meters)}
	for len(part.Meters) < meters {
		part.Meters = append(part.Meters, another(s, &part))
	}
	settled, err := Settle(ctx, s, &part, sheet)
	if err != nil {
		return step, nil, nil, err
	}
	built, plan, line, err := compiled(ctx, s, settled, sheet)
	if err != nil {
		return step, nil, nil, err
	}
	load := plan.Of(line)
	step.PaceMs, step.OldestMs, step.Utilisation, step.Holds = settled.PaceMs, load.OldestMs, load.Utilisation, load.Holds
	step.ReadMs = step.OldestMs + float64(o.Reader.PaceMs)
	return step, built, plan, nil
}

// another is a meter more, like the last, at the first station that is free.
func another(s *site.Site, o *Design) Meter {
	last := o.Meters[len(o.Meters)-1]
	m := Meter{Model: last.Model}
	if last.Device != "" || m.Model >= len(o.Models) {
		m.Model = max(0, len(o.Models)-1)
	}
	taken := stationsOn(s, o.Line)
	for i := range o.Meters {
		taken[o.Meters[i].Station] = true
	}
	for m.Station = 1; taken[m.Station]; m.Station++ {
	}
	m.Name = fmt.Sprintf("Meter %d more", m.Station)
	return m
}

// ages gives each object how old it gets.
func (b *Built) ages(plan *timetable.Plan, o *Design) {
	oldest := map[string]float64{}
	for i := range plan.Requests {
		r := &plan.Requests[i]
		for _, p := range r.Points {
			oldest[p] = max(oldest[p], r.OldestMs)
		}
	}
	for i := range b.Objects {
		x := &b.Objects[i]
		x.OldestMs = oldest[x.Point]
		x.ReadMs = x.OldestMs + float64(o.Reader.PaceMs)
	}
}

// judge says how many meters the line bears, and when a second one is due.
func (l *Forecast) judge(o *Design) {
	now := l.Already + len(o.Meters)
	why, old := "", false
	l.Good = l.Already
	for i := range l.Steps {
		s := &l.Steps[i]
		switch {
		case !s.Holds:
			why = fmt.Sprintf("with %d the paces no longer hold", s.Meters)
		case o.Reader.OldestMs > 0 && s.ReadMs > float64(o.Reader.OldestMs):
			old = true
			why = fmt.Sprintf("with %d a value gets %s old, and %s is allowed", s.Meters, seconds(s.ReadMs),
				seconds(float64(o.Reader.OldestMs)))
		case s.Meters > mostOnLine:
			why = fmt.Sprintf("its drivers bear %d", mostOnLine)
		}
		if why != "" {
			break
		}
		l.Good = s.Meters
	}
	switch {
	case why == "" && l.Good < mostOnLine:
		l.Due = fmt.Sprintf("The line bears these %d. How many more it bears is said once a model of them is chosen.", l.Good)
	case why == "":
		l.Due = fmt.Sprintf("One line bears all %d meters that its drivers do.", l.Good)
	case now > l.Good && l.Good == 0:
		l.Due = "Not even one meter keeps this: " + why + "."
	case now > l.Good:
		l.Due = fmt.Sprintf("A second line is due now: %d of the %d meters are too many, %s.", now-l.Good, now, why)
	default:
		l.Due = fmt.Sprintf("A second line is due from %d meters on: %s.", l.Good+1, why)
	}
	switch {
	case now <= l.Good:
	case old:
		l.Fast = "Or have it read more often, here or by who reads, or the line set to a higher baud rate."
	default:
		l.Fast = "Or have all read more slowly, or the line set to a higher baud rate."
	}
}

// seconds is a time as people read it.
func seconds(ms float64) string { return strconv.FormatFloat(ms/1000, 'f', 1, 64) + " s" }
