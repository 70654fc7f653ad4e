package field

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"ferry/internal/core/block"
	"ferry/internal/core/diagnose"
	"ferry/internal/core/exchange"
	"ferry/internal/core/habit"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// learned is what was found out of the device of a link.
type learned struct {
	place string
	habit.Device
}

// placeOf names what is learned of: the same station at the same place.
func placeOf(link *site.Link, target Target) string {
	return fmt.Sprint(link.Protocol, " ", target.Dial, " ", protocol.StationOf(link.Protocol, link.Settings))
}

// Learned returns what was found out of the device of a link.
func (h *Hub) Learned(link string) habit.Device {
	h.mu.Lock()
	defer h.mu.Unlock()
	l := h.learned[link]
	return habit.Device{Areas: maps.Clone(l.Areas), OneConnection: l.OneConnection}
}

// learn keeps what was found out of a place.
func (h *Hub) learn(era uint64, link, place string, what func(*habit.Device)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if era != h.era {
		return
	}
	l := h.learned[link]
	if l.place != place || l.Areas == nil {
		l = learned{place, habit.Device{Areas: map[string]habit.Facts{}}}
	}
	what(&l.Device)
	h.learned[link] = l
}

// facts are those of an area of a place.
func (h *Hub) facts(link, place, area string) habit.Facts {
	h.mu.Lock()
	defer h.mu.Unlock()
	if l := h.learned[link]; l.place == place {
		f := l.Areas[area]
		return habit.Facts{Most: f.Most, Holes: slices.Clone(f.Holes), Cuts: slices.Clone(f.Cuts)}
	}
	return habit.Facts{}
}

// piecesOf says which points lie in a structure that is read in one piece.
func piecesOf(d *site.Device) map[string]string {
	structures := map[string]bool{}
	for i := range d.Placements {
		structures[d.Placements[i].ID] = d.Placements[i].Structure != ""
	}
	pieces := map[string]string{}
	for i := range d.Points {
		if from := d.Points[i].From; from != nil && structures[from.Placement] {
			pieces[d.Points[i].ID] = from.Placement
		}
	}
	return pieces
}

// items are the runs of units of the one range of a job that must arrive in one
// piece, with its parts in each.
func (r *runner) items(j *job) (runs []habit.Run, parts [][]int) {
	octets := unitOctets(r.def, j.Ranges[0].Area)
	at := map[string]int{}
	for i := range j.parts {
		p := &j.parts[i]
		if p.of > 0 {
			continue
		}
		from := j.Ranges[0].Start + uint32(p.at/octets)
		run := habit.Run{From: from, To: from + uint32(max(1, (p.codec.Width()+octets-1)/octets))}
		key := p.piece
		if key == "" {
			key = fmt.Sprint(run)
		}
		if k, known := at[key]; known {
			runs[k] = habit.Run{From: min(runs[k].From, run.From), To: max(runs[k].To, run.To)}
			parts[k] = append(parts[k], i)
			continue
		}
		at[key] = len(runs)
		runs, parts = append(runs, run), append(parts, []int{i})
	}
	return runs, parts
}

// retryRefused is how often what a device refuses alone is asked for again.
const retryRefused = 10 * time.Second

// fit divides the jobs so that the device bears them, as far as that is known.
func (r *runner) fit() {
	var fitted []*job
	for _, j := range r.jobs {
		if j.searched || j.wanted != nil {
			fitted = append(fitted, j)
			continue
		}
		whole, rest := r.divide(j, func(i int) bool {
			facts := r.hub.facts(r.link.ID, r.place, j.Ranges[i].Area)
			return facts.IsZero() || facts.Bears(habit.RunOf(j.Ranges[i]))
		})
		if whole != nil {
			fitted = append(fitted, whole)
		}
		for _, each := range rest {
			fitted = append(fitted, r.cut(each)...)
		}
	}
	r.jobs = fitted
}

// divide parts a job: those of its ranges that stay together, nil if none, and
// the others each alone.
func (r *runner) divide(j *job, stays func(i int) bool) (whole *job, rest []*job) {
	var together []int
	for i := range j.Ranges {
		if stays(i) {
			together = append(together, i)
		} else {
			rest = append(rest, r.ofRanges(j, []int{i}))
		}
	}
	switch {
	case len(rest) == 0:
		return j, nil
	case len(together) == 0 && len(rest) == 1:
		return nil, []*job{j}
	case len(together) > 0:
		whole = r.ofRanges(j, together)
	}
	return whole, rest
}

