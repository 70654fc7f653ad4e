package api

import (
	"ferry/internal/bench"
	"ferry/internal/core/address"
	"ferry/internal/core/block"
	"ferry/internal/core/checkout"
	"ferry/internal/core/configured"
	"ferry/internal/core/exchange"
	"ferry/internal/core/fathom"
	"ferry/internal/core/finding"
	"ferry/internal/core/lookout"
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
	Lists     []site.List     `json:"lists"`
	Lookouts  []site.Lookout  `json:"lookouts"`
	Outlets   []site.Outlet   `json:"outlets"`
	Routes    []route.Route   `json:"routes"`
	Protocols []*protocol.Def `json:"protocols"`
	Manners   []exchange.Told `json:"manners"`
	// Versions of lines, devices, links, crossings and lists by kind and id, joined
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
	// Facing is what each end counts in its own words, where the protocol has it so.
	Facing *protocol.Facing `json:"facing,omitempty"`
	// Configuration is with what the connection is opened, point by point.
	Configuration *configured.Configuration `json:"configuration,omitempty"`
	// Standing are the points of the map in which the connection tells of itself, and
	// Lacking how many more it has.
	Standing []StandingPoint `json:"standing,omitempty"`
	Lacking  int             `json:"lacking,omitempty"`
}

// MapExtent is how much of an area a connection carries, and how large the area is, in
// units from its beginning; 0 for not known.
type MapExtent struct {
	Area    string `json:"area"`
	Carried int    `json:"carried"`
	Size    int    `json:"size"`
}

// StandingPoint is such a point; Switch is set where it can be written.
type StandingPoint struct {
	Point  string `json:"point"`
	Name   string `json:"name"`
	Unit   string `json:"unit,omitempty"`
	Switch bool   `json:"switch"`
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
	Partial  bool         `json:"partial"`
	Count    int          `json:"count"`
	Requests []MapRequest `json:"requests"`
	// Extents are how far areas go that a connection carries as a whole.
	Extents  []MapExtent                `json:"extents,omitempty"`
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
	// Level is the address of the one at which it is commanded, empty for that of the link; GiveUp has it given up.
	Level  string `json:"level,omitempty"`
	GiveUp bool   `json:"giveUp,omitempty"`
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
	// Open are what lookouts see now; Lookouts grows when one begins or is over.
	Open     []lookout.Event `json:"open"`
	Lookouts int64           `json:"lookouts"`
	// Proved is the number of the latest proof, and Provers are who proves which point now.
	Proved  int64        `json:"proved"`
	Provers []ProverView `json:"provers"`
	// Whole is set where Live holds every point that has been read.
	Whole bool `json:"whole"`
}

// CheckoutView is how far the devices of a site have been proved, in walking order.
type CheckoutView struct {
	Seq   int64        `json:"seq"` // of the site
	Rev   int64        `json:"rev"` // of the proofs
	Stops []StopView   `json:"stops"`
	At    []ProverView `json:"at"`
}

// StopView is a device on the walk.
type StopView struct {
	Cabinet string            `json:"cabinet"`
	Line    string            `json:"line"`
	Device  string            `json:"device"`
	Name    string            `json:"name"`
	Counts  checkout.Progress `json:"counts"`
}

// ProvingView is how the points of a device stand.
type ProvingView struct {
	Seq    int64          `json:"seq"`
	Rev    int64          `json:"rev"`
	Points []ProvingPoint `json:"points"`
}

// ProvingPoint is one of them. Says is its last proof in some words.
type ProvingPoint struct {
	checkout.Stand
	Name     string        `json:"name"`
	Address  string        `json:"address"`
	Type     string        `json:"type"`
	Order    string        `json:"order,omitempty"`
	Unit     string        `json:"unit,omitempty"`
	Names    []site.Naming `json:"names,omitempty"`
	Writable bool          `json:"writable"`
	TwoState bool          `json:"twoState"`
	Says     string        `json:"says,omitempty"`
}

// ProofView is all that is known of proving a point: what a proof of it would name, its far
// shores, and the proofs that were made, the latest first.
type ProofView struct {
	Point    string            `json:"point"`
	Device   string            `json:"device"`
	Link     string            `json:"link,omitempty"`
	Line     string            `json:"line,omitempty"`
	Versions checkout.Versions `json:"versions"`
	Far      []FarView         `json:"far"`
	Proofs   []checkout.Proved `json:"proofs"`
}

// FarView is a point at the other end of a crossing. Into is set where it is the target:
// Expected is then what it ought to show, empty where that cannot be told.
type FarView struct {
	Crossing string `json:"crossing"`
	Point    string `json:"point"`
	Name     string `json:"name"`
	Unit     string `json:"unit,omitempty"`
	Into     bool   `json:"into"`
	Words    string `json:"words"`
	Off      bool   `json:"off"`
	Expected string `json:"expected,omitempty"`
	Agrees   bool   `json:"agrees"`
}

// JudgeRequest is what the display of a device shows of a point, as it is typed.
type JudgeRequest struct {
	Point string `json:"point"`
	Shown string `json:"shown"`
}

// VerdictView is what Ferry reads against that. EarlierMs is by how much earlier it was
// read, where it is not what is read now.
type VerdictView struct {
	checkout.Verdict
	Read      string `json:"read"`
	ReadAtMs  int64  `json:"readAtMs"`
	EarlierMs int64  `json:"earlierMs"`
}

// ReadingsRequest is a list of what displays show, of the points of a device, or of all.
type ReadingsRequest struct {
	Device string `json:"device,omitempty"`
	Text   string `json:"text"`
}

