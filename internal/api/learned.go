package api

import (
	"fmt"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/survey"
)

// NotedView says what was noted, and the change it is.
type NotedView struct {
	Said string `json:"said"`
	Seq  int64  `json:"seq"`
}

// postNoted takes what was found out of the device of a link over into its
// limits: one manner of answering, or else what it bears.
func (s *Server) postNoted(c fiber.Ctx) error {
	id, manner := c.Params("id"), c.Query("manner")
	learned, said := s.Engine.Hub.Learned(id), ""
	var bears finding.Bears
	if err := bind(c, &bears); err != nil {
		return err
	}
	if shown := survey.Learned(&bears); len(shown.Areas) > 0 || shown.OneConnection {
		learned = shown
	}
	seq, err := s.change(c, "noted what a device bears", func(now *site.Site) ([]site.Edit, error) {
		var edit site.Edit
		var d *site.Device
		var err error
		if manner != "" {
			edit, d, err = survey.NoteManner(now, id, manner)
		} else {
			edit, d, err = survey.NoteHabits(now, id, learned)
		}
		if err != nil {
			return nil, err
		}
		said = fmt.Sprintf("Noted in the limits of %s.", d.Name)
		return []site.Edit{edit}, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{said, seq})
}
