package field

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/exchange"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Outage is a time for which a link brought nothing.
type Outage struct {
	Link   string `json:"link"`
	Device string `json:"device"`
	FromMs int64  `json:"fromMs"`
	// ToMs is when it came back, 0 while it has not, negative where Ferry was
	// stopped before.
	ToMs   int64  `json:"toMs"`
	Reason string `json:"reason"`
	// How it failed, of several tries that which says most of where; empty in logs of before this
	// was kept. Reported is of an end that was there, and what is behind it was not.
	How   exchange.Outcome `json:"how,omitempty"`
	Tries int              `json:"tries"` // that failed
}

// keptOutages bounds the log of outages, keptThinks the times from which
// thinking is learned.
const (
	keptOutages = 2000
	keptThinks  = 512
)

// linkLog is what the hub remembers of a link.
type linkLog struct {
	thinks []float64
	at     int    // the oldest, once full
	failed Outage // what failed since it last answered
	outage int    // index of the open one plus 1
	// told is set where the end tells of its values by itself: away and returned say when it does not.
	// behind is set while it is there, and what is behind it is not, which began at bad.
	told, behind bool
	bad          time.Time
}

// leastFailed is how many tries in a row must fail to be an outage: one that
// fails and is made good by the next is none.
const leastFailed = 2

// log keeps thinking times, and outages with their ends.
func (h *Hub) log(e *exchange.Exchange) {
	l := h.links[e.Link]
	if l == nil {
		l = &linkLog{}
		h.links[e.Link] = l
	}
	if e.Outcome == exchange.Answered || e.Outcome == exchange.Declined {
		if l.failed = (Outage{}); l.outage > 0 && !l.told {
			h.outages[l.outage-1].ToMs = e.At.UnixMilli()
			h.toKeep = append(h.toKeep, h.outages[l.outage-1])
			l.outage = 0
		}
		think := e.ThinkMs
		if think == 0 {
			think = e.LatencyMs
		}
		if e.RequestID == "" || e.Outcome != exchange.Answered {
			return
		}
		if len(l.thinks) < keptThinks {
			l.thinks = append(l.thinks, think)
		} else {
			l.thinks[l.at], l.at = think, (l.at+1)%keptThinks
		}
		return
	}
	if l.told || e.RequestID == "" && e.Outcome != exchange.Unreached && e.Outcome != exchange.Refused {
		return // a question of a person's, not the run's
	}
	if l.outage > 0 {
		h.outages[l.outage-1].Tries++
		return
	}
	if l.failed.Tries++; l.failed.Tries == 1 {
		l.failed = Outage{Link: e.Link, Device: e.Device, FromMs: e.At.UnixMilli(), Reason: e.Sentence,
			How: e.Outcome, Tries: 1}
	}
	if l.failed.Tries < leastFailed {
		return
	}
	h.begin(l, l.failed)
}

// begin opens an outage of a link. The lock is held.
func (h *Hub) begin(l *linkLog, o Outage) {
	h.append(o)
	l.outage = len(h.outages)
}

// silent reports whether a point is bad because nothing comes from its device.
func (h *Hub) silent(point string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	t := h.points[point]
	if t == nil || t.live.Quality != value.Bad {
		return false
	}
	if now := time.Now(); now.Sub(h.silences.at) > silencesFor {
		h.silences.at, h.silences.devices = now, map[string]bool{}
		for _, l := range h.links {
			of := &l.failed
			if l.outage > 0 {
				of = &h.outages[l.outage-1]
			}
			if of.Tries > 0 && of.How != exchange.Declined {
				h.silences.devices[of.Device] = true
			}
		}
	}
	return h.silences.devices[t.device]
}

// silences are the devices from which nothing comes, as of a time.
type silences struct {
	at      time.Time
	devices map[string]bool
}

// silencesFor is how long they count: thousands of points are looked at together.
const silencesFor = 50 * time.Millisecond

// mostReasons bounds what is said of one outage, in octets.
const mostReasons = 400

// away notes that an end which tells of its values tells nothing any more, from when on, and why.
// What fails after that belongs to the same outage.
func (h *Hub) away(era uint64, e *exchange.Exchange, from time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	l := h.links[e.Link]
	if era != h.era || l == nil {
		return
	}
	l.told = true
	if l.outage == 0 {
		h.begin(l, Outage{Link: e.Link, Device: e.Device, FromMs: from.UnixMilli(), Reason: e.Sentence, How: e.Outcome,
			Tries: 1})
		return
	}
	o := &h.outages[l.outage-1]
	o.Tries++
	l.behind = false
	if telling(e.Outcome) > telling(o.How) {
		o.How = e.Outcome
	}
	if !strings.HasSuffix(o.Reason, e.Sentence) && len(o.Reason)+len(e.Sentence) < mostReasons {
		o.Reason += "; then " + e.Sentence
	}
}

