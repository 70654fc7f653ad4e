package site

import (
	"fmt"
	"math"
	"slices"

	"ferry/internal/core/value"
)

// Crossing carries one point, or several, into another: the source, scaled, goes
// through the steps of its way and is written when it is due. One without a source is
// a heartbeat of Ferry's.
type Crossing struct {
	ID   string `json:"id"`
	From string `json:"from,omitempty"`
	To   string `json:"to"`
	// More are further sources. Formulas know all of them by letters: From is a, the
	// first of these b.
	More []string `json:"more,omitempty"`

	// Factor and Offset scale the source first: see value.Linear.
	Factor float64 `json:"factor,omitempty"`
	Offset float64 `json:"offset,omitempty"`
	Way    []Step  `json:"way,omitempty"`
	// Both says that it carries the other way too, and who wins if both shores have
	// changed.
	Both Ties `json:"both,omitempty" jsonschema:"enum=source,enum=target,enum=later"`

	// Deadband is by how much it has to move to be written, in the unit of the target,
	// or in per cent of the target's limits if Percent is set; 0 is for every change.
	Deadband float64 `json:"deadband,omitempty"`
	Percent  bool    `json:"percent,omitempty"`
	// AtLeastMs is after how long it is written again though nothing has moved, and
	// AtMostMs how long it is not written again though it has; 0 for no such rule.
	AtLeastMs int `json:"atLeastMs,omitempty"`
	AtMostMs  int `json:"atMostMs,omitempty"`
	// PaceMs is for a crossing that is looked at only so often; 0 for whenever the
	// source comes.
	PaceMs int `json:"paceMs,omitempty"`
	// Round is set where it is written with each whole round of its sources, moved or
	// not: once all that is read with them, at their pace, has been asked for.
	Round bool `json:"round,omitempty"`
	// BeatMs is set in a heartbeat: every so often its target counts one on, or is
	// turned where it is a state, for whoever watches that Ferry is alive.
	BeatMs int `json:"beatMs,omitempty"`
	// PerDay bounds the writes of a day, for targets that wear; 0 for no bound.
	PerDay int   `json:"perDay,omitempty"`
	Start  Start `json:"start,omitempty" jsonschema:"enum=target,enum=wait"`
	// Enable is a point that must be on for it to carry.
	Enable string `json:"enable,omitempty"`

	// Quiet says what becomes of the target while the source has no good value, once
	// that has lasted for QuietMs.
	Quiet      Quiet  `json:"quiet,omitempty" jsonschema:"enum=substitute,enum=stop"`
	QuietMs    int    `json:"quietMs,omitempty"`
	Substitute string `json:"substitute,omitempty"` // as a person types it for the target
	// QualityTo is a point that is 1 while the source is good and 0 while it is not.
	QualityTo string `json:"qualityTo,omitempty"`

	// Tells says what is carried beside the value, where the far side can hold it.
	Tells Tells `json:"tells,omitempty" jsonschema:"enum=quality,enum=all"`

	// AllowMs is how old the value may become on the far shore; 0 for not stated.
	AllowMs int    `json:"allowMs,omitempty"`
	Off     bool   `json:"off,omitempty"`
	Remark  string `json:"remark,omitempty"`
	// List is the list of names that it belongs to, whose rules count in the place of
	// Start, Enable and the choice of Both.
	List string `json:"list,omitempty"`
}

// Start says what a crossing does when it begins, and when its source comes back.
type Start string

// The rules of starting.
const (
	// SourceWins has the target follow the source from the first moment on, also in
	// having no good value.
	SourceWins Start = ""
	// TargetWins leaves what stands in the target until the source moves; both ways,
	// it is carried into the source.
	TargetWins Start = "target"
	// WaitForGood writes nothing until the source has been good; both ways, whichever
	// shore is good first is carried into the other.
	WaitForGood Start = "wait"
)

// Ties says which shore wins where both have changed since they agreed.
type Ties string

// The rules of ties; OneWay is for a crossing that has none.
const (
	OneWay     Ties = ""
	SourceTies Ties = "source"
	TargetTies Ties = "target"
	LaterTies  Ties = "later" // whichever was changed later
)

// Quiet says what becomes of a target whose source is not good.
type Quiet string

// The rules for a source that is not good.
const (
	Hold       Quiet = ""           // the target keeps what it has
	Substitute Quiet = "substitute" // a stated value is written
	StopQuiet  Quiet = "stop"       // the crossing stops until it is started anew
)

// Tells says what is carried beside a value.
type Tells string

