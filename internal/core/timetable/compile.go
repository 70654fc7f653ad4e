package timetable

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"

	"ferry/internal/core/block"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Request is one read that the asking end of a link repeats. Times are in
// milliseconds.
type Request struct {
	ID        string `json:"id"`
	Link      string `json:"link"`
	Line      string `json:"line"`
	Device    string `json:"device"`
	Function  string `json:"function"`
	Operation string `json:"operation"`
	// Ranges are the runs of units that it asks for; Area and Start are those of
	// the first, and Address is that in the usual notation.
	Ranges  []block.Range `json:"ranges"`
	Area    string        `json:"area"`
	Start   uint32        `json:"start"`
	Address string        `json:"address"`
	Count   int           `json:"count"`  // units
	Unused  int           `json:"unused"` // units that no point covers
	Points  []string      `json:"points"`
	PaceMs  int           `json:"paceMs"`
	// WireMs is the time on the wire, DeviceMs that for which the device
	// thinks as a rule, WorstDeviceMs at worst. GapMs is the silence that must
	// follow before anything else is sent.
	WireMs        float64 `json:"wireMs"`
	DeviceMs      float64 `json:"deviceMs"`
	WorstDeviceMs float64 `json:"worstDeviceMs"`
	GapMs         float64 `json:"gapMs"`
	OffsetMs      float64 `json:"offsetMs"`
	// ResponseMs is the longest time from being due to being answered;
	// SlackMs is what that leaves of the pace. JitterMs is by how much the
	// response varies, OldestMs how old a value gets before the next comes.
	// All are zero for a read that happens once.
	ResponseMs float64 `json:"responseMs"`
	SlackMs    float64 `json:"slackMs"`
	JitterMs   float64 `json:"jitterMs"`
	OldestMs   float64 `json:"oldestMs"`
	// Silent is set where the device is supposed to be silent.
	Silent bool `json:"silent,omitempty"`
}

// PlannedMs is the planned time from request to answer.
func (r *Request) PlannedMs() float64 { return r.WireMs + r.DeviceMs }

// LinkLoad is how full the connection of a link is, by that link.
type LinkLoad struct {
	Link        string  `json:"link"`
	Utilisation float64 `json:"utilisation"`
	RoundMs     float64 `json:"roundMs"`
	Requests    int     `json:"requests"`
	// PerSecond is how many requests a second the device has to answer.
	PerSecond float64 `json:"perSecond"`
	// Writes is the share of the utilisation that crossings cause at most, Reports
	// that of what the device sends without being asked.
	Writes  float64 `json:"writes"`
	Reports float64 `json:"reports"`
}

// LineLoad is how full a line is: on Ethernet, its busiest connection.
type LineLoad struct {
	Line        string  `json:"line"`
	Utilisation float64 `json:"utilisation"` // 1 is full, more does not fit
	RoundMs     float64 `json:"roundMs"`     // one of every request, one after the other
	Holds       bool    `json:"holds"`       // whether every pace holds
	OldestMs    float64 `json:"oldestMs"`    // of its values, the oldest one can get
	Requests    int     `json:"requests"`
	Points      int     `json:"points"`
	// Alone is how many requests one for each point would be, Merged how many
	// there are if only neighbours of one pace are joined; with what they cost.
	Alone             int     `json:"alone"`
	AloneUtilisation  float64 `json:"aloneUtilisation"`
	Merged            int     `json:"merged"`
	MergedUtilisation float64 `json:"mergedUtilisation"`
	// Cyclic is the share taken by traffic that nobody requests, Writes that
	// of crossings; Loads is how many of either there are.
	Cyclic float64 `json:"cyclic"`
	Writes float64 `json:"writes"`
	Loads  int     `json:"loads"`
}

// Plan is the compiled timetable of a site.
type Plan struct {
	Lines    []LineLoad        `json:"lines"`
	Links    []LinkLoad        `json:"links"`
	Requests []Request         `json:"requests"`
	Loads    []Load            `json:"loads"`
	Findings []finding.Finding `json:"findings"`

	resources []*resource
}

// Compile packs the points of every link's answering end into requests and
// computes their times. Points without an address, or that are only written,
// have no request; what cannot be read in one piece is reported by the map's
// own check and left out.
func Compile(s *site.Site) *Plan { return compile(context.Background(), s, nil) }

