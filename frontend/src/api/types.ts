// Made by `make types` from the server's description; do not edit.

export interface Models {
  AcceptIn: AcceptIn;
  ActIn: ActIn;
  ActPreview: ActPreview;
  Acted: Acted;
  AddressCheckIn: AddressCheckIn;
  AddressCost: AddressCost;
  AddressSummary: AddressSummary;
  AgainstHeld: AgainstHeld;
  AggregateLine: AggregateLine;
  Approval: Approval;
  Arm: Arm;
  ArmIn: ArmIn;
  AskAgain: AskAgain;
  AskAgainIn: AskAgainIn;
  BasePoint: BasePoint;
  BatchLine: BatchLine;
  BatchThatFits: BatchThatFits;
  Beside: Beside;
  BesideKey: BesideKey;
  BestHours: BestHours;
  BringIn: BringIn;
  Burst: Burst;
  Campaign: Campaign;
  CampaignBegin: CampaignBegin;
  CampaignIn: CampaignIn;
  CampaignLine: CampaignLine;
  CampaignLines: CampaignLines;
  ChangeIn: ChangeIn;
  Changed: Changed;
  Check: Check;
  Checks: Checks;
  ChoiceIn: ChoiceIn;
  ChooseIn: ChooseIn;
  ChosenPerson: ChosenPerson;
  Clause: Clause;
  CleanUp: CleanUp;
  CleanUpDone: CleanUpDone;
  CleanUpGroup: CleanUpGroup;
  CleanUpIn: CleanUpIn;
  CleanUpPerson: CleanUpPerson;
  ClockMove: ClockMove;
  ComparedLine: ComparedLine;
  ConsentEntry: ConsentEntry;
  ConsentView: ConsentView;
  Decision: Decision;
  Deed: Deed;
  Deeds: Deeds;
  Differs: Differs;
  Divided: Divided;
  DividedBy: DividedBy;
  DividedLine: DividedLine;
  Domain: Domain;
  Domains: Domains;
  Done: Done;
  Door: Door;
  Doors: Doors;
  Duty: Duty;
  Evidence: Evidence;
  ExportColumns: ExportColumns;
  ExportIn: ExportIn;
  Fallen: Fallen;
  FieldValue: FieldValue;
  Finds: Finds;
  Fits: Fits;
  Foot: Foot;
  FormDay: FormDay;
  FormIn: FormIn;
  Found: Found;
  Frame: Frame;
  FromAddress: FromAddress;
  FrozenCopy: FrozenCopy;
  Grid: Grid;
  Grids: Grids;
  GrowthPoint: GrowthPoint;
  Guardrail: Guardrail;
  Guardrails: Guardrails;
  Happened: Happened;
  HealthView: HealthView;
  Ids: Ids;
  Job: Job;
  Jobs: Jobs;
  LadderBegin: LadderBegin;
  LadderIn: LadderIn;
  LadderLeave: LadderLeave;
  LadderStep: LadderStep;
  Lane: Lane;
  LiftIn: LiftIn;
  LinkLine: LinkLine;
  LookAgain: LookAgain;
  MachineOpens: MachineOpens;
  MapRule: MapRule;
  MapView: MapView;
  Me: Me;
  MoveIn: MoveIn;
  Moving: Moving;
  NameIn: NameIn;
  NamedThing: NamedThing;
  Note: Note;
  NoteIn: NoteIn;
  Outcome: Outcome;
  Overlap: Overlap;
  OverlapIn: OverlapIn;
  Overlaps: Overlaps;
  OverruleIn: OverruleIn;
  OwnFigures: OwnFigures;
  Pattern: Pattern;
  Permission: Permission;
  Person: Person;
  PersonIn: PersonIn;
  Picture: Picture;
  Pictures: Pictures;
  PlacedCopy: PlacedCopy;
  PlacementTest: PlacementTest;
  PlanIn: PlanIn;
  PlanView: PlanView;
  PlannedBatch: PlannedBatch;
  PooledArm: PooledArm;
  PooledResends: PooledResends;
  Preview: Preview;
  Problem: Problem;
  Provider: Provider;
  ProviderDays: ProviderDays;
  ProviderOpens: ProviderOpens;
  Purpose: Purpose;
  PurposeIn: PurposeIn;
  ReadySequence: ReadySequence;
  Reason: Reason;
  RecipientsView: RecipientsView;
  Record: Record;
  RecordChange: RecordChange;
  Refusal: Refusal;
  Refusals: Refusals;
  RepeatAdds: RepeatAdds;
  ReplayView: ReplayView;
  Replied: Replied;
  ReportDay: ReportDay;
  RequestLine: RequestLine;
  Requests: Requests;
  RequiredIn: RequiredIn;
  Results: Results;
  ReturnedMail: ReturnedMail;
  Row: Row;
  Rows: Rows;
  RuleCount: RuleCount;
  RuleIn: RuleIn;
  Saved: Saved;
  SecondFactor: SecondFactor;
  SecondFactorProof: SecondFactorProof;
  Segment: Segment;
  SegmentAbout: SegmentAbout;
  SegmentIn: SegmentIn;
  Segments: Segments;
  SequenceChange: SequenceChange;
  SequenceChoices: SequenceChoices;
  SequenceIn: SequenceIn;
  SequenceLeft: SequenceLeft;
  SequenceLine: SequenceLine;
  SequenceList: SequenceList;
  SequencePeople: SequencePeople;
  SequenceStart: SequenceStart;
  SequenceTaken: SequenceTaken;
  SequenceVersion: SequenceVersion;
  SequenceView: SequenceView;
  SequenceWent: SequenceWent;
  Settle: Settle;
  Shares: Shares;
  Shows: Shows;
  SieveRow: SieveRow;
  Sieved: Sieved;
  SignIn: SignIn;
  SignUpForm: SignUpForm;
  Slip: Slip;
  Source: Source;
  SourceIn: SourceIn;
  StandHere: StandHere;
  StandsHere: StandsHere;
  StateCounts: StateCounts;
  Stay: Stay;
  StepFigures: StepFigures;
  StepLack: StepLack;
  StepShown: StepShown;
  Sums: Sums1;
  Support: Support;
  Suppressed: Suppressed;
  SuppressedRow: SuppressedRow;
  SuppressionList: SuppressionList;
  TakenFigures: TakenFigures;
  TakenReport: TakenReport;
  TakenReports: TakenReports;
  Template: Template;
  Templates: Templates;
  Term: Term;
  TestTo: TestTo;
  TodayView: TodayView;
  Token: Token;
  TrialIn: TrialIn;
  TrialLine: TrialLine;
  TrialResult: TrialResult;
  TroubleFrom: TroubleFrom;
  TypedIn: TypedIn;
  TypedVerdict: TypedVerdict;
  TypedVerdicts: TypedVerdicts;
  UndoBouncesIn: UndoBouncesIn;
  Undone: Undone;
  Upload: Upload;
  UseIn: UseIn;
  Usual: Usual;
  UsualRange: UsualRange;
  Verdict: Verdict;
  VerdictReason: VerdictReason;
  Version: Version;
  WalkDay: WalkDay;
  WalkThrough: WalkThrough;
  WhatWorks: WhatWorks;
  Why: Why;
  WhyNot: WhyNot;
  WinBackIn: WinBackIn;
  WordIn: WordIn;
  Words: Words;
  WorksKind: WorksKind;
  WorksLine: WorksLine;
}
export interface AcceptIn {
  typed: string;
}
export interface ActIn {
  act: string;
  argument: string;
  choice: ChoiceIn;
}
/**
 * People by ids where given, else by rule, text and bands; never those of ``without``.
 */
