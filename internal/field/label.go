package field

import (
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// dataOf is the octet of the data of an exchange at which a place begins, -1
// where it is not in it or was refused.
func dataOf(def *protocol.Def, e *exchange.Exchange, p block.Place) (at int) {
	for i, r := range e.Ranges {
		octets := unitOctets(def, r.Area)
		if r.Area == p.Area && p.Offset >= r.Start && int(p.Offset-r.Start) < r.Count {
			if len(e.Refused) > 0 && e.Refused[i] != 0 {
				return -1
			}
			return at + int(p.Offset-r.Start)*octets
		}
		at += r.Count * octets
	}
	return -1
}

// LabelSample names a point for the octets of a report, with the value that it
// has in them.
func LabelSample(p *site.Point, s *exchange.Sample) exchange.Labelled {
	l := exchange.Labelled{ID: p.ID, Name: p.Name, From: s.From, To: s.To, Shown: s.Value.String()}
	if v, err := value.As(s.Value, p.Shape(0)); err == nil {
		l.Shown = strings.TrimSpace(p.Shown(p.Scale().Apply(v)) + " " + p.Unit)
	}
	return l
}

// Label names a point for the bytes of one exchange, with the value that it
// has in them. Where the exchange does not hold the whole point, the value is
// left out.
func Label(def *protocol.Def, p *site.Point, e *exchange.Exchange) exchange.Labelled {
	area, _ := block.AreaOf(def.Scheme, p.Place().Area)
	l := exchange.Labelled{ID: p.ID, Name: p.Name, Place: p.Place(), Units: p.Units(area.UnitBits)}
	codec, err := p.Codec(area.UnitBits)
	data := e.Data
	at := dataOf(def, e, p.Place())
	if err != nil || at < 0 || at > len(data) {
		return l
	}
	v, err := codec.Decode(data[at:], value.Value{})
	switch {
	case err != nil:
	case !p.PowerAt.IsZero():
		l.Shown = v.String() + " before its power of ten"
	case p.Scale().IsMissing(v):
		l.Shown = v.String() + ", not available"
	default:
		l.Shown = strings.TrimSpace(p.Shown(p.Scale().Apply(v)) + " " + p.Unit)
	}
	return l
}
