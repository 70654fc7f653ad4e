package site

import (
	"bytes"
	"encoding/json"
	"net/netip"
	"slices"

	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
)

// Media of lines.
const (
	Ethernet   = "ethernet"
	SerialLine = "serial"
)

// Line is a shared medium.
type Line struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Medium  string `json:"medium" jsonschema:"enum=ethernet,enum=serial"`
	Network string `json:"network,omitempty" jsonschema:"description=IPv4 or IPv6 network in CIDR form, such as 192.0.2.0/24"`
	Gateway string `json:"gateway,omitempty"`
	// RoundTripMs is the way through the network and back, without any device.
	RoundTripMs float64 `json:"roundTripMs,omitempty"`
	// Serial is what the ports of a serial line should be set to.
	Serial *Serial `json:"serial,omitempty"`
	// Here names what this machine has on the line: on a plant, the serial
	// port that Ferry opens in the place of the asking end.
	Here string `json:"here,omitempty"`
	// Cyclic is traffic that nobody requests and that takes its time.
	Cyclic []Cyclic `json:"cyclic,omitempty"`
	// Strangers are simulated devices that the bench has on the line and the
	// plan does not know.
	Strangers []Stranger `json:"strangers,omitempty"`
	Remark    string     `json:"remark,omitempty"`
}

// Stranger is a simulated device that is in no plan.
type Stranger struct {
	Bench   string `json:"bench"` // its model
	Station int    `json:"station"`
}

// UnmarshalJSON reads it, also as version 0.9 wrote it.
func (s *Stranger) UnmarshalJSON(data []byte) error {
	var read struct {
		Bench   string `json:"bench"`
		Station *int   `json:"station"`
		Before  *int   `json:"unit"`
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&read); err != nil {
		return err
	}
	s.Bench = read.Bench
	for _, n := range []*int{read.Before, read.Station} {
		if n != nil {
			s.Station = *n
		}
	}
	return nil
}

// Serial is a serial line as it is meant to be.
type Serial struct {
	Standard serial.Standard `json:"standard" jsonschema:"enum=tia-232,enum=tia-422,enum=tia-485-2w,enum=tia-485-4w"`
	serial.Format
	LengthM float64 `json:"lengthM,omitempty"`
}

// Cyclic is a frame that is sent again and again without being asked for.
type Cyclic struct {
	Name     string `json:"name"`
	Device   string `json:"device,omitempty"` // id of the sender
	PeriodMs int    `json:"periodMs"`
	// Octets of the frame, with all framing down to what the medium adds.
	Octets int `json:"octets"`
}

// Port is where a device meets a line, and what it is set to there.
type Port struct {
	Line string `json:"line"`
	Host string `json:"host,omitempty" jsonschema:"description=IP address or name of the machine on an Ethernet line"`
	// HostFrom is a point that gives the address in its place, as a text, on the plant:
	// one of HostAmong, addresses or networks, and no other.
	HostFrom  string   `json:"hostFrom,omitempty"`
	HostAmong []string `json:"hostAmong,omitempty"`
	// Pair is a second address of the same end; nil for none.
	Pair     *Redundancy `json:"pair,omitempty"`
	Protocol string      `json:"protocol,omitempty"`
	// Settings of the answering end, by the keys of the protocol. A key that
	// is missing has the protocol's default.
	Settings protocol.Settings `json:"settings,omitempty"`
	// Serial is what differs from the line, on a serial line.
	Serial *PortSerial `json:"serial,omitempty"`
	// Unknown are the keys of settings that nobody has looked up yet.
	Unknown []string `json:"unknown,omitempty"`
	// Think is how long the device was seen to think.
	Think *Think `json:"think,omitempty"`
}

// Allows reports whether a point may give an address to the port.
func (p *Port) Allows(host netip.Addr) bool { return matches(p.HostAmong, host) }

// Think is what was measured of a device: the time from the end of a request
// to the beginning of its answer.
type Think struct {
	MedianMs float64 `json:"medianMs"`
	WorstMs  float64 `json:"worstMs"`
	Count    int     `json:"count"`
}

// PortSerial is what a port on a serial line is set to. A zero field is as the
// line has it.
type PortSerial struct {
	Name   string        `json:"name,omitempty"` // as the device calls its port
	Baud   int           `json:"baud,omitempty"`
	Data   int           `json:"data,omitempty"`
	Parity serial.Parity `json:"parity,omitempty" jsonschema:"enum=none,enum=even,enum=odd"`
	Stop   int           `json:"stop,omitempty"`
	Gender string        `json:"gender,omitempty" jsonschema:"enum=dte,enum=dce"`
	// UnitLoad is the share of a driver's load, 0 for 1.
	UnitLoad float64 `json:"unitLoad,omitempty"`
	// Terminated and Biased are missing where nobody has looked.
	Terminated *bool `json:"terminated,omitempty"`
	Biased     *bool `json:"biased,omitempty"`
}

// Knows reports whether the setting key of the port is known.
func (p *Port) Knows(key string) bool { return !slices.Contains(p.Unknown, key) }

// SerialOf returns the settings of a port on a serial line: its own, and those
// of the line where it has none.
func (l *Line) SerialOf(p *Port) PortSerial {
	var s PortSerial
	if p != nil && p.Serial != nil {
		s = *p.Serial
	}
	f := l.Format()
	if s.Baud == 0 {
		s.Baud = f.Baud
	}
	if s.Data == 0 {
		s.Data = f.Data
	}
	if s.Parity == "" {
		s.Parity = f.Parity
	}
	if s.Stop == 0 {
		s.Stop = f.Stop
	}
	if s.UnitLoad == 0 {
		s.UnitLoad = 1
	}
	return s
}

// Format is the character format of the port.
func (s PortSerial) Format() serial.Format {
	return serial.Format{Baud: s.Baud, Data: s.Data, Parity: s.Parity, Stop: s.Stop}
}

// Format is the character format that the line should have.
func (l *Line) Format() serial.Format {
	if l.Serial == nil || l.Serial.Format == (serial.Format{}) {
		return serial.Usual
	}
	return l.Serial.Format
}

// Wires gathers the electrical side of a serial line.
func (s *Site) Wires(l *Line) serial.Wires {
	w := serial.Wires{Standard: serial.TIA485Two, Baud: l.Format().Baud}
	if l.Serial != nil {
		w.Standard, w.LengthM = l.Serial.Standard, l.Serial.LengthM
	}
	for i := range s.Devices {
		if p := s.Devices[i].Port(l.ID); p != nil {
			set := l.SerialOf(p)
			w.Ports = append(w.Ports, serial.Port{Name: s.Devices[i].Name, UnitLoad: set.UnitLoad,
				Terminated: set.Terminated, Biased: set.Biased, Gender: set.Gender})
		}
	}
	return w
}