// telling is how much an outcome says of where an outage is: that the machine cannot be reached says
// more than that a connection has ended.
func telling(how exchange.Outcome) int {
	switch how {
	case exchange.Unreached, exchange.NoSuchName:
		return 3
	case exchange.Refused:
		return 2
	case exchange.Declined:
		return 1
	}
	return 0
}

// returned notes that it tells of them again, and what is another with it since.
func (h *Hub) returned(era uint64, link string, at time.Time, how string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if l := h.links[link]; era == h.era && l != nil {
		h.over(l, at, how)
	}
}

func (h *Hub) over(l *linkLog, at time.Time, how string) {
	l.told = true
	if l.outage == 0 {
		return
	}
	o := &h.outages[l.outage-1]
	if o.ToMs = at.UnixMilli(); how != "" {
		o.Reason += "; " + how
	}
	h.toKeep = append(h.toKeep, *o)
	l.outage, l.behind, l.bad = 0, false, time.Time{}
}

// beyond notes whether an end tells that most of its values are not good: it is there, and what is
// behind it is not. The lock is held.
func (h *Hub) beyond(link, device string, bad, all int, reason string, at time.Time) {
	l := h.links[link]
	if 2*bad <= all {
		if l.bad = (time.Time{}); l.behind {
			h.over(l, at, "")
		}
		return
	}
	if l.bad.IsZero() {
		l.bad = at
	}
	if l.outage == 0 && at.Sub(l.bad) >= behindFor {
		h.begin(l, Outage{Link: link, Device: device, FromMs: l.bad.UnixMilli(), How: exchange.Reported, Tries: 1,
			Reason: fmt.Sprintf("it is there, and tells that %d of %d values are not good: %s", bad, all, reason)})
		l.behind = true
	}
}

// behindFor is how long most values have to be not good until that is an outage: a server that has
// just begun has none yet.
const behindFor = 2 * time.Second

// Outage adds one that is over to the log.
func (h *Hub) Outage(o Outage) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.append(o)
}

// append puts an outage behind the others, the oldest of which go once there are many. The lock is
// held.
func (h *Hub) append(o Outage) {
	if len(h.outages) >= keptOutages {
		h.outages = slices.Delete(h.outages, 0, keptOutages/2)
		for _, each := range h.links {
			each.outage = max(0, each.outage-keptOutages/2)
		}
	}
	h.outages = append(h.outages, o)
	h.toKeep = append(h.toKeep, o)
}

// Outages returns the log of outages, the newest last.
func (h *Hub) Outages() []Outage {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]Outage{}, h.outages...)
}

// Out returns the outages that are not over, by link.
func (h *Hub) Out() map[string]Outage {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := map[string]Outage{}
	for id, l := range h.links {
		if l.outage > 0 {
			out[id] = h.outages[l.outage-1]
		}
	}
	return out
}

// DrainOutages hands over the outages that began or ended since the last call.
func (h *Hub) DrainOutages() []Outage {
	h.mu.Lock()
	defer h.mu.Unlock()
	drained := h.toKeep
	h.toKeep = nil
	return drained
}

// Recall puts outages of earlier runs at the head of the log.
func (h *Hub) Recall(list []Outage) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i := range list {
		if list[i].ToMs == 0 {
			list[i].ToMs = -1
		}
	}
	h.outages = append(list, h.outages...)
	for _, l := range h.links {
		if l.outage > 0 {
			l.outage += len(list)
		}
	}
}

// Thinks returns what was measured of the device behind each link: median and
// worst of the last answers, for links with at least that many.
func (h *Hub) Thinks(least int) map[string]site.Think {
	h.mu.Lock()
	defer h.mu.Unlock()
	learned := map[string]site.Think{}
	for id, l := range h.links {
		if len(l.thinks) < least {
			continue
		}
		sorted := slices.Sorted(slices.Values(l.thinks))
		learned[id] = site.Think{MedianMs: sorted[len(sorted)/2], WorstMs: sorted[len(sorted)-1], Count: len(sorted)}
	}
	return learned
}
