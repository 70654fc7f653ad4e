package dnp3

import (
	"math"
	"slices"
	"sync"
	"time"

	"ferry/internal/bench"
	family "ferry/internal/core/family/dnp3"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
	wire "ferry/internal/wire/dnp3"
)

// outstation is what a simulated outstation knows, whatever connections there are.
type outstation struct {
	of    *bench.Simulated
	fault func() bench.Fault

	mu        sync.Mutex
	events    []event
	number    uint64 // of the last event
	overflow  bool
	restarted bool
	needsTime bool
	ahead     time.Duration // its clock, of that of this machine
	last      map[uint32]value.Value
	frozen    map[uint32]value.Value // counters as they were frozen
	enabled   [4]bool                // classes whose events are sent unasked
	selected  []byte                 // the objects of a selection
	until     time.Time              // for how long it counts
	pulses    map[uint32]time.Time   // outputs that go off again
	kind      string                 // the fault at the last look
	// kept are the objects as they were laid out last.
	kept   []held
	keptAt laid
}

// laid is what the objects depend on.
type laid struct {
	of    int
	shift bool
}

// event is what happened to an object.
type event struct {
	number uint64
	class  int
	object wire.Object
	sent   bool // and not confirmed
}

// The usual numbers of events that are kept, and of those of the fault with too few.
const (
	mostEvents = 1000
	fewEvents  = 3
)

// selection is for how long a selected command is kept.
const selection = 5 * time.Second

func newOutstation(of *bench.Simulated, fault func() bench.Fault) *outstation {
	o := &outstation{of: of, fault: fault, restarted: true, needsTime: true, last: map[uint32]value.Value{},
		frozen: map[uint32]value.Value{}, pulses: map[uint32]time.Time{}}
	for _, h := range o.held() {
		v, _ := o.of.Memory.Value(h.at.Address)
		o.last[h.key()] = v
		if h.Kind == family.FrozenCounter {
			o.frozen[h.key()] = v
		}
	}
	return o
}

// held is an object that the outstation has.
type held struct {
	family.Object
	at protocol.Held
}

// key is an object as a key of maps.
func key(k family.Kind, index uint32) uint32 { return uint32(k)<<16 | index }

func (h *held) key() uint32 { return key(h.Kind, h.Index) }

// held are the objects of the map in the order of kinds and indexes; how an output is operated makes
// no other of it. With the fault "shift" each has the next index.
func (o *outstation) held() (list []held) {
	now := laid{o.of.Memory.Laid(), o.fault().Kind == "shift"}
	if o.kept != nil && o.keptAt == now {
		return o.kept
	}
	defer func() { o.kept, o.keptAt = list, now }()
	known := map[uint32]bool{}
	for _, at := range o.of.Memory.Held() {
		object, ok := family.ObjectOf(at.Address)
		if object.How = family.Latch; !ok || known[key(object.Kind, object.Index)] {
			continue
		}
		known[key(object.Kind, object.Index)] = true
		if o.fault().Kind == "shift" {
			object.Index++
		}
		list = append(list, held{object, at})
	}
	slices.SortFunc(list, func(a, b held) int { return int(a.key()) - int(b.key()) })
	return list
}

// class is in which class the events of a kind are.
func class(k family.Kind) int {
	switch k {
	case family.BinaryInput, family.DoubleInput, family.BinaryOutput:
		return family.Class1
	case family.AnalogInput, family.AnalogOutput:
		return family.Class2
	}
	return family.Class3
}

// flags are those of an object under the fault that is on.
func (o *outstation) flags(k family.Kind) byte {
	switch o.fault().Kind {
	case "offline":
		return 0
	case "comm-lost":
		return family.FlagCommLost | family.FlagOnline
	case "forced":
		return family.FlagLocal | family.FlagOnline
	case "chatters": // over its range, of analogue ones
		if k == family.BinaryInput || k == family.AnalogInput {
			return 0x20 | family.FlagOnline
		}
	}
	return family.FlagOnline
}

