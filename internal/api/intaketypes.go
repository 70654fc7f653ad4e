package api

import (
	"ferry/internal/core/fathom"
	"ferry/internal/core/finding"
	"ferry/internal/core/regmap"
	"ferry/internal/field"
)

// IntakeRequest brings a table into a device's map: Text as pasted, File as it
// lies on a disk, or Rows and Columns as an earlier answer gave them, corrected.
type IntakeRequest struct {
	Text  string `json:"text,omitempty"`
	File  []byte `json:"file,omitempty"`
	Sheet string `json:"sheet,omitempty"` // of a workbook
	// Begin is the address from which declared variables lie that have none.
	// Of a list of offsets it is the block in which they lie.
	Begin    string          `json:"begin,omitempty"`
	Reading  *regmap.Reading `json:"reading,omitempty"`
	Headings []string        `json:"headings,omitempty"`
	Columns  []regmap.Column `json:"columns,omitempty"`
	Rows     []regmap.Row    `json:"rows,omitempty"`
	// Replace also removes the points that no row speaks of.
	Replace bool `json:"replace,omitempty"`
	// Commit brings the good rows in; without it, the answer is a preview.
	Commit bool `json:"commit"`
}

// HeldView is what a device says it has, as a table for the intake.
type HeldView struct {
	Text  string `json:"text"`
	Count int    `json:"count"`
	// More is set where the device has more than are taken.
	More bool `json:"more"`
}

// IntakeAnswer says what a table would bring, or has brought.
type IntakeAnswer struct {
	Format string   `json:"format"`
	Sheets []string `json:"sheets"`
	Sheet  string   `json:"sheet"`
	// Unplaced are the declared variables that have no address.
	Unplaced []string `json:"unplaced"`
	// Faults are places of a text of declarations that could not be read.
	Faults   []regmap.Rejected `json:"faults"`
	First    []regmap.Row      `json:"first"` // of the source, titles included
	Headings []string          `json:"headings"`
	Columns  []regmap.Column   `json:"columns"`
	Bases    []regmap.Basis    `json:"bases"`
	Reading  regmap.Reading    `json:"reading"`
	// Notes say how the table was read, and by what; Questions must be answered
	// before anything comes in; Asides are rows that are no points.
	Notes     []string          `json:"notes"`
	Questions []regmap.Question `json:"questions"`
	Asides    []regmap.Aside    `json:"asides"`
	// InBlock is set where the addresses are offsets in one block that the list
	// does not name.
	InBlock bool `json:"inBlock"`
	Total   int  `json:"total"`
	Added   int  `json:"added"`
	Changed int  `json:"changed"`
	Same    int  `json:"same"`
	// RemovedCount points of the map are in no row; Removed names the first.
	RemovedCount int               `json:"removedCount"`
	Removed      []string          `json:"removed"`
	Preview      []IntakeRow       `json:"preview"` // the first good rows
	Rejected     []regmap.Rejected `json:"rejected"`
	// RejectedRows are the rows of Rejected, to be corrected in place.
	RejectedRows []regmap.Row `json:"rejectedRows"`
	// Findings are those that the map would have with the good rows in it.
	Findings     []finding.Finding `json:"findings"`
	FindingCount int               `json:"findingCount"`
	Seq          int64             `json:"seq"`
}

// IntakeRow is a row that can come in, as cells in the order of the map.
type IntakeRow struct {
	Line    int             `json:"line"`
	Cells   []string        `json:"cells"`
	Effect  regmap.Effect   `json:"effect"`
	Changed []regmap.Column `json:"changed"`
}

// BulkRequest does one thing to many points of a device.
type BulkRequest struct {
	Action  string          `json:"action" jsonschema:"enum=fill,enum=replace,enum=duplicate"`
	Points  []string        `json:"points"` // ids, in the order in which they are shown
	Columns []regmap.Column `json:"columns,omitempty"`
	Search  regmap.Search   `json:"search,omitzero"`
	// Step is the units from one address to the next, or the shift of a copy;
	// 0 follows the width of the values. Counting is added to names.
	Step     int  `json:"step,omitempty"`
	Counting int  `json:"counting,omitempty"`
	Times    int  `json:"times,omitempty"`
	Dry      bool `json:"dry,omitempty"`
}

// BulkAnswer says what changed, or would.
type BulkAnswer struct {
	Count int               `json:"count"`
	Cells []finding.CellFix `json:"cells"` // the first
	Names []string          `json:"names"` // of the first copies
	Seq   int64             `json:"seq"`
}

// WindowRequest asks for registers around a place.
type WindowRequest struct {
	Area  string `json:"area"`
	Start uint32 `json:"start"`
	Count int    `json:"count"`
	At    uint32 `json:"at"`
}

// WindowView is a run of registers with what it looks like.
type WindowView struct {
	field.Window
	Address string     `json:"address"`
	Hex     []string   `json:"hex"`
	Hints   []HintView `json:"hints"`
}

// HintView is a hint with its address.
type HintView struct {
	fathom.Hint
	Address string `json:"address"`
}

// FathomRequest asks what words mean.
type FathomRequest struct {
	Device string `json:"device"`
	Point  string `json:"point"` // of the map, or empty
	Area   string `json:"area"`
	Start  uint32 `json:"start"`
	// Moments are the words as typed, pasted or read.
	Moments  []string        `json:"moments"`
	Readings []FathomReading `json:"readings"`
}

// FathomReading is what the display showed, of the point asked for or of
// another one.
type FathomReading struct {
	Moment int     `json:"moment"`
	Shows  string  `json:"shows"`
	Within float64 `json:"within"`
	Point  string  `json:"point"`
}

// FathomAnswer ranks the explanations.
type FathomAnswer struct {
	Candidates []CandidateView `json:"candidates"`
	Ask        string          `json:"ask"`
}

// CandidateView is one explanation in the words of a map.
type CandidateView struct {
	Address string        `json:"address"`
	Type    string        `json:"type"`
	Order   string        `json:"order"`
	Scale   string        `json:"scale"`
	Offset  string        `json:"offset"`
	Values  []string      `json:"values"` // one for each reading
	Fits    bool          `json:"fits"`
	Sure    float64       `json:"sure"`
	Fixes   []finding.Fix `json:"fixes"` // to take it into the map
}

// EdgesView is what a device said at the edges of its map.
type EdgesView struct {
	Edges    []regmap.Edge     `json:"edges"`
	Findings []finding.Finding `json:"findings"`
}
