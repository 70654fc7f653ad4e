package field

import (
	"fmt"
	"time"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// alive is the heartbeat of a device: a point of it that has to change. While it
// stands still, the program behind the device does, and what else is read of it says
// nothing; it may be read all the same.
type alive struct {
	rule  site.Alive
	name  string
	moved int64 // when it changed last, or was first read, in milliseconds since 1970; 0 for never
}

// aliveOf returns what is known of the heartbeat of a device, nil where it has none.
// The lock is held.
func (h *Hub) aliveOf(d *site.Device) *alive {
	if d.Alive == nil {
		delete(h.alives, d.ID)
		return nil
	}
	a := h.alives[d.ID]
	if a == nil || a.rule.Point != d.Alive.Point {
		a = &alive{}
		h.alives[d.ID] = a
	}
	a.rule = *d.Alive
	for i := range d.Points {
		if d.Points[i].ID == a.rule.Point {
			a.name = d.Points[i].Name
		}
	}
	return a
}

// still reports whether the heartbeat has stood still for too long.
func (a *alive) still(ms int64) bool {
	return a != nil && a.moved != 0 && ms-a.moved > int64(a.rule.WithinMs)
}

func (a *alive) reason() string {
	return fmt.Sprintf("its heartbeat, %s, has stood still since %s", a.name,
		time.UnixMilli(a.moved).Format("15:04:05"))
}

// lifeless doubts a good value of a device whose heartbeat stands still, and lets it
// be good again once that moves. The lock is held.
func (h *Hub) lifeless(t *track, ms int64) {
	if t.alive == nil {
		return
	}
	switch still := t.alive.still(ms); {
	case still && t.live.Quality == value.Good:
		t.live.Quality, t.live.Reason, t.stilled = value.Doubtful, t.alive.reason(), true
	case !still && t.stilled && t.live.Quality == value.Doubtful:
		t.live.Quality, t.live.Reason, t.stilled = value.Good, "", false
	default:
		return
	}
	h.touch(t)
	t.tell()
}