// What is carried.
const (
	TellsValue   Tells = ""        // the value alone
	TellsQuality Tells = "quality" // with its time and quality, also while it is not good
	TellsAll     Tells = "all"     // with its limits and what its numbers stand for as well
)

// Step is one thing that happens to a value on the way. Which of its other fields
// mean anything is for Do to say.
type Step struct {
	Do StepKind `json:"do" jsonschema:"enum=scale,enum=unit,enum=clamp,enum=not,enum=bit,enum=put,enum=pack,enum=table,enum=count,enum=reread,enum=text,enum=formula"`
	// Factor and Offset are those of a scale.
	Factor float64 `json:"factor,omitempty"`
	Offset float64 `json:"offset,omitempty"`
	// From and To are units; empty for those of the two points.
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
	// Least and Most clamp; missing for no bound.
	Least *float64 `json:"least,omitempty"`
	Most  *float64 `json:"most,omitempty"`
	// Bit is the bit that is taken, or put, from 0; the first of those that are
	// packed.
	Bit int `json:"bit,omitempty"`
	// Table is what becomes of whole numbers, and Else of all others; without Else
	// they are not carried.
	Table []Becomes `json:"table,omitempty"`
	Else  *int64    `json:"else,omitempty"`
	// Modulus is at which number a counter begins anew; 0 for what its type holds.
	Modulus float64 `json:"modulus,omitempty"`
	// Type and Order are as which the octets of the source are read anew.
	Type  value.Type  `json:"type,omitempty"`
	Order value.Order `json:"order,omitempty"`
	// Length is to how many characters a text is cut, or filled up with Fill.
	Length int    `json:"length,omitempty"`
	Fill   string `json:"fill,omitempty"`
	// Formula is worked out of all sources; Back, of the target as a, the other way.
	Formula string `json:"formula,omitempty"`
	Back    string `json:"back,omitempty"`
}

// Becomes is one row of a table.
type Becomes struct {
	From int64 `json:"from"`
	To   int64 `json:"to"`
}

// StepKind names what a step does.
type StepKind string

// The steps.
const (
	DoScale   StepKind = "scale"
	DoUnit    StepKind = "unit"
	DoClamp   StepKind = "clamp"
	DoNot     StepKind = "not"
	DoBit     StepKind = "bit"   // a bit out of a word
	DoPut     StepKind = "put"   // a bit into the word that stands in the target
	DoPack    StepKind = "pack"  // all sources into the bits of a word
	DoTable   StepKind = "table" // one whole number for another
	DoCount   StepKind = "count" // a counter that begins anew into a total that does not
	DoReread  StepKind = "reread"
	DoText    StepKind = "text"
	DoFormula StepKind = "formula"
)

// StepKinds lists the steps in the order in which people look for them.
func StepKinds() []StepKind {
	return []StepKind{DoScale, DoUnit, DoClamp, DoNot, DoBit, DoPut, DoPack, DoTable, DoCount, DoReread, DoText,
		DoFormula}
}

// MostSources and MostSteps bound a crossing.
const (
	MostSources = 16
	MostSteps   = 16
)

// Scale returns the linear scale of c.
func (c *Crossing) Scale() value.Linear { return value.Linear{Factor: c.Factor, Offset: c.Offset} }

// Beats reports whether c is a heartbeat of Ferry's.
func (c *Crossing) Beats() bool { return c.BeatMs > 0 }

// Sources lists the points that it carries; none for a heartbeat.
func (c *Crossing) Sources() []string {
	if c.Beats() {
		return nil
	}
	return append([]string{c.From}, c.More...)
}

// Points goes through all points that it has to do with: its sources, its target,
// and those that enable it and are told of quality.
func (c *Crossing) Points(yield func(id string) bool) {
	for _, id := range []string{c.From, c.To, c.Enable, c.QualityTo} {
		if id != "" && !yield(id) {
			return
		}
	}
	for _, id := range c.More {
		if !yield(id) {
			return
		}
	}
}

// Concerns reports whether a point is one of Points.
func (c *Crossing) Concerns(id string) bool {
	for of := range c.Points {
		if of == id {
			return true
		}
	}
	return false
}

