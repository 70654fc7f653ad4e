package judge

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/block"
	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
)

// runs are stretches of units of one area that were read or written, in order and
// apart from each other.
type runs struct {
	list []stretch
}

type stretch struct{ from, to uint32 } // to is exclusive

// mostRuns bounds the stretches that are told apart in one area.
const mostRuns = 512

// add puts a stretch in.
func (r *runs) add(from, to uint32) {
	i, _ := slices.BinarySearchFunc(r.list, from, func(s stretch, f uint32) int { return cmp.Compare(s.to, f) })
	if i < len(r.list) && r.list[i].from <= from && r.list[i].to >= to {
		return
	}
	k := i
	for k < len(r.list) && r.list[k].from <= to {
		from, to = min(from, r.list[k].from), max(to, r.list[k].to)
		k++
	}
	if k == i && len(r.list) >= mostRuns {
		return
	}
	r.list = slices.Replace(r.list, i, k, stretch{from, to})
}

// covers reports whether all of a stretch is in.
func (r *runs) covers(from, to uint32) bool {
	if r == nil {
		return false
	}
	for _, s := range r.list {
		if s.from <= from && s.to >= to {
			return true
		}
	}
	return false
}

// overlaps reports whether any of a stretch is in.
func (r *runs) overlaps(from, to uint32) bool {
	if r == nil {
		return false
	}
	for _, s := range r.list {
		if s.from < to && from < s.to {
			return true
		}
	}
	return false
}

// accept notes what the device has.
func (t *Talk) accept(h *capture.Heard) {
	r := t.taken[h.Range.Area]
	if r == nil {
		if len(t.taken) >= mostAreas {
			return
		}
		if t.taken == nil {
			t.taken = map[string]*runs{}
		}
		r = &runs{}
		t.taken[h.Range.Area] = r
	}
	t.since++
	r.add(h.Range.Start, h.Range.Start+uint32(h.Range.Count))
	if t.longest == nil {
		t.longest = map[string]int{}
	}
	t.longest[h.Range.Area] = max(t.longest[h.Range.Area], h.Range.Count)
}

// Bounds of what is kept of refusals.
const (
	mostAreas   = 64
	mostRefused = 64
	mostCodes   = 16
)

// lessLeast is after how many answers since who was refused for too much has found out.
const lessLeast = 3

// declinesOf is where refusals with an error code are counted; nil for too many codes.
func (t *Talk) declinesOf(code int) *proofs {
	ps := t.declines[code]
	if ps == nil {
		if len(t.declines) >= mostCodes {
			return nil
		}
		if t.declines == nil {
			t.declines, t.refused = map[int]*proofs{}, map[int][]block.Range{}
		}
		ps = &proofs{}
		t.declines[code] = ps
	}
	return ps
}

// decline notes a refusal.
func (t *Talk) decline(h *capture.Heard) {
	ps := t.declinesOf(h.Code)
	if ps == nil {
		return
	}
	t.prove(ps, h, t.words)
	t.since = 0
	if list := t.refused[h.Code]; h.Range.Count > 0 && len(list) < mostRefused && !slices.Contains(list, h.Range) {
		t.refused[h.Code] = append(list, h.Range)
	}
}

