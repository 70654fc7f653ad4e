package field

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ferry/internal/core/finding"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
)

// RivalFor is for how long somebody who said that it has a station of Ferry's is taken to have it, mostRivals how many
// are remembered of each.
const (
	RivalFor   = 3 * time.Minute
	mostRivals = 8
)

// Rival notes that somebody else says that it has a station as which Ferry answers here.
func (p *Post) Rival(station int, who string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.rivals == nil {
		p.rivals = map[int]map[string]time.Time{}
	}
	of := p.rivals[station]
	if of == nil {
		of = map[string]time.Time{}
		p.rivals[station] = of
	}
	if _, known := of[who]; known || len(of) < mostRivals {
		of[who] = time.Now()
	}
}

// Rivals lists them.
func (p *Post) Rivals(station int) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.DeleteFunc(p.rivals[station], func(_ string, at time.Time) bool { return time.Since(at) > RivalFor })
	return slices.Sorted(maps.Keys(p.rivals[station]))
}

// RivalFindings are devices that Ferry is and others say that they are, too.
func (e *Engine) RivalFindings(s *site.Site) (found []finding.Finding) {
	for _, state := range e.Serving() {
		d := s.Device(state.Device)
		if d == nil || len(state.Rivals) == 0 {
			continue
		}
		who := strings.Join(state.Rivals, " and ")
		is, word := d.Name, "number"
		for i := range d.Ports {
			if def, ok := protocol.Named(d.Ports[i].Protocol); ok && def.Station != "" {
				is, word = begun(def.StationWords(d.Ports[i].Settings)), def.StationWord()
			}
		}
		found = append(found, finding.Finding{Code: "station-twice", Severity: finding.Fault, Sure: 0.95,
			Count: len(state.Rivals), Subject: finding.Subject{Kind: "device", ID: d.ID, Name: d.Name},
			Where: "traffic", Title: is + " is there twice",
			Sentence: fmt.Sprintf("Ferry answers as %s, and %s says that it has the same %s: whoever asks all for it gets "+
				"either.", d.Name, who, word),
			Evidence: []string{}, Remedy: "Give one of them another: it is one device's alone on all networks together.",
			Else: "What is brought from another subnet may come under another address than it was sent from."})
	}
	return found
}
