package crossing

import (
	"fmt"
	"math"
	"slices"

	"ferry/internal/core/site"
	"ferry/internal/core/value"
)

// Turned returns a crossing that carries the other way: out of its target into its
// source, with the way undone step by step. Its deadband is by as much as before, in
// the unit of its new target. It fails where a step cannot be undone, or a rule would
// mean another thing.
func Turned(x *site.Crossing) (*site.Crossing, error) {
	switch {
	case len(x.More) > 0:
		return nil, fmt.Errorf("it has %d sources, and one target cannot be carried back into them", 1+len(x.More))
	case x.Quiet == site.Substitute:
		return nil, fmt.Errorf("the value for a silent source, %s, is one of its target: take that rule away first",
			x.Substitute)
	}
	t := *x
	t.From, t.To = x.To, x.From
	t.Factor, t.Offset = 0, 0
	t.Way = make([]site.Step, 0, len(x.Way)+1)
	scale := 1.0
	undo := func(by value.Linear) site.Step {
		factor := by.Factor
		if factor == 0 {
			factor = 1
		}
		scale /= math.Abs(factor)
		return site.Step{Do: site.DoScale, Factor: 1 / factor, Offset: -by.Offset / factor}
	}
	for _, s := range slices.Backward(x.Way) {
		switch s.Do {
		case site.DoScale:
			s = undo(value.Linear{Factor: s.Factor, Offset: s.Offset})
		case site.DoUnit:
			s.From, s.To = s.To, s.From
		case site.DoNot:
		case site.DoClamp: // its bounds are those of a value after it, which may be another there
			if len(x.Way) > 1 || !x.Scale().IsIdentity() {
				return nil, fmt.Errorf("its bounds, %s, are those of its target: take that step away first", StepWords(&s))
			}
		case site.DoTable:
			turned, err := turnedTable(&s)
			if err != nil {
				return nil, err
			}
			s = turned
		case site.DoFormula:
			if s.Back == "" {
				return nil, fmt.Errorf("the formula %s has no way back", s.Formula)
			}
			s.Formula, s.Back = s.Back, s.Formula
		default:
			return nil, fmt.Errorf("%q cannot be undone", StepWords(&s))
		}
		t.Way = append(t.Way, s)
	}
	if !x.Scale().IsIdentity() {
		s := undo(x.Scale())
		if len(t.Way) == 0 {
			t.Factor, t.Offset = s.Factor, s.Offset
		} else {
			t.Way = append(t.Way, s)
		}
	}
	if !t.Percent {
		t.Deadband *= scale
	}
	t.Both = map[site.Ties]site.Ties{site.OneWay: site.OneWay, site.SourceTies: site.TargetTies,
		site.TargetTies: site.SourceTies, site.LaterTies: site.LaterTies}[x.Both]
	return &t, nil
}

// turnedTable is the step that undoes a table.
func turnedTable(s *site.Step) (site.Step, error) {
	if s.Else != nil {
		return *s, fmt.Errorf("its table gives %d for all other numbers, which cannot be undone", *s.Else)
	}
	turned := site.Step{Do: site.DoTable, Table: make([]site.Becomes, 0, len(s.Table))}
	seen := map[int64]bool{}
	for _, row := range s.Table {
		if seen[row.To] {
			return *s, fmt.Errorf("its table gives %d for several numbers, which cannot be undone", row.To)
		}
		seen[row.To] = true
		turned.Table = append(turned.Table, site.Becomes{From: row.To, To: row.From})
	}
	return turned, nil
}
