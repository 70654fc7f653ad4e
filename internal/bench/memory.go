package bench

import (
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// signal is one value of a simulated device.
type signal struct {
	// named is where it is in a device whose places have names. Elsewhere area,
	// offset and codec say it.
	named  *protocol.Held
	area   string
	offset int
	codec  *value.Codec
	// at gives the raw value t seconds after the start. A nil at leaves the
	// memory alone: a register that others write.
	at func(t float64, m *Memory) value.Value
	// first is what stands there at the start.
	first value.Value
}

// cell is what stands at a place that has a name. It moves when it is looked at: there may be
// thousands.
type cell struct {
	v  value.Value
	of signal
	at time.Time // when it moved last
}

// Memory is the memory of a simulated device. Areas that no signal
// touches do not exist; between the signals of an area lie zeros.
type Memory struct {
	mu      sync.Mutex
	octets  func(area string) int
	areas   map[string][]byte // whole octets for each unit: a bit of its own takes one
	named   map[address.Address]*cell
	signals []signal
	laid    int // how often there were other signals
	begun   time.Time
	stood   time.Duration // time spent frozen
	frozen  time.Time     // since when, if it is
	updated time.Time
}

// octetsIn returns the width of the units of the areas of a map in octets.
func octetsIn(scheme address.Scheme) func(area string) int {
	return func(key string) int {
		area, _ := block.AreaOf(scheme, key)
		return max(1, area.Octets())
	}
}

// usualBeyond is how many units most devices have behind their last value.
const usualBeyond = 8

// newMemory lays out the signals; each area ends so many units beyond its last
// signal.
func newMemory(octets func(area string) int, signals []signal, beyond int, now time.Time) *Memory {
	m := &Memory{octets: octets, areas: map[string][]byte{}, named: map[address.Address]*cell{},
		signals: signals, begun: now}
	for _, s := range signals {
		if s.named != nil {
			m.named[s.named.Address] = &cell{of: s}
			m.put(s, value.OfInt(0))
			continue
		}
		size := (s.offset+beyond)*octets(s.area) + s.codec.Width()
		size += size % octets(s.area)
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

// follow takes over the places of another memory; what stands in those that are in both
// stays.
func (m *Memory) follow(next *Memory) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for at, is := range next.named {
		if was, had := m.named[at]; had {
			is.v = was.v
		}
	}
	m.signals, m.named, m.areas = next.signals, next.named, next.areas
	m.laid++
}

func (m *Memory) put(s signal, v value.Value) {
	if s.named != nil {
		if s.named.Shape.Type == value.TypeBool {
			v = value.OfBool(v.Bool())
		} else if s.named.Shape.Type.IsText() && v.Kind() != value.Text {
			v = value.OfText("")
		} else if s.named.Shape.Type.IsWhole() && v.Kind() == value.Float {
			v = value.OfFloat(math.Round(v.Float()))
		}
		if fits, err := value.As(v, s.named.Shape); err == nil {
			m.named[s.named.Address].v = fits
		}
		return
	}
	at := s.offset * m.octets(s.area)
	_ = s.codec.Encode(v, m.areas[s.area][at:]) // signals stay in the range of their types
}

// word returns the 16 bits from a unit on, for signals that follow a setpoint.
func (m *Memory) word(area string, offset int) float64 {
	b, at := m.areas[area], offset*m.octets(area)
	if at+1 >= len(b) {
		return 0
	}
	if block.Usual(area, value.TypeUint16, 2) != "" {
		return float64(uint16(b[at+1])<<8 | uint16(b[at]))
	}
	return float64(uint16(b[at])<<8 | uint16(b[at+1]))
}

func (m *Memory) freeze(on bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := time.Now()
	switch {
	case on && m.frozen.IsZero():
		m.live(now)
		for _, c := range m.named {
			m.look(c, now)
		}
		m.frozen = now
	case !on && !m.frozen.IsZero():
		m.stood += now.Sub(m.frozen)
		m.frozen = time.Time{}
	}
}

// liveEvery is how fine the time of simulated values is.
const liveEvery = 4 * time.Millisecond

// live brings every signal in areas up to date. The lock is held.
func (m *Memory) live(now time.Time) {
	if !m.frozen.IsZero() || now.Sub(m.updated) < liveEvery {
		return
	}
	m.updated = now
	for _, s := range m.signals {
		if s.at != nil && s.named == nil {
			m.put(s, s.at(m.time(now), m))
		}
	}
}

// time is that of simulated values, in seconds.
func (m *Memory) time(now time.Time) float64 { return (now.Sub(m.begun) - m.stood).Seconds() }

// look brings a value that has a name up to date. The lock is held.
func (m *Memory) look(c *cell, now time.Time) {
	if c.of.at == nil || !m.frozen.IsZero() || now.Sub(c.at) < liveEvery {
		return
	}
	c.at = now
	m.put(c.of, c.of.at(m.time(now), m))
}

// Read returns the octets of units of an area; ok is false where it has not all
// of them.
func (m *Memory) Read(area string, start, count int) (data []byte, ok bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.live(time.Now())
	unit := m.octets(area)
	b := m.areas[area]
	if start < 0 || count < 0 || (start+count)*unit > len(b) {
		return nil, false
	}
	return append([]byte(nil), b[start*unit:(start+count)*unit]...), true
}

// Units is how many units of an area there are.
func (m *Memory) Units(area string) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.areas[area]) / m.octets(area)
}

