// Made by `make types` from the server's description; do not edit.

export interface Models {
  Arm: Arm;
  BasePoint: BasePoint;
  BatchLine: BatchLine;
  BringIn: BringIn;
  Campaign: Campaign;
  CampaignIn: CampaignIn;
  CampaignLine: CampaignLine;
  CampaignLines: CampaignLines;
  Check: Check;
  ClockMove: ClockMove;
  ConsentEntry: ConsentEntry;
  Decision: Decision;
  Deed: Deed;
  Deeds: Deeds;
  Domain: Domain;
  Domains: Domains;
  Done: Done;
  Finds: Finds;
  Foot: Foot;
  Found: Found;
  FromAddress: FromAddress;
  Happened: Happened;
  Job: Job;
  Jobs: Jobs;
  Lane: Lane;
  MapView: MapView;
  Me: Me;
  Moving: Moving;
  NameIn: NameIn;
  NamedThing: NamedThing;
  Outcome: Outcome;
  Permission: Permission;
  Person: Person;
  PlanIn: PlanIn;
  PlanView: PlanView;
  PlannedBatch: PlannedBatch;
  Preview: Preview;
  Problem: Problem;
  Provider: Provider;
  RecipientsView: RecipientsView;
  Record: Record;
  Refusal: Refusal;
  Results: Results;
  Row: Row;
  Rows: Rows;
  RuleCount: RuleCount;
  RuleIn: RuleIn;
  SecondFactor: SecondFactor;
  SecondFactorProof: SecondFactorProof;
  Segment: Segment;
  SegmentIn: SegmentIn;
  Segments: Segments;
  Selection: Selection;
  SelectionView: SelectionView;
  Settle: Settle;
  SieveRow: SieveRow;
  Sieved: Sieved;
  SignIn: SignIn;
  Suppressed: Suppressed;
  Term: Term;
  TestTo: TestTo;
  TodayView: TodayView;
  Token: Token;
  Upload: Upload;
  Why: Why;
}
export interface Arm {
  arm: string;
  people: number;
  answered: number;
  unsubscribed: number;
  complained: number;
  difference: number | null;
  low: number | null;
  high: number | null;
  added: number | null;
  verdict: string;
}
export interface BasePoint {
  at: number;
  bands: number[];
}
export interface BatchLine {
  id: number;
  kind: "first" | "resend";
  n: number;
  due_at: number;
  state: "waiting" | "going out" | "gone" | "held" | "stopped";
  people: number;
  handed: number;
  waiting: number;
  deferred: number;
  failed: number;
  in_doubt: number;
  passed_over: number;
  delivered: number;
  opened: number;
  unsure: number;
  clicked: number;
  machine_only: number;
  unsubscribed: number;
  complained: number;
  bounced: number;
  bands: number[];
}
export interface BringIn {
  upload: string;
  kind: "subscribers" | "events";
  corrections: {
    [k: string]: string;
  };
  list_name: string;
  source: string;
  dry_run: boolean;
}
export interface Campaign {
  id: number;
  name: string;
  state: "draft" | "planned" | "sending" | "held" | "finished" | "stopped";
  purpose: number | null;
  purpose_name: string;
  from_address: number | null;
  from_text: string;
  from_name: string;
  subject: string;
  preview: string;
  html: string;
  plain: string;
  plain_by_hand: boolean;
  segments_in: number[];
  segments_out: number[];
  plan: PlanIn;
  checks: Check[];
  purposes: NamedThing[];
  fields: string[];
  links: string[];
  in_doubt: number;
}
export interface PlanIn {
  start: number | null;
  lead_share: number;
  batches: number;
  interval: number;
  order: "most engaged first" | "by lot";
  resend: boolean;
  wait: number;
  held_share: number;
  new_subject: string;
  machine_only: boolean;
}
export interface Check {
  check: string;
  level: "stop" | "mend" | "note";
  finding: string;
}
export interface NamedThing {
  id: number;
  name: string;
}
export interface CampaignIn {
  name: string | null;
  purpose: number | null;
  from_address: number | null;
  from_name: string | null;
  subject: string | null;
  preview: string | null;
  html: string | null;
  plain: string | null;
  segments_in: number[] | null;
  segments_out: number[] | null;
  plan: PlanIn | null;
}
export interface CampaignLine {
  id: number;
  name: string;
  state: string;
  subject: string;
  purpose: string;
  people: number;
  made_at: number;
  started_at: number | null;
}
export interface CampaignLines {
  campaigns: CampaignLine[];
}
export interface ClockMove {
  /**
   * seconds; none for the next event
   */
  by: number | null;
}
export interface ConsentEntry {
  purpose: string;
  state: string;
  at: number;
  source: string;
  wording: string;
}
export interface Decision {
  kind: string;
  title: string;
  detail: string;
  link: string;
  act: string;
}
export interface Deed {
  at: number;
  who: string;
  act: string;
  what: string;
  people: number;
}
export interface Deeds {
  deeds: Deed[];
}
export interface Domain {
  id: number;
  name: string;
  state: "holds" | "mend" | "broken" | "unknown";
  selector: string;
  checked_at: number | null;
  records: Record[];
  addresses: FromAddress[];
}
export interface Record {
  record: string;
  state: "holds" | "mend" | "broken" | "unknown";
  expected: string;
  found: string;
  meaning: string;
  publish: string;
}
export interface FromAddress {
  id: number;
  address: string;
  confirmed_at: number | null;
  domain: number;
  usable: boolean;
}
export interface Domains {
  domains: Domain[];
}
export interface Done {
  ok: boolean;
  id: number;
  count: number;
}
export interface Finds {
  finds: Found[];
}
export interface Found {
  kind: "subscriber" | "segment" | "campaign";
  id: number;
  name: string;
  detail: string;
}
export interface Foot {
  now: number;
  scored_at: number;
  subscribers: number;
  permitted: number;
  purpose: string;
  next_at: number | null;
  next_name: string;
  complaints: number;
  handed_over: number;
  sending: number;
  moving: Moving | null;
}
export interface Moving {
  now: number;
  target: number | null;
  begun_from: number | null;
}
export interface Happened {
  at: number;
  event: string;
  message: string;
  link: string;
  agent: string;
  ip: string;
  code: string;
  diagnostic: string;
  value: number;
  who: string;
}
export interface Job {
  id: number;
  kind: string;
  state: "waiting" | "working" | "finished" | "failed";
  done: number;
  total: number;
  outcome: Outcome | null;
  made_at: number;
  name: string;
  dry_run: boolean;
}
export interface Outcome {
  error: string;
  rows: number;
  taken: number;
  repeated: number;
  aside: number;
  refused: number;
  aside_addresses: string[];
  refused_rows: Refusal[];
  notes: string[];
  dry_run: boolean;
}
export interface Refusal {
  line: number;
  column: string;
  reason: string;
}
export interface Jobs {
  jobs: Job[];
}
export interface Lane {
  campaign: number;
  name: string;
  kind: "first" | "resend";
  n: number;
  due_at: number;
  state: string;
  people: number;
  handed: number;
}
export interface MapView {
  now: number;
  day_words: string[];
  left_words: string[];
  bands: string[];
  /**
   * [day column][unanswered row][band]
   */
  grid: number[][][];
  totals: number[];
  subscribers: number;
  window_days: number;
  gap_days: number;
}
export interface Me {
  name: string;
  role: "analyst" | "writer" | "observer";
  csrf: string;
  second_factor: boolean;
  workspace: string;
  time_zone: string;
  demo: boolean;
  world_url: string;
  email: string;
}
export interface NameIn {
  name: string;
}
export interface Permission {
  purpose: string;
  permitted: boolean;
  reasons: string[];
}
export interface Person {
  id: number;
  email: string;
  name: string;
  joined_at: number;
  door: string;
  provider: string;
  time_zone: string;
  language: string;
  country: string;
  lists: string[];
  labels: string[];
  fields: {
    [k: string]: string;
  };
  trace: string;
  why: Why;
  permission: Permission[];
  events: Happened[];
  consent: ConsentEntry[];
  suppressed: Suppressed[];
}
export interface Why {
  score: number;
  band: string;
  E: number;
  N: number;
  answered: number;
  unanswered: number;
  last_answer: number | null;
  as_of: number;
  half_life_days: number;
  window_days: number;
  terms: Term[];
}
export interface Term {
  message: string;
  at: number;
  age_days: number;
  weight: number;
  value: number;
  adds: number;
  what: string;
}
export interface Suppressed {
  reason: string;
  at: number;
  source: string;
}
export interface PlanView {
  batches: PlannedBatch[];
  note: string;
}
export interface PlannedBatch {
  n: number;
  due_at: number;
  people: number;
  lead: boolean;
  bands: number[];
}
export interface Preview {
  subject: string;
  html: string;
  plain: string;
  person: string;
}
export interface Problem {
  error: string;
  place: number | null;
  fits: string[];
}
export interface Provider {
  name: string;
  people: number;
  handed_over: number;
  deferred: number;
  bounced: number;
  complained: number;
  /**
   * deferred share of each of the last 12 weeks
   */
  weeks: number[];
}
export interface RecipientsView {
  sieve: Sieved[];
  bands: number[];
  providers: Sieved[];
  count: number;
}
export interface Sieved {
  words: string;
  count: number;
}
export interface Results {
  as_of: number;
  batches: BatchLine[];
  handed: number;
  delivered: number;
  opened: number;
  unsure: number;
  clicked: number;
  machine_only: number;
  arms: Arm[];
  verdict: string;
  answered_first: number;
  answered_all: number;
  why_not: Sieved[];
  hours: number[];
  half_hours: number | null;
  in_doubt: number;
}
export interface Row {
  id: number;
  email: string;
  name: string;
  band: number;
  score: number;
  trace: string;
  permitted: boolean;
  last_answer: number | null;
  unanswered: number;
  joined_at: number;
}
export interface Rows {
  total: number;
  offset: number;
  rows: Row[];
  now: number;
}
export interface RuleCount {
  count: number;
  subscribers: number;
  bands: number[];
  as_of: number;
  seconds: number;
  text: string;
  sieve: SieveRow[];
  sample: Row[];
}
export interface SieveRow {
  text: string;
  left: number;
  alone: number | null;
  arm: boolean;
}
export interface RuleIn {
  rule: string;
  own_name: string;
}
export interface SecondFactor {
  secret: string;
  address: string;
}
export interface SecondFactorProof {
  secret: string;
  code: string;
}
export interface Segment {
  id: number;
  name: string;
  rule: string;
  count: number | null;
  problem: string;
  bands: number[];
  used_by: string[];
  as_of: number;
  changed_at: number;
}
export interface SegmentIn {
  name: string;
  rule: string;
}
export interface Segments {
  segments: Segment[];
  /**
   * known names for rules, by kind
   */
  words: {
    [k: string]: string[];
  };
}
export interface Selection {
  /**
   * @maxItems 48
   */
  cells: unknown[][];
  purpose: string;
}
export interface SelectionView {
  count: number;
  bands: number[];
  sieve: Sieved[];
  providers: Sieved[];
  purpose: string;
  purposes: string[];
  rule: string;
}
export interface Settle {
  arrived: boolean;
}
export interface SignIn {
  name: string;
  password: string;
  code: string;
}
export interface TestTo {
  to: string;
}
export interface TodayView {
  now: number;
  decisions: Decision[];
  lanes: Lane[];
  base: BasePoint[];
  providers: Provider[];
  goes_out: number;
}
export interface Token {
  token: string;
}
export interface Upload {
  upload: string;
  kind: "subscribers" | "events";
  name: string;
  header: string[];
  targets: string[];
  sample: string[][];
  known: string[];
  bytes: number;
}