export interface ChoiceIn {
  rule: string;
  text: string;
  bands: string[];
  ids: number[] | null;
  /**
   * @maxItems 10000
   */
  without: number[];
}
export interface ActPreview {
  people: number;
  changes: number;
  sentence: string;
}
export interface Acted {
  deed: number;
  job: number;
  people: number;
}
export interface AddressCheckIn {
  choice: ChoiceIn;
  ask_hosts: boolean;
}
export interface AddressCost {
  people: number;
  domains: number;
  questions: number;
  seconds: number;
}
export interface AddressSummary {
  counts: {
    [k: string]: number;
  };
  unchecked: number;
  reasons: VerdictReason[];
  slips: Slip[];
  required: boolean;
}
export interface VerdictReason {
  words: string;
  verdict: string;
  count: number;
}
export interface Slip {
  typed: string;
  meant: string;
  count: number;
  example: string;
}
export interface AgainstHeld {
  repeated: number;
  repeated_answered: number;
  held: number;
  held_answered: number;
  points: number;
  low: number;
  high: number;
  verdict: string;
}
export interface AggregateLine {
  org: string;
  report_id: string;
  domain: string;
  begin_at: number;
  end_at: number;
  policy: string;
  messages: number;
}
export interface Approval {
  needed: boolean;
  asked_by: string;
  asked_at: number | null;
  approved_by: string;
  lapsed: boolean;
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
export interface ArmIn {
  subject: string;
  preview: string;
  wait: number;
}
export interface AskAgain {
  rule: string;
  groups: Sieved[];
  people: number;
  sieve: Sieved[];
  permitted: number;
  unrelated: number;
}
export interface Sieved {
  words: string;
  count: number;
}
export interface AskAgainIn {
  purposes: string[];
  none: boolean;
  older_days: number;
  sources: string[];
  relation: string;
  let_go_days: number;
}
export interface BasePoint {
  at: number;
  bands: number[];
}
export interface BatchLine {
  id: number;
  kind: "first" | "resend" | "second resend";
  n: number;
  arm: string;
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
export interface BatchThatFits {
  largest: number;
  rate: number;
  busiest: number;
  delivered: number;
  responses: number;
}
export interface Beside {
  campaigns: number;
  people: number;
}
export interface BesideKey {
  selector: string;
  state: "next" | "old";
  made_at: number;
}
export interface BestHours {
  begin: number;
  share: number;
  low: number;
  high: number;
  sure: boolean;
  answers: number;
  counts: number[];
  own: number;
  sent_at: number | null;
}
export interface BringIn {
  upload: string;
  kind: "subscribers" | "events";
  corrections: {
    [k: string]: string;
  };
  list_name: string;
  source: string;
  encoding: string;
  dates: {
    [k: string]: string;
  };
  suppressed: string;
  check: boolean;
  dry_run: boolean;
}
export interface Burst {
  network: string;
  n: number;
  first: number;
  last: number;
}
export interface Campaign {
  id: number;
  name: string;
  kind: "campaign" | "consent request";
  asks: string[];
  chosen_people: number;
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
  blocks:
    | {
        [k: string]: unknown;
      }[]
    | null;
  segments_in: number[];
  segments_out: number[];
  lists_in: string[];
  lists_out: string[];
  lists: Sieved[];
  chosen: ChosenPerson[];
  with_sequences: boolean;
  record_opens: boolean;
  record_clicks: boolean;
  plan: PlanIn;
  versions: Version[];
  version: string;
  approval: Approval;
  machine_openers: number;
  checks: Check[];
  purposes: NamedThing[];
  fields: string[];
  links: string[];
  sequence: NamedThing | null;
  in_doubt: number;
}
export interface ChosenPerson {
  id: number;
  email: string;
  side: "in" | "out";
}
export interface PlanIn {
  start: number | null;
  lead_share: number;
  batches: number;
  interval: number;
  order: "most engaged first" | "by lot" | "by time zone";
  resend: boolean;
  resend_rule: "not answered" | "opened, not clicked";
  wait: number;
  held_share: number;
  new_subject: string;
  arms: ArmIn[];
  second: boolean;
  machine_only: boolean;
  let_go_days: number;
  /**
   * @minItems 2
   * @maxItems 2
   */
  hours: number[];
  weekdays: number[];
  zones: boolean;
  own_hour: boolean;
  caps: {
    [k: string]: number;
  };
  largest: number;
  ramp: number;
  no_later_than: number | null;
  moved: {
    [k: string]: number;
  };
  test: TrialIn | null;
}
export interface TrialIn {
  figure: "opened" | "clicked";
  wait: number;
  pick: "better" | "by hand";
  settled: string;
  why: string;
}
export interface Version {
  n: number;
  letter: string;
  at: number;
  who: string;
  subject: string;
  preview: string;
  html: string;
  plain: string;
  handed: number;
}
export interface Check {
  check: string;
  level: "stop" | "mend" | "note";
  finding: string;
  mend: string;
  may_overrule: boolean;
  overruled: string;
}
export interface NamedThing {
  id: number;
  name: string;
}
export interface CampaignBegin {
  name: string;
  template: number;
  campaign: number;
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
  blocks:
    | {
        [k: string]: unknown;
      }[]
    | null;
  segments_in: number[] | null;
  segments_out: number[] | null;
  lists_in: string[] | null;
  lists_out: string[] | null;
  with_sequences: boolean | null;
  record_opens: boolean | null;
  record_clicks: boolean | null;
  plan: PlanIn | null;
}
export interface CampaignLine {
  id: number;
  name: string;
  kind: string;
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
export interface ChangeIn {
  subject: string | null;
  preview: string | null;
  html: string | null;
  plain: string | null;
  blocks:
    | {
        [k: string]: unknown;
      }[]
    | null;
  forget: boolean;
  only_show: boolean;
}
export interface Changed {
  version: string;
  differs: Differs[];
  waiting: number;
  handed: number;
}
export interface Differs {
  part: string;
  lines: string[][];
}
export interface Checks {
  checks: Check[];
}
export interface ChooseIn {
  email: string;
  side: "in" | "out" | "";
}
/**
 * One part of the topmost group: its text, and its tree for those who pick instead of writing.
 */
export interface Clause {
  text: string;
  tree: {
    [k: string]: unknown;
  };
}
export interface CleanUp {
  agreed: boolean;
  after_days: number;
  tries: number;
  wait_days: number;
  ask_veiled: boolean;
  by_itself: boolean;
  sentence: string;
  purpose: string;
  purposes: string[];
  groups: CleanUpGroup[];
  stopped: number;
  protected: number;
  saving: {
    [k: string]: Saved;
  };
  patterns: Pattern[];
  ran_at: number | null;
  next_at: number | null;
  outcomes: {
    [k: string]: number;
  };
  as_of: number;
}
export interface CleanUpGroup {
  step: string;
  words: string;
  count: number;
  people: CleanUpPerson[];
}
export interface CleanUpPerson {
  id: number;
  email: string;
  last_answer: number | null;
  tries: number;
  let_go_at: number | null;
}
export interface Saved {
  beyond: number;
  all: number;
}
export interface Pattern {
  id: number | null;
  name: string;
  stop: string;
}
export interface CleanUpDone {
  counts: {
    [k: string]: number;
  };
  deed: number;
}
export interface CleanUpIn {
  after_days: number;
  tries: number;
  wait_days: number;
  ask_veiled: boolean;
  by_itself: boolean;
  purpose: string;
}
export interface ClockMove {
  /**
   * seconds; none for the next event
   */
  by: number | null;
}
export interface ComparedLine {
  id: number;
  name: string;
  at: number | null;
  handed: number;
  delivered: number;
  opened: number;
  clicked: number;
  machine_only: number;
  unsubscribed: number;
  complained: number;
  bounced: number;
}
export interface ConsentEntry {
  purpose: string;
  channel: string;
  state: string;
  at: number;
  source: string;
  wording: string;
}
export interface ConsentView {
  purposes: Purpose[];
  bases: string[];
  sources: string[];
  forms: SignUpForm[];
  bursts: Burst[];
}
export interface Purpose {
  id: number;
  name: string;
  basis: string;
  transactional: boolean;
  left_out: boolean;
  version: number;
  text: string;
  counts: StateCounts;
  permitted: number;
}
export interface StateCounts {
  none: number;
  given: number;
  withdrawn: number;
  awaiting: number;
}
export interface SignUpForm {
  id: number;
  list_name: string;
  purposes: number[];
  intro: string;
  ask_name: boolean;
  confirm: boolean;
  reminders: number[];
  is_open: boolean;
  mail_subject: string;
  mail_text: string;
  joined: number;
  awaiting: number;
  confirmed: number;
  lapsed: number;
  days: FormDay[];
  address: string;
  snippet: string;
}
export interface FormDay {
  day: string;
  joined: number;
  awaiting: number;
  confirmed: number;
  lapsed: number;
}
export interface Decision {
  kind: string;
  title: string;
  detail: string;
  link: string;
  act: string;
}
export interface Deed {
  id: number;
  undoable: boolean;
  undone_at: number | null;
  at: number;
  who: string;
  act: string;
  what: string;
  people: number;
}
export interface Deeds {
  deeds: Deed[];
}
export interface Divided {
  by: DividedBy[];
  links: LinkLine[];
  replies: number;
  replied: Replied[];
  bookings: number;
  value: number;
  placement: PlacementTest[];
  trial: TrialResult | null;
  usual: Usual | null;
  compared: ComparedLine[];
  text: string;
}
export interface DividedBy {
  title: string;
  lines: DividedLine[];
  note: string;
}
export interface DividedLine {
  words: string;
  handed: number;
  delivered: number;
  opened: number;
  clicked: number;
  machine_only: number;
}
export interface LinkLine {
  url: string;
  people: number;
  machines: number;
}
export interface Replied {
  subscriber: number;
  email: string;
  at: number;
}
export interface PlacementTest {
  id: number;
  at: number;
  campaign: string;
  copies: PlacedCopy[];
}
export interface PlacedCopy {
  provider: string;
  address: string;
  folder: "waiting" | "inbox" | "spam" | "missing" | "refused";
  seen_at: number | null;
}
export interface TrialResult {
  figure: string;
  versions: TrialLine[];
  difference: number;
  low: number;
  high: number;
  verdict: string;
  settled: string;
  why: string;
}
export interface TrialLine {
  words: string;
  people: number;
  answered: number;
}
export interface Usual {
  mailings: number;
  about: string;
  opened: UsualRange;
  clicked: UsualRange;
  unsubscribed: UsualRange;
  complained: UsualRange;
  bounced: UsualRange;
}
export interface UsualRange {
  low: number;
  middle: number;
  high: number;
}
export interface Domain {
  id: number;
  name: string;
  state: "holds" | "mend" | "broken" | "unknown";
  selector: string;
  checked_at: number | null;
  records: Record[];
  keys: BesideKey[];
  changes: RecordChange[];
  spf: {
    [k: string]: unknown;
  };
  looks_like: string;
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
export interface RecordChange {
  at: number;
  record: string;
  before: string;
  after: string;
  found: string;
}
export interface FromAddress {
  id: number;
  address: string;
  confirmed_at: number | null;
  domain: number;
  usable: boolean;
  looks_like: string;
}
export interface Domains {
  domains: Domain[];
}
export interface Done {
  ok: boolean;
  id: number;
  count: number;
}
export interface Door {
  kind: string;
  name: string;
  people: number;
  mailed: number;
  first: number;
  last: number;
  answered: number;
  bounced: number;
  complained: number;
  left: number;
  silent: number;
  bands: number[];
  signs: string[];
  rule: string;
}
export interface Doors {
  doors: Door[];
}
export interface Duty {
  duty: string;
  state: string;
  evidence: string;
  since: number | null;
}
export interface Evidence {
  entries: number;
  holds: boolean;
  broken_at: number | null;
  what: string;
}
export interface ExportColumns {
  columns: string[];
  usual: string[];
  kept_days: number;
}
export interface ExportIn {
  choice: ChoiceIn;
  columns: string[];
  form: "csv" | "ndjson";
  name: string;
}
export interface Fallen {
  count: number;
  people: NamedThing[];
}
export interface FieldValue {
  field: string;
  value: string;
}
export interface Finds {
  finds: Found[];
}
export interface Found {
  kind: "subscriber" | "segment" | "campaign" | "sequence";
  id: number;
  name: string;
  detail: string;
}
export interface Fits {
  place: number;
  fits: string[];
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
export interface FormIn {
  list_name: string;
  purposes: number[];
  intro: string;
  ask_name: boolean;
  confirm: boolean;
  reminders: number[];
  is_open: boolean;
  mail_subject: string;
  mail_text: string;
}
export interface Frame {
  logo: string;
  logo_alt: string;
  colour: string;
  paper: string;
  footer: string;
  postal_address: string;
  second_pair: boolean;
  tell_back: boolean;
}
export interface FrozenCopy {
  id: number;
  day: string;
  at: number;
  people: number;
}
export interface Grid {
  words: string[];
  /**
   * flat fine cell, word, people; and so on
   */
  cells: number[];
}
export interface Grids {
  band: Grid;
  provider: Grid;
  year: Grid;
  list: Grid;
  gate: Grid;
}
export interface GrowthPoint {
  at: number;
  count: number;
}
export interface Guardrail {
  kind: string;
  place: string;
  name: string;
  guardrail: string;
  k: number;
  n: number;
  limit: number;
  evidence: number;
  state: "holds" | "watch" | "hold";
}
export interface Guardrails {
  sources: TroubleFrom[];
  guardrails: Guardrail[];
  held_why: string;
  evidence: Guardrail[];
  silent: Shows[];
  providers: string[];
}
export interface TroubleFrom {
  place: string;
  name: string;
  k: number;
  n: number;
  rest_k: number;
  rest_n: number;
}
export interface Shows {
  guardrail: string;
  enough: number;
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
  because: string;
}
export interface HealthView {
  now: number;
  days: number;
  limits: {
    [k: string]: number;
  };
  senders: NamedThing[];
  providers: ProviderDays[];
  refusals: Refusals[];
  duties: Duty[];
  sources: Source[];
  report_days: ReportDay[];
  reports: AggregateLine[];
  tests: PlacementTest[];
  boxes: number;
  words: Words;
}
export interface ProviderDays {
  name: string;
  people: number;
  days: {
    [k: string]: number[];
  };
  says: OwnFigures | null;
}
export interface OwnFigures {
  spam_rate: number | null;
  spam_day: string;
  reputation: string;
  day: string;
}
export interface Refusals {
  provider: string;
  kind: string;
  text: string;
  count: number;
  first: number;
  last: number;
}
export interface Source {
  domain: string;
  ip: string;
  messages: number;
  aligned: number;
  acted: number;
  first: number;
  last: number;
  signed_by: string;
  name: string;
  ours: boolean;
}
export interface ReportDay {
  domain: string;
  day: string;
  messages: number;
  aligned: number;
}
export interface Words {
  to: string[];
  url: string;
  quiet_hours: string;
}
export interface Ids {
  ids: number[];
}
export interface Job {
  id: number;
  kind: string;
  state: "waiting" | "working" | "paused" | "finished" | "failed";
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
  deed: number | null;
  file: string;
  verdicts: {
    [k: string]: number;
  };
}
export interface Refusal {
  line: number;
  column: string;
  reason: string;
}
export interface Jobs {
  jobs: Job[];
}
export interface LadderBegin {
  on: string;
  what: string;
  yearly: boolean;
  again_after: number | null;
  a_day: number;
  first_day: number;
  a_provider: number;
  by_lot: boolean;
}
export interface LadderIn {
  steps: LadderStep[];
  begin: LadderBegin;
  leave: LadderLeave;
  held_back: number;
}
export interface LadderStep {
  key: number;
  kind: string;
  lane: number;
  meets: boolean;
  off: boolean;
  name: string;
  wait: number;
  hour: number | null;
  weekdays: number[];
  own_zone: boolean;
  asks: string;
  of: number;
  rule: string;
  yes: string;
  no: string;
  value: string;
  take: boolean;
  subject: string;
  preview: string;
  purposes: string[];
}
export interface LadderLeave {
  answered: boolean;
  confirmed: boolean;
  booked: boolean;
  rule: string;
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
export interface LiftIn {
  subscriber: number;
  reason: string;
  why: string;
}
export interface LookAgain {
  upload: string;
  encoding: string;
  corrections: {
    [k: string]: string;
  };
}
export interface MachineOpens {
  days: number;
  as_of: number;
  listed: number;
  providers: ProviderOpens[];
  reasons: Reason[];
}
export interface ProviderOpens {
  name: string;
  opens: Shares;
  clicks: Shares;
  veiled: number;
  people: number;
}
export interface Shares {
  all: number;
  machines: number;
  unsure: number;
}
export interface Reason {
  words: string;
  opens: number;
  clicks: number;
  machine: boolean;
}
export interface MapRule {
  rule: string;
}
export interface MapView {
  now: number;
  day_words: string[];
  left_words: string[];
  day_edges: number[];
  left_edges: number[];
  /**
   * left edges of the fine columns; one more column is never answered
   */
  fine_days: number[];
  fine_left: number[];
  groups: Grids;
  subscribers: number;
  purpose: string;
  purposes: string[];
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
export interface MoveIn {
  due_at: number;
}
export interface NameIn {
  name: string;
}
export interface Note {
  id: number;
  subscriber: number;
  at: number;
  who: string;
  text: string;
}
export interface NoteIn {
  text: string;
}
export interface Overlap {
  id: number;
  name: string;
  both: number;
  only_this: number;
  only_that: number;
}
export interface OverlapIn {
  rule: string;
  others: number[];
}
export interface Overlaps {
  overlaps: Overlap[];
}
export interface OverruleIn {
  check: string;
  finding: string;
  reason: string;
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
  returned: ReturnedMail[];
  signs: string[];
  notes: Note[];
  sequences: Stay[];
  verdict: Verdict | null;
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
export interface ReturnedMail {
  id: number;
  at: number;
  kind: string;
  diagnostic: string;
}
export interface Stay {
  name: string;
  entered_at: number;
  left_at: number | null;
  finished: boolean;
}
export interface Verdict {
  verdict: string;
  reasons: string[];
  suggestion: string;
  at: number;
}
export interface PersonIn {
  name: string | null;
  time_zone: string | null;
  language: string | null;
  country: string | null;
  labels: string[] | null;
  fields: {
    [k: string]: string;
  } | null;
}
export interface Picture {
  id: number;
  url: string;
  name: string;
  width: number;
  height: number;
  bytes: number;
}
export interface Pictures {
  pictures: Picture[];
}
export interface PlanView {
  batches: PlannedBatch[];
  note: string;
  resend: string;
  best: BestHours | null;
  usual_wait: number;
  arms: string[];
}
export interface PlannedBatch {
  n: number;
  due_at: number;
  people: number;
  lead: boolean;
  bands: number[];
}
export interface PooledArm {
  arm: string;
  people: number;
  answered: number;
  held: number;
  held_answered: number;
  difference: number;
  low: number;
  high: number;
  verdict: string;
  unsubscribed: number;
  complained: number;
}
export interface PooledResends {
  campaigns: number;
  lines: PooledArm[];
  sentence: string;
}
export interface Preview {
  subject: string;
  preview: string;
  html: string;
  plain: string;
  person: string;
  values: FieldValue[];
  support: Support[];
}
export interface Support {
  what: string;
  web: "kept" | "partly" | "dropped";
  desktop: "kept" | "partly" | "dropped";
  phone: "kept" | "partly" | "dropped";
  instead: string;
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
export interface PurposeIn {
  name: string | null;
  basis: string | null;
  transactional: boolean | null;
  left_out: boolean | null;
  text: string | null;
}
export interface ReadySequence {
  key: string;
  name: string;
  sentence: string;
}
export interface RecipientsView {
  sieve: Sieved[];
  bands: number[];
  providers: Sieved[];
  zones: Sieved[];
  count: number;
}
export interface RepeatAdds {
  step: number;
  sent: number;
  first: number;
  again: number;
  together: number;
}
export interface ReplayView {
  months: number;
  since: number;
  until: number;
  messages: number;
  sums: Sums;
}
/**
 * each: flat fine cell, value; and so on
 */
export interface Sums {
  messages: number[];
  delivered: number[];
  answers: number[];
  opens: number[];
  clicks: number[];
  bookings: number[];
  worth: number[];
  complaints: number[];
  hard_bounces: number[];
  unsubscribes: number[];
}
export interface RequestLine {
  id: number;
  name: string;
  state: string;
  asks: string[];
  started_at: number;
  let_go_days: number;
  let_go_done: number | null;
  mailed: number;
  agreed: number;
  silent: number;
}
export interface Requests {
  requests: RequestLine[];
}
export interface RequiredIn {
  required: boolean;
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
  provider: string;
  door: string;
  lists: string[];
  labels: string[];
  language: string;
  country: string;
  time_zone: string;
  verdict: string;
  fields: {
    [k: string]: string;
  };
}
export interface Rows {
  total: number;
  offset: number;
  rows: Row[];
  now: number;
}
export interface RuleCount {
  /**
   * and, or, or empty for a lone clause
   */
  joined_by: string;
  clauses: Clause[];
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
export interface SegmentAbout {
  growth: GrowthPoint[];
  made_at: number;
  frozen: FrozenCopy[];
  used_by: string[];
  as_of: number;
  seconds: number;
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
/**
 * What is not given stays. ``going`` says where people at a step that is taken away go: another step's key, or out.
 */
export interface SequenceChange {
  name: string | null;
  purpose: number | null;
  from_address: number | null;
  from_name: string | null;
  ladder: LadderIn | null;
  going: {
    [k: string]: string;
  };
}
export interface SequenceChoices {
  lists: string[];
  labels: string[];
  segments: string[];
  purposes: string[];
  fields: string[];
}
export interface SequenceIn {
  name: string;
  ready: string;
}
export interface SequenceLeft {
  why: string;
  people: number;
}
export interface SequenceLine {
  id: number;
  name: string;
  state: string;
  started_at: number | null;
  inside: number;
  finished: number;
  queued: number;
  purpose: string;
  messages: number;
  days: number;
  begins: string;
}
export interface SequenceList {
  sequences: SequenceLine[];
  ready: ReadySequence[];
}
/**
 * Who is put in: addresses, or the people of a rule, a segment or a list.
 */
export interface SequencePeople {
  emails: string[];
  rule: string;
}
export interface SequenceStart {
  with_those_there: boolean;
}
export interface SequenceTaken {
  queued: number;
  there: number;
  portions: number[];
}
export interface SequenceVersion {
  n: number;
  at: number;
  who: string;
}
export interface SequenceView {
  now: number;
  id: number;
  name: string;
  state: string;
  version: number;
  versions: SequenceVersion[];
  started_at: number | null;
  purpose: number | null;
  purpose_name: string;
  from_address: number | null;
  from_name: string;
  addresses: NamedThing[];
  purposes: NamedThing[];
  choices: SequenceChoices;
  begins: string;
  ladder: LadderIn;
  steps: StepShown[];
  missing: StepLack[];
  inside: number;
  queued: number;
  finished: number;
  left: SequenceLeft[];
  added: RepeatAdds[];
  compared: AgainstHeld | null;
  portions: number[];
  beside: Beside;
  empty: string;
}
export interface StepShown {
  key: number;
  title: string;
  day: number[] | null;
  campaign: number | null;
  subject: string;
  state: string;
  held_why: string;
  figures: StepFigures;
}
export interface StepFigures {
  here: number;
  mailing: number;
  next_at: number | null;
  passed: number;
  sent: number;
  opened: number;
  clicked: number;
  deferred: number;
  failed: number;
  passed_over: number;
  left: SequenceLeft[];
}
export interface StepLack {
  step: number;
  sentence: string;
}
export interface SequenceWent {
  late: number;
  days: number;
}
export interface Settle {
  arrived: boolean;
}
export interface SignIn {
  name: string;
  password: string;
  code: string;
}
export interface SourceIn {
  ip: string;
  name: string;
  ours: boolean;
}
export interface StandHere {
  people: StandsHere[];
  total: number;
}
export interface StandsHere {
  id: number;
  subscriber: number;
  email: string;
  since: number;
  goes: number | null;
}
export interface Sums1 {
  messages: number[];
  delivered: number[];
  answers: number[];
  opens: number[];
  clicks: number[];
  bookings: number[];
  worth: number[];
  complaints: number[];
  hard_bounces: number[];
  unsubscribes: number[];
}
export interface SuppressedRow {
  subscriber: number;
  email: string;
  reason: string;
  at: number;
  source: string;
  liftable: boolean;
}
export interface SuppressionList {
  counts: Sieved[];
  rows: SuppressedRow[];
  total: number;
}
export interface TakenFigures {
  rows: number;
  refused: string[];
}
export interface TakenReport {
  kind: string;
  sentence: string;
}
export interface TakenReports {
  taken: TakenReport[];
}
export interface Template {
  id: number;
  name: string;
  subject: string;
  made_at: number;
  who: string;
  by_blocks: boolean;
}
export interface Templates {
  templates: Template[];
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
export interface TypedIn {
  text: string;
  ask_hosts: boolean;
}
export interface TypedVerdict {
  address: string;
  verdict: string;
  reasons: string[];
  suggestion: string | null;
  person: number | null;
}
export interface TypedVerdicts {
  verdicts: TypedVerdict[];
}
export interface UndoBouncesIn {
  provider: string;
  since: number;
  until: number;
  why: string;
}
export interface Undone {
  sentence: string;
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
  encoding: string;
  separator: string;
  dates: {
    [k: string]: string[];
  };
  /**
   * the ways dates are written, each with an example
   */
  styles: {
    [k: string]: string;
  };
  remembered: boolean;
}
export interface UseIn {
  n: number;
  why: string;
}
export interface WalkDay {
  at: number;
  day: number;
  step: number;
  what: string;
  said: string;
  kind: string;
  title: string;
  subject: string;
  campaign: number | null;
  note: string;
}
export interface WalkThrough {
  who: string;
  supposed: string;
  days: WalkDay[];
}
export interface WhatWorks {
  resends: PooledResends;
  kinds: WorksKind[];
  mailings: number;
}
export interface WorksKind {
  title: string;
  lines: WorksLine[];
}
export interface WorksLine {
  words: string;
  mailings: number;
  delivered: number;
  share: number;
  least: number;
  most: number;
  enough: boolean;
}
export interface WhyNot {
  subscriber: number;
  permitted: boolean;
  reasons: string[];
  deliveries: string[];
}
export interface WinBackIn {
  name: string;
  rule: string;
}
export interface WordIn {
  purpose: number;
  state: "given" | "withdrawn";
  reason: string;
}
