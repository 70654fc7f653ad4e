package enip

import (
	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// Places of what the asking end knows of a connection, in octets of AreaConn.
const (
	connConnected  = 0 // bit 0, and bit 1: the far end is in run
	connSwitches   = 1 // bit 0 enabled, bit 1 run
	connVendor     = 2
	connStatus     = 4
	connExtended   = 6
	connSent       = 8
	connReceived   = 12
	connMissed     = 16
	connInMs       = 20
	connInJitter   = 24
	connOutMs      = 28
	connOutJitter  = 32
	connName       = 64
	connNameLength = 32
	connError      = 96
	connErrorMost  = 96
	connOctets     = connError + connErrorMost
)

// The switches of a connection.
var (
	ConnEnable = block.WithBit(block.At(AreaConn, connSwitches), 0)
	ConnRun    = block.WithBit(block.At(AreaConn, connSwitches), 1)
)

// State is what the asking end knows of a connection.
type State struct {
	Connected, FarRuns, Enabled, Run bool
	Vendor, Status, Extended         uint16
	Sent, Received, Missed           uint32
	// InMs and OutMs are the actual intervals, the jitters how far 99 of 100 keep to them.
	InMs, InJitterMs, OutMs, OutJitterMs float32
	Name, Error                          string
}

// places are those of a state, each with what stands there.
var places = []struct {
	name, unit string
	at         address.Address
	shape      value.Shape
	of         func(s *State) value.Value
}{
	{"Connected", "", bitOf(connConnected, 0), value.Shape{Type: value.TypeBool},
		func(s *State) value.Value { return value.OfBool(s.Connected) }},
	{"Far end runs", "", bitOf(connConnected, 1), value.Shape{Type: value.TypeBool},
		func(s *State) value.Value { return value.OfBool(s.FarRuns) }},
	{"Enabled", "", ConnEnable, value.Shape{Type: value.TypeBool},
		func(s *State) value.Value { return value.OfBool(s.Enabled) }},
	{"Run", "", ConnRun, value.Shape{Type: value.TypeBool}, func(s *State) value.Value { return value.OfBool(s.Run) }},
	{"Last error", "", block.At(AreaConn, connError), value.Shape{Type: value.TypeText, Length: connErrorMost},
		func(s *State) value.Value { return value.OfText(s.Error) }},
	{"Last status", "", block.At(AreaConn, connStatus), value.Shape{Type: value.TypeUint16},
		func(s *State) value.Value { return value.OfUint(uint64(s.Status)) }},
	{"Last extended status", "", block.At(AreaConn, connExtended), value.Shape{Type: value.TypeUint16},
		func(s *State) value.Value { return value.OfUint(uint64(s.Extended)) }},
	{"Far name", "", block.At(AreaConn, connName), value.Shape{Type: value.TypeText, Length: connNameLength},
		func(s *State) value.Value { return value.OfText(s.Name) }},
	{"Far vendor", "", block.At(AreaConn, connVendor), value.Shape{Type: value.TypeUint16},
		func(s *State) value.Value { return value.OfUint(uint64(s.Vendor)) }},
	{"Packets sent", "", block.At(AreaConn, connSent), value.Shape{Type: value.TypeUint32},
		func(s *State) value.Value { return value.OfUint(uint64(s.Sent)) }},
	{"Packets received", "", block.At(AreaConn, connReceived), value.Shape{Type: value.TypeUint32},
		func(s *State) value.Value { return value.OfUint(uint64(s.Received)) }},
	{"Packets missed", "", block.At(AreaConn, connMissed), value.Shape{Type: value.TypeUint32},
		func(s *State) value.Value { return value.OfUint(uint64(s.Missed)) }},
	{"Interval in", "ms", block.At(AreaConn, connInMs), value.Shape{Type: value.TypeFloat32},
		func(s *State) value.Value { return value.OfFloat(float64(s.InMs)) }},
	{"Jitter in", "ms", block.At(AreaConn, connInJitter), value.Shape{Type: value.TypeFloat32},
		func(s *State) value.Value { return value.OfFloat(float64(s.InJitterMs)) }},
	{"Interval out", "ms", block.At(AreaConn, connOutMs), value.Shape{Type: value.TypeFloat32},
		func(s *State) value.Value { return value.OfFloat(float64(s.OutMs)) }},
	{"Jitter out", "ms", block.At(AreaConn, connOutJitter), value.Shape{Type: value.TypeFloat32},
		func(s *State) value.Value { return value.OfFloat(float64(s.OutJitterMs)) }},
}

func bitOf(octet uint32, bit int) address.Address {
	return block.WithBit(block.At(AreaConn, octet), bit)
}

// At returns what a state holds at a place; ok is false where nothing has its place.
func (s *State) At(a address.Address) (v value.Value, ok bool) {
	for i := range places {
		if places[i].at == a {
			return places[i].of(s), true
		}
	}
	return v, false
}

// Standing lists the places of a state.
func (cyclicRules) Standing() (held []protocol.Held) {
	for i := range places {
		p := &places[i]
		shape := p.shape
		if shape.Bit = block.Of(p.at).Bit; shape.Type != value.TypeBool {
			shape.Bit = -1
		}
		held = append(held, protocol.Held{Address: p.at, Name: p.name, Shape: shape, Unit: p.unit,
			Writable: p.at == ConnEnable || p.at == ConnRun})
	}
	return held
}
