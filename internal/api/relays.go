package api

import (
	"bytes"
	"net"
	"net/netip"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/core/capture"
	"ferry/internal/core/problem"
	"ferry/internal/field"
	"ferry/internal/recording"
	"ferry/internal/relay"
)

// RelayRequest is a relay that is to be started, towards the answering end of a link.
type RelayRequest struct {
	relay.Setup
	Link string `json:"link"`
}

func (s *Server) getRelays(c fiber.Ctx) error { return c.JSON(s.Relays.All()) }

// postRelay starts a relay. It passes on what its callers say, writes too: on the plant
// that needs writing to be unlocked when it is started.
func (s *Server) postRelay(c fiber.Ctx) error {
	var r RelayRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	if err := s.onPlant(c); err != nil {
		return err
	}
	if !s.Engine.MayWriteNow() {
		return problem.New("locked", "A relay passes on whatever its callers say, writes too, and writing is locked.",
			"Unlock writing for as long as it takes to start the relay.")
	}
	host, _, err := net.SplitHostPort(r.Listen)
	if err != nil {
		return problem.New("listen", "Where to listen is not understood.", "Write an address and a port, as 127.0.0.1:4001.").
			At(r.Listen)
	}
	at, err := netip.ParseAddr(host)
	if err != nil || s.Engine.Mode() == field.Bench && !at.IsLoopback() {
		return problem.New("listen", "On the bench a relay listens on this machine alone.",
			"Write an address of it, as 127.0.0.1:4001.").At(r.Listen)
	}
	dial, known, err := s.Engine.Reach(r.Link)
	if err != nil {
		return err
	}
	now, _ := s.Store.Site()
	if link := now.Link(r.Link); link != nil && now.Device(link.Answering) != nil {
		r.To = now.Device(link.Answering).Name
	}
	if _, err := s.Relays.Start(r.Setup, relay.TCP(dial, known)); err != nil {
		return err
	}
	return c.JSON(s.Relays.All())
}

func (s *Server) postRelayStop(c fiber.Ctx) error {
	if err := s.Relays.Stop(c.Params("id")); err != nil {
		return err
	}
	return c.JSON(s.Relays.All())
}

// postRelayKeep keeps what passed a relay as a recording.
func (s *Server) postRelayKeep(c fiber.Ctx) error {
	r, err := s.Relays.Named(c.Params("id"))
	if err != nil {
		return err
	}
	said, ends := r.Said()
	if len(said) == 0 {
		return problem.New("nothing", "Nothing has passed yet.", "Have a caller connect to "+r.Listen+".")
	}
	passed := make([]recording.Passed, len(said))
	for i, p := range said {
		passed[i] = recording.Passed{Piece: capture.Piece{Side: p.Side, Octets: p.Octets, At: p.At}, Conn: p.Conn,
			Opened: p.What == relay.Opened, Failed: p.What == relay.Failed, Shut: p.What == relay.Shut}
	}
	var out bytes.Buffer
	if err := recording.WriteRelayed(&out, passed, ends); err != nil {
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
