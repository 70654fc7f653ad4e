package bacnet

import (
	"strconv"

	"ferry/internal/core/address"
	"ferry/internal/core/protocol"
)

// priorities are what some of them are for (clause 19.2.1).
var priorities = map[int64]string{1: "1, life safety by hand", 2: "2, life safety", 5: "5, critical equipment",
	reservedPriority: "6, minimum times", 8: "8, a person", lowestPriority: "16, the program"}

// Levels are the elements of the priority array of a present value, and its relinquish default.
func (rules) Levels(a address.Address) (list []protocol.Level) {
	p, ok := PlaceOf(a)
	if !ok || p.Property != PresentValue || !p.Type.Commanded() {
		return nil
	}
	for n := int64(1); n <= mostPriorities; n++ {
		title := priorities[n]
		if title == "" {
			title = strconv.FormatInt(n, 10)
		}
		list = append(list, protocol.Level{Title: title, Closed: n == reservedPriority,
			At: Place{Type: p.Type, Instance: p.Instance, Property: PriorityArray, Index: n}.Address()})
	}
	return append(list, protocol.Level{Title: "where none is held", Closed: true,
		At: Place{Type: p.Type, Instance: p.Instance, Property: RelinquishDefault, Index: -1}.Address()})
}

// Level is the priority at which the settings write.
func (rules) Level(a address.Address, s protocol.Settings) address.Address {
	p, ok := PlaceOf(a)
	if !ok || p.Property != PresentValue || !p.Type.Commanded() {
		return address.Address{}
	}
	return Place{Type: p.Type, Instance: p.Instance, Property: PriorityArray,
		Index: int64(IP.Int(s, KeyPriority))}.Address()
}
