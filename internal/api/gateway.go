package api

import (
	"fmt"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/bench"
	"ferry/internal/core/gateway"
	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/shelf"
)

// BuiltView is a gateway that was built: the step, and what was made.
type BuiltView struct {
	Seq     int64    `json:"seq"`
	What    string   `json:"what"`
	Line    string   `json:"line"`
	Devices []string `json:"devices"`
}

// mostMeters bounds the meters of a gateway.
const mostMeters = 247

// readyList finds a ready list: of the site, or one that ships with Ferry.
func readyList(now *site.Site) func(id string) *site.Datasheet {
	return func(id string) *site.Datasheet {
		if d := now.Datasheet(id); d != nil {
			return d
		}
		if at := slices.IndexFunc(shelf.Datasheets(), func(d site.Datasheet) bool { return d.ID == id }); at >= 0 {
			return &shelf.Datasheets()[at]
		}
		return nil
	}
}

// design reads what is wanted. A meter of a list that ships with Ferry has a stand-in of its own.
func design(c fiber.Ctx) (*gateway.Design, error) {
	var d gateway.Design
	if err := bind(c, &d); err != nil {
		return nil, err
	}
	if len(d.Meters) > mostMeters {
		return nil, problem.New("too-many", fmt.Sprintf("A line has %d meters at most.", mostMeters),
			"Leave some out, or begin a second line.")
	}
	kinds := bench.Models()
	for i := range d.Models {
		if kind := strings.TrimPrefix(d.Models[i].Datasheet, "shelf-"); slices.Contains(kinds, kind) {
			d.Models[i].Bench = kind
		}
	}
	return &d, nil
}

// postGatewayLook says what a gateway would be, without building it.
func (s *Server) postGatewayLook(c fiber.Ctx) error {
	d, err := design(c)
	if err != nil {
		return err
	}
	defer s.inTurn()()
	now, _ := s.Store.Site()
	look, err := gateway.Look(c.Context(), now, d, readyList(now))
	if err != nil {
		return cannotBuild(err)
	}
	return c.JSON(look)
}

func cannotBuild(err error) error {
	if is := problem.From(err, "cannot-build"); is.Code != "cannot-build" {
		return is
	}
	return problem.New("cannot-build", "It does not go together yet: "+err.Error()+".", "Change what it says.")
}

// postGatewayBuild builds one, as one step.
func (s *Server) postGatewayBuild(c fiber.Ctx) error {
	d, err := design(c)
	if err != nil {
		return err
	}
	var view BuiltView
	view.What = fmt.Sprintf("built %s, of %s", strings.TrimSpace(d.As.Name), amount(len(d.Meters), "meter"))
	if now, _ := s.Store.Site(); d.As.Device != "" && now.Device(d.As.Device) != nil {
		view.What = fmt.Sprintf("added %s to %s", amount(len(d.Meters), "meter"), now.Device(d.As.Device).Name)
	}
	if d.All && d.Line != "" {
		view.What += ", with all on its line at one pace"
	}
	view.Seq, err = s.change(c, view.What, func(now *site.Site) ([]site.Edit, error) {
		settled, err := gateway.Settle(c.Context(), now, d, readyList(now))
		if err != nil {
			return nil, cannotBuild(err)
		}
		built, err := gateway.Build(now, settled, readyList(now), newID)
		if err != nil {
			return nil, cannotBuild(err)
		}
		view.Line, view.Devices = built.Line, built.Devices
		return built.Edits, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(view)
}
