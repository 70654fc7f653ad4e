package judge

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/capture"
	"ferry/internal/core/finding"
)

// reports follows what is told without being asked for each, by who passes it on.
type reports map[netip.AddrPort]*reporting

// reporting is what is known of one who passes messages on.
type reporting struct {
	talk   *Talk
	wants  []*wanting
	given  map[string]given // by name, what was told to it last
	series map[string]*numbered
	gaps   map[string]*proofs
	unsaid map[string]*proofs // by name, what was never confirmed
	broken map[string]*proofs // by name, what cannot be read

	heard   map[int]time.Time // when anything came over a connection
	senders map[string]*sender
	clocks  map[string]*clockOf
}

// given is a message that was told to whoever passes it on.
type given struct {
	at     time.Time
	packet int64
}

// wanting is a subscription that was confirmed.
type wanting struct {
	conn   *capture.Conn
	left   bool // it was taken back
	talk   *Talk
	filter string
	since  time.Time
	packet int64
	got    int
	kept   proofs // of these, what was there before
	missed proofs // what was told to the broker under a name that it holds, and did not come
	alike  proofs // and under a name that is almost it
	covers func(filter, name string) bool
}

// numbered is a series of messages over one connection.
type numbered struct {
	conn, next int
}

// Bounds of what is followed.
const (
	mostGiven  = 10_000
	mostWants  = 1000
	mostSeries = 1000
)

func (r reports) hear(p *plan, c *capture.Conn, t *Talk, h *capture.Heard) {
	at := c.Ends[capture.Answerer]
	of := r[at]
	if of == nil {
		if len(r) >= mostHosts {
			return
		}
		of = &reporting{talk: t, given: map[string]given{}, series: map[string]*numbered{}, gaps: map[string]*proofs{},
			unsaid: map[string]*proofs{}, broken: map[string]*proofs{}, senders: map[string]*sender{},
			heard:  map[int]time.Time{},
			clocks: map[string]*clockOf{}}
		r[at] = of
	}
	when, packet := h.Answered, h.AnsweredIn
	if when.IsZero() || !h.Asked.IsZero() && h.Report.Way == capture.Gives {
		when, packet = h.Asked, h.AskedIn
	}
	of.live(h, when, packet)
	of.clocked(h, when, packet)
	of.unreadable(p, h, when, packet)
	switch h.Report.Way {
	case capture.Gives:
		of.give(h.Report.Name, when, packet)
		of.number(c, h, when, packet)
	case capture.Brings:
		for _, w := range of.wants {
			if w.conn == c && w.covers(w.filter, h.Report.Name) {
				w.got++
				if h.Report.Kept && h.Report.Life == 0 {
					w.kept.add(proof{at: when, packets: [2]int64{packet}, text: h.Report.Name})
				}
			}
		}
		of.number(c, h, when, packet)
	case capture.Wants:
		covers := c.Speech.Covers
		for _, name := range append([]string{h.Report.Name}, h.Report.Others...) {
			if covers != nil && len(of.wants) < mostWants {
				of.wants = append(of.wants, &wanting{conn: c, talk: t, filter: name, since: when, packet: packet, covers: covers})
			}
		}
	case capture.Leaves:
		for _, w := range of.wants {
			if w.conn == c && (w.filter == h.Report.Name || slices.Contains(h.Report.Others, w.filter)) {
				w.left = true
			}
		}
	case capture.Unconfirmed:
		ps := of.unsaid[h.Report.Name]
		if ps == nil {
			if len(of.unsaid) >= mostSeries {
				return
			}
			ps = &proofs{}
			of.unsaid[h.Report.Name] = ps
		}
		ps.add(proof{at: when, packets: [2]int64{packet}, text: h.Report.Name})
	}
}

// alive notes that anything comes over a connection with subscriptions.
func (r reports) alive(c *capture.Conn, h *capture.Heard) {
	of := r[c.Ends[capture.Answerer]]
	if of == nil || h.Answered.IsZero() {
		return
	}
	if _, known := of.heard[c.Number]; known || len(of.heard) < mostSeries {
		of.heard[c.Number] = h.Answered
	}
}

// give notes that something is told to who passes it on.
func (of *reporting) give(name string, at time.Time, packet int64) {
	if _, known := of.given[name]; !known && len(of.given) >= mostGiven {
		return
	}
	of.given[name] = given{at, packet}
	for _, w := range of.wants {
		if w.got > 0 || w.left || w.conn.Ending != capture.Open || !at.After(w.since) {
			continue
		}
		what := proof{at: at, packets: [2]int64{packet}, text: name + " is told to it"}
		switch {
		case w.covers(w.filter, name):
			w.missed.add(what)
		case w.covers(bare(w.filter), bare(name)):
			w.alike.add(what)
		}
	}
}