// variations are those of what stands there, and of events with their times.
func variations(h *held) (static, event byte) {
	float := h.at.Shape.Type.IsFloat()
	switch h.Kind {
	case family.Counter:
		return 1, 5
	case family.FrozenCounter:
		return 1, 5
	case family.AnalogInput:
		if float {
			return 5, 7
		}
		return 1, 3
	case family.AnalogOutput:
		if float {
			return 3, 7
		}
		return 1, 3
	case family.OctetString:
		length := byte(max(1, min(h.at.Shape.Length, 255)))
		return length, length
	}
	return 2, 2
}

// object is what stands at an object now. The lock is held.
func (o *outstation) object(h *held) wire.Object {
	v, _ := o.of.Memory.Value(h.at.Address)
	if h.Kind == family.FrozenCounter {
		v = o.frozen[h.key()]
	}
	static, _ := variations(h)
	out := wire.Object{Group: h.Kind.Static(), Variation: static, Index: h.Index, Flags: o.flags(h.Kind), Flagged: true,
		Value: v}
	if o.fault().Kind == "variation" && h.Kind == family.AnalogInput {
		out.Variation, out.Flagged = 4, false
		out.Value = value.OfInt(int64(math.Round(v.Float())))
	}
	return out
}

// moved reports whether a value is another than it was, analogue ones by a hundredth.
func moved(k family.Kind, was, is value.Value) bool {
	if k == family.AnalogInput || k == family.AnalogOutput {
		return math.Abs(is.Float()-was.Float()) > max(math.Abs(was.Float())/100, 1e-6)
	}
	return was != is
}

// look notes what has changed since the last look as events.
func (o *outstation) look(now time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	fault := o.fault().Kind
	if fault != o.kind {
		if o.kind = fault; fault == "restarts" {
			o.restarted, o.needsTime, o.enabled = true, true, [4]bool{}
		}
	}
	if fault == "needs-time" {
		o.needsTime = true
	}
	for _, h := range o.held() {
		k := h.key()
		if at, pulses := o.pulses[k]; pulses && !now.Before(at) {
			delete(o.pulses, k)
			o.of.Memory.Set(h.at.Address, value.OfBool(false))
		}
		is := o.object(&h)
		was, known := o.last[k]
		if !known || moved(h.Kind, was, is.Value) {
			o.last[k] = is.Value
			if known && fault != "class-0" {
				o.note(&h, is, now)
			}
		}
	}
}

// note keeps an event. The lock is held.
func (o *outstation) note(h *held, is wire.Object, now time.Time) {
	most := mostEvents
	if o.fault().Kind == "overflow" {
		most = fewEvents
	}
	for len(o.events) >= most { // the oldest goes
		o.events, o.overflow = o.events[1:], true
		lost.Add(1)
	}
	_, variation := variations(h)
	is.Group, is.Variation, is.At, is.Flagged = h.Kind.Event(), variation, now.Add(o.ahead), true
	is.Flags = o.flags(h.Kind)
	o.number++
	noted.Add(1)
	o.events = append(o.events, event{number: o.number, class: class(h.Kind), object: is})
}

// take are the events of classes that are not under way, at most so many, marked as sent. The lock is
// held.
func (o *outstation) take(classes [4]bool, most int) (list []event) {
	for i := range o.events {
		e := &o.events[i]
		if classes[e.class] && !e.sent && len(list) < most {
			e.sent = true
			list = append(list, *e)
		}
	}
	return list
}

// settle forgets events that were confirmed, or has them sent again. The lock is held.
func (o *outstation) settle(list []event, confirmed bool) {
	gone := map[uint64]bool{}
	for _, e := range list {
		gone[e.number] = true
	}
	o.events = slices.DeleteFunc(o.events, func(e event) bool { return confirmed && gone[e.number] })
	for i := range o.events {
		if gone[o.events[i].number] {
			o.events[i].sent = false
		}
	}
	if confirmed {
		o.overflow = false
	}
}

// indications are what it says of itself. The lock is held.
func (o *outstation) indications() (is wire.Indications) {
	for _, e := range o.events {
		if !e.sent {
			is |= wire.Class1 << (e.class - 1)
		}
	}
	for bit, on := range map[wire.Indications]bool{wire.Restarted: o.restarted, wire.NeedTime: o.needsTime,
		wire.EventOverflow: o.overflow, wire.LocalControl: o.fault().Kind == "local",
		wire.Trouble: o.fault().Kind == "trouble"} {
		if on {
			is |= bit
		}
	}
	return is
}
