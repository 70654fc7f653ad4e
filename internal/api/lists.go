package api

import (
	"fmt"
	"slices"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// TurnRequest has names of a list go another way.
type TurnRequest struct {
	// Crossings are the names; empty for all that do not go as Carries has it.
	Crossings []string     `json:"crossings"`
	Goes      pairing.Goes `json:"goes" jsonschema:"enum=there,enum=here,enum=both"`
	// Carries is what the list carries from then on, with Crossings empty.
	Carries *site.Carries `json:"carries,omitempty"`
}

// standingsFor is for how long it is not looked again how lists stand.
const standingsFor = time.Second

// standings says how the lists of names stand.
func (s *Server) standings(at time.Time) []pairing.ListStanding {
	s.listsMu.Lock()
	defer s.listsMu.Unlock()
	if since := at.Sub(s.listsAt); since < 0 || since >= standingsFor {
		s.lists, s.listsAt = s.Engine.Lists(), at
	}
	return s.lists
}

func (s *Server) getLists(c fiber.Ctx) error {
	return c.JSON(s.Engine.Lists())
}

// postTurn has names of a list go another way, all of them or none.
func (s *Server) postTurn(c fiber.Ctx) error {
	var r TurnRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	id, turned := c.Params("id"), 0
	seq, err := s.change(c, "turned names of a list", func(now *site.Site) ([]site.Edit, error) {
		l := now.List(id)
		if l == nil {
			return nil, problem.New("gone", "The list is no longer in the site.", "Reload to see what changed.").At(id)
		}
		var edits []site.Edit
		if r.Carries != nil {
			next := *l
			next.Carries = *r.Carries
			edits = append(edits, site.Put(site.KindList, l.ID, "", next))
			l = &next
		}
		far := farPoint(now.Device(l.Far))
		for i := range now.Crossings {
			x := &now.Crossings[i]
			goes, is := r.Goes, pairing.GoesOf(x, far)
			switch {
			case x.List != l.ID, len(r.Crossings) > 0 && !slices.Contains(r.Crossings, x.ID):
				continue
			case r.Carries != nil:
				goes = allowed(l.Carries, is)
			}
			if goes == is {
				continue
			}
			next, err := pairing.Turn(now, l, x, goes)
			if err != nil {
				return nil, problem.New("cannot-turn", nameOf(now, x)+" cannot go another way: "+err.Error()+".",
					"Change what happens to it on the way, or take it out of the list.")
			}
			turned++
			edits = append(edits, site.Put(site.KindCrossing, x.ID, "", next))
		}
		if len(edits) == 0 {
			return nil, problem.New("nothing", "Nothing is to be turned.", "")
		}
		return edits, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{fmt.Sprintf("Turned: %d.", turned), seq})
}

// allowed is how a name goes in a list that carries only one way.
func allowed(carries site.Carries, goes pairing.Goes) pairing.Goes {
	switch carries {
	case site.OnlyGives:
		return pairing.ToThere
	case site.OnlyTakes:
		return pairing.FromThere
	}
	return goes
}

func farPoint(d *site.Device) func(id string) bool {
	points := map[string]bool{}
	if d != nil {
		for i := range d.Points {
			points[d.Points[i].ID] = true
		}
	}
	return func(id string) bool { return points[id] }
}

// nameOf is how people call a crossing: by the names of its points.
func nameOf(now *site.Site, x *site.Crossing) string {
	name := x.ID
	if x.Beats() {
		name = "Ferry's heartbeat"
	}
	if d, p := now.Point(x.From); p != nil {
		name = d.Name + " · " + p.Name
	}
	if d, p := now.Point(x.To); p != nil {
		name += " → " + d.Name + " · " + p.Name
	}
	return name
}
