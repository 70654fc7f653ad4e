package field

import (
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Label names a point for the bytes of one exchange, with the value that it
// has in them. Where the exchange does not hold the whole point, the value is
// left out.
func Label(def *protocol.Def, p *site.Point, e *exchange.Exchange) exchange.Labelled {
	area, _ := address.AreaOf(def.Scheme, p.Address.Area)
	l := exchange.Labelled{ID: p.ID, Name: p.Name, Address: p.Address, Units: p.Units(area.UnitBits)}
	codec, err := p.Codec(area.UnitBits)
	data := e.Data
	at := (int(p.Address.Offset) - int(e.Start)) * ((area.UnitBits + 7) / 8)
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