// Touches reports whether units of an area have any among them that lies between values
// and belongs to none.
func (m *Memory) Touches(area string, from, count int) bool {
	first, last := -1, -1
	taken := map[int]bool{}
	for _, s := range m.signals {
		if s.area != area || s.codec == nil {
			continue
		}
		end := s.offset + max(1, (s.codec.Width()+m.octets(area)-1)/m.octets(area))
		for at := s.offset; at < end; at++ {
			taken[at] = true
		}
		if first < 0 || s.offset < first {
			first = s.offset
		}
		last = max(last, end)
	}
	for at := max(from, first); at < min(from+count, last); at++ {
		if !taken[at] {
			return true
		}
	}
	return false
}

// Write puts octets into the units of an area from one on.
func (m *Memory) Write(area string, start int, data []byte) bool {
	return m.Change(area, start, len(data), func(old []byte) { copy(old, data) })
}

// Change has so many octets of an area changed from a unit on.
func (m *Memory) Change(area string, start, octets int, change func(old []byte)) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	at := start * m.octets(area)
	if start < 0 || at+octets > len(m.areas[area]) {
		return false
	}
	change(m.areas[area][at : at+octets])
	return true
}

// Value returns what stands at a place that has a name; ok is false where there
// is no such place.
func (m *Memory) Value(at address.Address) (v value.Value, ok bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := m.named[at]
	if c == nil {
		return v, false
	}
	m.look(c, time.Now())
	return c.v, true
}

// Laid changes when there may be other places.
func (m *Memory) Laid() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.laid
}

// Held lists the places that have names, in the order of the map.
func (m *Memory) Held() (held []protocol.Held) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range m.signals {
		if s := &m.signals[i]; s.named != nil {
			one := *s.named
			one.Writable = s.at == nil
			held = append(held, one)
		}
	}
	return held
}

// Set puts a value at a place that has a name; it fails where there is no such
// place, or another kind of value.
func (m *Memory) Set(at address.Address, v value.Value) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := m.named[at]
	if c == nil {
		return false
	}
	fits, err := value.As(v, c.of.named.Shape)
	if err == nil {
		c.v = fits
	}
	return err == nil
}

// Areas lists the areas that there are, in order.
func (m *Memory) Areas() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Sorted(maps.Keys(m.areas))
}

// The ways in which simulated values move. Each is a function of time alone,
// so that two runs of the bench look alike.

func wave(middle, swing, period float64) func(float64, *Memory) value.Value {
	return func(t float64, _ *Memory) value.Value {
		// Two sines without a common period and a small fast one: it drifts
		// and never quite repeats.
		return value.OfFloat(middle + swing*(0.7*math.Sin(2*math.Pi*t/period)+0.3*math.Sin(2*math.Pi*t/(period*0.37))) +
			0.02*swing*math.Sin(11*t))
	}
}

func counter(start, perSecond float64) func(float64, *Memory) value.Value {
	return func(t float64, _ *Memory) value.Value { return value.OfUint(uint64(start + perSecond*t)) }
}

// pattern steps through states, one every period seconds.
func pattern(period float64, states ...uint64) func(float64, *Memory) value.Value {
	return func(t float64, _ *Memory) value.Value {
		return value.OfUint(states[int(t/period)%len(states)])
	}
}

// place is a place with a name, as its device tells of it: the unit and the limits are those of
// the value that it holds.
func place(p *site.Point) *protocol.Held {
	held := &protocol.Held{Address: p.Address, Name: p.Name, Shape: p.Shape(0), Remark: p.Remark, Names: p.States()}
	if p.Range == nil && p.Scale().IsIdentity() {
		held.Unit, held.Low, held.High = p.Unit, p.Low, p.High
	}
	return held
}

// followMap makes signals out of a device's own map, for devices that no model
// describes: what can be written keeps what is written, the rest moves.
func followMap(scheme address.Scheme, d *site.Device) []signal {
	signals, codecs := make([]signal, 0, len(d.Points)), value.Codecs{}
	for i := range d.Points {
		p := &d.Points[i]
		var s signal
		if at := p.Place(); at.Area != "" {
			codec, err := codecs.Of(p.Shape(block.UnitBits(scheme, p.Address)))
			if err != nil {
				continue
			}
			s = signal{area: at.Area, offset: int(at.Offset), codec: codec}
		} else if !p.Address.IsZero() {
			s.named = place(p)
		} else {
			continue
		}
		n := float64(i%7 + 1)
		switch {
		case p.Type == value.TypeText:
			s.first = value.OfText(p.Name[:min(len(p.Name), max(p.Length, 1))])
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