// bare is a name without what people get wrong in it: capitals, and marks around it.
func bare(name string) string { return strings.ToLower(strings.Trim(name, "/ ")) }

// number follows the numbers of a series.
func (of *reporting) number(c *capture.Conn, h *capture.Heard, at time.Time, packet int64) {
	r := h.Report
	if r.Series == "" {
		return
	}
	key := fmt.Sprintf("%d %d %s", c.Number, r.Way, r.Series)
	s := of.series[key]
	if s == nil || r.Begins {
		if s == nil && len(of.series) >= mostSeries {
			return
		}
		s = &numbered{conn: c.Number}
		of.series[key] = s
	} else if r.Number != s.next {
		ps := of.gaps[r.Series]
		if ps == nil {
			ps = &proofs{}
			of.gaps[r.Series] = ps
		}
		ps.add(proof{at: at, packets: [2]int64{packet}, text: fmt.Sprintf("%s: %d comes where %d was next", r.Series,
			r.Number, s.next)})
	}
	s.next = (r.Number + 1) % r.Modulus
}

// missedLeast is how often something must not arrive for a subscription to be silent.
const missedLeast = 3

func (r reports) findings(j *Judge) (found []finding.Finding) {
	for _, at := range sorted(r, netip.AddrPort.String) {
		of := r[at]
		name := j.of(of.talk).Name
		add := func(code string, severity finding.Severity, sure float64, ps *proofs, what, title, sentence, remedy,
			other string) {
			f := finding.Finding{Code: code, Severity: severity, Sure: sure, Count: ps.n, Subject: j.of(of.talk), Title: title,
				Sentence: sentence, Remedy: remedy, Else: other}
			f.Subject.Column = what
			ps.into(&f)
			found = append(found, f)
		}
		var only []*wanting
		for _, w := range of.wants {
			who := w.talk.Key.Asker
			switch {
			case w.got > 0 && w.got == w.kept.n && of.heard[w.conn.Number].Sub(w.since) > keptLongest:
				only = append(only, w)
			case w.got > 0:
			case w.missed.n >= missedLeast:
				add("silent-subscription", finding.Fault, 0.9, &w.missed, w.filter, "A subscription brings nothing",
					fmt.Sprintf("%s subscribed to %s at %s, which confirmed it; %d messages were told to it under that, and none came.",
						who, w.filter, name, w.missed.n),
					"Look at the rights of this user at the broker: many confirm a subscription and hold back what is not allowed.",
					"The recording has not got all of that connection.")
			case w.alike.n >= missedLeast:
				add("silent-subscription", finding.Doubt, 0.7, &w.alike, w.filter, "A subscription brings nothing",
					fmt.Sprintf("%s subscribed to %s at %s, and nothing came under that; %d messages were told to it under a name "+
						"that differs in capitals or in a stroke at its beginning or end.", who, w.filter, name, w.alike.n),
					"Compare both names letter by letter: capitals count, and so does a stroke at the beginning.",
					"Nothing is told under that name yet.")
			}
		}
		if only != nil {
			ps := proofs{}
			for _, w := range only {
				for _, p := range w.kept.kept {
					ps.add(p)
				}
			}
			ps.n = len(only)
			add("retained-only", finding.Note, 0.8, &ps, "", "Nothing but what the broker kept",
				fmt.Sprintf("Under %d of %d names that were subscribed to at %s there came what it had kept, and nothing since.",
					len(only), len(of.wants), name),
				"Look whether whoever tells it is still there: what is kept may be of an earlier test. Clear it by an empty "+
					"retained message.", "It tells only what changes, and nothing has changed.")
		}
		of.lives(j.last, add)
		for _, series := range sorted(of.gaps, func(s string) string { return s }) {
			ps := of.gaps[series]
			add("sequence-gap", finding.Fault, 0.95, ps, series, "Messages of "+series+" are missing",
				fmt.Sprintf("%d times a number was left out: what was told there did not arrive, and what is shown since may be old.",
					ps.n),
				"Ask the node for a birth anew. Look at its service level, its session, and how busy the broker is.",
				"Two nodes use one name.")
		}
		for _, topic := range sorted(of.unsaid, func(s string) string { return s }) {
			ps := of.unsaid[topic]
			add("unconfirmed-report", finding.Doubt, 0.9, ps, topic, "Messages are not confirmed",
				fmt.Sprintf("%d messages under %s were to be confirmed by who got them and were not: they are told again, or held "+
					"back.", ps.n, topic),
				"Look whether the receiver keeps up, and whether it has crashed behind its connection.", "")
		}
	}
	return found
}
