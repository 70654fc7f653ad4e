package api

import (
	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/datasheet"
	"ferry/internal/core/exchange"
	"ferry/internal/core/fathom"
	"ferry/internal/core/finding"
	"ferry/internal/core/layout"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/route"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/core/timetable"
	"ferry/internal/field"
	"ferry/internal/store"
)

// SiteView is the site without its points, for every screen.
type SiteView struct {
	Seq       int64           `json:"seq"` // journal number of the last change
	Name      string          `json:"name"`
	Remark    string          `json:"remark"`
	Lines     []site.Line     `json:"lines"`
	Devices   []DeviceView    `json:"devices"`
	Links     []LinkView      `json:"links"`
	Crossings []CrossingView  `json:"crossings"`
	Routes    []route.Route   `json:"routes"`
	Protocols []*protocol.Def `json:"protocols"`
	Manners   []exchange.Told `json:"manners"`
	// Versions of lines, devices, links and crossings by kind and id, joined
	// by a colon: what an edit has to state as its base.
	Versions map[string]int64     `json:"versions"`
	Faults   []bench.FaultKind    `json:"faults"`
	Models   []string             `json:"models"`
	StandIns []bench.StandIn      `json:"standIns"`
	Load     []timetable.LinkLoad `json:"load"`
	LineLoad []timetable.LineLoad `json:"lineLoad"`
	// Checklists are the access lines of each device, by its id; AccessKinds
	// are what such lines can be about.
	Checklists  map[string][]site.AccessLine `json:"checklists"`
	AccessKinds []site.AccessTitle           `json:"accessKinds"`
	Standards   []StandardTitle              `json:"standards"`
	CanUndo     bool                         `json:"canUndo"`
	CanRedo     bool                         `json:"canRedo"`
}

// StandardTitle is an electrical standard in words.
type StandardTitle struct {
	Standard serial.Standard `json:"standard"`
	Title    string          `json:"title"`
}

// DeviceView is a device with the number of its points in their place, and its
// maps, by their protocols.
type DeviceView struct {
	site.Device
	PointCount int      `json:"pointCount"`
	Maps       []string `json:"maps"`
}

// LinkView is a link with both its ends face to face.
type LinkView struct {
	site.Link
	FaceToFace []route.Mismatch `json:"faceToFace"`
}

// CrossingView is a crossing with its ends in words.
type CrossingView struct {
	site.Crossing
	Words  string      `json:"words"`
	Source CrossingEnd `json:"source"`
	Target CrossingEnd `json:"target"`
	// MoreEnds are the further sources; Steps says each step of the way in words.
	MoreEnds []CrossingEnd `json:"moreEnds"`
	Steps    []string      `json:"steps"`
	// EnableName and QualityName are those of the points, with their devices.
	EnableName  string `json:"enableName,omitempty"`
	QualityName string `json:"qualityName,omitempty"`
}

// CrossingEnd is one end of a crossing.
type CrossingEnd struct {
	Device  string `json:"device"` // id
	Name    string `json:"name"`   // of device and point
	Type    string `json:"type"`
	Address string `json:"address"`
	Unit    string `json:"unit"`
}

// PointsView is the map of one device.
type PointsView struct {
	Seq    int64  `json:"seq"`
	Device string `json:"device"`
	// Map is the protocol that it is written for, Mark what a new point of it says
	// of that.
	Map     string          `json:"map"`
	Mark    string          `json:"mark"`
	Columns []regmap.Column `json:"columns"`
	Areas   []block.Area    `json:"areas"`
	Rows    []PointRow      `json:"rows"`
	// Partial is set where Rows are only those that changed; Count is how many
	// points the map has.
	Partial  bool                       `json:"partial"`
	Count    int                        `json:"count"`
	Requests []MapRequest               `json:"requests"`
	Findings []finding.Finding          `json:"findings"`
	Choices  map[regmap.Column][]string `json:"choices"`
	// TableColumns are what a column of a table that is brought in can be.
	TableColumns []regmap.Column `json:"tableColumns"`
	// Notations are those in which the map can be handed out, as its first point
	// is written in each.
	Notations []address.Notation `json:"notations"`
	// Listed is what the places are called that the device can be asked to list;
	// empty where it cannot.
	Listed string `json:"listed,omitempty"`
	// Described is what files about such devices are called; empty for none.
	Described string `json:"described,omitempty"`
	// Example is an address of the map as it is typed.
	Example   string              `json:"example"`
	NameRules []protocol.NameRule `json:"nameRules"`
}

// MapRequest is what a map shows of one range of a request that reads it.
type MapRequest struct {
	ID        string `json:"id"`
	Operation string `json:"operation"`
	block.Range
	Unused int `json:"unused"` // units of the request that no point covers
}

