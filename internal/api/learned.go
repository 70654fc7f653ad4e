package api

import (
	"fmt"
	"slices"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/diagnose"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
)

// NotedView says what was noted, and the change it is.
type NotedView struct {
	Said string `json:"said"`
	Seq  int64  `json:"seq"`
}

// postNoted takes what was found out of the device of a link over into its
// limits: one manner of answering, or else what it bears.
func (s *Server) postNoted(c fiber.Ctx) error {
	learned := s.Engine.Hub.Learned(c.Params("id"))
	said := ""
	seq, err := s.change(c, "noted what a device bears", func(now *site.Site) ([]site.Edit, error) {
		link := now.Link(c.Params("id"))
		if link == nil || now.Device(link.Answering) == nil {
			return nil, problem.New("gone", "The link is no longer in the site.",
				"Reload to see what changed.").At(c.Params("id"))
		}
		device := *now.Device(link.Answering)
		if manner := c.Query("manner"); manner != "" {
			if _, ok := exchange.MannersOf([]string{manner}); !ok {
				return nil, problem.New("no-manner", fmt.Sprintf("%q is no manner of answering.", manner),
					"Reload the page: it may be older than the program.").At(device.Name)
			}
			if !slices.Contains(device.Limits.Manners, manner) {
				device.Limits.Manners = append(slices.Clone(device.Limits.Manners), manner)
			}
			device.Points, said = nil, fmt.Sprintf("Noted in the limits of %s.", device.Name)
			return []site.Edit{site.Put(site.KindDevice, device.ID, "", device)}, nil
		}
		if len(learned.Areas) == 0 && !learned.OneConnection {
			return nil, problem.New("nothing-learned",
				"Nothing has been found out of "+device.Name+" since Ferry started.",
				"Try its link, or run it.").At(device.Name)
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
