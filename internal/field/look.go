package field

import (
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/diagnose"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Why a value that was read once does not count any more.
const (
	notReadAgain   = "old: it has not been read again in time"
	notHeldAny     = "old: the connection over which it is reported has ended"
	notReportedYet = "not reported since the connection came back"
)

// age turns a good value that is asked for and older than three of its paces and
// a second doubtful; how old one may be that is reported is for its source to
// say. It is done when somebody looks.
func (h *Hub) age(t *track, ms int64) {
	h.lifeless(t, ms)
	if t.source != nil {
		h.quiet(t.source, ms)
		return
	}
	if t.live.Quality != value.Good || t.point.PaceMs == 0 {
		return
	}
	if old := ms - t.live.AtMs; old > int64(3*t.point.PaceMs+1000) {
		t.live.Quality, t.live.Reason = value.Doubtful, notReadAgain
		h.touch(t)
		t.tell()
	}
}

// atATime is how many points are looked at before the lock is let go for a
// moment, so that those who read are not kept waiting for a whole site.
const atATime = 256

// Since returns the points that changed after a revision, and the revision to
// ask with next. What changes while it looks comes next time at the latest.
func (h *Hub) Since(rev uint64, now time.Time) ([]Live, uint64) {
	list, ms := []Live{}, now.UnixMilli()
	h.mu.Lock()
	defer h.mu.Unlock()
	next, order := h.rev, h.order
	for i, t := range order {
		if i%atATime == atATime-1 {
			h.mu.Unlock()
			h.mu.Lock()
		}
		if h.age(t, ms); t.rev > rev && !t.gone {
			live := t.live
			live.Words = spaced(t.words)
			list = append(list, live)
		}
	}
	return list, next
}

// spaced prints octets in hexadecimal, a blank between words.
func spaced(b []byte) string {
	text := strings.ToUpper(hex.EncodeToString(b))
	var out strings.Builder
	for i := 0; i < len(text); i += 4 {
		if i > 0 {
			out.WriteByte(' ')
		}
		out.WriteString(text[i:min(i+4, len(text))])
	}
	return out.String()
}

// Point returns the latest state of one point.
func (h *Hub) Point(id string) (Live, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	t := h.points[id]
	if t == nil {
		return Live{}, false
	}
	live := t.live
	live.Words = spaced(t.words)
	return live, true
}

// brief is how a point reads, without its value.
func (h *Hub) brief(id string) (quality value.Quality, reason string, atMs int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if t := h.points[id]; t != nil {
		return t.live.Quality, t.live.Reason, t.live.AtMs
	}
	return "", "", 0
}

// Exchanges returns up to most exchanges with a number over after, of the given
// links if there are any, the newest last.
func (h *Hub) Exchanges(after uint64, most int, links ...string) []exchange.Exchange {
	h.mu.Lock()
	defer h.mu.Unlock()
	list := []exchange.Exchange{}
	for _, half := range [][]exchange.Exchange{h.exchanges, h.before} {
		for i := len(half) - 1; i >= 0 && len(list) < most && half[i].Seq > after; i-- {
			if len(links) == 0 || slices.Contains(links, half[i].Link) {
				list = append(list, half[i])
			}
		}
	}
	slices.Reverse(list)
	return list
}

// ExchangesUntil returns up to most exchanges of the given links, all if there are none,
// up to a number; the newest last.
func (h *Hub) ExchangesUntil(until uint64, most int, links ...string) []exchange.Exchange {
	h.mu.Lock()
	defer h.mu.Unlock()
	list := []exchange.Exchange{}
	for _, half := range [][]exchange.Exchange{h.exchanges, h.before} {
		for i := len(half) - 1; i >= 0 && len(list) < most; i-- {
			if half[i].Seq <= until && (len(links) == 0 || slices.Contains(links, half[i].Link)) {
				list = append(list, half[i])
			}
		}
	}
	slices.Reverse(list)
	return list
}

// Exchange returns one exchange by its number, if it is still remembered.
func (h *Hub) Exchange(seq uint64) (exchange.Exchange, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, half := range [][]exchange.Exchange{h.exchanges, h.before} {
		if len(half) > 0 && seq >= half[0].Seq && seq <= half[len(half)-1].Seq {
			return half[seq-half[0].Seq], true
		}
	}
	return exchange.Exchange{}, false
}

// LastSeq returns the number of the newest exchange.
func (h *Hub) LastSeq() uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.seq
}

// Stats returns what was measured of each request.
func (h *Hub) Stats() []RequestStats {
	h.mu.Lock()
	defer h.mu.Unlock()
	list := make([]RequestStats, 0, len(h.stats))
	for _, s := range h.stats {
		list = append(list, *s)
	}
	return list
}

// StatsOf returns what was measured of the requests of some links.
func (h *Hub) StatsOf(links map[string]bool) []RequestStats {
	h.mu.Lock()
	defer h.mu.Unlock()
	list := []RequestStats{}
	for _, s := range h.stats {
		if links[s.link] {
			list = append(list, *s)
		}
	}
	return list
}

// Took returns for each link how long the slowest of its requests last took, in
// milliseconds, of those that were answered since a time.
func (h *Hub) Took(since time.Time) map[string]float64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	took := map[string]float64{}
	for _, s := range h.stats {
		if s.AtMs >= since.UnixMilli() && (s.Outcome == exchange.Answered || s.Outcome == exchange.Declined) {
			took[s.link] = max(took[s.link], s.LastMs)
		}
	}
	return took
}

// Of returns those of the given points that changed after a revision.
func (h *Hub) Of(ids []string, rev uint64) (list []Live, next uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, id := range ids {
		if t := h.points[id]; t != nil && t.rev > rev && !t.gone {
			live := t.live
			live.Words = spaced(t.words)
			list = append(list, live)
		}
	}
	return list, h.rev
}

// Age makes values doubtful that were not read again in time.
func (h *Hub) Age(now time.Time) {
	ms := now.UnixMilli()
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, t := range h.order { // the list as it is now: who adds to it makes another, or adds behind it
		if i%atATime == atATime-1 {
			h.mu.Unlock()
			h.mu.Lock()
		}
		h.age(t, ms)
	}
}

// Findings returns what is wrong as of now.
func (h *Hub) Findings(s *site.Site, now time.Time) []finding.Finding {
	found, asked := []finding.Finding{}, map[string]bool{}
	for i := range s.Links {
		h.mu.Lock()
		evidence := h.diagnosis.OfLink(s.Links[i].ID, now)
		unknown, silent := h.diagnosis.Unknown(s, &s.Links[i], evidence)
		asked[s.Links[i].ID] = len(evidence) > 0
		h.mu.Unlock()
		if silent {
			found = append(found, unknown)
		}
		found = append(found, evidence.Findings(s, &s.Links[i], h.Learned(s.Links[i].ID))...)
	}
	for i := range s.Devices {
		h.mu.Lock()
		habits := h.diagnosis.OfDevice(&s.Devices[i])
		h.mu.Unlock()
		found = append(found, diagnose.Still(&s.Devices[i], habits)...)
		found = append(found, diagnose.Awaiting(s, &s.Devices[i], habits)...)
		found = append(found, diagnose.Clocks(&s.Devices[i], habits)...)
	}
	return diagnose.Join(diagnose.Lines(s, found, func(link string) bool { return asked[link] }))
}
