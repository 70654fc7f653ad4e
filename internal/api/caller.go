package api

import (
	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/core/site"
	"ferry/internal/field"
)

// CallRequest has the bench play who asks a device that Ferry is, or no longer.
type CallRequest struct {
	On bool `json:"on"`
}

// CommandRequest has the one whom the bench plays give a command.
type CommandRequest struct {
	Name string `json:"name"`
	On   bool   `json:"on"`
}

// served is a device that Ferry is, of which the bench may play the far side.
func (s *Server) served(c fiber.Ctx) (*site.Device, error) {
	now, _ := s.Store.Site()
	d := now.Device(c.Params("id"))
	switch {
	case d == nil || !d.Served():
		return nil, problem.New("gone", "The device is no longer in the site, or Ferry is it no longer.",
			"Reload to see what changed.").At(c.Params("id"))
	case s.Engine.Mode() != field.Bench:
		return nil, problem.New("no-asker", "The bench plays nobody in plant mode.",
			"Ask it by what stands on the plant.").At(d.Name)
	}
	return d, nil
}

// getCaller says whom the bench plays for a device that Ferry is: null for nobody that it could.
func (s *Server) getCaller(c fiber.Ctx) error {
	now, _ := s.Store.Site()
	if s.Engine.Mode() != field.Bench {
		return c.JSON(nil)
	}
	return c.JSON(s.Bench.Calling(now.Device(c.Params("id"))))
}

func (s *Server) postCaller(c fiber.Ctx) error {
	var r CallRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, err := s.served(c)
	if err != nil {
		return err
	}
	if err := s.Bench.Call(d, r.On); err != nil {
		return problem.From(err, "bench").At(d.Name)
	}
	return c.JSON(s.Bench.Calling(d))
}

func (s *Server) postCommand(c fiber.Ctx) error {
	var r CommandRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	d, err := s.served(c)
	if err != nil {
		return err
	}
	if err := s.Bench.Operate(c.Context(), d.ID, r.Name, r.On); err != nil {
		return err
	}
	return c.JSON(s.Bench.Calling(d))
}
