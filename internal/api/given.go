package api

import (
	"slices"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/field"
)

// mostGiven is how many points one answer tells of.
const mostGiven = 200

// GivenView is what a client was given last of a point of a device that Ferry is, with the names of it
// and of the point that it was made of.
type GivenView struct {
	field.Given
	Target CrossingEnd `json:"target"`
	Source CrossingEnd `json:"source"`
}

// getGiven says what clients were given last of the points of a device that Ferry is, or of one of them,
// the latest first.
func (s *Server) getGiven(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	device, only := c.Query("device"), c.Query("point")
	if now.Device(device) == nil {
		return problem.New("gone", "The device is no longer in the site.", "Reload to see what changed.").At(device)
	}
	list := s.Engine.Given(device)
	if only != "" {
		list = slices.DeleteFunc(list, func(g field.Given) bool { return g.Point != only })
	}
	list = list[:min(len(list), mostGiven)]
	ends := map[string]CrossingEnd{}
	for i := range list {
		ends[list[i].Point] = CrossingEnd{}
		if list[i].From != "" {
			ends[list[i].From] = CrossingEnd{}
		}
	}
	nameEnds(now, ends)
	views := make([]GivenView, len(list))
	for i := range list {
		views[i] = GivenView{Given: list[i], Target: ends[list[i].Point], Source: ends[list[i].From]}
	}
	return c.JSON(views)
}
