package bench

import (
	"encoding/binary"
	"math/rand/v2"

	wire "ferry/internal/wire/modbus"
)

// Fault is what is wrong with a simulated device, or with a line.
type Fault struct {
	// Kind is one of Faults, "" for a healthy device.
	Kind string `json:"kind"`
	// Value is what the kind counts: milliseconds, a code, a percentage.
	Value int `json:"value,omitempty"`
}

// Place says what a fault can befall.
type Place string

// The places.
const (
	OverTCP    Place = "tcp"
	OverSerial Place = "serial"
	OfLine     Place = "line"
)

// FaultKind describes one fault.
type FaultKind struct {
	Kind    string  `json:"kind"`
	Title   string  `json:"title"`
	Unit    string  `json:"unit,omitempty"`
	Default int     `json:"default,omitempty"`
	Places  []Place `json:"places"`
}

// Faults lists every fault that a device or a line can have.
func Faults() []FaultKind {
	tcp, unit, device, line := []Place{OverTCP}, []Place{OverSerial}, []Place{OverTCP, OverSerial}, []Place{OfLine}
	return []FaultKind{
		{Kind: "", Title: "healthy", Places: []Place{OverTCP, OverSerial, OfLine}},
		{Kind: "off", Title: "switched off: nothing comes back", Places: device},
		{Kind: "stop", Title: "server stopped: connections are refused", Places: tcp},
		{Kind: "refuse", Title: "takes no connection: tears each down", Places: tcp},
		{Kind: "silent", Title: "takes connections and stays silent", Places: tcp},
		{Kind: "delay", Title: "answers late", Unit: "ms", Default: 800, Places: device},
		{Kind: "exception", Title: "answers with an exception", Unit: "code", Default: 2, Places: device},
		{Kind: "freeze", Title: "answers, but its values stand still", Places: device},
		{Kind: "parity", Title: "is set to another parity", Places: unit},
		{Kind: "baud", Title: "is set to another baud rate", Unit: "baud", Default: 38400, Places: unit},
		{Kind: "twin", Title: "another device has its number", Places: unit},
		{Kind: "number", Title: "answers under another number", Unit: "unit", Default: 99, Places: unit},
		{Kind: "split", Title: "cuts its answers in two by a pause", Unit: "ms", Default: 60, Places: unit},
		{Kind: "drop", Title: "drops the connection now and then", Places: tcp},
		{Kind: "garbage", Title: "answers with garbage", Places: device},
		{Kind: "short", Title: "answers too short", Places: device},
		{Kind: "long", Title: "answers too long", Places: device},
		{Kind: "transaction", Title: "answers for another transaction", Places: tcp},
		{Kind: "noise", Title: "noise spoils answers now and then", Unit: "% of answers", Default: 30, Places: []Place{OverSerial, OfLine}},
		{Kind: "lost", Title: "characters get lost now and then", Unit: "% of answers", Default: 30, Places: []Place{OverSerial, OfLine}},
		{Kind: "echo", Title: "the adapter hears what it sends", Places: line},
		{Kind: "cut", Title: "the cable is cut", Places: line},
	}
}

// fits reports whether a fault can befall a place with its value.
func (f Fault) fits(place Place) bool {
	if f.Value < 0 || f.Value > 4_000_000 || f.Kind == "exception" && (f.Value < 1 || f.Value > 255) || f.Kind == "number" && (f.Value < 1 || f.Value > 247) ||
		(f.Kind == "delay" || f.Kind == "split") && f.Value > 60_000 || f.Kind == "baud" && f.Value < 50 || (f.Kind == "noise" || f.Kind == "lost") && f.Value > 100 {
		return false
	}
	for _, kind := range Faults() {
		for _, p := range kind.Places {
			if kind.Kind == f.Kind && p == place {
				return true
			}
		}
	}
	return false
}

// spoilUnit applies a fault to the data unit of an answer.
func spoilUnit(fault Fault, pdu []byte) []byte {
	switch fault.Kind {
	case "exception":
		return []byte{pdu[0] | 0x80, byte(fault.Value)}
	case "short":
		return pdu[:max(1, len(pdu)-2)]
	case "long":
		return append(pdu, 0xDE, 0xAD)
	}
	return pdu
}

// spoil applies a fault to a frame on its way; nil means that none is sent.
func spoil(fault Fault, turn int, frame []byte) []byte {
	switch fault.Kind {
	case "silent":
		return nil
	case "drop":
		if turn%4 == 0 {
			return nil
		}
	case "garbage":
		for i := range frame {
			frame[i] = byte(rand.IntN(256))
		}
	case "transaction":
		binary.BigEndian.PutUint16(frame, wire.Transaction(frame)+7)
	}
	return frame
}
