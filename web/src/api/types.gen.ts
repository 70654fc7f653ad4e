// Generated from the Go types by scripts/gen.sh; DO NOT EDIT.

export interface All {
  siteView: SiteView;
  pointsView: PointsView;
  pointView: PointView;
  cells: CellsRequest;
  intakeRequest: IntakeRequest;
  intakeAnswer: IntakeAnswer;
  held: HeldView;
  editRequest: EditRequest;
  editAnswer: EditAnswer;
  timetable: TimetableView;
  exchangeView: ExchangeView;
  exchanges: Exchange[];
  run: RunRequest;
  mode: ModeRequest;
  unlock: UnlockRequest;
  drawn: DrawnView;
  survey: SurveyView;
  commanding: Commanding;
  prepare: PrepareRequest;
  writeRequest: WriteRequest;
  record: Record;
  release: ReleaseRequest;
  me: MeView;
  signIn: SignInRequest;
  users: UsersView;
  user: UserRequest;
  notices: NoticesView;
  writeOrder: WriteOrder;
  writeResult: WriteResult;
  fault: FaultRequest;
  pulse: Pulse;
  trend: Trend[];
  asLeftRequest: AsLeftRequest;
  asLeft: AsLeftView;
  readers: ReadersView;
  rampRead: RampReadRequest;
  rampReadView: RampReadView;
  ramp: RampRequest;
  rampView: RampView;
  column: ColumnView;
  strips: StripView[];
  stripRequest: StripRequest;
  chart: ChartView;
  sums: SumView;
  journal: JournalView;
  checkout: CheckoutView;
  proving: ProvingView;
  proof: ProofView;
  snapshots: Snapshot[];
  snapshotAsked: SnapshotRequest;
  snapshotView: SnapshotView;
  differences: ComparedView;
  writeBack: WriteBackRequest;
  writeBackView: WriteBackView;
  readings: ReadingsRequest;
  readingsView: ReadingsView;
  judgeRequest: JudgeRequest;
  verdict: VerdictView;
  proofRequest: ProofRequest;
  proofsKept: RecordedView;
  proverRequest: ProverRequest;
  route: Route;
  problem: Problem;
  window: WindowRequest;
  bulk: BulkRequest;
  bulkAnswer: BulkAnswer;
  windowView: WindowView;
  fathom: FathomRequest;
  fathomAnswer: FathomAnswer;
  edges: EdgesView;
  sheets: SheetsView;
  place: PlaceRequest;
  structure: StructureRequest;
  keep: KeepRequest;
  sheetCells: SheetCellsRequest;
  return: ReturnRequest;
  machine: MachineView;
  sweep: Sweep;
  heard: Heard;
  take: TakeRequest;
  outlook: Outlook;
  whatIf: WhatIfRequest;
  whatIfView: WhatIfView;
  learn: LearnView;
  noted: NotedView;
  stats: StatsView;
  found: FoundView;
  sites: SitesView;
  done: DoneView;
  watch: WatchRequest;
  siteDelta: SiteDelta;
  sampling: SamplingView;
  serving: ServingState;
  given: GivenView;
  outline: OutlineView;
  outlinePart: OutlinePart;
  outlineTake: OutlineTake;
  disparities: Disparities;
  calling: Calling;
  call: CallRequest;
  command: CommandRequest;
  gateway: Design;
  forecast: Forecast;
  builtView: BuiltView;
  pairing: PairingRequest;
  pairingView: PairingView;
  pairRequest: PairRequest;
  names: NamesView;
  judged: JudgedView;
  out: OutRequest;
  proved: ProvedView;
  reword: RewordRequest;
  actual: ActualView;
  listStanding: ListStanding;
  dry: DryRequest;
  dryView: DryView;
  pairState: PairState;
  twin: TwinRequest;
  twinView: TwinView;
  turn: TurnRequest;
  kept: Kept[];
  offers: OffersView;
  fingerprint: FingerprintRequest;
  named: NamedRequest;
  browse: BrowseRequest;
  folderView: FolderView;
  find: FindRequest;
  nodes: NodesRequest;
  namedView: NamedView;
  namedStart: NamedStartView;
  strangers: StrangersView;
  recordings: Label[];
  recorded: ReadState;
  recordedList: RungList;
  detail: Detail;
  taken: TakenView;
  relays: RelaysView;
  relayRequest: RelayRequest;
  proposals: HeardDevice[];
  learnHeard: LearnRequest;
  history: History;
  codebook: Meaning[];
  lookouts: LookoutsView;
  compare: CompareRequest;
  compared: Comparison;
  liveStats: LiveView;
  refuse: RefuseRequest;
}
export interface SiteView {
  seq: number;
  name: string;
  remark: string;
  lines: Line[];
  devices: DeviceView[];
  links: LinkView[];
  crossings: CrossingView[];
  lists: List[];
  lookouts: Lookout[];
  outlets: Outlet[];
  routes: Route[];
  protocols: Def[];
  manners: Told[];
  versions: {
    [k: string]: number;
  };
  faults: FaultKind[];
  models: string[];
  standIns: StandIn[];
  load: LinkLoad[];
  lineLoad: LineLoad[];
  checklists: {
    [k: string]: AccessLine[];
  };
  accessKinds: AccessTitle[];
  standards: StandardTitle[];
  canUndo: boolean;
  canRedo: boolean;
}
export interface Line {
  id: string;
  name: string;
  medium: "ethernet" | "serial";
  /**
   * IPv4 or IPv6 network in CIDR form
   */
  network?: string;
  gateway?: string;
  roundTripMs?: number;
  serial?: Serial;
  here?: string;
  cyclic?: Cyclic[];
  strangers?: Stranger[];
  remark?: string;
}
export interface Serial {
  standard: "tia-232" | "tia-422" | "tia-485-2w" | "tia-485-4w";
  baud: number;
  data: number;
  parity: "none" | "even" | "odd";
  stop: number;
  lengthM?: number;
}
export interface Cyclic {
  name: string;
  device?: string;
  periodMs: number;
  octets: number;
}
export interface Stranger {
  bench: string;
  station: number;
}
export interface DeviceView {
  id: string;
  name: string;
  model?: string;
  remark?: string;
  ports: Port[];
  /**
   * protocol whose addressing the points use
   */
  map?: string;
  cabinet?: string;
  limits?: Limits;
  bench?: string;
  access?: AccessLine[];
  ticks?: Tick[];
  namesFor?: string[];
  placements?: Placement[];
  alive?: Alive;
  serving?: Serving;
  points: Point[];
  pointCount: number;
  maps: string[];
}
export interface Port {
  line: string;
  /**
   * IP address or name of the machine on an Ethernet line
   */
  host?: string;
  hostFrom?: string;
  hostAmong?: string[];
  pair?: Redundancy;
  protocol?: string;
  settings?: Settings;
  serial?: PortSerial;
  unknown?: string[];
  think?: Think;
}
export interface Redundancy {
  host: string;
  port?: number;
  silent?: number;
  bad?: boolean;
  says?: string;
  backS?: number;
  tryS?: number;
  local?: string;
}
export interface Settings {
  [k: string]: boolean | number | string;
}
export interface PortSerial {
  name?: string;
  baud?: number;
  data?: number;
  parity?: "none" | "even" | "odd";
  stop?: number;
  gender?: "dte" | "dce";
  unitLoad?: number;
  terminated?: boolean;
  biased?: boolean;
}
export interface Think {
  medianMs: number;
  worstMs: number;
  count: number;
}
export interface Limits {
  maxRegisters?: number;
  maxBits?: number;
  most?: {
    [k: string]: number;
  };
  forbidden?: Units[];
  evenRequests?: boolean;
  connections?: number;
  perSecond?: number;
  noBridging?: boolean;
  evenPairs?: boolean;
  manners?: string[];
  areas?: {
    [k: string]: number;
  };
}
export interface Units {
  area: string;
  from: number;
  count: number;
}
export interface AccessLine {
  id: string;
  kind: "remote" | "server" | "mode" | "layout" | "write" | "restart" | "firewall";
  text: string;
}
export interface Tick {
  line: string;
  by: string;
  at: string;
}
export interface Placement {
  id: string;
  datasheet?: string;
  structure?: string;
  prefix?: string;
  shift?: number;
  area?: string;
  start?: number;
  rule?: string;
  paceMs?: number;
  access?: string;
  all?: boolean;
  map?: string;
}
export interface Alive {
  point: string;
  withinMs: number;
}
export interface Serving {
  allow?: string[];
  mostClients?: number;
  readOnly?: boolean;
}
export interface Point {
  id: string;
  name: string;
  address: string;
  type: string;
  length?: number;
  charset?: "ascii" | "latin1" | "utf8" | "utf16";
  padding?: "space" | "counted";
  order?: string;
  factor?: number;
  offset?: number;
  range?: Range;
  powerAt?: string;
  missing?: (null | boolean | number | string)[];
  names?: Naming[];
  unit?: string;
  low?: number;
  high?: number;
  decimals?: number;
  paceMs: number;
  changeMs?: number;
  band?: number;
  told?: string;
  access: "r" | "rw" | "w";
  remark?: string;
  from?: Origin;
  map?: string;
  link?: string;
}
export interface Range {
  rawLow: number;
  rawHigh: number;
  low: number;
  high: number;
  clamp?: boolean;
}
export interface Naming {
  value: number;
  name: string;
}
export interface Origin {
  placement: string;
  point: string;
}
export interface LinkView {
  id: string;
  asking: string;
  answering: string;
  line: string;
  protocol: string;
  settings?: Settings;
  remark?: string;
  typed?: {
    [k: string]: string;
  };
  faceToFace: Mismatch[];
  facing?: Facing;
  configuration?: Configuration;
  standing?: StandingPoint[];
  lacking?: number;
}
export interface Mismatch {
  key: string;
  title: string;
  unit?: string;
  asking: string;
  answering: string;
  result: string;
  symptom?: string;
  fix?: "link" | "port";
}
export interface Facing {
  ways: FacingWay[];
  rows: FacingRow[];
  alive: FacingAlive;
  typed: TypedLine[];
  refused?: FacingRefusal;
  fixes: EndFix[];
}
export interface FacingWay {
  area: string;
  into: boolean;
  said: string;
  asking: FacingPart[];
  answering: FacingPart[];
  askingOctets: number;
  answerOctets: number;
  askingRemark: string;
  answerRemark: string;
  verdict: "good" | "fault" | "doubt";
  says: string;
  intervalMs: number;
  free: number;
  beyondExchange: number;
}
export interface FacingPart {
  kind: "data" | "sequence" | "header";
  title: string;
  octets: number;
}
export interface FacingRow {
  title: string;
  said: string;
  verdict: "good" | "fault" | "doubt";
  says: string;
  area?: string;
  asks?: boolean;
}
export interface FacingAlive {
  multiplier: number;
  inMs: number;
  outMs: number;
  inDropsMs: number;
  outDropsMs: number;
  perSecond: number;
  bears: number;
  verdict: "good" | "fault" | "doubt";
  says: string;
}
export interface TypedLine {
  key: string;
  title: string;
  value: string;
}
export interface FacingRefusal {
  title: string;
  says: string;
  code: number;
  shown: string;
}
export interface EndFix {
  title: string;
  detail: string;
  ask?: Settings;
  answer?: Settings;
}
export interface Configuration {
  area: string;
  octets: number;
  wants: number;
  hex: string;
  free: number;
  problem?: string;
  parameters: Parameter[];
}
export interface Parameter {
  point: string;
  name: string;
  place: string;
  shown: string;
  unit?: string;
  remark?: string;
  names?: Naming[];
  limits?: string;
  beyond: boolean;
  problem?: string;
  device?: string;
  differs: boolean;
}
export interface StandingPoint {
  point: string;
  name: string;
  unit?: string;
  switch: boolean;
}
export interface CrossingView {
  id: string;
  from?: string;
  to: string;
  more?: string[];
  factor?: number;
  offset?: number;
  way?: Step[];
  both?: "source" | "target" | "later";
  deadband?: number;
  percent?: boolean;
  atLeastMs?: number;
  atMostMs?: number;
  paceMs?: number;
  round?: boolean;
  beatMs?: number;
  perDay?: number;
  start?: "target" | "wait";
  enable?: string;
  quiet?: "substitute" | "stop";
  quietMs?: number;
  substitute?: string;
  qualityTo?: string;
  tells?: "quality" | "all";
  allowMs?: number;
  off?: boolean;
  remark?: string;
  list?: string;
  words: string;
  source: CrossingEnd;
  target: CrossingEnd;
  moreEnds: CrossingEnd[];
  steps: string[];
  enableName?: string;
  qualityName?: string;
}
export interface Step {
  do: "scale" | "unit" | "clamp" | "not" | "bit" | "put" | "pack" | "table" | "count" | "reread" | "text" | "formula";
  factor?: number;
  offset?: number;
  from?: string;
  to?: string;
  least?: number;
  most?: number;
  bit?: number;
  table?: Becomes[];
  else?: number;
  modulus?: number;
  type?: string;
  order?: string;
  length?: number;
  fill?: string;
  formula?: string;
  back?: string;
}
export interface Becomes {
  from: number;
  to: number;
}
export interface CrossingEnd {
  device: string;
  name: string;
  type: string;
  address: string;
  unit: string;
}
export interface List {
  id: string;
  name: string;
  far: string;
  carries?: "takes" | "gives";
  start?: "there" | "wait";
  ties?: "there" | "later";
  enable?: string;
  off?: boolean;
  remark?: string;
}
export interface Lookout {
  id: string;
  name: string;
  sees: "finding" | "down" | "limits" | "still" | "bad" | "slow";
  of?: string;
  code?: string;
  notes?: boolean;
  low?: number;
  high?: number;
  aboveMs?: number;
  forMs: number;
  endMs: number;
  sound?: boolean;
  tell?: string[];
  off?: boolean;
  remark?: string;
}
export interface Outlet {
  id: string;
  name: string;
  way: "mail" | "webhook" | "message" | "program";
  to?: string[];
  from?: string;
  server?: string;
  safe?: "starttls" | "tls";
  user?: string;
  secret?: string;
  url?: string;
  link?: string;
  topic?: string;
  program?: string;
  everyS: number;
  off?: boolean;
}
export interface Route {
  link: string;
  at?: string;
  bench: boolean;
  stops: Check[];
  stopsAt: string;
  identity?: string;
  unticked?: AccessLine[];
  ask?: string[];
  requests: number;
}
export interface Check {
  stop: string;
  result: string;
  saw: string;
  remedy: string;
}
export interface Def {
  name: string;
  title: string;
  asker: string;
  answerer: string;
  medium: string;
  usual: boolean;
  settings: Setting[];
  station?: string;
  datagrams?: boolean;
  datagramPort?: number;
  calling?: string;
  ways?: string;
  askingKeys?: SecureKeys;
  answeringKeys?: SecureKeys;
  looked?: boolean;
  handsOut?: string;
  handsBeside?: string;
  makes?: string;
  leveled?: boolean;
  carries?: boolean;
  mapOnly?: boolean;
  example: string;
  areas: Area[];
  ranged?: boolean;
  turns: string;
}
export interface Setting {
  key: string;
  title: string;
  kind: string;
  end: string;
  unit?: string;
  default: boolean | number | string;
  least: number;
  most: number;
  pattern?: string;
  like?: string;
  choices?: Option[];
  help?: string;
  stop: string;
  shows?: string;
}
export interface Option {
  value: string;
  title: string;
}
export interface SecureKeys {
  certificate: string;
  key: string;
  trusts: string;
}
export interface Area {
  key: string;
  title: string;
  unitBits: number;
  units: number;
  writable: boolean;
  digit?: string;
  little?: boolean;
}
export interface Told {
  code: string;
  does: string;
  copes: string;
}
export interface FaultKind {
  kind: string;
  title: string;
  unit?: string;
  default?: number;
  least: number;
  most: number;
  places: string[];
  habit?: boolean;
  protocols?: string[];
}
export interface StandIn {
  device: string;
  place: string;
  protocol?: string;
  name: string;
  addr: string;
  url: string;
  fault: Fault;
}
export interface Fault {
  kind: string;
  value?: number;
}
export interface LinkLoad {
  link: string;
  utilisation: number;
  roundMs: number;
  requests: number;
  perSecond: number;
  packets: number;
  writes: number;
  reports: number;
}
export interface LineLoad {
  line: string;
  utilisation: number;
  roundMs: number;
  holds: boolean;
  oldestMs: number;
  requests: number;
  points: number;
  alone: number;
  aloneUtilisation: number;
  merged: number;
  mergedUtilisation: number;
  cyclic: number;
  writes: number;
  loads: number;
}
export interface AccessTitle {
  kind: string;
  title: string;
}
export interface StandardTitle {
  standard: string;
  title: string;
}
export interface PointsView {
  seq: number;
  device: string;
  map: string;
  mark: string;
  columns: string[];
  areas: Area[];
  rows: PointRow[];
  partial: boolean;
  count: number;
  requests: MapRequest[];
  extents?: MapExtent[];
  findings: Finding[];
  choices: {
    [k: string]: string[];
  };
  tableColumns: string[];
  notations: Notation[];
  listed?: string;
  described?: string;
  example: string;
  nameRules: NameRule[];
}
export interface PointRow {
  id: string;
  version: number;
  cells: string[];
  area: string;
  start: number;
  units: number;
}
export interface MapRequest {
  id: string;
  operation: string;
  area: string;
  start: number;
  count: number;
  unused: number;
}
export interface MapExtent {
  area: string;
  carried: number;
  size: number;
}
export interface Finding {
  code: string;
  severity: string;
  sure: number;
  count: number;
  subject: Subject;
  where: string;
  title: string;
  sentence: string;
  evidence: string[];
  remedy: string;
  else?: string;
  packets?: number[];
  fixes?: Fix[];
  offers?: "edges";
}
export interface Subject {
  kind: string;
  id: string;
  device?: string;
  column?: string;
  name: string;
}
export interface Fix {
  title: string;
  cells: CellFix[];
  setting?: SettingFix;
  crossing?: CrossingFix;
  learned?: string;
  manner?: string;
  bears?: Bears;
}
export interface CellFix {
  point: string;
  name: string;
  column: string;
  was: string;
  will: string;
}
export interface SettingFix {
  link: string;
  key: string;
  was: number;
  will: number;
}
export interface CrossingFix {
  from: string;
  to: string;
}
export interface Bears {
  area?: string;
  most?: number;
  holes?: Hole[];
  oneConnection?: boolean;
}
export interface Hole {
  area: string;
  from: number;
  count: number;
}
export interface Notation {
  notation: string;
  text: string;
}
export interface NameRule {
  key: string;
  title: string;
  most: number;
}
export interface PointView {
  point: Point;
  device: string;
  version: number;
  notations: Notation[];
  areaTitle: string;
  live: Live;
  words: Word[];
  writable: boolean;
  carriers: Carrier[];
  readings: Plain[];
  neighbours: Notation[];
  start: number;
  units: number;
  area: string;
}
export interface Live {
  point: string;
  value: null | boolean | number | string;
  shown: string;
  quality: string;
  reason?: string;
  granted?: string;
  atMs: number;
  sourceMs?: number;
  toldMs?: number;
  changedMs: number;
  words: string;
}
export interface Word {
  hex: string;
  decimal: string;
  binary: string;
}
export interface Carrier {
  link: string;
  title: string;
}
export interface Plain {
  type: string;
  length?: number;
  order: string;
  shows: string;
  likely: boolean;
}
export interface CellsRequest {
  what: string;
  cells: CellEdit[];
}
export interface CellEdit {
  point: string;
  column: string;
  text: string;
  base: number;
}
export interface IntakeRequest {
  text?: string;
  file?: string;
  sheet?: string;
  begin?: string;
  reading?: Reading;
  headings?: string[];
  columns?: string[];
  rows?: Row[];
  replace?: boolean;
  commit: boolean;
}
export interface Reading {
  area: string;
  fromOne: boolean;
  bitFromOne: boolean;
  hex: boolean;
  noBits: boolean;
  divide: boolean;
  plain: boolean;
  order: string;
  little: string;
  countIn: string;
  powerScale: boolean;
  pointLeftOut: boolean;
  settled: string[];
  headerRow: number;
}
export interface Row {
  line: number;
  cells: string[];
}
export interface IntakeAnswer {
  format: string;
  sheets: string[];
  sheet: string;
  unplaced: string[];
  faults: Rejected[];
  first: Row[];
  headings: string[];
  columns: string[];
  bases: string[];
  reading: Reading;
  notes: string[];
  questions: Question[];
  asides: Aside[];
  inBlock: boolean;
  total: number;
  added: number;
  changed: number;
  same: number;
  removedCount: number;
  removed: string[];
  preview: IntakeRow[];
  rejected: Rejected[];
  rejectedRows: Row[];
  findings: Finding[];
  findingCount: number;
  seq: number;
}
export interface Rejected {
  line: number;
  column: string;
  cell: string;
  reason: string;
}
export interface Question {
  key: string;
  asks: string;
  choices: Choice[];
}
export interface Choice {
  title: string;
  example: string;
  reading: Reading;
  flag: string;
}
export interface Aside {
  line: number;
  text: string;
  what: string;
}
export interface IntakeRow {
  line: number;
  cells: string[];
  effect: string;
  changed: string[];
}
export interface HeldView {
  text: string;
  count: number;
  more: boolean;
}
export interface EditRequest {
  what: string;
  edits: BasedEdit[];
}
export interface BasedEdit {
  kind: string;
  id: string;
  parent?: string;
  index?: number;
  after: unknown;
  base: number;
}
export interface EditAnswer {
  seq: number;
  what: string;
}
export interface TimetableView {
  seq: number;
  plan: Plan;
  stats: RequestStats[];
  state: State;
  outages: Outage[];
}
export interface Plan {
  lines: LineLoad[];
  links: LinkLoad[];
  requests: Request[];
  loads: Load[];
  findings: Finding[];
}
export interface Request {
  id: string;
  link: string;
  line: string;
  device: string;
  function: string;
  operation: string;
  ranges: Range[];
  area: string;
  start: number;
  address: string;
  count: number;
  unused: number;
  points: string[];
  paceMs: number;
  wireMs: number;
  deviceMs: number;
  worstDeviceMs: number;
  gapMs: number;
  offsetMs: number;
  responseMs: number;
  slackMs: number;
  jitterMs: number;
  oldestMs: number;
  silent?: boolean;
}
export interface Load {
  link?: string;
  line: string;
  device?: string;
  title: string;
  cause: string;
  octets: number;
  periodMs: number;
  toldMs?: number;
  holdsMs: number;
  share: number;
  points: string[];
}
export interface RequestStats {
  id: string;
  count: number;
  failed: number;
  lastMs: number;
  meanMs: number;
  worstMs: number;
  lateMs: number;
  outcome: string;
  atMs: number;
}
export interface State {
  mode: string;
  unlockedMs: number;
  running: string[];
  serving: string[];
  allowed: string[];
  released: Release[];
  plan: number;
  compiling: boolean;
}
export interface Release {
  crossing: string;
  untilMs: number;
  by: string;
}
export interface Outage {
  link: string;
  device: string;
  fromMs: number;
  toMs: number;
  reason: string;
  how?: string;
  tries: number;
}
export interface ExchangeView {
  seq: number;
  link: string;
  device: string;
  requestId?: string;
  at: string;
  latencyMs: number;
  lateMs: number;
  operation: string;
  outcome: string;
  cause?: string;
  thinkMs?: number;
  answerLateMs?: number;
  doubt?: string;
  code?: number;
  sentence: string;
  points: number;
  write?: boolean;
  ranges?: Range[];
  samples?: Sample[];
  refused?: number[];
  frames: FrameView[];
}
export interface Sample {
  point: string;
  value: null | boolean | number | string;
  from: number;
  to: number;
  time?: string;
}
export interface FrameView {
  out: boolean;
  afterMs: number;
  anew?: boolean;
  late?: boolean;
  datagram?: boolean;
  hex: string;
  fields: Field[];
}
export interface Field {
  from: number;
  to: number;
  label: string;
  role: string;
  meaning: string;
  point?: string;
}
export interface Exchange {
  seq: number;
  link: string;
  device: string;
  requestId?: string;
  at: string;
  latencyMs: number;
  lateMs: number;
  operation: string;
  outcome: string;
  cause?: string;
  thinkMs?: number;
  answerLateMs?: number;
  doubt?: string;
  code?: number;
  sentence: string;
  points: number;
  write?: boolean;
  ranges?: Range[];
  samples?: Sample[];
  refused?: number[];
}
export interface RunRequest {
  links: string[];
}
export interface ModeRequest {
  mode: string;
}
export interface UnlockRequest {
  minutes: number;
}
export interface DrawnView {
  title: string;
  name: string;
  choices: string[];
  points: number;
  aside: number;
  unread: UnreadView[];
  serves?: boolean;
  device?: string;
  link?: string;
  seq?: number;
}
export interface UnreadView {
  line: number;
  what: string;
  reason: string;
}
export interface SurveyView {
  rows: SurveyRow[];
  offers?: EndFix[];
  configuration?: Configuration;
  held?: string;
  heldSame: boolean;
  aside: AsideView[];
}
export interface SurveyRow {
  key: string;
  title: string;
  unit?: string;
  plan: boolean | number | string;
  says: boolean | number | string;
  known: boolean;
  same: boolean;
}
export interface AsideView {
  link: string;
  title: string;
  result: "good" | "doubt" | "fault" | "not-tried";
  says: string;
}
export interface Commanding {
  levels: Level[];
}
export interface Level {
  address: string;
  title: string;
  closed?: boolean;
  usual?: boolean;
  held: boolean;
  value?: string;
  reason?: string;
}
export interface PrepareRequest {
  point: string;
  text: string;
  level?: string;
  giveUp?: boolean;
}
export interface WriteRequest {
  token: string;
}
export interface Record {
  id: number;
  who: string;
  state: string;
  crossing?: string;
  order: WriteOrder;
  sentence: string;
  readBack?: string;
  atMs: number;
  endMs: number;
  count?: number;
  last?: string;
}
export interface WriteOrder {
  token?: string;
  point: string;
  name: string;
  device: string;
  target: string;
  link: string;
  address: string;
  function: string;
  old: string;
  oldAtMs: number;
  new: string;
  unit: string;
  words: string;
  lost?: string;
  mode: string;
  locked?: boolean;
}
export interface ReleaseRequest {
  crossings: string[];
  minutes: number;
}
export interface MeView {
  guarded: boolean;
  signedIn: boolean;
  name: string;
  role: string;
  certificate: Certificate;
}
export interface Certificate {
  fingerprint: string;
  names: string[];
  from: string;
  to: string;
  own: boolean;
}
export interface SignInRequest {
  name: string;
  passphrase: string;
}
export interface UsersView {
  users: UserView[];
  attempts: Attempt[];
  roles: RoleView[];
}
export interface UserView {
  name: string;
  role: string;
  since: string;
}
export interface Attempt {
  at: string;
  name: string;
  from: string;
  ok: boolean;
  why?: string;
}
export interface RoleView {
  role: string;
  title: string;
}
export interface UserRequest {
  name: string;
  role: string;
  passphrase: string;
}
export interface NoticesView {
  notices: string[];
}
export interface WriteResult {
  order: WriteOrder;
  ok: boolean;
  state: string;
  sentence: string;
  readBack: string;
  atMs: number;
}
export interface FaultRequest {
  device: string;
  fault: Fault;
}
export interface Pulse {
  seq: number;
  state: State;
  live: Live[];
  crossings: CrossingState[];
  findings: Finding[];
  exchange: number;
  routes: number;
  nowMs: number;
  open: Event[];
  lookouts: number;
  proved: number;
  provers: ProverView[];
  whole: boolean;
}
export interface CrossingState {
  id: string;
  state: string;
  sentence?: string;
  written: string;
  count: number;
  atMs: number;
  counts: Counts;
  ferryMs: number;
  writeMs: number;
  worstFerryMs: number;
  worstWriteMs: number;
  today?: number;
}
export interface Counts {
  read: number;
  carried: number;
  back: number;
  held: number;
  merged: number;
  refused: number;
  dropped: number;
}
export interface Event {
  id: string;
  lookout: string;
  name: string;
  subject: Subject;
  startMs: number;
  endMs: number;
  says: string;
  ended?: string;
  code?: string;
  sound?: boolean;
  tell?: string[];
}
export interface ProverView {
  window: string;
  who: string;
  point: string;
}
export interface Trend {
  atMs: number;
  v: number;
}
export interface AsLeftRequest {
  seq?: number;
  file?: string;
  keys?: string[];
}
export interface AsLeftView {
  with: string;
  seq: number;
  divergences: Divergence[];
  more?: number;
  said?: string;
}
export interface Divergence {
  kind: string;
  id: string;
  parent?: string;
  name: string;
  since: "new" | "gone" | "changed";
  words: string[];
}
export interface ReadersView {
  columns: string[];
  rows: string[][];
  count: number;
  notations: string[];
  rules: NameRule[];
}
export interface RampReadRequest {
  points: string[];
}
export interface RampReadView {
  reads: RampRead[];
}
export interface RampRead {
  point: string;
  read: string;
  readAtMs: number;
  why?: string;
}
export interface RampRequest {
  steps: RampStepRead[];
}
export interface RampStepRead {
  shown: string;
  reads: RampRead[];
}
export interface RampView {
  rows: RampRow[];
}
export interface RampRow {
  point: string;
  name: string;
  unit?: string;
  why?: string;
  verdict: RampVerdict;
}
export interface RampVerdict {
  agrees: boolean;
  says: string;
  steps: string[];
}
export interface ColumnView {
  text: string;
  without: number;
  unread: number;
}
export interface StripView {
  id: number;
  name: string;
  who: string;
  mode: string;
  fromUs: number;
  toUs: number;
  untilUs: number;
  why?: string;
  pens: Pen[];
  notes: Note[];
  samples: number;
  octets: number;
  failing?: string;
}
export interface Pen {
  point: string;
  device: string;
  name: string;
  unit: string;
  paceMs: number;
  decimals: number;
  twoState?: boolean;
}
export interface Note {
  atUs: number;
  sentence: string;
}
export interface StripRequest {
  name: string;
  points: string[];
  hours: number;
}
export interface ChartView {
  fromUs: number;
  toUs: number;
  endUs: number;
  pens: DrawnPen[];
  notes: Note[];
}
export interface DrawnPen {
  pen: number;
  into?: number;
  all: boolean;
  count: number;
  atUs: number[];
  v: number[];
  gaps: number[];
  doubts: number[];
}
export interface SumView {
  fromUs: number;
  toUs: number;
  pens: SummedPen[];
  lags: LagView[];
}
export interface SummedPen {
  pen: number;
  summary: Summary;
  gaps: Missing[];
  moreGaps?: number;
  seems: Seems[];
}
export interface Summary {
  samples: number;
  doubtful: number;
  min: number;
  minAtUs: number;
  max: number;
  maxAtUs: number;
  mean: number;
  deviation: number;
  last: number;
  changes: number;
  intervalMs: number;
  longestMs: number;
  coveredMs: number;
  gapsMs: number;
}
export interface Missing {
  fromUs: number;
  toUs: number;
  reason: string;
}
export interface Seems {
  code: string;
  sentence: string;
  do: string;
}
export interface LagView {
  source: number;
  far: number;
  crossing: string;
  why?: string;
  waits?: string;
  lag: Lag;
}
export interface Lag {
  moves: number;
  matched: number;
  leastMs: number;
  medianMs: number;
  p95Ms: number;
  worstMs: number;
  worstAtUs: number;
  readMs: number;
}
export interface JournalView {
  entries: Entry[];
  written: Written[];
}
export interface Entry {
  seq: number;
  at: string;
  who: string;
  action: string;
  target?: number;
  what: string;
  changes?: Change[];
}
export interface Change {
  kind: string;
  id: string;
  parent?: string;
  index: number;
  before?: unknown;
  after?: unknown;
}
export interface Written {
  id: number;
  at: string;
  who: string;
  open: boolean;
  result: unknown;
}
export interface CheckoutView {
  seq: number;
  rev: number;
  stops: StopView[];
  at: ProverView[];
}
export interface StopView {
  cabinet: string;
  line: string;
  device: string;
  name: string;
  counts: Progress;
}
export interface Progress {
  right: number;
  wrong: number;
  cannot: number;
  again: number;
  left: number;
}
export interface ProvingView {
  seq: number;
  rev: number;
  points: ProvingPoint[];
}
export interface ProvingPoint {
  point: string;
  state: "left" | "right" | "wrong" | "cannot" | "again";
  proof?: number;
  changed?: string[];
  name: string;
  address: string;
  type: string;
  order?: string;
  unit?: string;
  names?: Naming[];
  writable: boolean;
  twoState: boolean;
  says?: string;
}
export interface ProofView {
  point: string;
  device: string;
  link?: string;
  line?: string;
  versions: Versions;
  far: FarView[];
  proofs: Proved[];
}
export interface Versions {
  map: number;
  link: number;
  crossing: number;
}
export interface FarView {
  crossing: string;
  point: string;
  name: string;
  unit?: string;
  into: boolean;
  words: string;
  off: boolean;
  expected?: string;
  agrees: boolean;
}
export interface Proved {
  id: number;
  point: string;
  device: string;
  name: string;
  address: string;
  result: "right" | "wrong" | "cannot" | "withdrawn";
  method?: "display" | "seen" | "moved" | "command" | "listed" | "ramped";
  reason?: string;
  remark?: string;
  who: string;
  atMs: number;
  mode: string;
  read: string;
  unit?: string;
  words?: string;
  readAtMs?: number;
  shown?: string;
  far?: string;
  farName?: string;
  expected?: string;
  versions: Versions;
  basis: Fact[];
}
export interface Fact {
  part: string;
  name?: string;
  key: string;
  is: string;
  id?: string;
}
export interface Snapshot {
  id: number;
  name: string;
  who: string;
  atMs: number;
  mode: string;
  device?: string;
  values: Reading[];
}
export interface SnapshotRequest {
  name: string;
  device?: string;
}
export interface SnapshotView {
  id: number;
  said: string;
}
export interface ComparedView {
  rows: Difference[];
}
export interface Difference {
  point: string;
  name: string;
  unit?: string;
  was: string;
  is: string;
  differs: boolean;
  apart?: number;
  why?: string;
  writable: boolean;
}
export interface WriteBackRequest {
  points: string[];
}
export interface WriteBackView {
  rows: WriteBackRow[];
}
export interface WriteBackRow {
  point: string;
  order?: WriteOrder;
  why?: string;
}
export interface ReadingsRequest {
  device?: string;
  text: string;
}
export interface ReadingsView {
  rows: ReadingRow[];
}
export interface ReadingRow {
  line: number;
  name: string;
  shown: string;
  point?: string;
  why?: string;
  agrees: boolean;
  within: number;
  apart: number;
  says: string;
  unit?: string;
  read?: string;
  readAtMs?: number;
  judged: boolean;
}
export interface JudgeRequest {
  point: string;
  shown: string;
}
export interface VerdictView {
  agrees: boolean;
  within: number;
  apart: number;
  says: string;
  read: string;
  readAtMs: number;
  earlierMs: number;
}
export interface ProofRequest {
  points: ProofPoint[];
  result: "right" | "wrong" | "cannot" | "withdrawn";
  method?: "display" | "seen" | "moved" | "command" | "listed" | "ramped";
  reason?: string;
  remark?: string;
}
export interface ProofPoint {
  point: string;
  shown?: string;
  read?: string;
  readAtMs?: number;
  versions?: Versions;
}
export interface RecordedView {
  rev: number;
  proofs: Proved[];
}
export interface ProverRequest {
  window: string;
  point: string;
}
export interface Problem {
  code: string;
  sentence: string;
  where?: string;
  do?: string;
  path?: string;
}
export interface WindowRequest {
  area: string;
  start: number;
  count: number;
  at: number;
}
export interface BulkRequest {
  action: "fill" | "replace" | "duplicate";
  points: string[];
  columns?: string[];
  search?: Search;
  step?: number;
  counting?: number;
  times?: number;
  dry?: boolean;
}
export interface Search {
  find: string;
  with: string;
  matchCase: boolean;
  whole: boolean;
}
export interface BulkAnswer {
  count: number;
  cells: CellFix[];
  names: string[];
  seq: number;
}
export interface WindowView {
  area: string;
  start: number;
  words: number[];
  atMs: number;
  address: string;
  hex: string[];
  hints: HintView[];
}
export interface HintView {
  at: number;
  words: number;
  type: string;
  length?: number;
  order: string;
  shows: string;
  sure: number;
  address: string;
}
export interface FathomRequest {
  device: string;
  point: string;
  area: string;
  start: number;
  moments: string[];
  readings: FathomReading[];
}
export interface FathomReading {
  moment: number;
  shows: string;
  within: number;
  point: string;
}
export interface FathomAnswer {
  candidates: CandidateView[];
  ask: string;
}
export interface CandidateView {
  address: string;
  type: string;
  order: string;
  scale: string;
  offset: string;
  values: string[];
  fits: boolean;
  sure: number;
  fixes: Fix[];
}
export interface EdgesView {
  edges: Edge[];
  findings: Finding[];
}
export interface Edge {
  area: string;
  offset: number;
  address: string;
  answered: boolean;
}
export interface SheetsView {
  seq: number;
  columns: string[];
  datasheets: SheetView[];
  structures: StructureView[];
  standings: Standing[];
  versions: {
    [k: string]: number;
  };
  rules: RuleView[];
}
export interface SheetView {
  id: string;
  name: string;
  remark: string;
  map: string;
  shipped: boolean;
  rows: SheetRow[];
  thinkMs: number;
  access: AccessLine[];
}
export interface SheetRow {
  id: string;
  useful: boolean;
  cells: string[];
}
export interface StructureView {
  id: string;
  name: string;
  remark?: string;
  members: Member[];
  laid: LaidView[];
}
export interface Member {
  name: string;
  type?: string;
  length?: number;
  padding?: "space" | "counted";
  structure?: string;
  count?: number;
  first?: number;
  more?: Dim[];
  reserve?: boolean;
  order?: string;
  factor?: number;
  unit?: string;
  names?: Naming[];
  remark?: string;
}
export interface Dim {
  count: number;
  first: number;
}
export interface LaidView {
  rule: string;
  bytes: number;
  places: PlacedView[];
}
export interface PlacedView {
  path: string;
  type: string;
  byte: number;
  bit: number;
  register: string;
}
export interface Standing {
  device: string;
  placement: Placement;
  points: number;
  departures: Departure[];
  problem?: string;
}
export interface Departure {
  point: string;
  name: string;
  column: string;
  is: string;
  should: string;
}
export interface RuleView {
  rule: string;
  title: string;
}
export interface PlaceRequest {
  datasheet?: string;
  structure?: string;
  all: boolean;
  on: PlaceTarget[];
}
export interface PlaceTarget {
  device: string;
  map?: string;
  prefix: string;
  shift: number;
  start?: string;
  rule?: string;
  pace?: string;
}
export interface StructureRequest {
  base: number;
  structure: Structure;
}
export interface Structure {
  id: string;
  name: string;
  remark?: string;
  members: Member[];
}
export interface KeepRequest {
  device: string;
  name: string;
  prefix: string;
}
export interface SheetCellsRequest {
  base: number;
  cells: SheetCell[];
  remove: string[];
  add: string[];
  thinkMs?: number;
  access?: AccessLine[];
}
export interface SheetCell {
  point: string;
  column: string;
  text: string;
}
export interface ReturnRequest {
  placement: string;
  points: string[];
}
export interface MachineView {
  interfaces: Interface[];
  ports: SerialHere[];
  lines: OnLine[];
}
export interface Interface {
  name: string;
  addrs: string[];
  up: boolean;
}
export interface SerialHere {
  path: string;
  owner: string;
  trouble: string;
}
export interface OnLine {
  line: string;
  result: string;
  uses: string;
  saw: string;
  remedy: string;
}
export interface Sweep {
  id: string;
  order: SweepOrder;
  done: number;
  of: number;
  leftMs: number;
  running: boolean;
  found: Found[];
  missing: string[];
  sentence: string;
}
export interface SweepOrder {
  kind: "stations" | "hosts" | "call" | "formats";
  line: string;
  protocol?: string;
  fromStation?: number;
  toStation?: number;
  fromHost?: string;
  toHost?: string;
  port?: number;
  station?: number;
  link?: string;
}
export interface Found {
  station: number;
  host?: string;
  port?: number;
  identity: string;
  settings?: Settings;
  device: string;
  ms: number;
  format?: Format;
  odd: string;
}
export interface Format {
  baud: number;
  data: number;
  parity: "none" | "even" | "odd";
  stop: number;
}
export interface Heard {
  octets: number;
  frames: number;
  stations: number[];
  asked: number;
  ms: number;
  sentence: string;
}
export interface TakeRequest {
  found: Found[];
  asking: string;
}
export interface Outlook {
  line: string;
  oneSilent?: Scenario;
  twoSilent?: Scenario;
  chosen?: Scenario;
  fastest: Fastest[];
  advice: Advice[];
}
export interface Scenario {
  devices: string[];
  names: string[];
  utilisation: number;
  holds: boolean;
  oldestMs: number;
  lostMs: number;
}
export interface Fastest {
  paceMs: number;
  fastestMs: number;
}
export interface Advice {
  kind: "baud" | "split" | "limit" | "rest" | "merge" | "slower";
  sentence: string;
  before: number;
  after: number;
  silent: boolean;
  holds: boolean;
  edits: Edit[];
}
export interface Edit {
  kind: string;
  id: string;
  parent?: string;
  index?: number;
  after: unknown;
}
export interface WhatIfRequest {
  line: string;
  what: string;
  silent: string[];
  edits: Edit[];
  commit: boolean;
  seq: number;
}
export interface WhatIfView {
  seq: number;
  plan: Plan;
}
export interface LearnView {
  links: number;
  sentence: string;
  seq: number;
}
export interface NotedView {
  said: string;
  seq: number;
}
export interface StatsView {
  stats: RequestStats[];
  outages: Outage[];
}
export interface FoundView {
  points: FoundPoint[];
}
export interface FoundPoint {
  id: string;
  name: string;
  address: string;
  device: string;
  deviceName: string;
}
export interface SitesView {
  sites: Site[];
  open: string;
}
export interface Site {
  id: string;
  name: string;
  opened: number;
}
export interface DoneView {
  sentence: string;
  id: string;
}
export interface WatchRequest {
  window: string;
  points: string[];
}
export interface SiteDelta {
  rev: string;
  partial: boolean;
  rest: unknown;
  lists: {
    [k: string]: ListOfDelta;
  };
}
export interface ListOfDelta {
  changed: unknown[];
  ids: string[];
}
export interface SamplingView {
  rows: SamplingRow[];
}
export interface SamplingRow {
  point: string;
  device: string;
  name: string;
  paceMs: number;
  changeMs: number;
  seenMs: number;
  samples: number;
  verdict: string;
  seesMs: number;
  trustsMs: number;
  sentence: string;
}
export interface ServingState {
  device: string;
  listens: string[];
  sentence?: string;
  clients: ClientState[];
  away: number;
  lastAway?: string;
  rivals?: string[];
}
export interface ClientState {
  from: string;
  sinceMs: number;
  asked: number;
  refused: number;
  wrote: number;
  lastMs: number;
}
export interface GivenView {
  point: string;
  to: string;
  reported?: boolean;
  atMs: number;
  count: number;
  value: string;
  quality: string;
  reason?: string;
  from?: string;
  arrivedMs?: number;
  sourceMs?: number;
  target: CrossingEnd;
  source: CrossingEnd;
}
export interface OutlineView {
  id: string;
  name: string;
  title: string;
  map: string;
  heads: OutlineItem[];
  unread: UnreadView[];
}
export interface OutlineItem {
  head: number;
  at: number;
  name: string;
  kind: string;
  says: string;
  remark: string;
  address: string;
  opens: boolean;
}
export interface OutlinePart {
  items: OutlineItem[];
  more: number;
}
export interface OutlineTake {
  device: string;
  of: OutlinePlace[];
}
export interface OutlinePlace {
  head: number;
  at: number;
}
export interface Disparities {
  list: Disparity[];
  count: number;
  alike: number;
}
export interface Disparity {
  path: string;
  kind: string;
  one: string;
  other: string;
  lacks?: string;
}
export interface Calling {
  who: string;
  on: boolean;
  at?: string;
  sentence?: string;
  reports: number;
  shown: Shown[];
  commands: string[];
}
export interface Shown {
  name: string;
  value: string;
  quality?: string;
  timeMs?: number;
  atMs: number;
  reported?: boolean;
}
export interface CallRequest {
  on: boolean;
}
export interface CommandRequest {
  name: string;
  on: boolean;
}
export interface Design {
  line: string;
  newLine: NewLine;
  paceMs?: number;
  fastest?: boolean;
  all?: boolean;
  models: Model[];
  meters: Meter[];
  as: Upstream;
  reader: Reader;
}
export interface NewLine {
  name: string;
  format: Format;
  lengthM?: number;
  kind: "tia-232" | "tia-422" | "tia-485-2w" | "tia-485-4w";
  here?: string;
}
export interface Model {
  datasheet: string;
  picks?: string[];
  more?: Typed[];
  bench?: string;
}
export interface Typed {
  name: string;
  address: string;
  type: string;
  scale: string;
  unit: string;
}
export interface Meter {
  name: string;
  station: number;
  model: number;
  device?: string;
}
export interface Upstream {
  device?: string;
  protocol: string;
  name: string;
  line: string;
  host: string;
  settings: Settings;
  each?: boolean;
  names?: string;
  writable?: boolean;
}
export interface Reader {
  name?: string;
  host?: string;
  paceMs?: number;
  only?: boolean;
  oldestMs?: number;
}
export interface Forecast {
  built: Built;
  paceMs?: number;
  already: number;
  steps: Growth[];
  most: number;
  good: number;
  due: string;
  fast?: string;
}
export interface Built {
  objects: Made[];
  line: string;
  devices: string[];
}
export interface Made {
  meter: number;
  point: string;
  object: string;
  at: string;
  source: string;
  address: string;
  name: string;
  type: string;
  unit: string;
  band?: number;
  paceMs: number;
  lost?: string;
  oldestMs: number;
  readMs: number;
}
export interface Growth {
  meters: number;
  paceMs?: number;
  oldestMs: number;
  readMs: number;
  utilisation: number;
  holds: boolean;
  assumed?: boolean;
}
export interface BuiltView {
  seq: number;
  what: string;
  line: string;
  devices: string[];
}
export interface PairingRequest {
  from: string[];
  to: string;
  list?: string;
  how: "left" | "order" | "likeness" | "table" | "give";
  near?: string;
  far?: string;
  most?: number;
  table?: string;
  file?: string;
  give?: Giving;
}
export interface Giving {
  start: string;
  plain?: boolean;
  states?: string;
  reserve?: number;
  block?: number;
  even?: boolean;
  as?: string;
  name?: string;
  writable?: boolean;
}
export interface PairingView {
  shores: Shores;
  proposal: Proposal;
}
export interface Shores {
  near: Candidate[];
  far: Candidate[];
  paired: string[];
}
export interface Candidate {
  id: string;
  device: string;
  name: string;
  address: string;
  type: string;
  unit?: string;
  kind: string;
}
export interface Proposal {
  pairs: Pair[];
  refused: Refused[];
  runs: Run[];
  near: number;
  far: number;
}
export interface Pair {
  from: string;
  fromName: string;
  fromAddress?: string;
  to?: string;
  toName: string;
  new?: Point;
  crossing: Crossing;
  way: string;
  address: string;
  fits: boolean;
  sentence?: string;
  goes?: "there" | "here" | "both";
  likeness?: number;
  shift?: number;
}
export interface Crossing {
  id: string;
  from?: string;
  to: string;
  more?: string[];
  factor?: number;
  offset?: number;
  way?: Step[];
  both?: "source" | "target" | "later";
  deadband?: number;
  percent?: boolean;
  atLeastMs?: number;
  atMostMs?: number;
  paceMs?: number;
  round?: boolean;
  beatMs?: number;
  perDay?: number;
  start?: "target" | "wait";
  enable?: string;
  quiet?: "substitute" | "stop";
  quietMs?: number;
  substitute?: string;
  qualityTo?: string;
  tells?: "quality" | "all";
  allowMs?: number;
  off?: boolean;
  remark?: string;
  list?: string;
}
export interface Refused {
  row: number;
  text: string;
  reason: string;
}
export interface Run {
  first: number;
  count: number;
  title: string;
  shift: number;
  sorted?: boolean;
  better?: number;
  sentence?: string;
  near?: string;
  far?: string;
}
export interface PairRequest {
  to: string;
  list?: string;
  what: string;
  pairs: Pair[];
}
export interface NamesView {
  connected: boolean;
  sentence: string;
  proofs: Proof[];
}
export interface Proof {
  point: string;
  verdict: string;
  sentence: string;
  is?: string;
  heard?: Overheard;
}
export interface Overheard {
  shown: string;
  atMs: number;
  count: number;
  equal: boolean;
  wrong?: string;
}
export interface JudgedView {
  findings: Finding[];
  outs: Out[];
  stages: Stage[];
  oldestMs: number;
  usuallyMs: number;
  state: CrossingState;
}
export interface Out {
  title: string;
  costs: string;
}
export interface Stage {
  title: string;
  ms: number;
}
export interface OutRequest {
  title: string;
}
export interface ProvedView {
  ends: ProvedEnd[];
}
export interface ProvedEnd {
  point: string;
  verdict: string;
  sentence: string;
  is?: string;
  heard?: Overheard;
  name: string;
}
export interface RewordRequest {
  ids: string[];
  words: string;
}
export interface ActualView {
  fromMs: number;
  exchanges: ActualOnLine[];
}
export interface ActualOnLine {
  request: string;
  link: string;
  atMs: number;
  ms: number;
  ok: boolean;
}
export interface ListStanding {
  list: string;
  stand: string;
  title: string;
  sentence: string;
  names: number;
  carrying: number;
  proofs: Proof[];
}
export interface DryRequest {
  text?: string;
}
export interface DryView {
  writes: DryWrite[];
  counts: Counts;
  state: State;
  sentence: string;
  cut?: boolean;
  samples: DrySample[];
}
export interface DryWrite {
  atMs: number;
  value: null | boolean | number | string;
  shown: string;
  quality?: boolean;
  is?: string;
}
export interface DrySample {
  atMs: number;
  value: null | boolean | number | string;
  bad?: string;
}
export interface PairState {
  link: string;
  dials: string[];
  used: number;
  provedMs: number;
  idle: string;
  idleWell: boolean;
  switches: Switch[];
  local?: string;
  localTrouble?: string;
  clients: number;
}
export interface Switch {
  atMs: number;
  to: string;
  why: string;
  staleMs: number;
}
export interface TwinRequest {
  at: Address;
  how: "look" | "likeness" | "table" | "alone" | "make";
  table?: string;
  file?: string;
  twin: Twin;
  pairs?: Pair[];
}
export interface Address {
  url: string;
  name: string;
  passphrase: string;
  fingerprint?: string;
}
export interface Twin {
  name: string;
  protocol: string;
  line: string;
  asking: string;
  farLine: string;
  host: string;
  port: number;
  allow?: string[];
  start?: "there" | "wait";
  ties?: "there" | "later";
}
export interface TwinView {
  site: string;
  host: string;
  lines: Line[];
  near: number;
  far: number;
  protocols: string[];
  port: number;
  proposal: Proposal;
  list?: string;
  device?: string;
  said?: string;
}
export interface TurnRequest {
  crossings: string[];
  goes: "there" | "here" | "both";
  carries?: string;
}
export interface Kept {
  kind: "secret" | "file";
  name: string;
  octets?: number;
  changedMs: number;
}
export interface OffersView {
  offers: OfferView[];
  shown: ShownView[];
  own?: EndCertificate;
  aheadMs: number;
  clock: boolean;
}
export interface OfferView {
  title: string;
  at: string;
  settings: Settings;
  set: boolean;
  needs: string[];
  users: string[];
  notes: string[];
  cannot: string;
  shows: string;
}
export interface ShownView {
  name: string;
  issuer: string;
  fingerprint: string;
  fromMs: number;
  toMs: number;
  hosts: string[];
  application: string;
  why: string;
}
export interface EndCertificate {
  name: string;
  issuer: string;
  fingerprint: string;
  fromMs: number;
  toMs: number;
  hosts: string[];
  application: string;
}
export interface FingerprintRequest {
  fingerprint: string;
}
export interface NamedRequest {
  text: string;
  rule: SpellRule;
  all?: boolean;
}
export interface SpellRule {
  before?: string;
  from?: string;
  to?: string;
  behind?: string;
}
export interface BrowseRequest {
  folder?: string;
  from: number;
}
export interface FolderView {
  entries: EntryView[];
  more: boolean;
  said: string;
}
export interface EntryView {
  address: string;
  name: string;
  opens: boolean;
  holds: boolean;
  type: string;
  shown: string;
  unit: string;
  low?: number;
  high?: number;
  writable: boolean;
  remark: string;
  reason: string;
  mapped: boolean;
}
export interface FindRequest {
  words: string;
}
export interface NodesRequest {
  nodes: TakenNode[];
  folders: string[];
  prefix?: string;
  separator?: string;
  parts: number;
}
export interface TakenNode {
  address: string;
  way: string;
}
export interface NamedView {
  proofs: NameProof[];
  aside: string;
  counts: {
    [k: string]: number;
  };
  tookMs: number;
  unlisted: string;
  beside: NameProof[];
  besideMany: number;
}
export interface NameProof {
  line: number;
  text: string;
  verdict: string;
  sentence: string;
  is: string;
  type: string;
  shown: string;
  writable: boolean;
}
export interface NamedStartView {
  before: string;
  can: boolean;
}
export interface StrangersView {
  own?: EndCertificate;
  strangers: EndCertificate[];
}
export interface Label {
  id: string;
  name: string;
  at: string;
  octets: number;
  serial?: Format;
}
export interface ReadState {
  id: string;
  name: string;
  at: string;
  octets: number;
  serial?: Format;
  reading: boolean;
  done: boolean;
  failed?: string;
  share: number;
  result: Result;
  talks: TalkView[];
  beginsMs: number;
  stepMs: number;
  all: number[];
  bad: number[];
  rows: number;
}
export interface Result {
  packets: number;
  connections: number;
  exchanges: number;
  unread: number;
  said: string[];
  findings: Finding[];
}
export interface TalkView {
  link?: string;
  asker: string;
  answerer: string;
  at: string;
  station: number;
  protocol: string;
  asked: number;
  answered: number;
  declined: number;
  none: number;
  garbled: number;
  again?: number;
  madeGood?: number;
  octets: number;
  medianMs: number;
  p99Ms: number;
  mostMs: number;
  latency: number[];
  requests: RequestView[];
  beyond: number;
}
export interface RequestView {
  says: string;
  area: string;
  start: number;
  count: number;
  function: number;
  write?: boolean;
  asked: number;
  answered: number;
  everyMs: number;
}
export interface RungList {
  total: number;
  from: number;
  rungs: Rung[];
}
export interface Rung {
  row: number;
  atMs: number;
  latencyMs: number;
  asker: string;
  answerer: string;
  asks: string;
  says: string;
  outcome: string;
  bad?: boolean;
  stray?: boolean;
  write?: boolean;
  again?: boolean;
  try?: number;
  first?: number;
  askedIn?: number;
  answeredIn?: number;
  function: number;
  station: number;
  at: string;
}
export interface Detail {
  rung: Rung;
  parts: Part[];
}
export interface Part {
  title: string;
  atMs: number;
  packet: number;
  hex: string;
  fields: Field[];
}
export interface TakenView {
  id: string;
}
export interface RelaysView {
  relays: RelayState[];
  faults: RelayFault[];
}
export interface RelayState {
  near: End;
  far: End;
  to: string;
  one?: boolean;
  idle?: number;
  allow?: string[];
  escape?: string;
  watch?: boolean;
  fault?: Fault;
  id: string;
  open: number;
  callers: number;
  away: number;
  sent: number;
  received: number;
  says?: string;
  notes: string[];
  shows?: string;
  kept: number;
}
export interface End {
  how: "listen" | "call" | "port" | "datagrams";
  at: string;
  speaks?: "tls" | "tls-user" | "rfc2217";
  format?: Format;
  user?: string;
  secret?: string;
  pin?: string;
  gender?: "dte" | "dce";
}
export interface RelayFault {
  kind: string;
  title: string;
  unit?: string;
  default?: number;
}
export interface RelayRequest {
  near: End;
  far: End;
  to: string;
  one?: boolean;
  idle?: number;
  allow?: string[];
  escape?: string;
  watch?: boolean;
  fault?: Fault;
  link?: string;
  line?: string;
}
export interface HeardDevice {
  talk: number;
  askers: string[];
  at: string;
  station: number;
  protocol: string;
  title: string;
  asked: number;
  known?: string;
  points: Guess[];
}
export interface Guess {
  at: string;
  type: string;
  order?: string;
  paceMs: number;
  access: string;
  sure: number;
  why: string;
  seen: string;
}
export interface LearnRequest {
  talks: number[];
}
export interface History {
  readings: ValueAt[];
  total: number;
  orders: string[];
  place: string;
  area: string;
}
export interface ValueAt {
  atMs: number;
  v: number;
  row: number;
}
export interface Meaning {
  of: string;
  number: string;
  name: string;
  means: string;
  look: string;
  findings?: string[];
}
export interface LookoutsView {
  events: Event[];
  told: OutletState[];
  programs: string[];
  caught: Caught[];
}
export interface OutletState {
  outlet: string;
  sent: number;
  sentMs: number;
  waiting: number;
  lost: number;
  problem?: string;
  tries?: number;
}
export interface Caught {
  atMs: number;
  way: string;
  from?: string;
  to: string[];
  subject: string;
  text: string;
  secured?: boolean;
  user?: string;
}
export interface CompareRequest {
  text: string;
  day: string;
  links: string[];
}
export interface Comparison {
  verdicts: Verdict[];
  clockMs: number;
  clock?: string;
  skipped?: string[];
}
export interface Verdict {
  fromMs: number;
  toMs: number;
  name?: string;
  whose: "path" | "device" | "other" | "unknown";
  says: string;
  offMs?: number;
  link?: string;
}
export interface LiveView {
  beginsMs: number;
  stepMs: number;
  all: number[];
  bad: number[];
  seqs: number[];
  talks: TalkView[];
  spanMs: number;
}
export interface RefuseRequest {
  refuse: boolean;
}