// CompileContext is Compile, given up when ctx ends: the plan is then nil.
func CompileContext(ctx context.Context, s *site.Site) *Plan { return compile(ctx, s, nil) }

// Failed is the plan of a site that could not be compiled, which says so.
func Failed(why string) *Plan {
	return &Plan{Lines: []LineLoad{}, Links: []LinkLoad{}, Requests: []Request{}, Loads: []Load{}, Findings: []finding.Finding{{
		Code: "no-timetable", Severity: finding.Fault, Sure: 1, Count: 1, Where: "timetable",
		Subject:  finding.Subject{Kind: "site", Name: "the timetable"},
		Title:    "There is no timetable",
		Sentence: "The timetable could not be compiled: a defect of Ferry's own (" + why + ").", Evidence: []string{},
		Remedy: "Take the latest change back, and report it with the site file.",
	}}}
}

// CompileSilent is Compile with devices that do not answer: each of their
// requests costs its time limit, as often as it is tried.
func CompileSilent(s *site.Site, silent []string) *Plan {
	set := map[string]bool{}
	for _, id := range silent {
		set[id] = true
	}
	return compile(context.Background(), s, set)
}

func compile(ctx context.Context, s *site.Site, silent map[string]bool) *Plan {
	plan := &Plan{Lines: []LineLoad{}, Links: []LinkLoad{}, Requests: []Request{}, Loads: []Load{},
		Findings: []finding.Finding{}}
	c := compiler{site: s, plan: plan, silent: silent, devices: make(map[string]*site.Device, len(s.Devices)),
		lines: map[string]*site.Line{}, byKey: map[string]*resource{}}
	for i := range s.Devices {
		c.devices[s.Devices[i].ID] = &s.Devices[i]
	}
	for i := range s.Lines {
		c.lines[s.Lines[i].ID] = &s.Lines[i]
	}
	for i := range s.Links {
		if c.link(ctx, &s.Links[i]); ctx.Err() != nil {
			return nil
		}
	}
	c.crossings()
	c.cyclic()
	for i, r := range plan.resources {
		if ctx.Err() != nil {
			return nil
		}
		r.spread(plan.Requests, i)
		r.simulate(plan.Requests)
	}
	c.sum()
	c.findings()
	finding.Sort(plan.Findings)
	return plan
}

type compiler struct {
	site    *site.Site
	plan    *Plan
	silent  map[string]bool
	devices map[string]*site.Device
	lines   map[string]*site.Line
	byKey   map[string]*resource
	byLink  map[string]*linked
	order   []*linked
}

// linked is a link with what its requests cost.
type linked struct {
	link     *site.Link
	device   *site.Device
	ends     ends
	resource *resource
	from, to int // its requests in the plan
	load     LinkLoad
	alone    int
	aloneMs  float64 // utilisation
	merged   int
	mergedMs float64
	reported int // points that come without being asked for
}

func (c *compiler) link(ctx context.Context, link *site.Link) {
	device, line := c.devices[link.Answering], c.lines[link.Line]
	def, ok := protocol.Named(link.Protocol)
	if !ok || device == nil {
		return
	}
	device = device.CarriedBy(link)
	key := "link " + link.ID
	switch def.Turns {
	case protocol.TurnsOfLine:
		key = "line " + link.Line
	case protocol.TurnsOfAddress:
		if port := device.PortFor(link); port != nil {
			key = fmt.Sprintf("address %s %s:%d", link.Line, port.Host, def.Int(link.Settings, protocol.KeyPort))
		}
	}
	r := c.byKey[key]
	if r == nil {
		r = &resource{line: link.Line, atOnce: max(1, def.Int(link.Settings, protocol.KeyAtOnce))}
		c.byKey[key] = r
		c.plan.resources = append(c.plan.resources, r)
	}
	l := &linked{link: link, device: device, ends: endsOf(c.site, line, link, device, def), resource: r,
		from: len(c.plan.Requests)}
	c.plan.Requests = append(c.plan.Requests, l.compile(ctx)...)
	l.to = len(c.plan.Requests)
	r.silence = max(r.silence, l.ends.after)
	l.load = LinkLoad{Link: link.ID, Requests: l.to - l.from}
	for i := l.from; i < l.to; i++ {
		q := &c.plan.Requests[i]
		t := task{request: i, periodMs: float64(q.PaceMs), ms: q.WireMs + q.WorstDeviceMs + q.GapMs, after: q.GapMs}
		usual := q.WireMs + q.DeviceMs + q.GapMs
		if c.silent[device.ID] {
			q.Silent = true
			usual = l.beSilent(&t, q, i == l.from)
		}
		l.load.RoundMs += usual
		if t.periodMs > 0 {
			l.load.Utilisation += usual / t.periodMs / float64(r.atOnce)
			l.load.PerSecond += 1000 / t.periodMs
		}
		if t.periodMs >= 0 {
			r.tasks = append(r.tasks, t)
		}
	}
	c.reports(l)
	if c.byLink == nil {
		c.byLink = map[string]*linked{}
	}
	c.byLink[link.ID] = l
	c.order = append(c.order, l)
}

