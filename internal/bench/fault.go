package bench

import (
	"maps"
	"math/rand/v2"
	"slices"
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
	Kind    string `json:"kind"`
	Title   string `json:"title"`
	Unit    string `json:"unit,omitempty"`
	Default int    `json:"default,omitempty"`
	// Least and Most bound the value.
	Least  int     `json:"least"`
	Most   int     `json:"most"`
	Places []Place `json:"places"`
	// Habit is set where the device is well and only behaves otherwise than most.
	Habit bool `json:"habit,omitempty"`
	// Protocols are those that it can befall; empty for all.
	Protocols []string `json:"protocols,omitempty"`
}

// Faults lists every fault that a device or a line can have, those of a protocol
// behind the general ones.
func Faults() []FaultKind {
	tcp, unit, device, line := []Place{OverTCP}, []Place{OverSerial}, []Place{OverTCP, OverSerial}, []Place{OfLine}
	wire := []Place{OverSerial, OfLine}
	kinds := []FaultKind{
		{Kind: "", Title: "healthy", Places: []Place{OverTCP, OverSerial, OfLine}},
		{Kind: "off", Title: "switched off: nothing comes back", Places: device},
		{Kind: "stop", Title: "server stopped: connections are refused", Places: tcp},
		{Kind: "refuse", Title: "takes no connection: tears each down", Places: tcp},
		{Kind: "silent", Title: "takes connections and stays silent", Places: tcp},
		{Kind: "delay", Title: "answers late", Unit: "ms", Default: 800, Most: 60_000, Places: device},
		{Kind: "freeze", Title: "answers, but its values stand still", Places: device},
		{Kind: "parity", Title: "is set to another parity", Places: unit},
		{Kind: "baud", Title: "is set to another baud rate", Unit: "baud", Default: 38400, Least: 50, Most: 4_000_000,
			Places: unit},
		{Kind: "twin", Title: "another device has its number", Places: unit},
		{Kind: "split", Title: "cuts its answers in two by a pause", Unit: "ms", Default: 60, Most: 60_000,
			Places: unit},
		{Kind: "drop", Title: "drops the connection now and then", Places: tcp},
		{Kind: "garbage", Title: "answers with garbage", Places: device},
		{Kind: "short", Title: "answers too short", Places: device},
		{Kind: "long", Title: "answers too long", Places: device},
		{Kind: "noise", Title: "noise spoils answers now and then", Unit: "% of answers", Default: 30, Most: 100,
			Places: wire},
		{Kind: "lost", Title: "characters get lost now and then", Unit: "% of answers", Default: 30, Most: 100,
			Places: wire},
		{Kind: "echo", Title: "the adapter hears what it sends", Places: line},
		{Kind: "cut", Title: "the cable is cut", Places: line},
		{Kind: "asked", Title: "another program asks on it", Unit: "ms", Default: 700, Least: 50, Most: 60_000, Places: line},
		{Kind: "one-client", Title: "serves one client at a time", Places: tcp, Habit: true},
		{Kind: "pieces", Title: "sends its answers in pieces", Unit: "ms", Default: 40, Least: 1, Most: 10_000, Places: tcp,
			Habit: true},
		{Kind: "dozes", Title: "hangs up on who is quiet", Unit: "ms", Default: 400, Least: 50, Most: 60_000, Places: tcp,
			Habit: true},
		{Kind: "slow-first", Title: "takes long for its first answer", Unit: "ms", Default: 1500, Least: 1, Most: 60_000,
			Places: tcp, Habit: true},
	}
	names := slices.Sorted(maps.Keys(speeches))
	for i := range kinds {
		if kinds[i].Kind == "short" || kinds[i].Kind == "long" || kinds[i].Habit { // a host makes its own answers
			kinds[i].Protocols = slices.DeleteFunc(slices.Clone(names), func(name string) bool {
				return ownAnswers(speeches[name])
			})
		}
	}
	at := map[string]int{}
	for _, name := range names {
		for _, own := range speeches[name].Faults() {
			i, known := at[own.Kind]
			if !known {
				i = len(kinds)
				at[own.Kind] = i
				kinds = append(kinds, own)
			}
			kinds[i].Protocols = append(kinds[i].Protocols, name)
		}
	}
	return kinds
}

// fits reports whether a fault can befall a place in a protocol with its value.
func (f Fault) fits(place Place, protocol string) bool {
	return slices.ContainsFunc(Faults(), func(k FaultKind) bool {
		return k.Kind == f.Kind && slices.Contains(k.Places, place) &&
			(len(k.Protocols) == 0 || slices.Contains(k.Protocols, protocol)) && f.Value >= k.Least &&
			f.Value <= max(k.Most, k.Least)
	})
}

// Garbage is octets of no meaning.
func Garbage(n int) []byte {
	octets := make([]byte, n)
	for i := range octets {
		octets[i] = byte(rand.IntN(256))
	}
	return octets
}