func (v *validator) crossing(points map[string]*Device, c *Crossing) {
	where := fmt.Sprintf("crossing %q", c.ID)
	v.identity(where, "", c.ID, "")
	if c.Beats() {
		v.beat(where, points, c)
	} else if points[c.From] == nil || points[c.To] == nil {
		v.fail(where, "its source or target is not a point of the site.", "Choose two points of the site.")
	}
	for id := range c.Points {
		if points[id] == nil {
			v.fail(where, fmt.Sprintf("it has to do with %q, which is not a point of the site.", id),
				"Choose a point of the site.")
		}
	}
	if slices.Contains(c.Sources(), c.To) {
		v.fail(where, "source and target are the same point.", "Choose another target.")
	}
	if c.QualityTo != "" && (c.QualityTo == c.To || slices.Contains(c.Sources(), c.QualityTo)) {
		v.fail(where, "the quality would be written over the value.", "Choose another point for it.")
	}
	if len(c.More) >= MostSources {
		v.fail(where, fmt.Sprintf("it has %d sources.", 1+len(c.More)), fmt.Sprintf("Give up to %d.", MostSources))
	}
	if len(c.Way) > MostSteps {
		v.fail(where, fmt.Sprintf("its way has %d steps.", len(c.Way)), fmt.Sprintf("Give up to %d.", MostSteps))
	}
	if c.Deadband < 0 || math.IsNaN(c.Deadband) || math.IsInf(c.Deadband, 0) {
		v.fail(where, "the deadband is negative or no number.", "Give 0 or more.")
	}
	for _, rule := range []struct {
		what string
		ms   int
	}{{"the time after which it is written again", c.AtLeastMs}, {"the time between two writes", c.AtMostMs},
		{"its pace", c.PaceMs}, {"the time for which the source may be quiet", c.QuietMs},
		{"how old it may become", c.AllowMs}} {
		if rule.ms < 0 || rule.ms > mostRuleMs {
			v.fail(where, fmt.Sprintf("%s is %d ms.", rule.what, rule.ms), "Give 0 to a week.")
		}
	}
	if c.Round && (c.PaceMs > 0 || c.AtLeastMs > 0 || c.Deadband > 0 || c.Both != OneWay) {
		v.fail(where, "it is carried with each round of its source, and has a deadband, a pace, a time after which it is "+
			"written again, or a way back.", "Take those away, or have it carried when it moves.")
	}
	if c.PerDay < 0 || c.PerDay > 1e9 {
		v.fail(where, fmt.Sprintf("it is to write %d times a day at most.", c.PerDay),
			"Give 1 or more, or 0 for no bound.")
	}
	if !slices.Contains([]Start{SourceWins, TargetWins, WaitForGood}, c.Start) {
		v.fail(where, fmt.Sprintf("its rule of starting, %q, is none.", c.Start),
			"Leave it empty, or write target or wait.")
	}
	if !slices.Contains([]Ties{OneWay, SourceTies, TargetTies, LaterTies}, c.Both) {
		v.fail(where, fmt.Sprintf("its rule of ties, %q, is none.", c.Both),
			"Leave it empty for one way, or write source, target or later.")
	}
	if !slices.Contains([]Quiet{Hold, Substitute, StopQuiet}, c.Quiet) {
		v.fail(where, fmt.Sprintf("its rule for a source that is not good, %q, is none.", c.Quiet),
			"Leave it empty to hold, or write substitute or stop.")
	}
	if !slices.Contains([]Tells{TellsValue, TellsQuality, TellsAll}, c.Tells) {
		v.fail(where, fmt.Sprintf("what it carries beside the value, %q, is none.", c.Tells),
			"Leave it empty for the value alone, or write quality or all.")
	}
	for i := range c.Way {
		if s := &c.Way[i]; !slices.Contains(StepKinds(), s.Do) {
			v.fail(where, fmt.Sprintf("step %d of its way, %q, is none that this version knows.", i+1, s.Do),
				"Leave it out.")
		}
	}
}

// beat checks a heartbeat.
func (v *validator) beat(where string, points map[string]*Device, c *Crossing) {
	switch {
	case points[c.To] == nil:
		v.fail(where, "its target is not a point of the site.", "Choose a point of the site.")
	case c.From != "" || len(c.More) > 0 || len(c.Way) > 0 || c.Both != OneWay || c.Factor != 0 || c.Offset != 0 ||
		c.Quiet != Hold || c.QualityTo != "" || c.Round:
		v.fail(where, "it is a heartbeat, and has a source, or a rule for one.", "Make a crossing of its own for that.")
	case c.BeatMs < 100 || c.BeatMs > mostRuleMs:
		v.fail(where, fmt.Sprintf("its heartbeat comes every %d ms.", c.BeatMs), "Give 100 ms to a week.")
	}
}

// mostRuleMs bounds the times in the rules of a crossing: a week.
const mostRuleMs = 7 * 24 * 3600 * 1000