// beSilent makes a task what it is when nothing answers. A device that is left
// alone for a while is tried once in that time, by its first request; the
// others wait for it, and are marked by a negative period.
func (l *linked) beSilent(t *task, q *Request, first bool) float64 {
	once := l.ends.silent(q.Ranges)
	t.ms, t.after = float64(l.ends.tries)*once, 0
	if l.ends.restAfter > 0 {
		if t.ms, t.periodMs = once, -1; first {
			t.periodMs = l.ends.restMs
		}
	}
	if t.periodMs < 0 {
		return 0
	}
	return t.ms
}

// compile packs the points of the link's answering end.
func (l *linked) compile(ctx context.Context) []Request {
	shape, ok := block.ShapeOf(l.ends.def.Scheme)
	if !ok {
		return nil
	}
	w := l.wanted(ctx, shape)
	for k := range w.areas {
		l.compare(w.items[k], w.rules[k])
	}
	if several, ok := l.ends.def.Rules.(protocol.Batches); ok {
		list, messages := batch(w.areas, w.items, w.rules, several.Room(l.link.Settings))
		requests := make([]Request, len(messages))
		for i, m := range messages {
			requests[i] = l.request(w, list, m)
		}
		return requests
	}
	var requests []Request
	for k, area := range w.areas {
		for _, span := range Pack(w.items[k], w.rules[k]) {
			requests = append(requests,
				l.request(w, []stretch{{area, span}}, message{paceMs: span.PaceMs, of: []int{0}}))
		}
	}
	return requests
}

// wants is what is to be read of a device: for each area the items, the points
// of each, and what bounds a request.
type wants struct {
	areas  []block.Area
	items  [][]Item
	points [][][]string
	rules  []Rules
}

func (l *linked) wanted(ctx context.Context, shape block.Shape) *wants {
	w := &wants{}
	def, device := l.ends.def, l.device
	for _, area := range block.AreasIn(shape, device.Places) {
		items, points := itemsOf(device, area)
		if len(items) == 0 {
			continue
		}
		perUnit := unitMs * float64(area.UnitBits) / 16
		one := make([]block.Range, 1) // what is weighed at the moment
		rules := Rules{
			Context:    ctx,
			Most:       regmap.Limit(device, area, def.Most(l.link.Settings)),
			NoBridging: device.Limits.NoBridging,
			Even:       device.Limits.EvenRequests && area.UnitBits == 16,
			Cost: func(units int) float64 {
				one[0] = block.Range{Area: area.Key, Count: units}
				return l.ends.think + l.ends.wire(one) + l.ends.after + perUnit*float64(units)
			},
		}
		for _, f := range device.Limits.Forbidden {
			if f.Area == area.Key {
				rules.Forbidden = append(rules.Forbidden, Item{From: f.From, To: f.From + f.Count})
			}
		}
		w.areas, w.items = append(w.areas, area), append(w.items, items)
		w.points, w.rules = append(w.points, points), append(w.rules, rules)
	}
	return w
}

