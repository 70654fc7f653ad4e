package api

import (
	"context"
	"encoding/csv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/files"
)

// postHeld asks a device which places it has, and gives them as a table for the
// intake. Nothing changes by it.
func (s *Server) postHeld(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	d, def, err := mappedDevice(now, c.Params("id"), c.Query("map"))
	if err != nil {
		return err
	}
	link := now.LinkIn(d.ID, def.Name)
	if link == nil {
		return problem.New("no-link", "Nothing asks the device in the protocol of this map.",
			"Draw a link to it on the page of lines.").At(d.Name)
	}
	ctx, cancel := context.WithTimeout(c.Context(), 60*time.Second)
	defer cancel()
	held, more, err := s.Engine.Held(ctx, link.ID)
	if err != nil {
		return err
	}
	var text strings.Builder
	out := csv.NewWriter(&text)
	for _, row := range files.HeldRows(def.Scheme, held) {
		if err := out.Write(row.Cells); err != nil {
			return err
		}
	}
	if out.Flush(); out.Error() != nil {
		return out.Error()
	}
	return c.JSON(HeldView{Text: text.String(), Count: len(held), More: more})
}