// PointRow is one point as the grid shows it.
type PointRow struct {
	ID      string   `json:"id"`
	Version int64    `json:"version"`
	Cells   []string `json:"cells"` // in the order of the columns
	Area    string   `json:"area"`
	Start   uint32   `json:"start"` // wire offset in units of the area
	Units   int      `json:"units"`
}

// Carrier is a link that can carry a point.
type Carrier struct {
	Link  string `json:"link"`
	Title string `json:"title"`
}

// PointView is one point with everything that the inspector shows.
type PointView struct {
	Point     site.Point         `json:"point"`
	Device    string             `json:"device"`
	Version   int64              `json:"version"`
	Notations []address.Notation `json:"notations"`
	AreaTitle string             `json:"areaTitle"`
	Live      field.Live         `json:"live"`
	Words     []Word             `json:"words"`
	Writable  bool               `json:"writable"`
	// Carriers are the links that can carry it, in words, by their ids in order.
	Carriers []Carrier `json:"carriers"`
	// Readings are the words in every plausible way; Neighbours are the ways
	// in which others count a bit of a register.
	Readings   []fathom.Plain     `json:"readings"`
	Neighbours []address.Notation `json:"neighbours"`
	Start      uint32             `json:"start"`
	Units      int                `json:"units"`
	Area       string             `json:"area"`
}

// Word is one 16-bit word in three notations.
type Word struct {
	Hex     string `json:"hex"`
	Decimal string `json:"decimal"`
	Binary  string `json:"binary"`
}

// CellEdit is one cell that was typed or pasted.
type CellEdit struct {
	Point  string        `json:"point"`
	Column regmap.Column `json:"column"`
	Text   string        `json:"text"`
	Base   int64         `json:"base"`
}

// CellsRequest changes cells of one device's map as one step.
type CellsRequest struct {
	What  string     `json:"what"`
	Cells []CellEdit `json:"cells"`
}

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

// SheetsView lists the datasheets of the site and those that ship with Ferry,
// the structures, and how the devices stand to them.
type SheetsView struct {
	Seq        int64                `json:"seq"`
	Columns    []regmap.Column      `json:"columns"`
	Datasheets []SheetView          `json:"datasheets"`
	Structures []StructureView      `json:"structures"`
	Standings  []datasheet.Standing `json:"standings"`
	Versions   map[string]int64     `json:"versions"` // of datasheets and structures by id
	Rules      []RuleView           `json:"rules"`
}

// SheetView is a datasheet; a shipped one is not of the site until it is placed.
type SheetView struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Remark  string     `json:"remark"`
	Map     string     `json:"map"`
	Shipped bool       `json:"shipped"`
	Rows    []SheetRow `json:"rows"`
	// ThinkMs is how long the manual says that the device thinks, 0 for not
	// stated; Access is what must be switched on before it answers.
	ThinkMs int               `json:"thinkMs"`
	Access  []site.AccessLine `json:"access"`
}

// SheetRow is one point of a datasheet, as cells in the order of the columns.
type SheetRow struct {
	ID     string   `json:"id"`
	Useful bool     `json:"useful"`
	Cells  []string `json:"cells"`
}

// RuleView is a layout rule with its title.
type RuleView struct {
	Rule  layout.Rule `json:"rule"`
	Title string      `json:"title"`
}

// StructureView is a structure with the layout of its elements by each rule.
type StructureView struct {
	site.Structure
	Laid []LaidView `json:"laid"`
}

// LaidView is a structure laid out by one rule.
type LaidView struct {
	Rule   layout.Rule  `json:"rule"`
	Bytes  int          `json:"bytes"`
	Places []PlacedView `json:"places"`
}

// PlacedView is where one element lies, from the start of the structure.
type PlacedView struct {
	Path     string `json:"path"`
	Type     string `json:"type"`
	Byte     int    `json:"byte"`
	Bit      int    `json:"bit"` // of the byte, -1 for a value of whole bytes
	Register string `json:"register"`
}

// PlaceRequest places a datasheet or a structure on devices, in one step.
type PlaceRequest struct {
	Datasheet string        `json:"datasheet,omitempty"`
	Structure string        `json:"structure,omitempty"`
	All       bool          `json:"all"`
	On        []PlaceTarget `json:"on"`
}

// PlaceTarget is one device with its prefix and its shift, or, for a structure,
// where it begins.
type PlaceTarget struct {
	Device string      `json:"device"`
	Map    string      `json:"map,omitempty"` // of its maps, by its protocol; empty for its own
	Prefix string      `json:"prefix"`
	Shift  int         `json:"shift"`
	Start  string      `json:"start,omitempty"`
	Rule   layout.Rule `json:"rule,omitempty"`
	Pace   string      `json:"pace,omitempty"`
}