// request makes the request of a message.
func (l *linked) request(w *wants, list []stretch, m message) Request {
	r := Request{Link: l.link.ID, Line: l.link.Line, Device: l.device.ID, PaceMs: m.paceMs, Points: []string{}}
	copying := 0.0
	for _, i := range m.of {
		s := &list[i]
		k := slices.IndexFunc(w.areas, func(a block.Area) bool { return a.Key == s.area.Key })
		for _, item := range s.Items {
			r.Points = append(r.Points, w.points[k][item]...)
		}
		one := s.asRange()
		r.Ranges = append(r.Ranges, one)
		r.Count += one.Count
		r.Unused += s.Unused
		copying += unitMs * float64(s.area.UnitBits) / 16 * float64(one.Count)
	}
	first := r.Ranges[0]
	r.Area, r.Start = first.Area, first.Start
	r.ID = fmt.Sprintf("%s-%s%d-%d", l.link.ID, first.Area, first.Start, m.paceMs)
	r.Function = l.ends.ranges.Function(first.Area)
	r.Operation = l.ends.ranges.Operation(r.Ranges)
	r.Address = l.ends.def.Scheme.Short(block.At(first.Area, first.Start))
	r.WireMs, r.GapMs = l.ends.wire(r.Ranges), l.ends.after
	r.DeviceMs, r.WorstDeviceMs = l.ends.think+copying, l.ends.worst+copying
	return r
}

// compare works out what the same points would cost with a request for each,
// and with requests for neighbours of one pace.
func (l *linked) compare(items []Item, rules Rules) {
	byPace := map[int][]Item{}
	for _, it := range items {
		if it.PaceMs > 0 {
			l.alone++
			l.aloneMs += rules.Cost(rules.width(it.From, it.To)) / float64(it.PaceMs)
			byPace[it.PaceMs] = append(byPace[it.PaceMs], it)
		}
	}
	rules.NoBridging = true
	for _, pace := range slices.Sorted(maps.Keys(byPace)) { // in order: sums of floats depend on it
		for _, span := range Pack(byPace[pace], rules) {
			l.merged++
			l.mergedMs += rules.Cost(int(span.To-span.From)) / float64(pace)
		}
	}
}

// itemsOf lists what is to be read of an area, with the ids of the points of
// each: those of one structure are read in one piece, and a register that only
// holds the power of ten of points has none.
func itemsOf(device *site.Device, area block.Area) (items []Item, points [][]string) {
	structures := map[string]int{}
	for i := range device.Placements {
		if device.Placements[i].Structure != "" {
			structures[device.Placements[i].ID] = -1
		}
	}
	most := uint32(125 * 16 / area.UnitBits)
	for i := range device.Points {
		p := &device.Points[i]
		if p.Access == site.WriteOnly {
			continue
		}
		if p.Place().Area == area.Key {
			it := Item{p.Place().Offset, p.Place().Offset + uint32(p.Units(area.UnitBits)), p.PaceMs}
			at := -1
			if p.From != nil {
				if known, ok := structures[p.From.Placement]; ok {
					at = known
				}
			}
			if at >= 0 && max(items[at].To, it.To)-min(items[at].From, it.From) <= most {
				whole := &items[at]
				whole.From, whole.To = min(whole.From, it.From), max(whole.To, it.To)
				if weight(it.PaceMs) < weight(whole.PaceMs) {
					whole.PaceMs = it.PaceMs
				}
				points[at] = append(points[at], p.ID)
			} else {
				if p.From != nil {
					if _, ok := structures[p.From.Placement]; ok {
						structures[p.From.Placement] = len(items)
					}
				}
				items, points = append(items, it), append(points, []string{p.ID})
			}
		}
		if block.Of(p.PowerAt).Area == area.Key && !p.Address.IsZero() {
			items, points = append(items, Item{block.Of(p.PowerAt).Offset, block.Of(p.PowerAt).Offset + 1, p.PaceMs}),
				append(points, nil)
		}
	}
	return items, points
}

