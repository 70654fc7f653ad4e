package bench

import (
	family "ferry/internal/core/family/modbus"
	"math"
	"sync"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// signal is one value of a simulated device.
type signal struct {
	area   string
	offset int
	codec  value.Codec
	// at gives the raw value t seconds after the start. A nil at leaves the
	// memory alone: a register that others write.
	at func(t float64, m *memory) value.Value
	// first is what stands there at the start.
	first value.Value
}

// memory is the register memory of a simulated device. Areas that no signal
// touches do not exist; between the signals of an area lie zeros.
type memory struct {
	mu      sync.Mutex
	areas   map[string][]byte // two octets a register, one a bit
	signals []signal
	begun   time.Time
	stood   time.Duration // time spent frozen
	frozen  time.Time     // since when, if it is
	updated time.Time
}

func unitOctets(area string) int {
	if area == family.Coils || area == family.DiscreteInputs {
		return 1
	}
	return 2
}

// usualBeyond is how many units most devices have behind their last value.
const usualBeyond = 8

// newMemory lays out the signals; each area ends so many units beyond its last
// signal.
func newMemory(signals []signal, beyond int, now time.Time) *memory {
	m := &memory{areas: map[string][]byte{}, signals: signals, begun: now}
	for _, s := range signals {
		size := (s.offset+beyond)*unitOctets(s.area) + s.codec.Width()
		size += size % unitOctets(s.area)
		if len(m.areas[s.area]) < size {
			m.areas[s.area] = append(m.areas[s.area], make([]byte, size-len(m.areas[s.area]))...)
		}
	}
	for _, s := range signals {
		if !s.first.IsNone() {
			m.put(s, s.first)
		}
	}
	return m
}

func (m *memory) put(s signal, v value.Value) {
	at := s.offset * unitOctets(s.area)
	_ = s.codec.Encode(v, m.areas[s.area][at:]) // signals stay in the range of their types
}

// register returns a holding register, for signals that follow a setpoint.
func (m *memory) register(offset int) float64 {
	b := m.areas[family.HoldingRegisters]
	if 2*offset+1 >= len(b) {
		return 0
	}
	return float64(uint16(b[2*offset])<<8 | uint16(b[2*offset+1]))
}

func (m *memory) freeze(on bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := time.Now()
	switch {
	case on && m.frozen.IsZero():
		m.live(now)
		m.frozen = now
	case !on && !m.frozen.IsZero():
		m.stood += now.Sub(m.frozen)
		m.frozen = time.Time{}
	}
}

// live brings every signal up to date. The lock is held.
func (m *memory) live(now time.Time) {
	if !m.frozen.IsZero() || now.Sub(m.updated) < 20*time.Millisecond {
		return
	}
	m.updated = now
	t := (now.Sub(m.begun) - m.stood).Seconds()
	for _, s := range m.signals {
		if s.at != nil {
			m.put(s, s.at(t, m))
		}
	}
}

func (m *memory) read(area string, start, count int) ([]byte, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.live(time.Now())
	unit := unitOctets(area)
	b := m.areas[area]
	if (start+count)*unit > len(b) {
		return nil, false
	}
	raw := b[start*unit : (start+count)*unit]
	if unit == 2 {
		return append([]byte(nil), raw...), true
	}
	packed := make([]byte, (count+7)/8)
	for i, bit := range raw {
		packed[i/8] |= (bit & 1) << (i % 8)
	}
	return packed, true
}

func (m *memory) write(area string, start int, data []byte) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	at := start * unitOctets(area)
	if at+len(data) > len(m.areas[area]) {
		return false
	}
	copy(m.areas[area][at:], data)
	return true
}

// The ways in which simulated values move. Each is a function of time alone,
// so that two runs of the bench look alike.

func wave(middle, swing, period float64) func(float64, *memory) value.Value {
	return func(t float64, _ *memory) value.Value {
		// Two sines without a common period and a small fast one: it drifts
		// and never quite repeats.
		return value.OfFloat(middle + swing*(0.7*math.Sin(2*math.Pi*t/period)+0.3*math.Sin(2*math.Pi*t/(period*0.37))) + 0.02*swing*math.Sin(11*t))
	}
}

func counter(start, perSecond float64) func(float64, *memory) value.Value {
	return func(t float64, _ *memory) value.Value { return value.OfUint(uint64(start + perSecond*t)) }
}

// pattern steps through states, one every period seconds.
func pattern(period float64, states ...uint64) func(float64, *memory) value.Value {
	return func(t float64, _ *memory) value.Value {
		return value.OfUint(states[int(t/period)%len(states)])
	}
}

// followMap makes signals out of a device's own map, for devices that no model
// describes: what can be written keeps what is written, the rest moves.
func followMap(d *site.Device) []signal {
	var signals []signal
	for i := range d.Points {
		p := &d.Points[i]
		codec, err := p.Codec(8 * unitOctets(p.Place().Area))
		if err != nil || p.Address.IsZero() {
			continue
		}
		s := signal{area: p.Place().Area, offset: int(p.Place().Offset), codec: codec}
		n := float64(i%7 + 1)
		switch {
		case p.Type == value.TypeText:
			s.first = value.OfText(p.Name[:min(len(p.Name), p.Length)])
		case p.Type == value.TypeBool:
			s.at = pattern(3*n, 0, 1)
		default:
			s.at = wave(20*n, 5*n, 40+10*n)
		}
		if p.Access != site.ReadOnly {
			s.at = nil
		}
		signals = append(signals, s)
	}
	return signals
}
