package bacnet

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	family "ferry/internal/core/family/bacnet"
	"ferry/internal/core/protocol"
	"ferry/internal/field"
	wire "ferry/internal/wire/bacnet"
)

// Bounds of a question to all: how many devices are taken, and how many are asked for their names at a time.
const (
	mostHeard   = 4096
	namedAtOnce = 8
	namedWithin = 300 * time.Millisecond
)

// Call asks all devices of a network, and those behind it, who they are, and each that answers for its name.
func (driver) Call(ctx context.Context, t field.Target, of field.Stations, heard func(field.Found)) error {
	to, err := resolve(ctx, t.Dial)
	if err == nil {
		err = allowed(&t, to)
	}
	if err != nil {
		return err
	}
	came := make(chan found, mostHeard)
	s, err := open(netip.AddrPortFrom(netip.IPv4Unspecified(), 0), hooks{
		heard: func(from netip.AddrPort, n *wire.Network, m *wire.Message, _ []byte) {
			if m.Kind != wire.Unconfirmed || m.Service != wire.IAm {
				return
			}
			if p, err := wire.ParseIAm(m.Body, m.BodyAt); err == nil {
				note(came, found{from, n.From, p, nil})
			}
		}})
	if err != nil {
		return err
	}
	defer s.Close()
	function, to := wire.Broadcast, to
	if at, err := foreignAt(ctx, &t); err != nil {
		return err
	} else if at.IsValid() { // who brings broadcasts from its subnet spreads the question there
		if err := s.sendOctets(at,
			(&wire.Link{Function: wire.RegisterForeign, Seconds: foreignSeconds}).Append(nil)); err != nil {
			return err
		}
		function, to = wire.Distribute, at
	}
	asks := wire.Everybody
	if of.To > 0 {
		asks = wire.Range{First: uint32(of.From), Last: uint32(of.To)}
	}
	m := wire.Message{Kind: wire.Unconfirmed, Service: wire.WhoIs, Body: wire.AppendWhoIs(nil, asks)}
	n := wire.Network{To: wire.Station{Network: wire.EveryNetwork}, Carries: true, Body: m.Append(nil)}
	if err := s.sendOctets(to, (&wire.Link{Function: function, NPDU: n.Append(nil)}).Append(nil)); err != nil {
		return err
	}
	var names sync.WaitGroup
	defer names.Wait()
	turns := make(chan struct{}, namedAtOnce)
	times := map[string]int{}
	for {
		select {
		case <-ctx.Done():
			return nil
		case f := <-came:
			key := fmt.Sprint(f.from, f.behind, f.Device)
			if times[key]++; times[key] > 1 {
				continue // it says so again and again
			}
			if !asks.Asks(f.Device.Instance()) {
				continue
			}
			names.Go(func() {
				turns <- struct{}{}
				defer func() { <-turns }()
				heard(f.told(s.nameOf(ctx, &f)))
			})
		}
	}
}

// told is a device as a sweep shows it.
func (f *found) told(name string) field.Found {
	is := field.Found{Host: f.from.Addr().String(), Port: int(f.from.Port()), Station: int(f.Device.Instance()),
		Settings: protocol.Settings{family.KeyDevice: protocol.OfInt(int(f.Device.Instance()))},
		Identity: fmt.Sprintf("device %d", f.Device.Instance())}
	if name != "" {
		is.Identity += ", " + name
	}
	is.Identity += fmt.Sprintf(", maker %d", f.Vendor)
	if f.behind.Network != 0 {
		is.Settings[family.KeyNetwork] = protocol.OfInt(int(f.behind.Network))
		is.Identity += fmt.Sprintf(", in network %d", f.behind.Network)
	}
	if f.Segmentation == wire.SegmentsNot {
		is.Identity += ", nothing in parts"
	}
	return is
}

// nameOf asks a device for its name and its model; empty for one that does not tell.
func (s *socket) nameOf(ctx context.Context, f *found) string {
	var parts []string
	for _, p := range []family.Property{family.ObjectName, family.ModelName} {
		ref := whole(f.Device, p)
		m, err := s.ask(ctx, f.from, f.behind, wire.ReadProperty, wire.AppendReadProperty(nil, ref), namedWithin, 0, false)
		if err != nil {
			continue
		}
		if _, values, err := wire.ParseReadAnswer(m.Body, m.BodyAt); err == nil && len(values) == 1 &&
			strings.TrimSpace(values[0].Text) != "" {
			parts = append(parts, strings.TrimSpace(values[0].Text))
		}
	}
	return strings.Join(parts, ", ")
}
