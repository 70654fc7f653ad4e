package api

import (
	"bytes"
	"net"
	"net/netip"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/capture"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/field"
	"ferry/internal/recording"
	"ferry/internal/relay"
)

// RelayRequest is a relay that is to be started.
type RelayRequest struct {
	relay.Setup
	// Link, if it is given, has its answering end be the far end.
	Link string `json:"link,omitempty"`
	// Line, with Watch, is a serial line; on the bench it has a port to listen at.
	Line string `json:"line,omitempty"`
}

// RelaysView is the relays at work, and what one can be asked for.
type RelaysView struct {
	Relays []relay.RelayState `json:"relays"`
	Faults []RelayFault       `json:"faults"`
}

// RelayFault is a fault that a relay plays on the bench.
type RelayFault struct {
	Kind    string `json:"kind"`
	Title   string `json:"title"`
	Unit    string `json:"unit,omitempty"`
	Default int    `json:"default,omitempty"`
}

func (s *Server) getRelays(c fiber.Ctx) error { return c.JSON(s.relaysNow()) }

func (s *Server) relaysNow() RelaysView {
	view := RelaysView{Relays: s.Relays.All(), Faults: []RelayFault{}}
	for _, f := range relay.Faults {
		view.Faults = append(view.Faults, RelayFault{f.Kind, f.Title, f.Unit, f.Default})
	}
	return view
}

// postRelay starts a relay. It passes on what its callers say, writes too: on the plant
// that needs writing to be unlocked when it is started. One that only listens writes
// nothing.
func (s *Server) postRelay(c fiber.Ctx) error {
	var r RelayRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if !r.Watch {
		if err := s.onPlant(c); err != nil {
			return err
		}
		if !s.Engine.MayWriteNow() {
			return problem.New("locked", "A relay passes on whatever its callers say, writes too, and writing is locked.",
				"Unlock writing for as long as it takes to start the relay.")
		}
	}
	bench := s.Engine.Mode() == field.Bench
	if !bench && r.Fault.Kind != "" {
		return problem.New("bench-only", "A relay plays faults on the bench alone.",
			"Switch the fault off, or the mode to bench.")
	}
	ground := relay.Ground{Certificate: s.RelayCertificate, Secret: func(name string) (string, error) {
		data, err := s.Vault.Get(protocol.Secret, name)
		return string(data), err
	}}
	if !bench {
		ground.Control = field.MayDial
	}
	if r.Watch && r.Line != "" && bench {
		tap, err := s.Bench.Tap(r.Line)
		if err != nil {
			return err
		}
		r.Near = relay.End{How: relay.SerialAt, At: tap, Format: r.Near.Format}
	}
	if now, _ := s.Store.Site(); r.Watch && now.Line(r.Line) != nil && now.Line(r.Line).Medium == site.SerialLine {
		line := now.Line(r.Line)
		if r.To = line.Name; r.Near.Format == nil {
			format := line.Format()
			r.Near.Format = &format
		}
	}
	if r.Link != "" {
		far, err := s.Engine.Reach(r.Link)
		if err != nil {
			return err
		}
		r.To = far.Device
		if far.Format != nil {
			r.To += ", on " + far.Line
			r.Far = relay.End{How: relay.SerialAt, At: far.Dial, Format: far.Format, Gender: r.Far.Gender}
		} else {
			r.Far = relay.End{How: relay.Call, At: far.Dial}
			ground.Far = relay.Dialled(far.Dial, far.At)
		}
	}
	if bench {
		ends := []relay.End{r.Near, r.Far}
		if r.Watch {
			ends = ends[:1]
		}
		for _, e := range ends {
			if err := onLoopback(&e); err != nil {
				return err
			}
		}
	}
	if r.To == "" {
		r.To = r.Far.At
	}
	if _, err := s.Relays.Start(r.Setup, ground); err != nil {
		return err
	}
	return c.JSON(s.relaysNow())
}

// onLoopback holds that on the bench nothing goes to, or comes from, another machine.
func onLoopback(e *relay.End) error {
	if e.How == "" || e.How == relay.SerialAt {
		return nil
	}
	host, _, err := net.SplitHostPort(e.At)
	if err != nil {
		return problem.New("listen", "An end of the relay is not understood.",
			"Write an address and a port, as 127.0.0.1:4001.").At(e.At)
	}
	if at, err := netip.ParseAddr(host); err != nil || !at.IsLoopback() {
		return problem.New("listen", "On the bench a relay stays on this machine.",
			"Write an address of it, as 127.0.0.1:4001.").At(e.At)
	}
	return nil
}

// postRelayAsk has the bench play the program that asks through a relay, until that ends.
func (s *Server) postRelayAsk(c fiber.Ctx) error {
	r, err := s.Relays.Named(c.Params("id"))
	if err != nil {
		return err
	}
	setup := r.State().Setup
	if s.Engine.Mode() != field.Bench || setup.Near.How != relay.Listen || setup.Near.Speaks != relay.Raw {
		return problem.New("no-asker", "The bench asks through relays that wait for calls over TCP, in bench mode.", "")
	}
	now, _ := s.Store.Site()
	for i := range now.Devices {
		if now.Devices[i].Name == setup.To {
			if err := s.Bench.Ask(r.Context(), now.Devices[i].ID, setup.Near.At); err != nil {
				return err
			}
			return c.JSON(s.relaysNow())
		}
	}
	return problem.New("no-asker", "The relay leads to no device that the bench plays.", "Ask by a program of your own.")
}

func (s *Server) postRelayStop(c fiber.Ctx) error {
	if err := s.Relays.Stop(c.Params("id")); err != nil {
		return err
	}
	return c.JSON(s.relaysNow())
}

// postRelayKeep keeps what passed a relay as a recording.
func (s *Server) postRelayKeep(c fiber.Ctx) error {
	r, err := s.Relays.Named(c.Params("id"))
	if err != nil {
		return err
	}
	said, ends := r.Said()
	if len(said) == 0 {
		return problem.New("nothing", "Nothing has passed yet.", "Have a caller connect, or wait until something is said.")
	}
	setup := r.State().Setup
	of := recording.Between{Datagrams: setup.Near.How == relay.Datagrams}
	for _, e := range []relay.End{setup.Near, setup.Far} {
		if e.How == relay.SerialAt {
			of.Line, of.Format = setup.To, e.Format
		}
	}
	passed := make([]recording.Passed, len(said))
	for i, p := range said {
		passed[i] = recording.Passed{Piece: capture.Piece{Side: p.Side, Octets: p.Octets, At: p.At}, Conn: p.Conn,
			Opened: p.What == relay.Opened, Failed: p.What == relay.Failed, Shut: p.What == relay.Shut, OneWay: setup.Watch}
	}
	var out bytes.Buffer
	if err := recording.WriteRelayed(&out, passed, ends, of); err != nil {
		return err
	}
	now, _ := s.Store.Site()
	at := time.Now()
	k, err := s.Recordings.Take("relay "+at.UTC().Format("2006-01-02 15.04.05")+".pcapng", &out, nil, at, now)
	if err != nil {
		return err
	}
	return c.JSON(TakenView{k.ID})
}