// ReadingsView is that list beside what Ferry reads.
type ReadingsView struct {
	Rows []ReadingRow `json:"rows"`
}

// ReadingRow is one reading. Judged is set where it could be compared; Why says why not.
type ReadingRow struct {
	checkout.Listing
	checkout.Verdict
	Unit     string `json:"unit,omitempty"`
	Read     string `json:"read,omitempty"`
	ReadAtMs int64  `json:"readAtMs,omitempty"`
	Judged   bool   `json:"judged"`
}

// ProofRequest records what came of looking at points.
type ProofRequest struct {
	Points []ProofPoint    `json:"points"`
	Result checkout.Result `json:"result" jsonschema:"enum=right,enum=wrong,enum=cannot,enum=withdrawn"`
	Method checkout.Method `json:"method,omitempty" jsonschema:"enum=display,enum=seen,enum=moved,enum=command,enum=listed,enum=ramped"`
	Reason string          `json:"reason,omitempty"`
	Remark string          `json:"remark,omitempty"`
}

// ProofPoint is a point as somebody saw it: what its display shows, and what Ferry read
// then. Versions are those that were seen; others are refused.
type ProofPoint struct {
	Point    string             `json:"point"`
	Shown    string             `json:"shown,omitempty"`
	Read     string             `json:"read,omitempty"`
	ReadAtMs int64              `json:"readAtMs,omitempty"`
	Versions *checkout.Versions `json:"versions,omitempty"`
}

// RecordedView is what was recorded.
type RecordedView struct {
	Rev    int64             `json:"rev"`
	Proofs []checkout.Proved `json:"proofs"`
}

// SnapshotRequest keeps what the points of a device read, or of the site where none is named.
type SnapshotRequest struct {
	Name   string `json:"name"`
	Device string `json:"device,omitempty"`
}

// SnapshotView says what was kept.
type SnapshotView struct {
	ID   int64  `json:"id"`
	Said string `json:"said"`
}

// ComparedView is a snapshot beside another, what differs first.
type ComparedView struct {
	Rows []checkout.Difference `json:"rows"`
}

// WriteBackRequest names the points that are to become what a snapshot holds.
type WriteBackRequest struct {
	Points []string `json:"points"`
}

// WriteBackView are the writes that would do that.
type WriteBackView struct {
	Rows []WriteBackRow `json:"rows"`
}

// WriteBackRow is one of them; Why says why there is none.
type WriteBackRow struct {
	Point string            `json:"point"`
	Order *field.WriteOrder `json:"order,omitempty"`
	Why   string            `json:"why,omitempty"`
}

// ProverRequest says at which point a window proves; none is that it has left.
type ProverRequest struct {
	Window string `json:"window"`
	Point  string `json:"point"`
}

// ProverView is a window that proves a point.
type ProverView struct {
	Window string `json:"window"`
	Who    string `json:"who"`
	Point  string `json:"point"`
}

// JournalView is the journal of changes and of writes.
type JournalView struct {
	Entries []store.Entry   `json:"entries"`
	Written []store.Written `json:"written"`
}

// DrawnView is a device that a file describes: with so many points of its map, and so many
// that are read in another protocol.
type DrawnView struct {
	Title   string       `json:"title"` // of the protocol
	Name    string       `json:"name"`
	Choices []string     `json:"choices"` // the ways to connect
	Points  int          `json:"points"`
	Aside   int          `json:"aside"`
	Unread  []UnreadView `json:"unread"`
	// Serves is set where Ferry itself can be the device, built of the file.
	Serves bool `json:"serves,omitempty"`
	// Device and Link are ids of what was put into the site, by the step Seq; empty for
	// a dry run.
	Device string `json:"device,omitempty"`
	Link   string `json:"link,omitempty"`
	Seq    int64  `json:"seq,omitempty"`
}

// UnreadView is a place of a file that could not be read.
type UnreadView struct {
	Line   int    `json:"line"`
	What   string `json:"what"`
	Reason string `json:"reason"`
}

// SurveyView is what a device says that it is set to, beside what the plan says.
type SurveyView struct {
	Rows []SurveyRow `json:"rows"`
	// Offers are what else the device has, each with the settings by which it would be used.
	Offers []protocol.EndFix `json:"offers,omitempty"`
	// Configuration is that of the plan beside what the device holds; Held are the octets
	// that it holds, and HeldSame is set where they are those that are sent.
	Configuration *configured.Configuration `json:"configuration,omitempty"`
	Held          string                    `json:"held,omitempty"`
	HeldSame      bool                      `json:"heldSame"`
	// Aside is what the device answers to what it is asked over other protocols.
	Aside []AsideView `json:"aside"`
}

// AsideView is whether the points are there that a device is asked for over another link.
type AsideView struct {
	Link   string       `json:"link"`
	Title  string       `json:"title"` // of the protocol
	Result route.Result `json:"result" jsonschema:"enum=good,enum=doubt,enum=fault,enum=not-tried"`
	Says   string       `json:"says"`
}

// ConfigurationOrder sets a value of a point of a configuration, as a person types it, or
// all of it as a device holds it.
type ConfigurationOrder struct {
	Point string `json:"point,omitempty"`
	Text  string `json:"text,omitempty"`
	Held  string `json:"held,omitempty"`
}

// SurveyRow is one such setting.
type SurveyRow struct {
	Key   string          `json:"key"`
	Title string          `json:"title"`
	Unit  string          `json:"unit,omitempty"`
	Plan  protocol.Scalar `json:"plan"`
	Says  protocol.Scalar `json:"says"`
	// Known is set where the plan says something, and Same where it says the same.
	Known bool `json:"known"`
	Same  bool `json:"same"`
}
