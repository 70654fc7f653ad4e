package api

import (
	"context"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
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
	var why string
	view.Proofs, why = s.Engine.ProveNames(ctx, now, d, c.Query("list"), link, held)
	if view.Sentence = pairing.Summary(view.Proofs); why != "" {
		view.Sentence += " " + why
	}
	return c.JSON(view)
}
