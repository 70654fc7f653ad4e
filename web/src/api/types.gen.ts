// Generated from the Go types by scripts/gen.sh; DO NOT EDIT.

export interface All {
  siteView: SiteView;
  pointsView: PointsView;
  pointView: PointView;
  cells: CellsRequest;
  intakeRequest: IntakeRequest;
  intakeAnswer: IntakeAnswer;
  editRequest: EditRequest;
  editAnswer: EditAnswer;
  timetable: TimetableView;
  exchangeView: ExchangeView;
  exchanges: Exchange[];
  run: RunRequest;
  mode: ModeRequest;
  unlock: UnlockRequest;
  writeRequest: WriteRequest;
  writeOrder: WriteOrder;
  writeResult: WriteResult;
  fault: FaultRequest;
  pulse: Pulse;
  trend: Trend[];
  journal: JournalView;
  route: Route;
  problem: Problem;
}
export interface SiteView {
  seq: number;
  name: string;
  remark: string;
  lines: Line[];
  devices: DeviceView[];
  links: LinkView[];
  crossings: CrossingView[];
  routes: Route[];
  protocols: Def[];
  versions: {
    [k: string]: number;
  };
  faults: FaultKind[];
  models: string[];
  standIns: StandIn[];
  load: LinkLoad[];
  canUndo: boolean;
  canRedo: boolean;
}
export interface Line {
  id: string;
  name: string;
  medium: "ethernet";
  /**
   * IPv4 or IPv6 network in CIDR form
   */
  network?: string;
  gateway?: string;
  remark?: string;
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
  limits?: Limits;
  bench?: string;
  points: Point[];
  pointCount: number;
}
export interface Port {
  line: string;
  /**
   * IP address on an Ethernet line
   */
  host?: string;
  protocol?: string;
  settings?: {
    [k: string]: number;
  };
}
export interface Limits {
  maxRegisters?: number;
  maxBits?: number;
  noBridging?: boolean;
  areas?: {
    [k: string]: number;
  };
}
export interface Point {
  id: string;
  name: string;
  address: string;
  type: string;
  length?: number;
  order?: string;
  factor?: number;
  offset?: number;
  unit?: string;
  decimals?: number;
  paceMs: number;
  access: "r" | "rw" | "w";
  remark?: string;
}
export interface LinkView {
  id: string;
  asking: string;
  answering: string;
  line: string;
  protocol: string;
  settings?: {
    [k: string]: number;
  };
  remark?: string;
  faceToFace: Mismatch[];
}
export interface Mismatch {
  key: string;
  title: string;
  unit?: string;
  asking: string;
  answering: string;
  result: string;
  symptom?: string;
}
export interface CrossingView {
  id: string;
  from: string;
  to: string;
  factor?: number;
  offset?: number;
  deadband?: number;
  off?: boolean;
  remark?: string;
  words: string;
  source: CrossingEnd;
  target: CrossingEnd;
}
export interface CrossingEnd {
  device: string;
  name: string;
  type: string;
  address: string;
  unit: string;
}
export interface Route {
  link: string;
  at?: string;
  bench: boolean;
  stops: Check[];
  stopsAt: string;
  identity?: string;
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
  settings: Setting[];
}
export interface Setting {
  key: string;
  title: string;
  end: string;
  unit?: string;
  default: number;
  least: number;
  most: number;
  stop: string;
}
export interface FaultKind {
  kind: string;
  title: string;
  unit?: string;
  default?: number;
}
export interface StandIn {
  device: string;
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
}
export interface PointsView {
  seq: number;
  device: string;
  columns: string[];
  areas: Area[];
  rows: PointRow[];
  requests: Request[];
  findings: Finding[];
  choices: {
    [k: string]: string[];
  };
}
export interface Area {
  key: string;
  title: string;
  unitBits: number;
  units: number;
  writable: boolean;
}
export interface PointRow {
  id: string;
  version: number;
  cells: string[];
  area: string;
  start: number;
  units: number;
}
export interface Request {
  id: string;
  link: string;
  device: string;
  function: string;
  operation: string;
  area: string;
  start: number;
  address: string;
  count: number;
  unused: number;
  points: string[];
  paceMs: number;
  wireMs: number;
  deviceMs: number;
  offsetMs: number;
  slackMs: number;
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
}
export interface Subject {
  kind: string;
  id: string;
  device?: string;
  column?: string;
  name: string;
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
}
export interface Notation {
  notation: string;
  text: string;
}
export interface Live {
  point: string;
  value: null | boolean | number | string;
  shown: string;
  quality: string;
  reason?: string;
  atMs: number;
  changedMs: number;
  words: string;
}
export interface Word {
  hex: string;
  decimal: string;
  binary: string;
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
  headings?: string[];
  columns?: string[];
  rows?: Row[];
  commit: boolean;
}
export interface Row {
  line: number;
  cells: string[];
}
export interface IntakeAnswer {
  headings: string[];
  columns: string[];
  total: number;
  added: number;
  changed: number;
  same: number;
  preview: IntakeRow[];
  rejected: Rejected[];
  rejectedRows: Row[];
  seq: number;
}
export interface IntakeRow {
  line: number;
  cells: string[];
  effect: string;
}
export interface Rejected {
  line: number;
  column: string;
  cell: string;
  reason: string;
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
}
export interface Plan {
  lines: LineLoad[];
  links: LinkLoad[];
  requests: Request[];
  findings: Finding[];
}
export interface LineLoad {
  line: string;
  utilisation: number;
  roundMs: number;
  holds: boolean;
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
  code?: number;
  sentence: string;
  points: number;
  write?: boolean;
  area?: string;
  start: number;
  count: number;
  requestHex: string;
  answerHex: string;
  asked: Field[];
  answered: Field[];
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
  code?: number;
  sentence: string;
  points: number;
  write?: boolean;
  area?: string;
  start: number;
  count: number;
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
export interface WriteRequest {
  point: string;
  text: string;
}
export interface WriteOrder {
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
}
export interface WriteResult {
  order: WriteOrder;
  ok: boolean;
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
}
export interface CrossingState {
  id: string;
  state: string;
  sentence?: string;
  written: string;
  count: number;
  atMs: number;
}
export interface Trend {
  atMs: number;
  v: number;
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
  result: unknown;
}
export interface Problem {
  code: string;
  sentence: string;
  where?: string;
  do?: string;
}