// crossings adds what they write: each at most as often as its source is read.
func (c *compiler) crossings() {
	if len(c.site.Crossings) == 0 {
		return
	}
	where := map[string]*linked{}
	for i := range c.order {
		l := c.order[i]
		for j := range l.device.Points {
			if where[l.device.Points[j].ID] == nil {
				where[l.device.Points[j].ID] = l
			}
		}
	}
	paces := map[string]float64{}
	for i := range c.plan.Requests {
		for _, id := range c.plan.Requests[i].Points {
			paces[id] = float64(c.plan.Requests[i].PaceMs)
		}
	}
	for _, load := range c.plan.Loads {
		for _, id := range load.Points {
			paces[id] = load.PeriodMs
		}
	}
	points := map[string]*site.Point{}
	for _, x := range c.site.Crossings {
		l := where[x.To]
		if l == nil || x.Off || paces[x.From] == 0 {
			continue
		}
		if points[x.To] == nil {
			for j := range l.device.Points {
				points[l.device.Points[j].ID] = &l.device.Points[j]
			}
		}
		p := points[x.To]
		octets, ms, ok := l.ends.write(p)
		if !ok {
			continue
		}
		c.load(l, Load{Title: p.Name, Cause: Written, Octets: octets, PeriodMs: paces[x.From], HoldsMs: ms,
			Points: []string{p.ID}}, l.ends.after)
	}
}

// cyclic adds the traffic of serial lines that nobody requests. On Ethernet it
// runs beside the connections.
func (c *compiler) cyclic() {
	for i := range c.site.Lines {
		line := &c.site.Lines[i]
		r := c.byKey["line "+line.ID]
		if r == nil {
			continue
		}
		format := line.Format()
		for _, each := range line.Cyclic {
			t := task{request: -1, periodMs: float64(each.PeriodMs),
				ms: float64(each.Octets)*format.CharMs() + r.silence, after: r.silence, cyclic: true}
			r.tasks = append(r.tasks, t)
			r.cyclic += t.ms / t.periodMs
			c.plan.Loads = append(c.plan.Loads, Load{Line: line.ID, Title: each.Name, Cause: Cyclic, Octets: each.Octets,
				PeriodMs: t.periodMs, HoldsMs: t.ms, Share: t.ms / t.periodMs, Points: []string{}})
		}
	}
}

// sum adds up the loads of lines and links.
func (c *compiler) sum() {
	at := map[string]int{}
	for i := range c.site.Lines {
		at[c.site.Lines[i].ID] = len(c.plan.Lines)
		c.plan.Lines = append(c.plan.Lines, LineLoad{Line: c.site.Lines[i].ID, Holds: true})
	}
	shares := map[*resource]float64{}
	speaks := map[*resource]bool{} // with somebody on it who is not silent
	for _, l := range c.order {
		c.plan.Links = append(c.plan.Links, l.load)
		shares[l.resource] += l.load.Utilisation
		speaks[l.resource] = speaks[l.resource] || !c.silent[l.device.ID]
		i, ok := at[l.link.Line]
		if !ok {
			continue
		}
		line := &c.plan.Lines[i]
		line.RoundMs += l.load.RoundMs
		line.Writes += l.load.Writes
		line.Cyclic += l.load.Reports
		line.Points += l.reported
		line.Alone, line.AloneUtilisation = line.Alone+l.alone, line.AloneUtilisation+l.aloneMs
		line.Merged, line.MergedUtilisation = line.Merged+l.merged, line.MergedUtilisation+l.mergedMs
		for _, q := range c.plan.Requests[l.from:l.to] {
			line.Requests++
			line.Points += len(q.Points)
			line.Holds = line.Holds && (q.SlackMs >= 0 || q.Silent)
			line.OldestMs = max(line.OldestMs, q.OldestMs)
		}
	}
	for _, r := range c.plan.resources {
		if i, ok := at[r.line]; ok {
			line := &c.plan.Lines[i]
			line.Cyclic += r.cyclic
			if !speaks[r] {
				continue // a connection to nobody costs the others nothing
			}
			line.Utilisation = max(line.Utilisation, shares[r]+r.cyclic)
		}
	}
	for i := range c.plan.Loads {
		if k, ok := at[c.plan.Loads[i].Line]; ok {
			c.plan.Lines[k].Loads++
		}
	}
	for i := range c.plan.Lines {
		c.plan.Lines[i].Holds = c.plan.Lines[i].Holds && c.plan.Lines[i].Utilisation <= 1
	}
}

// finite keeps numbers within what a file can hold.
func finite(x float64) float64 {
	if math.IsInf(x, 0) || math.IsNaN(x) {
		return math.MaxInt32
	}
	return x
}
