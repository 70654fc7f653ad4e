package field

import "context"

// WriteState says what is known of a write.
type WriteState string

// The states. Under way becomes one of the others; what is found under way
// after Ferry was killed is not known.
const (
	UnderWay   WriteState = "under way"
	Done       WriteState = "written"     // the device has it: it said so, or reads so
	NotWritten WriteState = "not written" // it never had it, or said no
	NotKnown   WriteState = "not known"   // the device may have it
	Carrying   WriteState = "carrying"    // a crossing that writes
	Holding    WriteState = "holding"     // a crossing whose source has no good value
	Failed     WriteState = "failed"      // a crossing whose last write failed
)

// Record is one row of the journal of writes: one write of a person, or what a
// crossing wrote while its state stayed the same.
type Record struct {
	ID    int64      `json:"id"`
	Who   string     `json:"who"`
	State WriteState `json:"state"`
	// Crossing is its id, empty for a person's write.
	Crossing string     `json:"crossing,omitempty"`
	Order    WriteOrder `json:"order"`
	Sentence string     `json:"sentence"`
	ReadBack string     `json:"readBack,omitempty"`
	// AtMs is when it was begun, in milliseconds since 1970, EndMs when the
	// outcome was known, or a crossing wrote last.
	AtMs  int64 `json:"atMs"`
	EndMs int64 `json:"endMs"`
	// Count is how often a crossing wrote, Last what it wrote last.
	Count int    `json:"count,omitempty"`
	Last  string `json:"last,omitempty"`
}

// Journal keeps what is written to devices. What Intend has kept survives a
// kill: it is called before the octets leave.
type Journal interface {
	// Intend keeps a new record and gives it its id.
	Intend(ctx context.Context, r *Record) error
	// Outcome keeps what became of records.
	Outcome(ctx context.Context, records ...*Record) error
}

// NoJournal keeps nothing: for engines that write to nothing but stand-ins in
// tests.
type NoJournal struct{}

// Intend keeps nothing.
func (NoJournal) Intend(context.Context, *Record) error { return nil }

// Outcome keeps nothing.
func (NoJournal) Outcome(context.Context, ...*Record) error { return nil }