// cut divides a job of one range by what is known of its area.
func (r *runner) cut(j *job) (into []*job) {
	facts := r.hub.facts(r.link.ID, r.place, j.Ranges[0].Area)
	runs, parts := r.items(j)
	groups, alone := facts.Cut(runs)
	for _, g := range groups {
		into = append(into, r.partOf(j, g.Run, g.Items, parts))
	}
	for _, i := range alone {
		one := r.partOf(j, runs[i], []int{i}, parts)
		if one.pace > 0 {
			one.pace = max(one.pace, retryRefused)
		}
		one.searchAt = time.Now().Add(24 * time.Hour) // there is nothing to divide
		into = append(into, one)
	}
	return into
}

// partOf is a job for some of the items of another, of one range.
func (r *runner) partOf(j *job, run habit.Run, items []int, parts [][]int) *job {
	of := j.Ranges[0]
	n := *j
	n.parts = nil
	r.asks(&n, []block.Range{rangeOf(of.Area, run)})
	shift := int(run.From-of.Start) * unitOctets(r.def, of.Area)
	for _, i := range items {
		for _, k := range parts[i] {
			p := j.parts[k]
			p.at -= shift
			n.takes(p)
		}
	}
	return &n
}

// ofRanges is a job for some of the ranges of another.
func (r *runner) ofRanges(j *job, which []int) *job {
	n := *j
	n.parts = nil
	ranges := make([]block.Range, len(which))
	shift, became := make([]int, len(j.Ranges)), make([]int, len(j.Ranges))
	at := 0
	for i := range j.Ranges {
		octets := j.Ranges[i].Count * unitOctets(r.def, j.Ranges[i].Area)
		became[i] = slices.Index(which, i)
		if k := became[i]; k >= 0 {
			ranges[k] = j.Ranges[i]
			shift[i] = at
		} else {
			at += octets
		}
	}
	r.asks(&n, ranges)
	for _, p := range j.parts {
		if k := became[p.of]; k >= 0 {
			p.at -= shift[p.of]
			p.of = k
			n.takes(p)
		}
	}
	return &n
}

// asks makes a copy of a job one for other ranges, with no parts yet.
func (r *runner) asks(n *job, ranges []block.Range) {
	n.Ranges, n.Points, n.Count = ranges, nil, 0
	for _, each := range ranges {
		n.Count += each.Count
	}
	n.Area, n.Start = ranges[0].Area, ranges[0].Start
	n.Operation, n.Address = r.rules.Operation(ranges), r.def.Scheme.Short(block.At(ranges[0].Area, ranges[0].Start))
	n.searched, n.silent, n.refusedBy, n.refused = false, 0, 0, nil
}

// takes adds a part to a job.
func (j *job) takes(p part) {
	j.parts = append(j.parts, p)
	if !p.power {
		j.Points = append(j.Points, p.track.live.Point)
	}
}

func rangeOf(area string, run habit.Run) block.Range {
	return block.Range{Area: area, Start: run.From, Count: run.Len()}
}

// silentTries is how often in a row a request stays unanswered before it is taken
// apart like one that is refused. Where others share the line, some request to
// the device must have been answered in the meantime: its silence costs them.
func (r *runner) silentTries() int {
	if !r.channel.runs {
		return min(r.tries, silentTries)
	}
	return silentTries
}

const silentTries = 4

// restSearch is how long after a search that found nothing comes another.
const restSearch = 30 * time.Second

// search finds out why a request is refused, where it may be that the device
// bears less at once or has a hole: beside the run, which gets the line back
// after each question. What it learns is kept, and the jobs follow it.
func (r *runner) search(ctx context.Context, j *job) {
	if j.wanted != nil {
		return // each of its places was answered for itself
	}
	if _, rest := r.parted(j, &Reply{Outcome: exchange.Answered, Refused: j.refused}); len(rest) > 0 {
		return
	}
	refused := j.refusedBy != 0 && r.rules.Divides(j.refusedBy)
	silent := j.silent >= r.silentTries() && (r.answered || r.def.Turns == protocol.TurnsOfLink)
	j.refusedBy = 0
	if !refused && !silent || j.searched || time.Now().Before(j.searchAt) {
		return
	}
	if len(j.Ranges) > 1 {
		r.parted(j, &Reply{Outcome: exchange.Declined})
		return
	}
	runs, _ := r.items(j)
	if len(runs) < 2 {
		return
	}
	r.answered, j.silent = false, 0
	c := r.channel
	if !c.runs {
		s := searching{r: r, j: j, give: func(ask func(Conn)) bool {
			if !r.connect(ctx) {
				return false
			}
			ask(r.conn())
			return true
		}}
		s.settle(s.find(runs))
		return
	}
	j.searched = true
	go func() {
		defer unharmed("finding out why a request is refused")
		s := searching{r: r, j: j, give: func(ask func(Conn)) (had bool) {
			err := c.between(ctx, r, func(_ *runner, conn Conn, _ Reply) {
				if had = conn != nil; had {
					ask(conn)
				}
			})
			return err == nil && had
		}}
		facts, found := s.find(runs)
		c.revise(func() {
			j.searched = false
			s.settle(facts, found)
		})
	}()
}

