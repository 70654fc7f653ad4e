// Package checkout says which points of a site have been proved, whether what was proved
// still holds, and what is left.
package checkout

// Result is what came of looking at a point at both ends.
type Result string

// The results. Withdrawn takes the last one back: the point is as if it had not been
// proved.
const (
	Right     Result = "right"
	Wrong     Result = "wrong"
	Cannot    Result = "cannot" // it cannot be tested
	Withdrawn Result = "withdrawn"
)

// Method is how it was looked at.
type Method string

// The methods.
const (
	Display Method = "display" // what the device's own display shows was typed
	Seen    Method = "seen"    // a person said that it is so, without typing
	Moved   Method = "moved"   // the input was moved, and its value followed
	Command Method = "command" // it was written, and its feedback followed
	Listed  Method = "listed"  // one of a list of readings
	Ramped  Method = "ramped"  // it followed a source through several steps
)

// Proved is one recorded comparison of a point. It is never changed: one that is made later
// takes its place.
type Proved struct {
	ID     int64  `json:"id"`
	Point  string `json:"point"`
	Device string `json:"device"`
	// Name is that of device and point, and Address where it lies, as they were.
	Name    string `json:"name"`
	Address string `json:"address"`
	Result  Result `json:"result" jsonschema:"enum=right,enum=wrong,enum=cannot,enum=withdrawn"`
	Method  Method `json:"method,omitempty" jsonschema:"enum=display,enum=seen,enum=moved,enum=command,enum=listed,enum=ramped"`
	// Reason says why it cannot be tested, Remark what else there is to say.
	Reason string `json:"reason,omitempty"`
	Remark string `json:"remark,omitempty"`
	Who    string `json:"who"`
	AtMs   int64  `json:"atMs"` // milliseconds since 1970
	Mode   string `json:"mode"` // bench or plant
	// Read is what Ferry read, in the unit of the point, with the octets that it came from
	// and when it was read.
	Read     string `json:"read"`
	Unit     string `json:"unit,omitempty"`
	Words    string `json:"words,omitempty"`
	ReadAtMs int64  `json:"readAtMs,omitempty"`
	// Shown is what the display of the device showed, as it was typed.
	Shown string `json:"shown,omitempty"`
	// Far is what the far shore showed, with its name and what was to be expected there.
	Far      string `json:"far,omitempty"`
	FarName  string `json:"farName,omitempty"`
	Expected string `json:"expected,omitempty"`
	// Versions are the journal numbers of the last changes of the point, its link and the
	// crossings from and to it; Basis is what the proof rests on.
	Versions Versions `json:"versions"`
	Basis    []Fact   `json:"basis"`
}

// Versions are journal numbers of last changes, 0 for none.
type Versions struct {
	Map      int64 `json:"map"`
	Link     int64 `json:"link"`
	Crossing int64 `json:"crossing"`
}

// ProofState is how a point stands.
type ProofState string

// The states: Again is one that was right and has changed since.
const (
	Left     ProofState = "left"
	IsRight  ProofState = "right"
	IsWrong  ProofState = "wrong"
	IsCannot ProofState = "cannot"
	Again    ProofState = "again"
)

// Stands says how a point stands by its last proof, and what has changed since, in words.
func (g *Ground) Stands(p *Proved) (ProofState, []string) {
	if p == nil || p.Result == Withdrawn {
		return Left, nil
	}
	changed := Changed(p.Basis, g.Basis(p.Point))
	switch {
	case len(changed) > 0:
		return Again, changed
	case p.Result == Right:
		return IsRight, nil
	case p.Result == Cannot:
		return IsCannot, nil
	}
	return IsWrong, nil
}
