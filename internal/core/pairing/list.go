package pairing

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/crossing"
	"ferry/internal/core/site"
)

// Goes says which way a name of a list is carried.
type Goes string

// The ways of a name.
const (
	ToThere   Goes = "there"
	FromThere Goes = "here"
	BothGo    Goes = "both"
)

// goesWords are the words for them in tables. In and out, read and write are none of
// them: each side means another thing by these.
var goesWords = map[Goes][]string{
	ToThere:   {"there", "to there", "→", "->", "gives"},
	FromThere: {"here", "from there", "←", "<-", "takes"},
	BothGo:    {"both", "both ways", "↔", "<->"},
}

// parseGoes reads a way; empty for no word.
func parseGoes(text string) (Goes, error) {
	if text == "" {
		return "", nil
	}
	for goes, words := range goesWords {
		if slices.Contains(words, strings.ToLower(text)) {
			return goes, nil
		}
	}
	return "", fmt.Errorf("%q is no way to go: write there, here or both", text)
}

// GoesOf is the way in which a crossing of a list goes; far reports whether a point
// is one of the far side.
func GoesOf(x *site.Crossing, far func(point string) bool) Goes {
	switch {
	case x.Both != site.OneWay:
		return BothGo
	case far(x.From):
		return FromThere
	}
	return ToThere
}

// InList lists the shores of a list of names: the points of some devices, and those
// of the far side, that none of its names has. A point is left out that can go
// neither way.
func InList(s *site.Site, list string, from []string) (*Shores, error) {
	l := s.List(list)
	if l == nil {
		return nil, fmt.Errorf("there is no list %q", list)
	}
	far := s.Device(l.Far)
	sh := &Shores{Near: []Candidate{}, Far: []Candidate{}, Paired: []string{}, site: s, to: far, list: l}
	has := map[string]bool{}
	for i := range s.Crossings {
		if x := &s.Crossings[i]; x.List == l.ID {
			sh.Paired = append(sh.Paired, x.ID)
			has[x.From], has[x.To] = true, true
		}
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		if d != far && !slices.Contains(from, d.ID) {
			continue
		}
		for j := range d.Points {
			p := &d.Points[j]
			c := candidate(d, p, plainKind(p))
			switch {
			case has[p.ID]:
			case d != far && (gives(l) && c.readable() || takes(l) && c.writable()):
				sh.Near = append(sh.Near, c)
			case d == far && (takes(l) && c.readable() || gives(l) && c.writable()):
				sh.Far = append(sh.Far, c)
			}
		}
	}
	return sh, nil
}

func gives(l *site.List) bool { return l.Carries != site.OnlyTakes }
func takes(l *site.List) bool { return l.Carries != site.OnlyGives }

func (c *Candidate) readable() bool { return c.point.Access != site.WriteOnly }

// writable reports whether Ferry may write a point. Access to what it serves is that
// of its clients.
func (c *Candidate) writable() bool { return c.of.Served() || c.point.Access != site.ReadOnly }

// usual is the way in which a name goes where nobody says: what can be set on both
// sides both ways, everything else to there, and what can only be read there from
// there.
func (sh *Shores) usual(near, far *Candidate) Goes {
	to := gives(sh.list) && near.readable() && far.writable()
	from := takes(sh.list) && far.readable() && near.writable()
	switch {
	case to && from && near.point.Access == site.ReadWrite && far.readable():
		return BothGo
	case to || !from:
		return ToThere
	}
	return FromThere
}

// forbids says why a name may not go a way; empty where it may.
func (sh *Shores) forbids(near, far *Candidate, goes Goes) string {
	name := func(c *Candidate) string { return c.Device + " · " + c.Name }
	switch {
	case goes != FromThere && !gives(sh.list):
		return "The list only takes: nothing of it is ever written to the far side."
	case goes != ToThere && !takes(sh.list):
		return "The list only gives: nothing of it is ever written on this side."
	case goes != FromThere && !far.writable():
		return name(far) + " may only be read."
	case goes != ToThere && !near.writable():
		return name(near) + " may only be read."
	case goes != FromThere && !near.readable():
		return name(near) + " may only be written."
	case goes != ToThere && !far.readable():
		return name(far) + " may only be written."
	}
	return ""
}

// directed has a pair go a way in its list. What x says of the way is for the
// direction in which it goes first.
func (sh *Shores) directed(p *Pair, near, far *Candidate, goes Goes) {
	x := &p.Crossing
	if goes == "" && x.Both != site.OneWay {
		goes = BothGo
	}
	if goes == "" {
		goes = sh.usual(near, far)
	}
	p.Goes, x.List, x.Both = goes, sh.list.ID, site.OneWay
	from, to := near, far
	switch goes {
	case BothGo:
		x.Both = site.SourceTies // who wins is for the list to say
	case FromThere:
		from, to = far, near
	}
	x.From, x.To = from.ID, to.ID
	p.Way, p.Fits, p.Sentence = crossing.Words(x), true, ""
	why := sh.forbids(near, far, goes)
	if why == "" {
		why = crossing.Misfit(x, from.point, to.point)
	}
	if why != "" {
		p.Fits, p.Sentence = false, why
	}
}

// Turn returns a crossing of a list so that it goes another way. It fails where that
// cannot be: a step cannot be undone, a point may only be read, or the list does not
// carry so.
func Turn(s *site.Site, l *site.List, x *site.Crossing, goes Goes) (*site.Crossing, error) {
	fromDevice, from := s.Point(x.From)
	toDevice, to := s.Point(x.To)
	if from == nil || to == nil {
		return nil, errors.New("one of its points is no longer there")
	}
	near, far := candidate(fromDevice, from, ""), candidate(toDevice, to, "")
	comes := fromDevice.ID == l.Far
	if comes {
		near, far = far, near
	}
	turned := *x
	if comes != (goes == FromThere) {
		back, err := crossing.Turned(x)
		if err != nil {
			return nil, err
		}
		turned = *back
	}
	if turned.Both = site.OneWay; goes == BothGo {
		turned.Both = site.SourceTies // who wins is for the list to say
	}
	sh := &Shores{list: l}
	if why := sh.forbids(&near, &far, goes); why != "" {
		return nil, errors.New(strings.TrimSuffix(why, "."))
	}
	return &turned, nil
}
