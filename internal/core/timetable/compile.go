package timetable

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"ferry/internal/core/address"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
)

// Request is one read that the asking end of a link repeats.
type Request struct {
	ID        string   `json:"id"`
	Link      string   `json:"link"`
	Device    string   `json:"device"`
	Function  string   `json:"function"`
	Operation string   `json:"operation"`
	Area      string   `json:"area"`
	Start     uint32   `json:"start"`   // wire offset
	Address   string   `json:"address"` // the same in the usual notation
	Count     int      `json:"count"`   // units
	Unused    int      `json:"unused"`  // units that no point covers
	Points    []string `json:"points"`
	PaceMs    int      `json:"paceMs"`
	WireMs    float64  `json:"wireMs"`
	DeviceMs  float64  `json:"deviceMs"`
	OffsetMs  float64  `json:"offsetMs"`
	// SlackMs is what is left of the pace in the worst case; absent for once.
	SlackMs float64 `json:"slackMs"`
}

// PlannedMs is the planned time from request to answer.
func (r *Request) PlannedMs() float64 { return r.WireMs + r.DeviceMs }

// LinkLoad is how full the connection of a link is.
type LinkLoad struct {
	Link        string  `json:"link"`
	Utilisation float64 `json:"utilisation"`
	RoundMs     float64 `json:"roundMs"`
	Requests    int     `json:"requests"`
}

// LineLoad is how full a line is: on Ethernet, its busiest connection.
type LineLoad struct {
	Line        string  `json:"line"`
	Utilisation float64 `json:"utilisation"` // 1 is full, more does not fit
	RoundMs     float64 `json:"roundMs"`     // one of every request, one after the other
	Holds       bool    `json:"holds"`       // whether every pace holds
}

// Plan is the compiled timetable of a site.
type Plan struct {
	Lines    []LineLoad        `json:"lines"`
	Links    []LinkLoad        `json:"links"`
	Requests []Request         `json:"requests"`
	Findings []finding.Finding `json:"findings"`
}

// bitsPerMs is the bit rate of an Ethernet line in bits per millisecond: the
// slowest that a port is likely to have, 100 Mbit/s.
const bitsPerMs = 100_000

// unitMs is what one more unit costs in a device, whose firmware copies it: a
// cautious guess of 10 µs a register. It keeps wide gaps from being bridged
// for free on a fast line.
const unitMs = 0.01

// Compile packs the points of every link's answering end into requests and
// computes their times. Points without an address, or that are only written,
// have no request; what cannot be read in one piece is reported by the map's
// own check and left out.
func Compile(s *site.Site) *Plan {
	plan := &Plan{Lines: []LineLoad{}, Links: []LinkLoad{}, Requests: []Request{}, Findings: []finding.Finding{}}
	byLine := map[string]*LineLoad{}
	for i := range s.Lines {
		plan.Lines = append(plan.Lines, LineLoad{Line: s.Lines[i].ID, Holds: true})
	}
	for i := range plan.Lines {
		byLine[plan.Lines[i].Line] = &plan.Lines[i]
	}
	devices := make(map[string]*site.Device, len(s.Devices))
	for i := range s.Devices {
		devices[s.Devices[i].ID] = &s.Devices[i]
	}
	for i := range s.Links {
		link := &s.Links[i]
		device := devices[link.Answering]
		def, ok := protocol.Named(link.Protocol)
		if !ok || device == nil {
			continue
		}
		requests := CompileLink(link, device, def)
		load := schedule(requests)
		load.Link = link.ID
		plan.Links = append(plan.Links, load)
		plan.Requests = append(plan.Requests, requests...)
		plan.Findings = append(plan.Findings, paceFindings(requests, load, device, link)...)
		if line := byLine[link.Line]; line != nil {
			line.Utilisation = max(line.Utilisation, load.Utilisation)
			line.RoundMs += load.RoundMs
			for j := range requests {
				line.Holds = line.Holds && requests[j].SlackMs >= 0
			}
		}
	}
	finding.Sort(plan.Findings)
	return plan
}

