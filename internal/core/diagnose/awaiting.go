package diagnose

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Words by which lists name a number that counts results, and the one that gives it back.
var (
	numberWords = regexp.MustCompile(`(?i)\b(number|no|nr|seq|sequence|count|counter|index|id|result)\b`)
	echoWords   = regexp.MustCompile(`(?i)\b(echo|ack|acknowledge|acknowledged|fetched|taken|handshake|confirm|confirmed|received|return|returned)\b`)
)

// heldLeast is how long a result must have been held to be called that.
const heldLeast = 5 * time.Second

// Awaiting reports a device with a cyclic connection that holds a result until its number
// is given back, which nobody does: a number that came stands still, the output that is
// named for giving it back has another value, and both look like one pair alone.
func Awaiting(s *site.Site, device *site.Device, habits []Habit) []finding.Finding {
	link := carrying(s, device)
	if link == nil {
		return nil
	}
	numbers, echoes := []int{}, []int{}
	for i := range device.Points {
		p, t := &device.Points[i], &habits[i]
		whole := p.Type.IsWhole() && p.Type != value.TypeBool && !p.Type.IsFlags() && len(p.Names) == 0
		if !whole || t.read.IsZero() || p.Place().Area == "" {
			continue
		}
		name := strings.NewReplacer("_", " ", ".", " ", "-", " ").Replace(p.Name)
		switch {
		case p.Access != site.ReadOnly && echoWords.MatchString(name):
			echoes = append(echoes, i)
		case p.Access == site.ReadOnly && numberWords.MatchString(name):
			numbers = append(numbers, i)
		}
	}
	if len(echoes) != 1 {
		return nil
	}
	back := echoes[0]
	fit := -1
	for _, i := range numbers {
		if device.Points[i].Type == device.Points[back].Type {
			if fit >= 0 {
				return nil // which of them is meant cannot be told
			}
			fit = i
		}
	}
	if fit < 0 {
		return nil
	}
	number, echo := &habits[fit], &habits[back]
	held := number.read.Sub(number.changed)
	if n := number.last.Int(); n == 0 || n == echo.last.Int() || held < heldLeast {
		return nil
	}
	p, q := &device.Points[fit], &device.Points[back]
	f := finding.Finding{Code: "waiting-for-handshake", Severity: finding.Fault, Sure: 0.8, Count: 1, Where: "traffic",
		Subject: finding.Subject{Kind: "link", ID: link.ID, Device: device.ID, Name: device.Name},
		Title:   device.Name + " waits for its number to be given back",
		Sentence: fmt.Sprintf("%s has been %s for %.0f s, and %s, which is to give it back, is %s: it holds that result and brings no other, "+
			"though everything looks connected.", p.Name, p.Shown(number.last), held.Seconds(), q.Name, q.Shown(echo.last)),
		Evidence: []string{fmt.Sprintf("%s last changed %s, last came %s", p.Name, clock(number.changed),
			clock(number.read))},
		Remedy: fmt.Sprintf("Write %s into %s each time that it changes: a crossing does that.", p.Name, q.Name),
	}
	for i := range device.Points {
		if r := &device.Points[i]; len(r.Names) > 0 && r.Access == site.ReadOnly && !habits[i].read.IsZero() &&
			r.Place().Area == p.Place().Area {
			f.Evidence = append(f.Evidence, fmt.Sprintf("%s says of it: %s", r.Name, r.Shown(habits[i].last)))
		}
	}
	if !crosses(s, p.ID, q.ID) {
		f.Fixes = []finding.Fix{{Title: "Give it back by a crossing", Cells: []finding.CellFix{},
			Crossing: &finding.CrossingFix{From: p.ID, To: q.ID}}}
	} else {
		f.Remedy = "A crossing gives it back: look whether it carries, and whether the connection is in run."
	}
	return []finding.Finding{f}
}

// carrying is the link of a device that carries whole areas in cycles; nil for none.
func carrying(s *site.Site, device *site.Device) *site.Link {
	for k := range device.Ports {
		def, _ := protocol.Named(device.Ports[k].Protocol)
		if _, cyclic := def.Image(nil, ""); !cyclic {
			continue
		}
		for i := range s.Links {
			if l := &s.Links[i]; l.Answering == device.ID && l.Protocol == def.Name {
				return l
			}
		}
	}
	return nil
}

func crosses(s *site.Site, from, to string) bool {
	for i := range s.Crossings {
		if x := &s.Crossings[i]; x.From == from && x.To == to {
			return true
		}
	}
	return false
}
