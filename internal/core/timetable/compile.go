package timetable

import (
	"context"
	"fmt"
	"math"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// Compile packs the points of every link's answering end into requests and
// computes their times. Points without an address, or that are only written,
// have no request; what cannot be read in one piece is reported by the map's
// own check and left out.
func Compile(s *site.Site) *Plan { return compile(context.Background(), s, nil) }

// CompileContext is Compile, given up when ctx ends: the plan is then nil.
func CompileContext(ctx context.Context, s *site.Site) *Plan { return compile(ctx, s, nil) }

// CompileLine compiles one line of a site, as if there were no others.
func CompileLine(ctx context.Context, s *site.Site, line string) *Plan {
	return compile(ctx, only(s, line), nil)
}

// Failed is the plan of a site that could not be compiled, which says so.
func Failed(why string) *Plan {
	plan := empty()
	plan.Findings = append(plan.Findings, finding.Finding{
		Code: "no-timetable", Severity: finding.Fault, Sure: 1, Count: 1, Where: "timetable",
		Subject:  finding.Subject{Kind: "site", Name: "the timetable"},
		Title:    "There is no timetable",
		Sentence: "The timetable could not be compiled: a defect of Ferry's own (" + why + ").", Evidence: []string{},
		Remedy: "Take the latest change back, and report it with the site file.",
	})
	return plan
}

func empty() *Plan {
	return &Plan{Lines: []LineLoad{}, Links: []LinkLoad{}, Requests: []Request{}, Loads: []Load{},
		Findings: []finding.Finding{}}
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
	plan := empty()
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
	for _, x := range c.site.Ruled() {
		l, period := where[x.To], paces[x.From]
		if x.Beats() {
			period = float64(x.BeatMs)
		}
		if l == nil || x.Off || period == 0 {
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
		c.load(l, Load{Title: p.Name, Cause: Written, Octets: octets, PeriodMs: period, HoldsMs: ms,
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