// CompileLink packs the points of one link's answering end. Offsets and slack
// are left at zero.
func CompileLink(link *site.Link, device *site.Device, def *protocol.Def) []Request {
	var settings map[string]int
	if port := device.Port(link.Line); port != nil {
		settings = port.Settings
	}
	think := float64(def.Value(settings, "thinkMs"))
	var requests []Request
	for _, area := range def.Scheme.Areas() {
		items, points := itemsOf(device, area)
		if len(items) == 0 {
			continue
		}
		wire := func(units int) float64 {
			out, in := def.WireBytes(area.Key, units)
			return float64(out+in) * 8 / bitsPerMs
		}
		perUnit := unitMs * float64(area.UnitBits) / 16
		spans := Pack(items, Rules{
			Most:       regmap.Limit(device, area, def.MaxUnits),
			NoBridging: device.Limits.NoBridging,
			Cost:       func(units int) float64 { return think + wire(units) + perUnit*float64(units) },
		})
		for _, span := range spans {
			start, count := span.From, int(span.To-span.From)
			r := Request{
				Link: link.ID, Device: device.ID, Area: area.Key, Start: start, Count: count, Unused: span.Unused, PaceMs: span.PaceMs,
				ID:        fmt.Sprintf("%s-%s%d-%d", link.ID, area.Key, start, span.PaceMs),
				Function:  def.Function(area.Key),
				Operation: def.Operation(area.Key, start, count),
				Address:   def.Scheme.Short(address.At(area.Key, start)),
				WireMs:    wire(count), DeviceMs: think + perUnit*float64(count),
				Points: make([]string, 0, len(span.Items)),
			}
			for _, item := range span.Items {
				if points[item] != "" {
					r.Points = append(r.Points, points[item])
				}
			}
			requests = append(requests, r)
		}
	}
	return requests
}

// itemsOf lists what is to be read of an area, with the id of the point of
// each; a register that only holds the power of ten of points has none.
func itemsOf(device *site.Device, area address.Area) (items []Item, points []string) {
	for i := range device.Points {
		p := &device.Points[i]
		if p.Access == site.WriteOnly {
			continue
		}
		if p.Address.Area == area.Key {
			items = append(items, Item{p.Address.Offset, p.Address.Offset + uint32(p.Units(area.UnitBits)), p.PaceMs})
			points = append(points, p.ID)
		}
		if p.PowerAt.Area == area.Key && !p.Address.IsZero() {
			items = append(items, Item{p.PowerAt.Offset, p.PowerAt.Offset + 1, p.PaceMs})
			points = append(points, "")
		}
	}
	return items, points
}

// schedule sets offset and slack of the requests of one connection, which
// serves one at a time, and sums up its load. Requests of one pace follow each
// other; the worst response of each is found by the usual iteration for a
// resource that is not given up half-way: the longest slower request is just
// under way, and all others of the same or a faster pace are due.
func schedule(requests []Request) LinkLoad {
	slices.SortStableFunc(requests, func(a, b Request) int { return cmp.Compare(weight(a.PaceMs), weight(b.PaceMs)) })
	load := LinkLoad{Requests: len(requests)}
	for i := range requests {
		r := &requests[i]
		r.OffsetMs = load.RoundMs
		load.RoundMs += r.PlannedMs()
		if r.PaceMs > 0 {
			load.Utilisation += r.PlannedMs() / float64(r.PaceMs)
		}
	}
	for i := range requests {
		if requests[i].PaceMs > 0 {
			requests[i].SlackMs = float64(requests[i].PaceMs) - worstResponse(requests, i)
		}
	}
	return load
}

func worstResponse(requests []Request, at int) float64 {
	own := &requests[at]
	blocking := 0.0
	for i := range requests {
		if weight(requests[i].PaceMs) > weight(own.PaceMs) {
			blocking = max(blocking, requests[i].PlannedMs())
		}
	}
	response := own.PlannedMs() + blocking
	for range 100 {
		next := own.PlannedMs() + blocking
		for i := range requests {
			if r := &requests[i]; i != at && r.PaceMs > 0 && r.PaceMs <= own.PaceMs {
				next += math.Ceil(response/float64(r.PaceMs)) * r.PlannedMs()
			}
		}
		if next == response || next > 10*float64(own.PaceMs) {
			return next
		}
		response = next
	}
	return response
}

func paceFindings(requests []Request, load LinkLoad, device *site.Device, link *site.Link) []finding.Finding {
	var late *Request
	for i := range requests {
		if requests[i].SlackMs < 0 && (late == nil || requests[i].SlackMs < late.SlackMs) {
			late = &requests[i]
		}
	}
	if late == nil {
		return nil
	}
	return []finding.Finding{{
		Code: "pace-too-fast", Severity: finding.Fault, Sure: 1, Count: 1, Where: "timetable",
		Subject: finding.Subject{Kind: "link", ID: link.ID, Device: device.ID, Name: device.Name},
		Title:   "The pace cannot hold",
		Sentence: fmt.Sprintf("%s is to be read every %s, but in the worst case the answer is there after %.0f ms: the connection is %.0f %% full.",
			device.Name, regmap.PrintPace(late.PaceMs), float64(late.PaceMs)-late.SlackMs, 100*load.Utilisation),
		Evidence: []string{fmt.Sprintf("%d requests take %.1f ms a round", load.Requests, load.RoundMs)},
		Remedy:   "Read slower what can wait, or give fewer points the fast pace.",
	}}
}
