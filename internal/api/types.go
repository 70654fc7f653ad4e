package api

import (
	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/exchange"
	"ferry/internal/core/finding"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/regmap"
	"ferry/internal/core/route"
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
	// Versions of lines, devices, links and crossings by kind and id, joined
	// by a colon: what an edit has to state as its base.
	Versions map[string]int64     `json:"versions"`
	Faults   []bench.FaultKind    `json:"faults"`
	Models   []string             `json:"models"`
	StandIns []bench.StandIn      `json:"standIns"`
	Load     []timetable.LinkLoad `json:"load"`
	CanUndo  bool                 `json:"canUndo"`
	CanRedo  bool                 `json:"canRedo"`
}

// DeviceView is a device with the number of its points in their place.
type DeviceView struct {
	site.Device
	PointCount int `json:"pointCount"`
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
	Seq      int64                      `json:"seq"`
	Device   string                     `json:"device"`
	Columns  []regmap.Column            `json:"columns"`
	Areas    []address.Area             `json:"areas"`
	Rows     []PointRow                 `json:"rows"`
	Requests []timetable.Request        `json:"requests"`
	Findings []finding.Finding          `json:"findings"`
	Choices  map[regmap.Column][]string `json:"choices"`
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

// IntakeRequest brings a table into a device's map: Text as pasted or read
// from a file, or Rows and Columns as an earlier answer gave them, corrected.
type IntakeRequest struct {
	Text     string          `json:"text,omitempty"`
	Headings []string        `json:"headings,omitempty"`
	Columns  []regmap.Column `json:"columns,omitempty"`
	Rows     []regmap.Row    `json:"rows,omitempty"`
	// Commit brings the good rows in; without it, the answer is a preview.
	Commit bool `json:"commit"`
}

// IntakeAnswer says what a table would bring, or has brought.
type IntakeAnswer struct {
	Headings []string          `json:"headings"`
	Columns  []regmap.Column   `json:"columns"`
	Total    int               `json:"total"`
	Added    int               `json:"added"`
	Changed  int               `json:"changed"`
	Same     int               `json:"same"`
	Preview  []IntakeRow       `json:"preview"` // the first good rows
	Rejected []regmap.Rejected `json:"rejected"`
	// RejectedRows are the rows of Rejected, to be corrected in place.
	RejectedRows []regmap.Row `json:"rejectedRows"`
	Seq          int64        `json:"seq"`
}

// IntakeRow is a row that can come in, as cells in the order of the map.
type IntakeRow struct {
	Line   int      `json:"line"`
	Cells  []string `json:"cells"`
	Effect string   `json:"effect"` // added, changed or same
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
}

// ExchangeView is one exchange with its bytes labelled.
type ExchangeView struct {
	exchange.Exchange
	RequestHex string           `json:"requestHex"`
	AnswerHex  string           `json:"answerHex"`
	Asked      []exchange.Field `json:"asked"`
	Answered   []exchange.Field `json:"answered"`
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

// WriteRequest writes, or says what writing would do.
type WriteRequest struct {
	Point string `json:"point"`
	Text  string `json:"text"`
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
}

// JournalView is the journal of changes and of writes.
type JournalView struct {
	Entries []store.Entry   `json:"entries"`
	Written []store.Written `json:"written"`
}

// All holds every type that crosses to the browser; the TypeScript types are
// generated from it.
type All struct {
	SiteView      SiteView            `json:"siteView"`
	PointsView    PointsView          `json:"pointsView"`
	PointView     PointView           `json:"pointView"`
	Cells         CellsRequest        `json:"cells"`
	IntakeRequest IntakeRequest       `json:"intakeRequest"`
	IntakeAnswer  IntakeAnswer        `json:"intakeAnswer"`
	EditRequest   EditRequest         `json:"editRequest"`
	EditAnswer    EditAnswer          `json:"editAnswer"`
	Timetable     TimetableView       `json:"timetable"`
	Exchange      ExchangeView        `json:"exchangeView"`
	Exchanges     []exchange.Exchange `json:"exchanges"`
	Run           RunRequest          `json:"run"`
	Mode          ModeRequest         `json:"mode"`
	Unlock        UnlockRequest       `json:"unlock"`
	WriteRequest  WriteRequest        `json:"writeRequest"`
	WriteOrder    field.WriteOrder    `json:"writeOrder"`
	WriteResult   field.WriteResult   `json:"writeResult"`
	Fault         FaultRequest        `json:"fault"`
	Pulse         Pulse               `json:"pulse"`
	Trend         []field.Trend       `json:"trend"`
	Journal       JournalView         `json:"journal"`
	Route         route.Route         `json:"route"`
	Problem       problem.Problem     `json:"problem"`
}
