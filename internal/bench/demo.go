package bench

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"sync"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/regmap"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

//go:embed demo.site.json
var demoSite []byte

// Demo returns the demo site: part of Skerry Point Hatchery, a made-up fish
// farm on land. Some things are wrong with it on purpose: two points of DO probe
// 12 overlap; the UV doser has nothing where its map says that the lamp
// door is; the whole map of pH 21 lies one place too high; the make-up flow
// meter is mapped with the wrong order and the wrong type; a member was put into
// data block 12 of the filtration hall since its declarations were exported; and nothing is paired yet
// into the concentrator, which a substation controller asks.
func Demo() *site.Site {
	s := &site.Site{}
	if err := json.Unmarshal(demoSite, s); err != nil {
		panic("demo.site.json: " + err.Error()) // it is embedded above, and a test reads it
	}
	return s
}

//go:embed concentrator.icd
var concentrator []byte

// DemoFiles are the files that the demo site names: what is kept beside it.
func DemoFiles() map[string][]byte { return map[string][]byte{"SKERRY_CONC": concentrator} }

//go:embed models.json
var modelTable []byte

// models are the kinds of simulated device.
var models = sync.OnceValue(func() map[string]model {
	list := map[string]model{}
	if err := json.Unmarshal(modelTable, &list); err != nil {
		panic("models.json: " + err.Error()) // it is embedded above, and a test reads it
	}
	return list
})

// model is a kind of simulated device.
type model struct {
	Identity string  `json:"identity"`
	Entries  []entry `json:"entries"`
	// Tight ends each area with its last value, so that whatever lies beyond is
	// refused.
	Tight bool `json:"tight"`
	// Habits are in which ways it does less than others, in words of its speech.
	Habits []string `json:"habits"`
}

// entry is one value of a model: how the map states it and how it moves.
type entry struct {
	Name     string      `json:"name"`
	At       string      `json:"at"`   // canonical address
	Type     string      `json:"type"` // as in a map's cell, a text with its length
	Order    value.Order `json:"order"`
	Factor   float64     `json:"factor"`
	Unit     string      `json:"unit"`
	Decimals *int        `json:"decimals"` // as many as needed if left out
	PaceMs   int         `json:"paceMs"`
	Access   site.Access `json:"access"`
	Names    string      `json:"names"` // as in a map's cell
	// First is what stands there at the start, as a person writes it.
	First string `json:"first"`
	// Move is how it moves; see moveOf.
	Move string `json:"move"`
	// Times is how many of them there are, at places that follow each other, 0 for one.
	Times int `json:"times"`
}

func (e entry) point(scheme address.Scheme) site.Point {
	p := site.Point{Name: e.Name, Order: e.Order, Factor: e.Factor, Unit: e.Unit, Decimals: e.Decimals,
		PaceMs: e.PaceMs, Access: e.Access}
	err := p.Address.UnmarshalText([]byte(e.At))
	if err == nil {
		err = regmap.SetCell(scheme, &p, regmap.Type, e.Type)
	}
	if err == nil && e.Names != "" {
		err = regmap.SetCell(scheme, &p, regmap.Names, e.Names)
	}
	if err != nil {
		panic("models.json: " + e.Name + ": " + err.Error()) // a test reads it
	}
	return p
}

// fits reports whether the places of a model exist in a scheme.
func (m model) fits(scheme address.Scheme) bool {
	var at address.Address
	if len(m.Entries) == 0 || at.UnmarshalText([]byte(m.Entries[0].At)) != nil {
		return false
	}
	if _, _, named := at.Name(); named {
		return len(block.AreasOf(scheme)) == 0 && scheme.Check(at, value.Shape{Type: value.Type(m.Entries[0].Type),
			Bit: -1}) == nil
	}
	return block.UnitBits(scheme, at) > 0
}

// all are its entries, each as often as there are of it.
func (m model) all(scheme address.Scheme) (list []entry) {
	kinds, _ := scheme.(address.Kinds)
	for _, e := range m.Entries {
		first := e.point(scheme).Address
		list = append(list, e)
		for i := 1; i < e.Times && kinds != nil; i++ {
			if at, ok := kinds.Behind(first, i); ok {
				each := e
				each.Name, each.At = fmt.Sprintf("%s %d", e.Name, i+1), at.String()
				list = append(list, each)
			}
		}
	}
	return list
}

