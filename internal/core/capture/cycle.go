package capture

import "time"

// Opening is an answer to the question for a connection over which packets go by
// themselves, or to the one to end it.
type Opening struct {
	// Name tells connections of one pair of ends apart. Ends is set where it is the end of
	// one, and nothing else is told then.
	Name string
	Ends bool
	// Ways are those of the packets that the asker sends, and of those that the answerer
	// sends.
	Ways [2]CycleWay
}

// CycleWay is one direction, as it was agreed.
type CycleWay struct {
	// ID is what its packets are told apart by.
	ID uint32
	// Every is the time between two packets, Drops the silence after which it is dropped,
	// and Octets what each carries.
	Every, Drops time.Duration
	Octets       int
	// Many is set where they go to many at once.
	Many bool
}

// Cycle is a packet that went by itself. Its data is only there during the call.
type Cycle struct {
	ID       uint32
	Sequence uint32
	// Octets is what it carries, Data that without what counts the packets.
	Octets int
	Data   []byte
}
