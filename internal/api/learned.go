package api

import (
	"fmt"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/diagnose"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// NotedView says what was noted, and the change it is.
type NotedView struct {
	Said string `json:"said"`
	Seq  int64  `json:"seq"`
}

// postNoted takes what was found out of the device of a link over into its
// limits.
func (s *Server) postNoted(c fiber.Ctx) error {
	learned := s.Engine.Hub.Learned(c.Params("id"))
	said := ""
	seq, err := s.change(c, "noted what a device bears", func(now *site.Site) ([]site.Edit, error) {
		link := now.Link(c.Params("id"))
		if link == nil || now.Device(link.Answering) == nil {
			return nil, problem.New("gone", "The link is no longer in the site.", "Reload to see what changed.").At(c.Params("id"))
		}
		device := *now.Device(link.Answering)
		if len(learned.Areas) == 0 && !learned.OneConnection {
			return nil, problem.New("nothing-learned", "Nothing has been found out of "+device.Name+" since Ferry started.", "Try its link, or run it.").At(device.Name)
		}
		device.Limits, device.Points = diagnose.Note(&device, learned), nil
		said = fmt.Sprintf("Noted in the limits of %s.", device.Name)
		return []site.Edit{site.Put(site.KindDevice, device.ID, "", device)}, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(NotedView{said, seq})
}