// declined makes a finding of each error code.
func (j *Judge) declined(t *Talk, def *protocol.Def, name string) (found []finding.Finding) {
	codes := make([]int, 0, len(t.declines))
	for code := range t.declines {
		codes = append(codes, code)
	}
	slices.Sort(codes)
	for _, code := range codes {
		ps := t.declines[code]
		why := def.Decline(code)
		f := finding.Finding{Code: cmp.Or(why.Finding, "refused"), Severity: finding.Fault, Sure: 1, Count: ps.n,
			Subject: j.of(t), Title: name + " answers: " + why.Title,
			Sentence: fmt.Sprintf("%s It said so %s, code %d.", why.Means, times(ps.n), why.Sent(code)), Remedy: why.Causes}
		if ranges, ok := def.Ranges(); ok && ranges.Absent(code) {
			t.boundary(&f, def, t.refused[code])
			if f.Code == "exception-address" && t.findsOut(t.refused[code]) {
				f.Code, f.Severity = "bears-less", finding.Note
				f.Title = name + " has a hole in its map"
				f.Remedy = "The asker has found out and asks around it. In Ferry, note it in the limits of the device."
				j.fix(&f, t, &finding.Bears{Holes: holes(t.refused[code])})
			}
		}
		if why.Less && t.since >= lessLeast {
			f.Code, f.Severity = "bears-less", finding.Note
			f.Title = name + " gives less at once than the protocol allows"
			f.Remedy = "The asker has found out and asks for less."
		}
		if ranges, ok := def.Ranges(); ok && f.Code != "bears-less" && ranges.Divides(code) {
			j.fewer(t, &f, t.refused[code], name)
		}
		ps.into(&f)
		found = append(found, f)
	}
	return found
}

// Of an asker that finds out what a device bears, each question is refused a time or two,
// and none any more once it has.
const (
	refusedFew  = 2
	askedEnough = 6
)

// findsOut reports whether refusals are those of an asker that then asks otherwise.
func (t *Talk) findsOut(refused []block.Range) bool {
	if t.since < askedEnough {
		return false
	}
	for _, r := range refused {
		if q := t.Requests[RequestKey{Range: r}]; q == nil || q.Count-q.Answered > refusedFew {
			return false
		}
	}
	return true
}

// boundary says where the map of the device ends, from what it refused and what it
// did not.
func (t *Talk) boundary(f *finding.Finding, def *protocol.Def, refused []block.Range) {
	place := func(area string, unit uint32) string { return def.Scheme.Short(block.At(area, unit)) }
	for _, r := range refused {
		from, to := r.Start, r.Start+uint32(r.Count)
		taken := t.taken[r.Area]
		if taken.covers(from, to) {
			f.Evidence = append(f.Evidence, fmt.Sprintf("%s to %s was read as well as refused: it is not there all the "+
				"time.", place(r.Area, from), place(r.Area, to-1)))
			continue
		}
		switch {
		case r.Count > 1 && from > 0 && taken.covers(from-1, to-1):
			f.Code, f.Sure = "off-by-one", 0.8
			f.Sentence = fmt.Sprintf("It refuses %s to %s and has %s to %s: the list counts from the other number.",
				place(r.Area, from), place(r.Area, to-1), place(r.Area, from-1), place(r.Area, to-2))
			f.Remedy = "Take one from every address of the asking end (lists count from 1, the wire from 0)."
			f.Else = "The map ends there, and the question is one too long."
			return
		case r.Count > 1 && taken.covers(from+1, to+1):
			f.Code, f.Sure = "off-by-one", 0.8
			f.Sentence = fmt.Sprintf("It refuses %s to %s and has %s to %s: the list counts from the other number.",
				place(r.Area, from), place(r.Area, to-1), place(r.Area, from+1), place(r.Area, to))
			f.Remedy = "Add one to every address of the asking end (lists count from 1, the wire from 0)."
			f.Else = "The map begins there."
			return
		}
		if taken == nil {
			continue
		}
		for _, s := range taken.list {
			said := ""
			if s.from <= from && s.to > from && s.to < to {
				said = fmt.Sprintf(" It has %s to %s, and not all of %s to %s.", place(r.Area, s.from),
					place(r.Area, s.to-1), place(r.Area, s.to), place(r.Area, to-1))
			} else if s.from > from && s.from < to && s.to >= to {
				said = fmt.Sprintf(" It has %s to %s, and not all of %s to %s.", place(r.Area, s.from),
					place(r.Area, s.to-1), place(r.Area, from), place(r.Area, s.from-1))
			}
			if !strings.Contains(f.Sentence, said) {
				f.Sentence += said
			}
		}
	}
}
