package field

import (
	"context"
	"fmt"
	"sync"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// proved is what the far side said last of points, in one mode.
type proved struct {
	mu   sync.Mutex
	said map[string]provedPoint
}

// provedPoint is a proof of a point as it was then.
type provedPoint struct {
	point *site.Point
	proof pairing.Proof
}

func (p *proved) keep(point *site.Point, proof pairing.Proof) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.said == nil {
		p.said = map[string]provedPoint{}
	}
	p.said[point.ID] = provedPoint{point, proof}
}

func (p *proved) forget() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.said = nil
}

// Missing says why the far side does not have a point, as far as that was asked and the
// point is still read the same way; empty where it has, or nobody knows.
func (e *Engine) Missing(point *site.Point) string {
	e.proved.mu.Lock()
	defer e.proved.mu.Unlock()
	is, ok := e.proved.said[point.ID]
	if !ok || !is.point.SameReading(point) {
		return ""
	}
	switch is.proof.Verdict {
	case pairing.Absent, pairing.Case, pairing.Other:
		return is.proof.Sentence
	}
	return ""
}

// ProveEnd is proveEnd, and remembers what came of it for Missing.
func (e *Engine) ProveEnd(ctx context.Context, id string) (pairing.Proof, error) {
	proof, err := e.proveEnd(ctx, id)
	if err == nil {
		e.mu.Lock()
		_, p := e.pointAt(id)
		e.mu.Unlock()
		if p != nil {
			e.proved.keep(p, proof)
		}
	}
	return proof, err
}

// proveEnd asks the far side whether it has the place of a point: by its list where it
// lists what it has, else by reading that place alone. Nothing is written.
func (e *Engine) proveEnd(ctx context.Context, id string) (pairing.Proof, error) {
	e.mu.Lock()
	s := e.site
	d, p := e.pointAt(id)
	e.mu.Unlock()
	say := func(v pairing.Verdict, format string, args ...any) (pairing.Proof, error) {
		return pairing.Proof{Point: id, Verdict: v, Sentence: fmt.Sprintf(format, args...)}, nil
	}
	if p == nil {
		return pairing.Proof{}, problem.New("gone", "The point is no longer in the site.",
			"Reload to see what changed.").At(id)
	}
	if d.Served() {
		return say(pairing.There, "Ferry itself holds it.")
	}
	link := s.LinkOf(d, p)
	if link == nil {
		return say(pairing.Unheard, "No link reaches %s, so it cannot be asked.", d.Name)
	}
	_, def, err := DriverOf(link.Protocol)
	if err != nil {
		return pairing.Proof{}, problem.New("protocol", err.Error()+".", "")
	}
	if _, lists := def.Lists(); lists {
		held, _, err := e.Held(ctx, link.ID)
		if err != nil {
			return say(pairing.Unheard, "%s", problem.From(err, "names").Sentence)
		}
		if held == nil {
			held = []protocol.Held{} // it lists, and has nothing
		}
		into := ""
		for i := range s.Crossings {
			if s.Crossings[i].To == id {
				into = s.Crossings[i].ID
			}
		}
		return pairing.Prove(def.Scheme, []pairing.Wanted{e.name(p, into, e.watched()(id), time.Now())}, held)[0], nil
	}
	if p.Access == site.WriteOnly {
		return say(pairing.Unheard, "It is only to be written, and cannot be asked for.")
	}
	o := &order{site: s, link: link, device: d, point: p, def: def}
	rules, ranged := def.Ranges()
	if ranged {
		area, _ := block.AreaOf(def.Scheme, p.Place().Area)
		if o.rules, o.area = rules, area; area.UnitBits > 0 {
			o.codec, err = p.Codec(area.UnitBits)
		}
		if err != nil {
			return say(pairing.Refusing, "%s.", err)
		}
	}
	var reply Reply
	var is value.Value
	err = e.with(ctx, link.ID, func(r *runner, conn Conn, lost Reply) {
		if conn == nil {
			reply = lost
			return
		}
		is, reply = r.readBack(conn, o)
	})
	switch {
	case err != nil:
		return say(pairing.Unheard, "%s", problem.From(err, "prove").Sentence)
	case reply.OK():
		if scale, err := e.Hub.scale(p); err == nil {
			is = scale.Apply(is)
		}
		return say(pairing.There, "It answers there: %s.", p.Shown(is))
	case ranged && reply.Code != 0 && rules.Absent(reply.Code):
		return say(pairing.Absent, "It has nothing at %s: it answers %s.", def.Scheme.Short(p.Address), reply.Sentence)
	case reply.Code != 0:
		return say(pairing.Refusing, "It refuses: %s.", reply.Sentence)
	}
	return say(pairing.Unheard, "It could not be asked: %s.", reply.Sentence)
}
