package api

import (
	"strings"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/regmap"
)

// FoundView lists the points that have all of some words in the name of their
// device, their own name or their address.
type FoundView struct {
	Points []FoundPoint `json:"points"`
}

// FoundPoint is one of them.
type FoundPoint struct {
	ID         string `json:"id"`
	Name       string `json:"name"`
	Address    string `json:"address"`
	Device     string `json:"device"`
	DeviceName string `json:"deviceName"`
}

// mostFound bounds the points that are listed.
const mostFound = 40

func (s *Server) getFind(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	words := strings.Fields(strings.ToLower(c.Query("words")))
	of := c.Query("device") // empty for all
	view := FoundView{Points: []FoundPoint{}}
	for i := range now.Devices {
		d := &now.Devices[i]
		if len(words) == 0 || of != "" && d.ID != of {
			continue
		}
		name := strings.ToLower(d.Name)
		for j := range d.Points {
			p := &d.Points[j]
			scheme, err := d.SchemeOf(p)
			if err != nil {
				break
			}
			address, hit := "", true
			for _, word := range words {
				if strings.Contains(name, word) || strings.Contains(strings.ToLower(p.Name), word) {
					continue
				}
				if address == "" {
					address = strings.ToLower(regmap.Cell(scheme, p, regmap.Address))
				}
				if hit = strings.Contains(address, word); !hit {
					break
				}
			}
			if !hit {
				continue
			}
			view.Points = append(view.Points,
				FoundPoint{p.ID, p.Name, regmap.Cell(scheme, p, regmap.Address), d.ID, d.Name})
			if len(view.Points) == mostFound {
				return c.JSON(view)
			}
		}
	}
	return c.JSON(view)
}
