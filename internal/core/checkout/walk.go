package checkout

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// Progress says how many points stand how.
type Progress struct {
	Right  int `json:"right"`
	Wrong  int `json:"wrong"`
	Cannot int `json:"cannot"`
	Again  int `json:"again"`
	Left   int `json:"left"`
}

func (c *Progress) add(s ProofState) {
	switch s {
	case IsRight:
		c.Right++
	case IsWrong:
		c.Wrong++
	case IsCannot:
		c.Cannot++
	case Again:
		c.Again++
	default:
		c.Left++
	}
}

// All is how many points there are.
func (c *Progress) All() int { return c.Right + c.Wrong + c.Cannot + c.Again + c.Left }

// Stop is a device on the walk.
type Stop struct {
	Cabinet string   `json:"cabinet"`
	Line    string   `json:"line"`
	Device  string   `json:"device"`
	Counts  Progress `json:"counts"`
	// Points are those to be proved, in the order of the map.
	Points []Stand `json:"points"`
}

// Stand is how a point stands.
type Stand struct {
	Point string     `json:"point"`
	State ProofState `json:"state" jsonschema:"enum=left,enum=right,enum=wrong,enum=cannot,enum=again"`
	// Proof is the last one, 0 for none; Changed is what changed since it, in words.
	Proof   int64    `json:"proof,omitempty"`
	Changed []string `json:"changed,omitempty"`
}

// Walk lists the devices of the site in the order in which somebody walks past them: by
// cabinet, by line, and as they stand on the line. last is the last proof of each point.
// What a connection tells of itself is nothing to be proved.
func (g *Ground) Walk(last map[string]*Proved) []Stop {
	stops := []Stop{}
	lines := map[string]int{}
	for i := range g.site.Lines {
		lines[g.site.Lines[i].ID] = i
	}
	for i := range g.site.Devices {
		d := &g.site.Devices[i]
		stop := Stop{Cabinet: d.Cabinet, Device: d.ID, Line: lineOf(d), Points: []Stand{}}
		own := ownPlaces(d)
		for j := range d.Points {
			p := &d.Points[j]
			if p.Address.IsZero() || own[p.Address] {
				continue
			}
			s := Stand{Point: p.ID}
			if proof := last[p.ID]; proof != nil {
				s.Proof = proof.ID
				s.State, s.Changed = g.Stands(proof)
			} else {
				s.State = Left
			}
			stop.Counts.add(s.State)
			stop.Points = append(stop.Points, s)
		}
		if len(stop.Points) > 0 {
			stops = append(stops, stop)
		}
	}
	slices.SortStableFunc(stops, func(a, b Stop) int {
		if (a.Cabinet == "") != (b.Cabinet == "") { // what is in no cabinet comes last
			if a.Cabinet == "" {
				return 1
			}
			return -1
		}
		return cmp.Or(naturally(a.Cabinet, b.Cabinet), cmp.Compare(lines[a.Line], lines[b.Line]))
	})
	return stops
}

// Findings says of which devices points were found wrong, or are to be proved again.
func (g *Ground) Findings(stops []Stop) (found []finding.Finding) {
	for i := range stops {
		stop := &stops[i]
		d := g.site.Device(stop.Device)
		if d == nil || stop.Counts.Wrong+stop.Counts.Again == 0 {
			continue
		}
		f := finding.Finding{Code: "proved-wrong", Severity: finding.Fault, Sure: 1, Count: stop.Counts.Wrong,
			Where:   "checkout",
			Subject: finding.Subject{Kind: "device", ID: d.ID, Device: d.ID, Name: d.Name}, Title: d.Name + " was found wrong",
			Sentence: fmt.Sprintf("%d of the points of %s were looked at and found wrong.", stop.Counts.Wrong, d.Name),
			Remedy:   "Put its map, its link or the device right, and prove them again."}
		if stop.Counts.Wrong == 0 {
			f.Code, f.Severity, f.Count, f.Title = "proof-due", finding.Doubt, stop.Counts.Again, d.Name+" is to be proved again"
			f.Sentence = fmt.Sprintf("%d of its points were proved, and have been changed since.", stop.Counts.Again)
			f.Remedy = "Prove these again: the others still hold."
		}
		for _, p := range stop.Points {
			if _, point := g.Point(p.Point); point != nil && len(f.Evidence) < 5 {
				switch p.State {
				case IsWrong:
					f.Evidence = append(f.Evidence, point.Name+": wrong")
				case Again:
					f.Evidence = append(f.Evidence, point.Name+": "+strings.Join(p.Changed, "; "))
				}
			}
		}
		found = append(found, f)
	}
	return found
}

// lineOf is the line on which a device answers, or the first that it is on.
func lineOf(d *site.Device) string {
	for i := range d.Ports {
		if d.Ports[i].Protocol != "" {
			return d.Ports[i].Line
		}
	}
	if len(d.Ports) > 0 {
		return d.Ports[0].Line
	}
	return ""
}

// ownPlaces are those in which connections of a device tell of themselves.
func ownPlaces(d *site.Device) map[address.Address]bool {
	places := map[address.Address]bool{}
	for _, name := range d.Maps() {
		def, _ := protocol.Named(name)
		for _, h := range def.StandingPoints() {
			places[h.Address] = true
		}
	}
	return places
}

// naturally compares two names as people order them: K2 comes before K10.
func naturally(a, b string) int {
	digit := func(c byte) bool { return c >= '0' && c <= '9' }
	for a != "" && b != "" {
		if !digit(a[0]) || !digit(b[0]) {
			if a[0] != b[0] {
				return cmp.Compare(a[0], b[0])
			}
			a, b = a[1:], b[1:]
			continue
		}
		n, m := 0, 0
		for n < len(a) && digit(a[n]) {
			n++
		}
		for m < len(b) && digit(b[m]) {
			m++
		}
		x, y := strings.TrimLeft(a[:n], "0"), strings.TrimLeft(b[:m], "0")
		if c := cmp.Or(cmp.Compare(len(x), len(y)), cmp.Compare(x, y)); c != 0 {
			return c
		}
		a, b = a[n:], b[m:]
	}
	return cmp.Compare(len(a), len(b))
}
