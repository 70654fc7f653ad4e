package api

import (
	"context"
	"fmt"
	"maps"
	"net"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/route"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/field/ports"
)

// MachineView is this machine beside every line of the site.
type MachineView struct {
	route.Machine
	Lines []route.OnLine `json:"lines"`
}

// ListenRequest hears a line for some seconds; AllowRequest lets Ferry ask on
// it for some minutes, 0 for no longer.
type ListenRequest struct {
	Seconds int `json:"seconds"`
}

// AllowRequest is described with ListenRequest.
type AllowRequest struct {
	Minutes int `json:"minutes"`
}

// TakeRequest makes devices of some of what a sweep found.
type TakeRequest struct {
	Found []field.Found `json:"found"`
	// Asking is the device that is to ask them.
	Asking string `json:"asking"`
}

func (s *Server) getMachine(c fiber.Ctx) error {
	machine, err := thisMachine()
	if err != nil {
		return err
	}
	view := MachineView{Machine: machine, Lines: []route.OnLine{}}
	now, _ := s.Store.Site()
	for i := range now.Lines {
		view.Lines = append(view.Lines, machine.Here(now, &now.Lines[i]))
	}
	return c.JSON(view)
}

// thisMachine lists interfaces and serial ports.
func thisMachine() (route.Machine, error) {
	m := route.Machine{Interfaces: []route.Interface{}, Ports: []route.SerialHere{}}
	list, err := net.Interfaces()
	if err != nil {
		return m, fmt.Errorf("the network interfaces could not be listed: %w", err)
	}
	for _, i := range list {
		addrs, err := i.Addrs()
		if err != nil {
			return m, fmt.Errorf("the addresses of %s could not be read: %w", i.Name, err)
		}
		own := route.Interface{Name: i.Name, Up: i.Flags&net.FlagRunning != 0, Addrs: []string{}}
		for _, a := range addrs {
			own.Addrs = append(own.Addrs, a.String())
		}
		m.Interfaces = append(m.Interfaces, own)
	}
	serials, err := ports.List()
	if err != nil {
		return m, err
	}
	for _, p := range serials {
		m.Ports = append(m.Ports, route.SerialHere(p))
	}
	return m, nil
}

func (s *Server) postListen(c fiber.Ctx) error {
	var r ListenRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if r.Seconds < 1 || r.Seconds > 60 {
		return problem.New("bad-time", "Give 1 to 60 seconds.", "")
	}
	ctx, cancel := context.WithTimeout(c.Context(), 2*time.Minute)
	defer cancel()
	heard, err := s.Engine.Listen(ctx, c.Params("id"), time.Duration(r.Seconds)*time.Second)
	if err != nil {
		return err
	}
	return c.JSON(heard)
}

func (s *Server) postAllow(c fiber.Ctx) error {
	var r AllowRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if r.Minutes < 0 || r.Minutes > 8*60 {
		return problem.New("bad-time", "Give up to 480 minutes.", "")
	}
	if err := s.Engine.Allow(c.Params("id"), time.Duration(r.Minutes)*time.Minute); err != nil {
		return err
	}
	return c.JSON(s.Engine.State())
}

func (s *Server) postSweep(c fiber.Ctx) error {
	var order field.SweepOrder
	if err := bind(c, &order); err != nil {
		return err
	}
	sweep, err := s.Engine.StartSweep(order)
	if err != nil {
		return err
	}
	return c.JSON(sweep)
}

func (s *Server) getSweep(c fiber.Ctx) error { return s.sweep(c, false) }

func (s *Server) stopSweep(c fiber.Ctx) error { return s.sweep(c, true) }

func (s *Server) sweep(c fiber.Ctx, stop bool) error {
	sweep, err := s.Engine.Sweep(c.Params("id"), stop)
	if err != nil {
		return err
	}
	return c.JSON(sweep)
}

// postTake makes devices and links of what a sweep found.
func (s *Server) postTake(c fiber.Ctx) error {
	var r TakeRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	sweep, err := s.Engine.Sweep(c.Params("id"), false)
	if err != nil {
		return err
	}
	def, ok := protocol.Named(sweep.Order.Protocol)
	if !ok {
		return problem.New("protocol",
			fmt.Sprintf("protocol %q is not one that this version speaks.", sweep.Order.Protocol), "")
	}
	seq, err := s.change(c, fmt.Sprintf("made %d devices of what answered", len(r.Found)),
		func(now *site.Site) ([]site.Edit, error) {
			var edits []site.Edit
			taken := map[string]bool{}
			for i := range now.Devices {
				taken[now.Devices[i].Name] = true
			}
			for _, f := range r.Found {
				device, link := deviceOf(def, sweep.Order, f, r.Asking)
				for n := 2; taken[device.Name]; n++ {
					device.Name = fmt.Sprintf("%s (%d)", trimNumber(device.Name), n)
				}
				taken[device.Name] = true
				edits = append(edits, site.Put(site.KindDevice, device.ID, "", device))
				if asking := now.Device(r.Asking); asking != nil && asking.Port(sweep.Order.Line) != nil {
					edits = append(edits, site.Put(site.KindLink, link.ID, "", link))
				}
			}
			if len(edits) == 0 {
				return nil, problem.New("nothing", "Nothing was chosen.", "Choose some of what answered.")
			}
			return edits, nil
		})
	if err != nil {
		return err
	}
	return c.JSON(EditAnswer{seq, "made devices"})
}

func trimNumber(name string) string {
	for i := len(name) - 1; i > 0; i-- {
		if name[i] == '(' {
			return name[:i-1]
		}
	}
	return name
}

// deviceOf makes a device, and the link to it, of what answered.
func deviceOf(def *protocol.Def, order field.SweepOrder, f field.Found, asking string) (site.Device, site.Link) {
	settings := protocol.Settings{}
	if def.Station != "" {
		settings[def.Station] = protocol.OfInt(f.Station)
	}
	name := "Device"
	if word := def.StationWords(settings); word != "" {
		name = strings.ToUpper(word[:1]) + word[1:]
	}
	if f.Host != "" {
		if f.Port > 0 {
			settings[protocol.KeyPort] = protocol.OfInt(f.Port)
		}
		name = f.Host
	}
	maps.Copy(settings, f.Settings)
	id := fmt.Sprintf("found-%s-%s%d", order.Line, f.Host, f.Station)
	if f.Identity != "" {
		name = f.Identity + ", " + name
	}
	device := site.Device{ID: id, Name: name, Model: f.Identity, Map: order.Protocol, Points: nil,
		Ports: []site.Port{{Line: order.Line, Host: f.Host, Protocol: order.Protocol, Settings: settings}}}
	link := site.Link{ID: "to-" + id, Asking: asking, Answering: id, Line: order.Line, Protocol: order.Protocol,
		Settings: settings}
	return device, link
}

// leastLearned is how many answers a thinking time is learned from at least.
const leastLearned = 20
