package timetable

import (
	"ferry/internal/core/block"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// ethernetBitsPerMs is the bit rate of an Ethernet line in bits per
// millisecond: the slowest that a port is likely to have, 100 Mbit/s.
const ethernetBitsPerMs = 100_000

// unitMs is what one more unit costs in a device, whose firmware copies it: a
// cautious guess of 10 µs a register. It keeps wide gaps from being bridged
// for free on a fast line.
const unitMs = 0.01

// ends is what the requests of one link cost, in milliseconds.
type ends struct {
	def    *protocol.Def
	ranges protocol.Ranges // nil where nothing is asked for in ranges
	// octetMs is the time of one octet on the wire.
	octetMs float64
	// between is the silence from request to answer, or the way through the
	// network and back; after is the silence that must follow an answer.
	between, after float64
	// think is how long the device thinks as a rule, worst at worst.
	think, worst float64
	// limit is how long an answer is waited for, tries how often a request is
	// sent at most.
	limit float64
	tries int
	// restAfter silent tries the device is left alone for restMs; 0 for never.
	restAfter int
	restMs    float64
}

// endsOf works out the costs of a link.
func endsOf(s *site.Site, line *site.Line, link *site.Link, device *site.Device, def *protocol.Def) ends {
	e := ends{def: def, octetMs: 8.0 / ethernetBitsPerMs, tries: 1 + def.Int(link.Settings, protocol.KeyRetries),
		limit:     float64(def.Int(link.Settings, protocol.KeyWithin)),
		restAfter: def.Int(link.Settings, protocol.KeyRestAfter),
		restMs:    1000 * float64(def.Int(link.Settings, protocol.KeyRestS))}
	e.ranges, _ = def.Ranges()
	port := device.PortFor(link)
	if line != nil {
		e.between = line.RoundTripMs
		if line.Medium == site.SerialLine {
			format := line.Format()
			if asking := s.Device(link.Asking); asking != nil {
				format = line.SerialOf(asking.Port(line.ID)).Format()
			}
			e.octetMs = format.CharMs()
			if silence := def.SilenceMs(format); silence > 0 {
				e.between, e.after = silence, silence
			}
		}
	}
	var settings protocol.Settings
	if port != nil {
		settings = port.Settings
	}
	e.think = float64(def.Int(settings, protocol.KeyThink))
	if _, stated := settings[protocol.KeyThink]; !stated {
		for i := range device.Placements {
			if sheet := s.Datasheet(device.Placements[i].Datasheet); sheet != nil && sheet.ThinkMs > 0 {
				e.think = float64(sheet.ThinkMs)
			}
		}
	}
	e.worst = e.think
	if port != nil && port.Think != nil {
		e.think, e.worst = port.Think.MedianMs, port.Think.WorstMs
	} else if cycle := float64(def.Int(settings, protocol.KeyCycle)); cycle > 0 {
		// A device that looks at its questions once a cycle answers half a
		// cycle later on average.
		e.think, e.worst = e.think+cycle/2, e.worst+cycle
	}
	return e
}

// wire is the time on the wire of a read, from the first octet of the request
// to the last of the answer, without thinking.
func (e *ends) wire(ranges []block.Range) float64 {
	out, in := e.ranges.ReadBytes(ranges)
	return float64(out+in)*e.octetMs + e.between
}

// write is the same for a write to a point, the silence after it included, with
// its octets; ok is false where nothing is written there.
func (e *ends) write(p *site.Point) (octets int, ms float64, ok bool) {
	out, in := 0, 0
	if area, inArea := block.AreaOf(e.def.Scheme, p.Place().Area); inArea && e.ranges != nil {
		out, in = e.ranges.WriteBytes(area.Key, p.Units(area.UnitBits))
	} else if items, can := e.def.Items(); can {
		out, in = items.ItemBytes(p.Address, p.Shape(0))
	} else {
		return 0, 0, false
	}
	return out + in, float64(out+in)*e.octetMs + e.between + e.after + e.worst, true
}

// silent is what one try costs where nothing answers.
func (e *ends) silent(q *Request) float64 {
	out := q.out
	if len(q.Ranges) > 0 {
		out, _ = e.ranges.ReadBytes(q.Ranges)
	}
	return float64(out)*e.octetMs + e.limit
}
