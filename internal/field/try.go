package field

import (
	"context"
	"net"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/datasheet"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
)

// rounds is how often a try reads every request to measure the pace.
const rounds = 3

// Try walks the five stops of a link for real: over a connection of its own, or
// over that of a run, which gets it back after each question.
func (e *Engine) Try(ctx context.Context, linkID string) (*route.Route, error) {
	e.Planned(ctx) // what it asks for may still be being worked out
	e.mu.Lock()
	s, mode := e.site, e.door.mode
	link := s.Link(linkID)
	if link == nil {
		e.mu.Unlock()
		return nil, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(linkID)
	}
	r, target, key, err := e.runnerOf(linkID)
	var over *shared
	if err == nil {
		over = e.channels[key]
	}
	var own *channel
	if err == nil && over == nil {
		own = e.channelTo(r, target)
	}
	var others []*runner
	if err == nil && r.def.Turns == protocol.TurnsOfLine {
		others = e.neighbours(link)
	}
	var claims *claims
	if err == nil {
		claims = e.claimsOf(link, r.def)
	}
	e.mu.Unlock()
	plan := route.Plan(s, link)
	plan.At, plan.Bench = time.Now(), mode == Bench
	if plan.StopsAt != nil && *plan.StopsAt == route.Wire && s.Line(link.Line).Medium == site.Ethernet {
		return plan, nil // an address that cannot be right is not asked
	}
	if err != nil {
		plan.Set(route.Wire, route.Fault, problem.From(err, "dial").Sentence, problem.From(err, "dial").Do)
		return plan, nil
	}
	result := route.New(linkID)
	result.At, result.Bench = plan.At, plan.Bench
	w := walk{runner: r, route: result, name: r.device.Name, target: targetOf(s, link), others: others, claims: claims,
		extents: datasheet.Extents(s, r.device)}
	if over != nil {
		walking, cancel := context.WithCancel(over.life)
		defer cancel()
		defer context.AfterFunc(ctx, cancel)()
		w.borrowed = over.channel
		if !w.guarded(over.channel, walking) {
			return nil, errDefect // what it has seen by then is no verdict
		}
	} else {
		stop := context.AfterFunc(ctx, own.end)
		r.channel = own
		ok := w.guarded(own, own.life)
		stop()
		own.hangUp()
		own.end()
		if !ok {
			return nil, errDefect
		}
	}
	if w.ended != nil {
		return nil, w.ended
	}
	// What the plan knows explains what the try saw.
	for _, c := range plan.Stops {
		for i := range result.Stops {
			if result.Stops[i].Stop == c.Stop && c.Result != route.NotTried &&
				result.Stops[i].Result != route.NotTried {
				worst := c.Result
				if worst == route.Fault && result.Stops[i].Result == route.Good {
					worst = route.Doubt // it works all the same
				}
				if result.Stops[i].Result == route.Good || result.Stops[i].Result == worst {
					result.Set(c.Stop, worst, strings.TrimSpace(result.Stops[i].Saw+" "+c.Saw), c.Remedy)
				}
			}
		}
	}
	result.Explain(s, link)
	return result, nil
}

// neighbours are the other links of a line, which are asked when one device is
// silent: if they answer, the wire is good. The lock is held.
func (e *Engine) neighbours(link *site.Link) (others []*runner) {
	for i := range e.site.Links {
		other := &e.site.Links[i]
		if other.Line != link.Line || other.ID == link.ID || other.Asking != link.Asking ||
			other.Protocol != link.Protocol || len(others) == 3 {
			continue
		}
		if r, _, _, err := e.runnerOf(other.ID); err == nil && len(r.jobs) > 0 && r.jobs[0].wanted == nil {
			others = append(others, r)
		}
	}
	return others
}

func targetOf(s *site.Site, link *site.Link) string {
	_, def, err := DriverOf(link.Protocol)
	port := s.Device(link.Answering).PortFor(link)
	if err != nil || port == nil {
		return ""
	}
	if line := s.Line(link.Line); line != nil && line.Medium == site.SerialLine {
		return line.Name
	}
	return net.JoinHostPort(port.Host, strconv.Itoa(def.Int(link.Settings, "port")))
}

// TryTarget walks the stops of a target that belongs to no site, as the
// command line does. The device's map may be empty.
func TryTarget(ctx context.Context, link *site.Link, device *site.Device, target Target) (*route.Route, error) {
	r, err := alone(link, device, target)
	if err != nil {
		return nil, err
	}
	c := r.channel
	defer c.end()
	defer c.hangUp()
	defer context.AfterFunc(ctx, c.end)()
	result := route.New(link.ID)
	result.At = time.Now()
	w := walk{runner: r, route: result, name: device.Name, target: target.Dial}
	if !w.guarded(c, c.life) {
		return nil, errDefect
	}
	return result, nil
}
