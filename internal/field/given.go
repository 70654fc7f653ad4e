package field

import (
	"cmp"
	"slices"
	"time"

	"ferry/internal/core/value"
)

// Given is what a client was given last of a point of a device that Ferry is: as which it stood there,
// and where that came from.
type Given struct {
	Point string `json:"point"`
	// To is who was given it, address and port; Reported says that it was told, and not asked for.
	To       string `json:"to"`
	Reported bool   `json:"reported,omitempty"`
	AtMs     int64  `json:"atMs"`
	// Count is how often anybody was given it.
	Count   int64         `json:"count"`
	Value   string        `json:"value"` // as shown, without its unit
	Quality value.Quality `json:"quality"`
	Reason  string        `json:"reason,omitempty"`
	// From is the point that it was made of, the first of several; empty where nobody carried it there.
	From string `json:"from,omitempty"`
	// ArrivedMs is when the value of that point arrived, SourceMs is its own time; zero for none.
	ArrivedMs int64 `json:"arrivedMs,omitempty"`
	SourceMs  int64 `json:"sourceMs,omitempty"`
}

// handed is what clients were given of a point.
type handed struct {
	to       *Client
	reported bool
	at       time.Time
	is       Standing
	count    int64
}

// Gave notes that a client was given what stood in a point: in an answer, or in a report.
func (d *Served) Gave(to *Client, point string, is *Standing, reported bool) {
	if to == nil {
		return
	}
	now := time.Now()
	d.giving.Lock()
	defer d.giving.Unlock()
	d.gave(to, point, is, reported, now)
}

// gave is Gave; the lock of what is given is held.
func (d *Served) gave(to *Client, point string, is *Standing, reported bool, now time.Time) {
	h := d.given[point]
	if h == nil {
		h = &handed{}
		d.given[point] = h
	}
	h.to, h.reported, h.at, h.is = to, reported, now, *is
	h.count++
}

// gaveRun notes all points of a run of units. The lock of the device is held.
func (d *Served) gaveRun(to *Client, area string, start, count int) {
	now := time.Now()
	d.giving.Lock()
	defer d.giving.Unlock()
	d.image.Within(area, start, count, func(id string, raw value.Value) {
		d.gave(to, id, &Standing{Value: raw, Quality: value.Good, Origin: d.origins[id]}, false, now)
	})
}

// Given lists what clients were given last of the points of a device that Ferry is, the latest first.
func (e *Engine) Given(device string) []Given {
	e.mu.Lock()
	s := e.serving[device]
	e.mu.Unlock()
	list := []Given{}
	if s == nil {
		return list
	}
	d := s.Served
	d.mu.RLock()
	defer d.mu.RUnlock()
	d.giving.Lock()
	defer d.giving.Unlock()
	for id, h := range d.given {
		if d.image.Has(id) {
			list = append(list, Given{Point: id, To: h.to.From, Reported: h.reported, AtMs: h.at.UnixMilli(), Count: h.count,
				Value: d.image.Shown(id, h.is.Value), Quality: h.is.Quality, Reason: h.is.Reason, From: h.is.Origin.From,
				ArrivedMs: unixMs(h.is.Origin.Arrived), SourceMs: unixMs(h.is.Origin.Source)})
		}
	}
	slices.SortFunc(list, func(a, b Given) int {
		return cmp.Or(cmp.Compare(b.AtMs, a.AtMs), cmp.Compare(a.Point, b.Point))
	})
	return list
}

// unixMs is a time in milliseconds since 1970, zero for none.
func unixMs(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}