func (m model) signals(scheme address.Scheme) []signal {
	signals, codecs := make([]signal, 0, len(m.Entries)), value.Codecs{}
	for _, e := range m.all(scheme) {
		p := e.point(scheme)
		s := signal{area: p.Place().Area, offset: int(p.Place().Offset)}
		if s.area == "" {
			s.named = place(&p)
		} else if codec, err := codecs.Of(p.Shape(block.UnitBits(scheme, p.Address))); err == nil {
			s.codec = codec
		} else {
			panic("models.json: " + e.Name + ": " + err.Error())
		}
		if e.First != "" {
			v, err := p.ParseValue(e.First)
			if err != nil {
				panic("models.json: " + e.Name + ": " + err.Error())
			}
			s.first = p.Scale().Invert(v)
		}
		move, err := moveOf(e.Move)
		if err != nil {
			panic("models.json: " + e.Name + ": " + err.Error())
		}
		if move != nil {
			s.at = func(t float64, m *Memory) value.Value { return p.Scale().Invert(move(t, m)) }
		}
		signals = append(signals, s)
	}
	return signals
}

// moveOf makes a move of its words, nil for none:
//
//	wave MIDDLE SWING PERIOD      drifts about a middle, never quite repeating
//	counter START RATE            counts up, so many a second
//	drift START SECONDS           rises by one in so many seconds
//	pattern PERIOD STATE…         steps through states
//	ramp SETPOINT FACTOR RATE     follows a word of the memory, so much a second
//	clock                         is the time of day, from a fixed start
//	echo PLACE SECONDS            counts results: the next comes so long after the word
//	                              at the place has become that of the last
//	times PLACE FACTOR            is so many times a word of the memory
//	one-of PLACE STATE…           is one of the states, in turn as a word counts
func moveOf(words string) (func(t float64, m *Memory) value.Value, error) {
	fields := strings.Fields(words)
	if len(fields) == 0 {
		return nil, nil
	}
	kind, args := fields[0], fields[1:]
	numbers := make([]float64, len(args))
	for i, arg := range args {
		n, err := strconv.ParseFloat(arg, 64)
		if err != nil && (!placed[kind] || i > 0) {
			return nil, fmt.Errorf("move %q: %q is no number", words, arg)
		}
		numbers[i] = n
	}
	need := map[string]int{"wave": 3, "counter": 2, "drift": 2, "pattern": 2, "ramp": 3, "clock": 0, "echo": 2,
		"times": 2, "one-of": 2}
	if least, known := need[kind]; !known || len(args) < least || kind != "pattern" && kind != "one-of" &&
		len(args) > least {
		return nil, fmt.Errorf("move %q is not known, or has too few numbers", words)
	}
	switch kind {
	case "wave":
		return wave(numbers[0], numbers[1], numbers[2]), nil
	case "counter":
		return counter(numbers[0], numbers[1]), nil
	case "drift":
		return func(t float64, _ *Memory) value.Value { return value.OfFloat(numbers[0] + t/numbers[1]) }, nil
	case "pattern":
		states := make([]uint64, len(numbers)-1)
		for i, n := range numbers[1:] {
			states[i] = uint64(n)
		}
		return pattern(numbers[0], states...), nil
	}
	if placed[kind] {
		address, err := address.ParseCanonical(args[0])
		at := block.Of(address)
		switch kind {
		case "ramp":
			return ramp(at, numbers[1], numbers[2]), err
		case "echo":
			return echo(at, numbers[1]), err
		case "times":
			return func(_ float64, m *Memory) value.Value {
				return value.OfFloat(m.word(at.Area, int(at.Offset)) * numbers[1])
			}, err
		}
		return func(_ float64, m *Memory) value.Value {
			return value.OfFloat(numbers[1+int(m.word(at.Area, int(at.Offset)))%(len(numbers)-1)])
		}, err
	}
	return func(t float64, _ *Memory) value.Value { return value.OfMoment(clockStart + int64(1000*t)) }, nil
}

// placed are the moves whose first argument is a place of the memory.
var placed = map[string]bool{"ramp": true, "echo": true, "times": true, "one-of": true}

// echo counts results: each is held until its number stands at a place, and the next comes
// so many seconds later.
func echo(at block.Place, seconds float64) func(float64, *Memory) value.Value {
	n, since := 1.0, -1.0
	return func(t float64, m *Memory) value.Value {
		switch fetched := m.word(at.Area, int(at.Offset)) == n; {
		case !fetched:
			since = -1
		case since < 0:
			since = t
		case t-since >= seconds:
			n, since = math.Mod(n, 65535)+1, -1
		}
		return value.OfFloat(n)
	}
}

// clockStart is where the clocks of devices start: the bench knows no other time
// than that since it began.
const clockStart = 1795420800000 // 2026-11-23 08:00 UTC

// ramp follows a setpoint, a word of the memory with its factor, so much a
// second.
func ramp(setpoint block.Place, factor, rate float64) func(float64, *Memory) value.Value {
	speed, last := 0.0, 0.0
	return func(t float64, m *Memory) value.Value {
		target := m.word(setpoint.Area, int(setpoint.Offset)) * factor
		step := rate * (t - last)
		last = t
		speed += math.Max(-step, math.Min(step, target-speed))
		return value.OfFloat(speed + 0.02*math.Sin(3*t))
	}
}
