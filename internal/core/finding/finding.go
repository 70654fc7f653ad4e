// Package finding is what Ferry concludes: from a map, a plan, a try or the
// traffic, in one shape whatever the protocol.
package finding

import (
	"cmp"
	"slices"
)

// Severity says how bad a finding is.
type Severity string

// A fault stops or falsifies something, a doubt may, a note is worth knowing.
const (
	Fault Severity = "fault"
	Doubt Severity = "doubt"
	Note  Severity = "note"
)

// Rank orders severities, the worst first, from 0.
func (s Severity) Rank() int {
	return slices.Index([]Severity{Fault, Doubt, Note}, s)
}

// Subject is what a finding is about, so that it can be opened.
type Subject struct {
	Kind   string `json:"kind"` // link, device, point, crossing, line, request
	ID     string `json:"id"`
	Device string `json:"device,omitempty"` // the device of a point or request
	// Column is the cell of a point's row that the finding concerns.
	Column string `json:"column,omitempty"`
	// Name is how a person calls the subject.
	Name string `json:"name"`
}

// Finding is one conclusion with its evidence.
type Finding struct {
	Code     string   `json:"code"`
	Severity Severity `json:"severity"`
	// Sure is how sure Ferry is, from 0 to 1.
	Sure    float64 `json:"sure"`
	Count   int     `json:"count"`
	Subject Subject `json:"subject"`
	// Where is the stop on Ferry's own route where the finding waits: lines,
	// points, timetable, crossings, checkout or traffic.
	Where    string   `json:"where"`
	Title    string   `json:"title"`
	Sentence string   `json:"sentence"`
	Evidence []string `json:"evidence"`
	Remedy   string   `json:"remedy"`
	// Else is what else could explain it; empty where nothing comes to mind.
	Else string `json:"else,omitempty"`
	// Packets are those of the recording that the evidence speaks of, and At when the
	// first of them was; of traffic alone.
	Packets []int64 `json:"packets,omitempty"`
	// Fixes are changes that would put it right, for a person to choose from.
	Fixes []Fix `json:"fixes,omitempty"`
	// Offers is something to be done that would tell more; empty for nothing.
	Offers Offer `json:"offers,omitempty" jsonschema:"enum=edges"`
}

// Offer is something that can be done about a finding.
type Offer string

// OfferEdges asks the device for the units at the edges of its map.
const OfferEdges Offer = "edges"

// Fix is one way of putting a finding right: cells of a map, or a setting of a
// link, with what they hold now and would hold then; or limits of a device that
// were found out.
type Fix struct {
	Title   string      `json:"title"`
	Cells   []CellFix   `json:"cells"`
	Setting *SettingFix `json:"setting,omitempty"`
	// Crossing is one that is added.
	Crossing *CrossingFix `json:"crossing,omitempty"`
	// Learned is a link: what was found out of its device goes into the limits.
	Learned string `json:"learned,omitempty"`
	// Manner, with Learned, is the code of an odd way of answering that is noted.
	Manner string `json:"manner,omitempty"`
	// Bears, with Learned, is what the device bears less than its protocol allows, as a
	// recording shows it.
	Bears *Bears `json:"bears,omitempty"`
}

// Bears is how a device must be asked.
type Bears struct {
	// Most is the most units of an area at once, 0 for nothing less.
	Area string `json:"area,omitempty"`
	Most int    `json:"most,omitempty"`
	// Holes are units that it refuses, with whatever touches them.
	Holes []Hole `json:"holes,omitempty"`
	// OneConnection is set where it serves one at a time.
	OneConnection bool `json:"oneConnection,omitempty"`
}

// Hole is a run of units of an area, from a wire offset on.
type Hole struct {
	Area  string `json:"area"`
	From  uint32 `json:"from"`
	Count uint32 `json:"count"`
}

// SettingFix is a setting of a link that a fix changes.
type SettingFix struct {
	Link string `json:"link"`
	Key  string `json:"key"`
	Was  int    `json:"was"`
	Will int    `json:"will"`
}

// CrossingFix is a crossing that a fix adds, from one point to another, by their ids.
type CrossingFix struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// CellFix is one cell that a fix changes.
type CellFix struct {
	Point  string `json:"point"` // id
	Name   string `json:"name"`
	Column string `json:"column"`
	Was    string `json:"was"`
	Will   string `json:"will"`
}

// Key identifies the finding across repetitions.
func (f *Finding) Key() string {
	return f.Code + "\x00" + f.Subject.Kind + "\x00" + f.Subject.ID + "\x00" + f.Subject.Column
}

// magnitude is the number of digits of a count.
func magnitude(n int) (digits int) {
	for ; n > 0; n /= 10 {
		digits++
	}
	return digits
}

// Sort puts the worst first, then the surest, then the more frequent by the
// number of digits; equals are ordered by code and subject. So lists do not
// jump with each count.
func Sort(list []Finding) {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(a.Severity.Rank(), b.Severity.Rank()),
			cmp.Compare(b.Sure, a.Sure),
			cmp.Compare(magnitude(b.Count), magnitude(a.Count)),
			cmp.Compare(a.Code, b.Code),
			cmp.Compare(a.Subject.Name, b.Subject.Name),
		)
	})
}