// parted takes the ranges that were refused while others of the request were
// answered out of it, or all if it was refused as a whole: each is then asked
// for alone, and searched like any other. rest is empty where there is nothing
// to part.
func (r *runner) parted(j *job, reply *Reply) (whole *job, rest []*job) {
	codes := slices.Clone(reply.Refused)
	j.refused = j.refused[:0]
	refused := reply.OK() && slices.ContainsFunc(codes, func(code int) bool { return code != 0 })
	if len(j.Ranges) < 2 || !refused && reply.Outcome != exchange.Declined {
		return nil, nil
	}
	whole, rest = r.divide(j, func(i int) bool { return refused && codes[i] == 0 })
	at := slices.Index(r.jobs, j)
	if at < 0 || len(rest) == 0 {
		return nil, nil // it has been replaced meanwhile
	}
	parts := rest
	if whole != nil {
		parts = append(slices.Clone(rest), whole)
	}
	r.jobs = slices.Replace(r.jobs, at, at+1, parts...)
	return whole, rest
}

// searching is one search under way.
type searching struct {
	r *runner
	j *job
	// give hands over the connection for one question.
	give   func(ask func(Conn)) bool
	came   habit.Run // what was answered last
	silent int       // questions without an answer since the last with one
}

// mostSilent bounds the questions of a search that stay unanswered in a row.
const mostSilent = 4

// ask asks for a run of units, and takes in what comes for the points in it.
func (s *searching) ask(run habit.Run) (answer habit.Answer) {
	answer = habit.Lost
	s.give(func(conn Conn) {
		at := time.Now()
		reply := Ask(conn, []block.Range{rangeOf(s.j.Ranges[0].Area, run)})
		answer = s.took(run, &reply, at)
	})
	return answer
}

func (s *searching) took(run habit.Run, reply *Reply, at time.Time) habit.Answer {
	r, j := s.r, s.j
	var parts []part
	runs, of := r.items(j)
	for i := range runs {
		if run.From <= runs[i].From && runs[i].To <= run.To {
			parts = append(parts, r.partOf(j, run, []int{i}, of).parts...)
		}
	}
	r.note([]block.Range{rangeOf(j.Ranges[0].Area, run)}, reply, at, parts...)
	if reply.OK() {
		s.came, s.silent = run, 0
		return habit.Given
	}
	if reply.Outcome == exchange.Declined && r.rules.Divides(reply.Code) {
		s.fail(parts, reply.Sentence)
		return habit.Refused
	}
	if s.silent++; reply.Outcome == exchange.NoAnswer && s.silent <= mostSilent {
		s.fail(parts, reply.Sentence)
		return habit.Refused
	}
	return habit.Lost
}

// fail says of a point that it is unreadable, where it was asked for alone.
func (s *searching) fail(parts []part, why string) {
	points := map[string]bool{}
	for _, p := range parts {
		points[p.track.live.Point] = true
	}
	if len(points) == 1 {
		s.r.hub.fail(s.r.era, slices.Collect(maps.Keys(points)), why)
	}
}

// find asks for the whole once more, for the refusal may have been a chance, and
// then for parts of it.
func (s *searching) find(runs []habit.Run) (facts habit.Facts, found bool) {
	facts = s.r.hub.facts(s.r.link.ID, s.r.place, s.j.Ranges[0].Area)
	if s.ask(habit.RunOf(s.j.Ranges[0])) != habit.Refused {
		return facts, false
	}
	if s.silent > 0 && s.ask(runs[0]) == habit.Refused && s.silent > 0 && s.ask(runs[len(runs)-1]) != habit.Given {
		return facts, false // nobody is there
	}
	_, done := facts.Search(runs, s.ask)
	if done && s.silent > 0 && s.came.Len() > 0 {
		s.ask(s.came) // what was silent last is a hole only while the rest is there
	}
	return facts, done && s.came.Len() > 0 && s.silent == 0
}

// settle keeps what was found, and has the jobs follow it.
func (s *searching) settle(facts habit.Facts, found bool) {
	if !found {
		s.j.searchAt = time.Now().Add(restSearch)
		return
	}
	s.r.hub.learn(s.r.era, s.r.link.ID, s.r.place, func(d *habit.Device) { d.Areas[s.j.Ranges[0].Area] = facts })
	s.r.fit()
}

// habitWords says what was learned of the device of a link.
func (h *Hub) habitWords(link string, device *site.Device) (words []string) {
	facts := h.Learned(link).Areas
	for _, area := range slices.Sorted(maps.Keys(facts)) {
		words = append(words, diagnose.HabitWords(device, area, facts[area])...)
	}
	return words
}
