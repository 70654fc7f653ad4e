package api

import (
	"ferry/internal/bench"
	"ferry/internal/core/checkout"
	"ferry/internal/core/codebook"
	"ferry/internal/core/drawn"
	"ferry/internal/core/exchange"
	"ferry/internal/core/gateway"
	"ferry/internal/core/lookout"
	"ferry/internal/core/pairing"
	"ferry/internal/core/problem"
	"ferry/internal/core/route"
	"ferry/internal/core/timetable"
	"ferry/internal/field"
	"ferry/internal/recording"
	"ferry/internal/vault"
)

// All holds every type that crosses to the browser; the TypeScript types are
// generated from it.
type All struct {
	SiteView      SiteView                `json:"siteView"`
	PointsView    PointsView              `json:"pointsView"`
	PointView     PointView               `json:"pointView"`
	Cells         CellsRequest            `json:"cells"`
	IntakeRequest IntakeRequest           `json:"intakeRequest"`
	IntakeAnswer  IntakeAnswer            `json:"intakeAnswer"`
	Held          HeldView                `json:"held"`
	EditRequest   EditRequest             `json:"editRequest"`
	EditAnswer    EditAnswer              `json:"editAnswer"`
	Timetable     TimetableView           `json:"timetable"`
	Exchange      ExchangeView            `json:"exchangeView"`
	Exchanges     []exchange.Exchange     `json:"exchanges"`
	Run           RunRequest              `json:"run"`
	Mode          ModeRequest             `json:"mode"`
	Unlock        UnlockRequest           `json:"unlock"`
	Drawn         DrawnView               `json:"drawn"`
	Survey        SurveyView              `json:"survey"`
	Commanding    field.Commanding        `json:"commanding"`
	Prepare       PrepareRequest          `json:"prepare"`
	WriteRequest  WriteRequest            `json:"writeRequest"`
	Record        field.Record            `json:"record"`
	Release       ReleaseRequest          `json:"release"`
	Me            MeView                  `json:"me"`
	SignIn        SignInRequest           `json:"signIn"`
	Users         UsersView               `json:"users"`
	User          UserRequest             `json:"user"`
	Notices       NoticesView             `json:"notices"`
	WriteOrder    field.WriteOrder        `json:"writeOrder"`
	WriteResult   field.WriteResult       `json:"writeResult"`
	Fault         FaultRequest            `json:"fault"`
	Pulse         Pulse                   `json:"pulse"`
	Trend         []field.Trend           `json:"trend"`
	AsLeftRequest AsLeftRequest           `json:"asLeftRequest"`
	AsLeft        AsLeftView              `json:"asLeft"`
	Readers       ReadersView             `json:"readers"`
	RampRead      RampReadRequest         `json:"rampRead"`
	RampReadView  RampReadView            `json:"rampReadView"`
	Ramp          RampRequest             `json:"ramp"`
	RampView      RampView                `json:"rampView"`
	Column        ColumnView              `json:"column"`
	Strips        []StripView             `json:"strips"`
	StripRequest  StripRequest            `json:"stripRequest"`
	Chart         ChartView               `json:"chart"`
	Sums          SumView                 `json:"sums"`
	Journal       JournalView             `json:"journal"`
	Checkout      CheckoutView            `json:"checkout"`
	Proving       ProvingView             `json:"proving"`
	Proof         ProofView               `json:"proof"`
	Snapshots     []checkout.Snapshot     `json:"snapshots"`
	SnapshotAsked SnapshotRequest         `json:"snapshotAsked"`
	SnapshotView  SnapshotView            `json:"snapshotView"`
	Differences   ComparedView            `json:"differences"`
	WriteBack     WriteBackRequest        `json:"writeBack"`
	WriteBackView WriteBackView           `json:"writeBackView"`
	Readings      ReadingsRequest         `json:"readings"`
	ReadingsView  ReadingsView            `json:"readingsView"`
	JudgeRequest  JudgeRequest            `json:"judgeRequest"`
	Verdict       VerdictView             `json:"verdict"`
	ProofRequest  ProofRequest            `json:"proofRequest"`
	ProofsKept    RecordedView            `json:"proofsKept"`
	ProverRequest ProverRequest           `json:"proverRequest"`
	Route         route.Route             `json:"route"`
	Problem       problem.Problem         `json:"problem"`
	Window        WindowRequest           `json:"window"`
	Bulk          BulkRequest             `json:"bulk"`
	BulkAnswer    BulkAnswer              `json:"bulkAnswer"`
	WindowView    WindowView              `json:"windowView"`
	Fathom        FathomRequest           `json:"fathom"`
	FathomAnswer  FathomAnswer            `json:"fathomAnswer"`
	Edges         EdgesView               `json:"edges"`
	Sheets        SheetsView              `json:"sheets"`
	Place         PlaceRequest            `json:"place"`
	Structure     StructureRequest        `json:"structure"`
	Keep          KeepRequest             `json:"keep"`
	SheetCells    SheetCellsRequest       `json:"sheetCells"`
	ReturnRequest ReturnRequest           `json:"return"`
	Machine       MachineView             `json:"machine"`
	Sweep         field.Sweep             `json:"sweep"`
	Heard         field.Heard             `json:"heard"`
	Take          TakeRequest             `json:"take"`
	Outlook       timetable.Outlook       `json:"outlook"`
	WhatIf        WhatIfRequest           `json:"whatIf"`
	WhatIfView    WhatIfView              `json:"whatIfView"`
	Learn         LearnView               `json:"learn"`
	Noted         NotedView               `json:"noted"`
	Stats         StatsView               `json:"stats"`
	Found         FoundView               `json:"found"`
	Sites         SitesView               `json:"sites"`
	Done          DoneView                `json:"done"`
	Watch         WatchRequest            `json:"watch"`
	SiteDelta     SiteDelta               `json:"siteDelta"`
	Sampling      SamplingView            `json:"sampling"`
	Serving       field.ServingState      `json:"serving"`
	Given         GivenView               `json:"given"`
	Outline       OutlineView             `json:"outline"`
	OutlinePart   OutlinePart             `json:"outlinePart"`
	OutlineTake   OutlineTake             `json:"outlineTake"`
	Disparities   drawn.Disparities       `json:"disparities"`
	Calling       bench.Calling           `json:"calling"`
	Call          CallRequest             `json:"call"`
	Command       CommandRequest          `json:"command"`
	Gateway       gateway.Design          `json:"gateway"`
	Forecast      gateway.Forecast        `json:"forecast"`
	BuiltView     BuiltView               `json:"builtView"`
	Pairing       PairingRequest          `json:"pairing"`
	PairingView   PairingView             `json:"pairingView"`
	PairRequest   PairRequest             `json:"pairRequest"`
	Names         NamesView               `json:"names"`
	Judged        JudgedView              `json:"judged"`
	Out           OutRequest              `json:"out"`
	Proved        ProvedView              `json:"proved"`
	Reword        RewordRequest           `json:"reword"`
	Actual        ActualView              `json:"actual"`
	ListStanding  pairing.ListStanding    `json:"listStanding"`
	Dry           DryRequest              `json:"dry"`
	DryView       DryView                 `json:"dryView"`
	PairState     field.PairState         `json:"pairState"`
	Twin          TwinRequest             `json:"twin"`
	TwinView      TwinView                `json:"twinView"`
	Turn          TurnRequest             `json:"turn"`
	Kept          []vault.Kept            `json:"kept"`
	Offers        OffersView              `json:"offers"`
	Fingerprint   FingerprintRequest      `json:"fingerprint"`
	Named         NamedRequest            `json:"named"`
	Browse        BrowseRequest           `json:"browse"`
	FolderView    FolderView              `json:"folderView"`
	Find          FindRequest             `json:"find"`
	Nodes         NodesRequest            `json:"nodes"`
	NamedView     NamedView               `json:"namedView"`
	NamedStart    NamedStartView          `json:"namedStart"`
	Strangers     StrangersView           `json:"strangers"`
	Recordings    []recording.Label       `json:"recordings"`
	Recorded      recording.ReadState     `json:"recorded"`
	RecordedList  recording.RungList      `json:"recordedList"`
	Detail        recording.Detail        `json:"detail"`
	Taken         TakenView               `json:"taken"`
	Relays        RelaysView              `json:"relays"`
	RelayRequest  RelayRequest            `json:"relayRequest"`
	Proposals     []recording.HeardDevice `json:"proposals"`
	LearnHeard    LearnRequest            `json:"learnHeard"`
	History       recording.History       `json:"history"`
	Codebook      []codebook.Meaning      `json:"codebook"`
	Lookouts      LookoutsView            `json:"lookouts"`
	Compare       CompareRequest          `json:"compare"`
	Compared      lookout.Comparison      `json:"compared"`
	LiveStats     recording.LiveView      `json:"liveStats"`
	Refuse        RefuseRequest           `json:"refuse"`
}