// KeepRequest makes a datasheet of a device's map.
type KeepRequest struct {
	Device string `json:"device"`
	Name   string `json:"name"`
	Prefix string `json:"prefix"`
}

// SheetCellsRequest changes cells of a datasheet; the devices that follow it
// change with it.
type SheetCellsRequest struct {
	Base   int64       `json:"base"`
	Cells  []SheetCell `json:"cells"`
	Remove []string    `json:"remove"` // points
	Add    []string    `json:"add"`    // names of new points
	// ThinkMs and Access replace those of the datasheet where they are given.
	ThinkMs *int               `json:"thinkMs,omitempty"`
	Access  *[]site.AccessLine `json:"access,omitempty"`
}

// SheetCell is one cell of a datasheet; the column useful takes yes and no.
type SheetCell struct {
	Point  string        `json:"point"`
	Column regmap.Column `json:"column"`
	Text   string        `json:"text"`
}

// StructureRequest keeps a structure; Base is the version that was seen, 0 for a
// new one.
type StructureRequest struct {
	Base      int64          `json:"base"`
	Structure site.Structure `json:"structure"`
}

// ReturnRequest brings points back to their datasheet.
type ReturnRequest struct {
	Placement string   `json:"placement"`
	Points    []string `json:"points"`
}

// EditRequest changes objects of the site as one step.
type EditRequest struct {
	What  string            `json:"what"`
	Edits []store.BasedEdit `json:"edits"`
}

// EditAnswer is the step that came of a change.
type EditAnswer struct {
	Seq  int64  `json:"seq"`
	What string `json:"what"`
}

// TimetableView is the plan with what was measured.
type TimetableView struct {
	Seq   int64                `json:"seq"`
	Plan  *timetable.Plan      `json:"plan"`
	Stats []field.RequestStats `json:"stats"`
	State field.State          `json:"state"`
	// Outages are when links brought nothing, and when they came back.
	Outages []field.Outage `json:"outages"`
}

// StatsView is what was measured of a line.
type StatsView struct {
	Stats   []field.RequestStats `json:"stats"`
	Outages []field.Outage       `json:"outages"`
}

// WatchRequest says which points a window shows: only those are told of.
type WatchRequest struct {
	Window string   `json:"window"`
	Points []string `json:"points"`
}

// ExchangeView is one exchange with its bytes labelled.
type ExchangeView struct {
	exchange.Exchange
	Frames []FrameView `json:"frames"`
}

// FrameView is one frame of an exchange, its octets in hexadecimal with blanks
// between, and what they mean.
type FrameView struct {
	exchange.Frame
	Hex    string           `json:"hex"`
	Fields []exchange.Field `json:"fields"`
}

// RunRequest starts or stops links; none given means all.
type RunRequest struct {
	Links []string `json:"links"`
}

// ModeRequest goes to the bench or the plant.
type ModeRequest struct {
	Mode field.Mode `json:"mode"`
}

// UnlockRequest unlocks writing to the plant for minutes; 0 locks.
type UnlockRequest struct {
	Minutes int `json:"minutes"`
}

// ReleaseRequest lets crossings write on the plant for minutes; 0 ends that.
type ReleaseRequest struct {
	Crossings []string `json:"crossings"`
	Minutes   int      `json:"minutes"`
}

// PrepareRequest asks what writing would do.
type PrepareRequest struct {
	Point string `json:"point"`
	Text  string `json:"text"`
}

// WriteRequest carries out the order of a token.
type WriteRequest struct {
	Token string `json:"token"`
}

// FaultRequest switches a fault of a stand-in.
type FaultRequest struct {
	Device string      `json:"device"`
	Fault  bench.Fault `json:"fault"`
}

// Pulse is one message of the event stream: what changed since the last.
type Pulse struct {
	Seq       int64                 `json:"seq"`
	State     field.State           `json:"state"`
	Live      []field.Live          `json:"live"`
	Crossings []field.CrossingState `json:"crossings"`
	// Findings is null while they are the same as in the last message.
	Findings []finding.Finding `json:"findings"`
	Exchange uint64            `json:"exchange"` // number of the newest
	Routes   int64             `json:"routes"`   // grows when a try ends
	NowMs    int64             `json:"nowMs"`
	// Whole is set where Live holds every point that has been read.
	Whole bool `json:"whole"`
}

// JournalView is the journal of changes and of writes.
type JournalView struct {
	Entries []store.Entry   `json:"entries"`
	Written []store.Written `json:"written"`
}
