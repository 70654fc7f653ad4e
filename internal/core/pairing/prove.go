package pairing

import (
	"fmt"
	"slices"
	"strings"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Verdict says what became of a name on the far side.
type Verdict string

// The verdicts.
const (
	There    Verdict = "there"
	Case     Verdict = "another case"
	Other    Verdict = "another type"
	Absent   Verdict = "not there"
	NoEcho   Verdict = "no echo" // taken, and never heard again
	Differs  Verdict = "another value"
	Unheard  Verdict = "not heard"
	Refusing Verdict = "refused"
	NoAccess Verdict = "no access"
	// Unreadable is what no name of the far side can be.
	Unreadable Verdict = "no name"
	// NoValue is what is there and holds nothing, as a folder.
	NoValue Verdict = "no value"
	// Unlike is what is there with another unit, range or access than the list says, and Beside
	// what is there and not in the list.
	Unlike Verdict = "otherwise"
	Beside Verdict = "not in the list"
)

// Wanted is a name that is to be proved: a point of the far side, and what is known
// of it.
type Wanted struct {
	Point *site.Point
	// Read is how it reads: empty or value.NotRead where nothing has come of it yet;
	// Reason says why it is not good.
	Read   value.Quality
	Reason string
	// Watched is set where Ferry reads it, or is told of it.
	Watched bool
	// Written counts the values that were taken there, Failed says why the last was
	// not.
	Written int
	Failed  string
	// Last is what was written last, or while a second client listened, as it is shown.
	Last []string
	// Heard is what a second client heard; nil for nothing, or where there was none.
	Heard *Overheard
}

// Overheard is what a second client heard of a name.
type Overheard struct {
	Shown string `json:"shown"`
	AtMs  int64  `json:"atMs"`
	Count int    `json:"count"`
	// Equal is whether it is what was written.
	Equal bool   `json:"equal"`
	Wrong string `json:"wrong,omitempty"` // why what came is no value
}

// Proof is what is known of a name.
type Proof struct {
	Point    string  `json:"point"` // id
	Verdict  Verdict `json:"verdict"`
	Sentence string  `json:"sentence"`
	// Is is the name under which it is there, where that is another.
	Is string `json:"is,omitempty"`
	// Heard is what a second client heard.
	Heard *Overheard `json:"heard,omitempty"`
}

// Prove proves names against what the far side lists of itself, nil where it lists
// nothing, and what was heard of them.
func Prove(scheme address.Scheme, names []Wanted, held []protocol.Held) []Proof {
	exact, folded := map[string]protocol.Held{}, map[string]protocol.Held{}
	for _, h := range held {
		short := scheme.Short(h.Address)
		exact[short], folded[strings.ToLower(short)] = h, h
	}
	proofs := make([]Proof, len(names))
	for i := range names {
		proofs[i] = names[i].prove(scheme, exact, folded, held != nil)
	}
	return proofs
}

func (w *Wanted) prove(scheme address.Scheme, exact, folded map[string]protocol.Held, lists bool) Proof {
	name := scheme.Short(w.Point.Address)
	p := Proof{Point: w.Point.ID, Heard: w.Heard}
	if w.Heard != nil {
		w.Heard.Equal = slices.Contains(w.Last, w.Heard.Shown)
	}
	say := func(v Verdict, format string, args ...any) Proof {
		p.Verdict, p.Sentence = v, fmt.Sprintf(format, args...)
		return p
	}
	here, listed := exact[name]
	near, alike := folded[strings.ToLower(name)]
	if alike && !listed {
		p.Is = scheme.Short(near.Address)
	}
	heard := w.Read != "" && w.Read != value.NotRead
	switch {
	case w.Failed != "":
		return say(Refusing, "%s", w.Failed)
	case p.Is != "" && !heard:
		return say(Case, "It is there as %s: names are told apart by their case.", p.Is)
	case listed && here.Shape.Type != "" && !goTogether(here.Shape.Type, w.Point.Type):
		return say(Other, "It is there as a %s, and here it is a %s.", here.Shape.Type, w.Point.Type)
	case w.Heard != nil && w.Heard.Wrong != "":
		return say(Other, "A second client hears what is no value of it: %s.", w.Heard.Wrong)
	case w.Heard != nil && len(w.Last) > 0 && !w.Heard.Equal:
		return say(Differs, "A second client hears %s there, and %s was written: somebody else writes it too, or it was never "+
			"taken.", w.Heard.Shown, w.Last[len(w.Last)-1])
	case w.Read == value.Bad:
		return say(Refusing, "It cannot be read: %s.", w.Reason)
	case w.Heard != nil && w.Heard.Equal:
		return say(There, "A second client hears %s there, as it was written.", w.Heard.Shown)
	case heard, listed:
		return say(There, "It is there.")
	case w.Written > 0 && !w.Watched:
		return say(There, "It takes what is written there, and is not read.")
	case w.Written > 0:
		return say(NoEcho, "It took %d values, and none of them was ever heard again: nobody may hold it under this name, or "+
			"it may not be read.", w.Written)
	case lists:
		return say(Absent, "The far side lists no such name.")
	}
	return say(Unheard, "Nothing has come of it yet.")
}

// goTogether reports whether a value of the one type can be carried as the other.
func goTogether(a, b value.Type) bool {
	if a.IsText() || b.IsText() {
		return a.IsText() == b.IsText()
	}
	return (a == value.TypeBool) == (b == value.TypeBool) && a.IsTime() == b.IsTime()
}

// Summary says in a sentence how a list of names is as a whole.
func Summary(proofs []Proof) string {
	counts := map[Verdict]int{}
	for _, p := range proofs {
		counts[p.Verdict]++
	}
	n := len(proofs)
	if counts[There] == n {
		return fmt.Sprintf("All %d names are there.", n)
	}
	parts := []string{}
	for _, v := range []Verdict{There, Case, Other, Absent, NoEcho, Differs, Refusing, Unheard} {
		if counts[v] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[v], v))
		}
	}
	sentence := fmt.Sprintf("Of %d names: %s.", n, strings.Join(parts, ", "))
	if counts[There] == 0 {
		sentence += " The list carries nothing."
	}
	return sentence
}
