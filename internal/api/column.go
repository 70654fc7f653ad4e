package api

import (
	"strings"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/value"
)

// ColumnView is what another program shows of the points of a device, as a column of readings.
type ColumnView struct {
	Text string `json:"text"`
	// Without is how many points of the device it has no counterpart for, and Unread of how many
	// it has, but they are not read.
	Without int `json:"without"`
	Unread  int `json:"unread"`
}

// getColumn makes a column of readings out of what is read from another device: the program
// that should show the same values, over whatever family it is read.
func (s *Server) getColumn(c fiber.Ctx) error {
	g, stops, now, _ := s.ground()
	other := now.Site.Device(c.Query("from"))
	if other == nil {
		return gonePoint(c.Query("from"))
	}
	var view ColumnView
	var lines []string
	for i := range stops {
		if stops[i].Device != c.Params("id") {
			continue
		}
		for _, stand := range stops[i].Points {
			d, p := g.Point(stand.Point)
			far := g.Counterpart(d, p, other)
			if far == nil {
				view.Without++
				continue
			}
			live, _ := s.Engine.Hub.Point(far.ID)
			if live.AtMs == 0 || live.Quality != value.Good {
				view.Unread++
				continue
			}
			lines = append(lines, p.Name+"\t"+live.Shown)
		}
	}
	view.Text = strings.Join(lines, "\n")
	return c.JSON(view)
}
