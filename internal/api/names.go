package api

import (
	"context"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// NamesView is how the names of a far side are that crossings go into or come from.
type NamesView struct {
	// Connected is whether the far side is reached; Sentence says how the names are as
	// a whole, or why it is not reached.
	Connected bool            `json:"connected"`
	Sentence  string          `json:"sentence"`
	Proofs    []pairing.Proof `json:"proofs"`
}

// postNames proves the names of a device against what it lists of itself, and what was
// heard of them.
func (s *Server) postNames(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	d, def, link, err := asked(now, c)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Context(), 60*time.Second)
	defer cancel()
	view := NamesView{Proofs: []pairing.Proof{}}
	var held []protocol.Held
	if _, lists := def.Lists(); lists {
		if held, _, err = s.Engine.Held(ctx, link.ID); err != nil {
			view.Sentence = problem.From(err, "names").Sentence
			return c.JSON(view)
		}
		if held == nil {
			held = []protocol.Held{} // it lists, and has nothing
		}
	}
	view.Connected = true
	view.Proofs = pairing.Prove(def.Scheme, s.wantedNames(now, d), held)
	view.Sentence = pairing.Summary(view.Proofs)
	return c.JSON(view)
}

// wantedNames are the points of a device that crossings have to do with, with what is
// known of them.
func (s *Server) wantedNames(now *site.Site, d *site.Device) (names []pairing.Wanted) {
	into := map[string]string{} // crossings by what they write
	used := map[string]bool{}
	for i := range now.Crossings {
		x := &now.Crossings[i]
		into[x.To] = x.ID
		for id := range x.Points {
			used[id] = true
		}
	}
	for i := range d.Points {
		p := &d.Points[i]
		if !used[p.ID] {
			continue
		}
		live, _ := s.Engine.Hub.Point(p.ID)
		name := pairing.Wanted{Point: p, Read: live.Quality, Reason: live.Reason}
		if live.AtMs == 0 && live.Quality != value.Bad {
			name.Read = value.NotRead
		}
		if id := into[p.ID]; id != "" {
			state := s.Engine.Crossing(id)
			if name.Written = state.Counts.Carried; state.State == "failed" {
				name.Failed = state.Sentence
			}
		}
		names = append(names, name)
	}
	return names
}
