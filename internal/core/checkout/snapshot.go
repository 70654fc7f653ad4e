package checkout

import (
	"cmp"
	"math"
	"slices"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Snapshot is what points read at one moment, kept under a name.
type Snapshot struct {
	ID     int64  `json:"id"`
	Name   string `json:"name"`
	Who    string `json:"who"`
	AtMs   int64  `json:"atMs"` // milliseconds since 1970
	Mode   string `json:"mode"` // bench or plant
	Device string `json:"device,omitempty"`
	// Values are those of the points, in the order of the site.
	Values []Reading `json:"values"`
}

// Reading is what one point read.
type Reading struct {
	Point  string      `json:"point"`
	Name   string      `json:"name"` // of device and point, as it was
	Value  value.Value `json:"value"`
	Shown  string      `json:"shown"`
	Unit   string      `json:"unit,omitempty"`
	AtMs   int64       `json:"atMs,omitempty"`
	Bad    bool        `json:"bad,omitempty"` // it could not be read; Reason says why
	Reason string      `json:"reason,omitempty"`
}

// Difference is one point of two snapshots.
type Difference struct {
	Point string `json:"point"`
	Name  string `json:"name"`
	Unit  string `json:"unit,omitempty"`
	Was   string `json:"was"`
	Is    string `json:"is"`
	// Differs is set where they are not the same, Apart by how much numbers are apart. Why
	// says why they cannot be compared, empty where they can.
	Differs  bool    `json:"differs"`
	Apart    float64 `json:"apart,omitempty"`
	Why      string  `json:"why,omitempty"`
	Writable bool    `json:"writable"`
}

// Compare sets two snapshots side by side, what differs first and by how much, then what
// cannot be compared. A point that is in one alone is such.
func (g *Ground) Compare(was, is *Snapshot) []Difference {
	now := map[string]*Reading{}
	for i := range is.Values {
		now[is.Values[i].Point] = &is.Values[i]
	}
	list := make([]Difference, 0, len(was.Values))
	for i := range was.Values {
		a := &was.Values[i]
		d := g.difference(a, now[a.Point])
		delete(now, a.Point)
		list = append(list, d)
	}
	for i := range is.Values {
		if b := &is.Values[i]; now[b.Point] != nil {
			list = append(list, Difference{Point: b.Point, Name: b.Name, Unit: b.Unit, Is: b.Shown,
				Why: "it was not there then"})
		}
	}
	rank := func(d *Difference) int {
		switch {
		case d.Differs:
			return 0
		case d.Why != "":
			return 1
		}
		return 2
	}
	slices.SortStableFunc(list, func(a, b Difference) int {
		return cmp.Compare(rank(&a), rank(&b))
	})
	return list
}

func (g *Ground) difference(a, b *Reading) Difference {
	d := Difference{Point: a.Point, Name: a.Name, Unit: a.Unit, Was: a.Shown}
	_, p := g.Point(a.Point)
	if p != nil {
		d.Writable = p.Access != site.ReadOnly
	}
	switch {
	case p == nil:
		d.Why = "the point is no longer in the site"
	case b == nil:
		d.Why = "it is not there now"
	case a.Bad:
		d.Is, d.Why = b.Shown, "it could not be read then: "+a.Reason
	case b.Bad:
		d.Why = "it cannot be read now: " + b.Reason
	default:
		d.Is = b.Shown
		if number(a.Value) && number(b.Value) {
			d.Apart = math.Abs(a.Value.Float() - b.Value.Float())
		}
		d.Differs = a.Value != b.Value && !(number(a.Value) && number(b.Value) && a.Value.Float() == b.Value.Float())
		if a.Unit != b.Unit {
			d.Differs, d.Why = true, "its unit was "+cmp.Or(a.Unit, "none")
		}
	}
	return d
}

func number(v value.Value) bool {
	k := v.Kind()
	return k == value.Int || k == value.Uint || k == value.Float
}
