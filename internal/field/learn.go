package field

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"ferry/internal/core/address"
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

// placeOf names what is learned of: the same unit at the same place.
func placeOf(link *site.Link, target Target) string {
	return fmt.Sprint(link.Protocol, " ", target.Dial, " ", link.Settings["unit"])
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

// items are the runs of units of a job that must arrive in one piece, with its
// parts in each.
func (r *runner) items(j *job) (runs []habit.Run, parts [][]int) {
	octets := unitOctets(r.def, j.Area)
	at := map[string]int{}
	for i := range j.parts {
		p := &j.parts[i]
		from := j.Start + uint32(p.at/octets)
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
		facts := r.hub.facts(r.link.ID, r.place, j.Area)
		if facts.IsZero() || facts.Bears(habit.Run{From: j.Start, To: j.Start + uint32(j.Count)}) || j.searched {
			fitted = append(fitted, j)
			continue
		}
		runs, parts := r.items(j)
		groups, alone := facts.Cut(runs)
		for _, g := range groups {
			fitted = append(fitted, r.partOf(j, g.Run, g.Items, parts))
		}
		for _, i := range alone {
			one := r.partOf(j, runs[i], []int{i}, parts)
			if one.pace > 0 {
				one.pace = max(one.pace, retryRefused)
			}
			one.searchAt = time.Now().Add(24 * time.Hour) // there is nothing to divide
			fitted = append(fitted, one)
		}
	}
	r.jobs = fitted
}

// partOf is a job for some of the items of another.
func (r *runner) partOf(j *job, run habit.Run, items []int, parts [][]int) *job {
	n := *j
	n.Start, n.Count, n.parts, n.Points = run.From, run.Len(), nil, nil
	n.Operation, n.Address = r.def.Operation(j.Area, run.From, run.Len()), r.def.Scheme.Short(address.At(j.Area, run.From))
	shift := int(run.From-j.Start) * unitOctets(r.def, j.Area)
	for _, i := range items {
		for _, k := range parts[i] {
			p := j.parts[k]
			p.at -= shift
			n.parts = append(n.parts, p)
			if !p.power {
				n.Points = append(n.Points, p.track.live.Point)
			}
		}
	}
	n.searched, n.silent, n.refusedBy = false, 0, 0
	return &n
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
	refused := j.refusedBy != 0 && r.def.Divides(j.refusedBy)
	silent := j.silent >= r.silentTries() && (r.answered || r.def.Turns == protocol.TurnsOfLink)
	j.refusedBy = 0
	if !refused && !silent || j.searched || time.Now().Before(j.searchAt) {
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
		reply := conn.Read(s.j.Area, run.From, run.Len())
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
	r.note(j.Area, run.From, run.Len(), reply, at, parts...)
	if reply.OK() {
		s.came, s.silent = run, 0
		return habit.Given
	}
	if reply.Outcome == exchange.Declined && r.def.Divides(reply.Code) {
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
	facts = s.r.hub.facts(s.r.link.ID, s.r.place, s.j.Area)
	if s.ask(habit.Run{From: s.j.Start, To: s.j.Start + uint32(s.j.Count)}) != habit.Refused {
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
	s.r.hub.learn(s.r.era, s.r.link.ID, s.r.place, func(d *habit.Device) { d.Areas[s.j.Area] = facts })
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
