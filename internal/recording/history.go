package recording

import (
	"math"

	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/value"
)

// ValueAt is one value of a unit in a recording.
type ValueAt struct {
	AtMs float64 `json:"atMs"`
	V    float64 `json:"v"`
	Row  int     `json:"row"`
}

// History is what a unit read over time.
type History struct {
	Readings []ValueAt `json:"readings"`
	// Total is how often it was read; where that is more than are listed, one in so many
	// is.
	Total  int      `json:"total"`
	Orders []string `json:"orders"` // in which the type can be read
	// Place is the unit as its family writes it, Area what its area is called.
	Place string `json:"place"`
	Area  string `json:"area"`
}

// mostHistory bounds the readings of one history.
const mostHistory = 4000

// History reads a unit, or as many as the type takes, in every answer that a filter lets
// through. What is no number is left out.
func (k *Kept) History(f Filter, of value.Type, order value.Order) (History, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	h := History{Readings: []ValueAt{}, Orders: []string{}}
	x, err := k.ready()
	if err != nil {
		return h, err
	}
	if f.Unit < 0 {
		return h, problem.New("no-unit", "Which unit is not said.", "Choose one.")
	}
	rows, err := k.matching(x, &f)
	if err != nil {
		return h, err
	}
	var codec value.Codec
	ready := false
	step := max(1, len(rows)/mostHistory)
	var failed error
	for i, n := range rows {
		if i%step != 0 {
			continue
		}
		err := x.each(int(n), func(at int, r *Row) bool {
			speech := speechOf(x.Protocols[r.Talk])
			if r.Stray || r.Write || r.Outcome != exchange.Answered || speech == nil || speech.Units == nil {
				return false
			}
			if !ready {
				def, _ := protocol.Named(x.Protocols[r.Talk])
				area, _ := block.AreaOf(def.Scheme, f.Area)
				h.Place, h.Area = def.Scheme.Short(block.At(f.Area, uint32(f.Unit))), area.Title
				shape := value.Shape{Type: of, Order: order, Bit: -1, Unit: area.UnitBits}
				if area.UnitBits == 1 {
					shape.Type, shape.Order = value.TypeBool, ""
				}
				if codec, failed = value.NewCodec(shape); failed != nil {
					return false
				}
				ready = true
				for _, o := range value.Orders(shape.Octets()) {
					h.Orders = append(h.Orders, string(o))
				}
			}
			var request, answer []byte
			if request, answer, failed = x.Octets(r); failed != nil {
				return false
			}
			data := speech.Units(request, answer)
			if len(data) == 0 || r.Range.Count == 0 {
				return false
			}
			from := (f.Unit - int(r.Range.Start)) * (len(data) / r.Range.Count)
			if v, err := codec.Decode(data[min(from, len(data)):], value.Value{}); err == nil {
				if n := v.Float(); !math.IsNaN(n) && !math.IsInf(n, 0) {
					h.Readings = append(h.Readings, ValueAt{float64(r.At.UnixMicro()) / 1e3, n, at})
				}
			}
			return false
		})
		if err != nil {
			return h, err
		}
		if failed != nil {
			return h, problem.New("type", "It cannot be read so: "+failed.Error()+".", "Choose another type or order.")
		}
	}
	h.Total = len(rows)
	return h, nil
}
