package protocol

import (
	"ferry/internal/core/address"
	"ferry/internal/core/value"
)

// Sort is what a value is, across protocols: what is of one sort can be carried from one into the
// other.
type Sort string

// The sorts.
const (
	SingleSort   Sort = "single point"
	DoubleSort   Sort = "double point"
	MeasuredSort Sort = "measured value"
	CounterSort  Sort = "counter"
	CommandSort  Sort = "command"
	SetpointSort Sort = "setpoint"
	TextSort     Sort = "text"
	TimeSort     Sort = "time"
	// EnumSort is a number that stands for a state, OwnSort what a device says of itself.
	EnumSort Sort = "enumeration"
	OwnSort  Sort = "state of the device itself"
)

// Sorts lists all sorts in the order in which lists show them.
func Sorts() []Sort {
	return []Sort{SingleSort, DoubleSort, MeasuredSort, CounterSort, CommandSort, SetpointSort, TextSort, TimeSort,
		EnumSort, OwnSort}
}

// Sorted is the ability of a protocol whose addresses tell of which sort their values are.
type Sorted interface {
	SortOf(a address.Address, t value.Type) Sort
}

// SortByType is the sort of a value of which only the type is known.
func SortByType(t value.Type) Sort {
	switch {
	case t == value.TypeBool:
		return SingleSort
	case t.IsText():
		return TextSort
	case t.IsTime():
		return TimeSort
	}
	return MeasuredSort
}

// SortOf is the sort of a point.
func (d *Def) SortOf(a address.Address, t value.Type) (s Sort, tells bool) {
	if d != nil {
		if sorted, ok := d.Rules.(Sorted); ok {
			return sorted.SortOf(a, t), true
		}
	}
	return SortByType(t), false
}
