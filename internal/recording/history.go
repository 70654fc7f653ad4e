package recording

import (
	"cmp"
	"math"
	"time"

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
	step := max(1, len(rows)/mostHistory)
	reads := historian{History: &h, area: f.Area, unit: uint32(f.Unit), of: of, order: order}
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
			var request, answer []byte
			if request, answer, failed = x.Octets(r); failed != nil {
				return false
			}
			data := speech.Units(request, answer)
			failed = reads.take(x.Protocols[r.Talk], r.Range, data, r.At, at)
			return false
		})
		if err = cmp.Or(err, failed); err != nil {
			return h, err
		}
	}
	h.Total = len(rows)
	return h, nil
}

// historian takes the values of a unit out of answers.
type historian struct {
	*History
	area  string
	unit  uint32
	of    value.Type
	order value.Order
	codec value.Codec
	ready bool
}

// take takes in the data of one answer.
func (h *historian) take(speaks string, r block.Range, data []byte, at time.Time, row int) error {
	if !h.ready {
		def, _ := protocol.Named(speaks)
		area, ok := block.AreaOf(def.Scheme, h.area)
		if !ok {
			return problem.New("no-unit", "This protocol has no such area.", "Choose another question.").At(h.area)
		}
		h.Place, h.Area = def.Scheme.Short(block.At(h.area, h.unit)), area.Title
		shape := value.Shape{Type: h.of, Order: h.order, Bit: -1, Unit: area.UnitBits}
		if area.UnitBits == 1 {
			shape.Type, shape.Order = value.TypeBool, ""
		}
		var err error
		if h.codec, err = value.NewCodec(shape); err != nil {
			return problem.New("type", "It cannot be read so: "+err.Error()+".", "Choose another type or order.")
		}
		h.ready = true
		for _, o := range value.Orders(shape.Octets()) {
			h.Orders = append(h.Orders, string(o))
		}
	}
	if len(data) == 0 || r.Count == 0 || r.Area != h.area || h.unit < r.Start {
		return nil
	}
	from := int(h.unit-r.Start) * (len(data) / r.Count)
	if v, err := h.codec.Decode(data[min(from, len(data)):], value.Value{}); err == nil {
		if n := v.Float(); !math.IsNaN(n) && !math.IsInf(n, 0) {
			h.Readings = append(h.Readings, ValueAt{float64(at.UnixMicro()) / 1e3, n, row})
		}
	}
	return nil
}

// LiveHistory reads a unit in every answer of a link that Ferry still has; rows are the
// numbers of the exchanges.
func LiveHistory(speaks string, list []exchange.Exchange, area string, unit uint32, of value.Type,
	order value.Order) (History, error) {
	h := History{Readings: []ValueAt{}, Orders: []string{}}
	reads := historian{History: &h, area: area, unit: unit, of: of, order: order}
	for i := range list {
		e := &list[i]
		if e.Write || e.Outcome != exchange.Answered || e.Cause == exchange.Late {
			continue
		}
		arrived := e.At.Add(time.Duration(e.LatencyMs * float64(time.Millisecond)))
		for k, data := 0, e.Data; k < len(e.Ranges); k++ {
			r := e.Ranges[k]
			width := len(e.Data) / max(1, totalOf(e.Ranges))
			n := min(len(data), r.Count*width)
			if r.Area == area && unit >= r.Start && unit < r.Start+uint32(r.Count) &&
				(len(e.Refused) <= k || e.Refused[k] == 0) {
				h.Total++
				if err := reads.take(speaks, r, data[:n], arrived, int(e.Seq)); err != nil {
					return h, err
				}
			}
			data = data[n:]
		}
	}
	return h, nil
}

func totalOf(ranges []block.Range) (units int) {
	for _, r := range ranges {
		units += r.Count
	}
	return units
}
