package api

import (
	"context"
	"encoding/csv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/files"
)

// postHeld asks a device which places it has, and gives them as a table for the
// intake. Nothing changes by it.
func (s *Server) postHeld(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	_, def, link, err := asked(now, c)
	if err != nil {
		return err
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

// asked is the device that a request is about, with one map, its protocol, and the
// link over which it is asked in that.
func asked(now *site.Site, c fiber.Ctx) (*site.Device, *protocol.Def, *site.Link, error) {
	d, def, err := mappedDevice(now, c.Params("id"), c.Query("map"))
	if err != nil {
		return nil, nil, nil, err
	}
	link := now.LinkIn(d.ID, def.Name)
	if link == nil {
		return nil, nil, nil, problem.New("no-link", "Nothing asks the device in the protocol of this map.",
			"Draw a link to it on the page of lines.").At(d.Name)
	}
	return d, def, link, nil
}
