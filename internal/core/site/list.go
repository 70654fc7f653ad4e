package site

import (
	"fmt"
	"slices"
)

// List is a list of names that two programs share: points of this side, each under
// the name that a far side has for it. Each of its names is a crossing that belongs
// to it; what the list says counts for all of them.
type List struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Far is the device whose names these are.
	Far string `json:"far"`
	// Carries bounds which way anything may go.
	Carries Carries `json:"carries,omitempty" jsonschema:"enum=takes,enum=gives"`
	// Start says who wins at the start, and when a side comes back; Ties who wins
	// where a name goes both ways and both sides have changed.
	Start Wins `json:"start,omitempty" jsonschema:"enum=there,enum=wait"`
	Ties  Wins `json:"ties,omitempty" jsonschema:"enum=there,enum=later"`
	// Enable is a point that must be on for anything to be carried.
	Enable string `json:"enable,omitempty"`
	Off    bool   `json:"off,omitempty"`
	Remark string `json:"remark,omitempty"`
}

// Carries says which way a list may carry.
type Carries string

// The ways. Of a list that only takes, nothing is ever written to the far side; of
// one that only gives, nothing on this side.
const (
	BothWays  Carries = ""
	OnlyTakes Carries = "takes"
	OnlyGives Carries = "gives"
)

// Wins says which side wins.
type Wins string

// The sides; WhoFirst is whoever is good first, and WhoLater who has changed later.
const (
	HereWins  Wins = ""
	ThereWins Wins = "there"
	WhoFirst  Wins = "wait"
	WhoLater  Wins = "later"
)

// MostLists bounds the lists of a site.
const MostLists = 500

// List returns the list of names with the given id, or nil.
func (s *Site) List(id string) *List {
	for i := range s.Lists {
		if s.Lists[i].ID == id {
			return &s.Lists[i]
		}
	}
	return nil
}

// Ruled returns the crossings as they run: those that belong to a list with what the
// list says. They are the crossings of the site themselves where it has no list.
func (s *Site) Ruled() []Crossing {
	if len(s.Lists) == 0 {
		return s.Crossings
	}
	lists, far := make(map[string]*List, len(s.Lists)), map[string]map[string]bool{}
	for i := range s.Lists {
		l := &s.Lists[i]
		if lists[l.ID] = l; far[l.Far] == nil {
			far[l.Far] = pointsOf(s.Device(l.Far))
		}
	}
	ruled := slices.Clone(s.Crossings)
	for i := range ruled {
		if l := lists[ruled[i].List]; l != nil {
			l.rule(&ruled[i], far[l.Far][ruled[i].From])
		}
	}
	return ruled
}

func pointsOf(d *Device) map[string]bool {
	points := map[string]bool{}
	if d != nil {
		for i := range d.Points {
			points[d.Points[i].ID] = true
		}
	}
	return points
}

// rule has a crossing follow its list; comes is set where its source is the far side.
func (l *List) rule(x *Crossing, comes bool) {
	x.Off, x.Enable = x.Off || l.Off, l.Enable
	x.Start = map[Wins]Start{HereWins: SourceWins, ThereWins: TargetWins, WhoFirst: WaitForGood}[l.Start]
	ties := map[Wins]Ties{HereWins: SourceTies, ThereWins: TargetTies, WhoLater: LaterTies}[l.Ties]
	if comes {
		x.Start = map[Start]Start{SourceWins: TargetWins, TargetWins: SourceWins, WaitForGood: WaitForGood}[x.Start]
		ties = map[Ties]Ties{SourceTies: TargetTies, TargetTies: SourceTies, LaterTies: LaterTies}[ties]
	}
	if x.Both != OneWay {
		x.Both = ties
	}
}

// Own takes from a crossing what its list says in its place.
func (x *Crossing) Own() {
	if x.List != "" {
		x.Start, x.Enable = SourceWins, ""
	}
}

func (v *validator) list(s *Site, points map[string]*Device, l *List) {
	where := fmt.Sprintf("list %q", l.Name)
	v.identity(where, "list", l.ID, l.Name)
	if s.Device(l.Far) == nil {
		v.fail(where, "the device whose names it has is not in the site.", "Choose a device.")
	}
	if !slices.Contains([]Carries{BothWays, OnlyTakes, OnlyGives}, l.Carries) {
		v.fail(where, fmt.Sprintf("what it carries, %q, is none of the ways.", l.Carries),
			"Leave it empty for both ways, or write takes or gives.")
	}
	if !slices.Contains([]Wins{HereWins, ThereWins, WhoFirst}, l.Start) {
		v.fail(where, fmt.Sprintf("who wins at its start, %q, is none.", l.Start),
			"Leave it empty for this side, or write there or wait.")
	}
	if !slices.Contains([]Wins{HereWins, ThereWins, WhoLater}, l.Ties) {
		v.fail(where, fmt.Sprintf("who wins where both have changed, %q, is none.", l.Ties),
			"Leave it empty for this side, or write there or later.")
	}
	if l.Enable != "" && points[l.Enable] == nil {
		v.fail(where, "the point that enables it is not in the site.", "Choose another, or none.")
	}
}

// listed checks a crossing against the list that it belongs to.
func (v *validator) listed(lists map[string]*List, points map[string]*Device, x *Crossing) {
	if x.List == "" {
		return
	}
	where := fmt.Sprintf("crossing %q", x.ID)
	l := lists[x.List]
	if l == nil {
		v.fail(where, "the list that it belongs to is not in the site.", "Choose another, or none.")
		return
	}
	if x.Start != SourceWins || x.Enable != "" {
		v.fail(where, "it has a rule of starting or an enabling point of its own, and belongs to a list.",
			"Change these in the list "+l.Name+".")
	}
	if points[x.From] == nil && !x.Beats() || points[x.To] == nil { // is said elsewhere
		return
	}
	comes, goes := !x.Beats() && points[x.From].ID == l.Far, points[x.To].ID == l.Far
	if comes == goes {
		v.fail(where, "it belongs to the list "+l.Name+", and not just one of its ends is on the far side.",
			"Choose a point of this side and one of the far side.")
		return
	}
	quality := x.QualityTo != "" && points[x.QualityTo] != nil && points[x.QualityTo].ID == l.Far
	if l.Carries == OnlyTakes && (goes || x.Both != OneWay || quality) {
		v.fail(where, "it would write to the far side, and the list "+l.Name+" only takes.",
			"Turn it round, or let the list carry both ways.")
	}
	if l.Carries == OnlyGives && (comes || x.Both != OneWay) {
		v.fail(where, "it would take from the far side, and the list "+l.Name+" only gives.",
			"Turn it round, or let the list carry both ways.")
	}
}
