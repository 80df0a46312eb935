import type { QueryClient, QueryKey } from "@tanstack/react-query";

type Id = number | string;
const n = (id: Id | undefined) => Number(id);

/** Every key under which something of the server is kept. The first part is the place, so that a change of a place asks
 * again for all of it and for nothing else. */
export const keys = {
  me: () => ["me"],
  account: () => ["me", "account"],
  status: () => ["status"],
  found: (text: string) => ["search", text],

  today: () => ["today"],
  outgoing: () => ["today", "outgoing"],

  person: (id: Id | undefined) => ["subscribers", "person", n(id)],
  table: (query: string, offset: number) => ["subscribers", "table", query, offset],
  map: (purpose: string) => ["subscribers", "map", purpose],
  mapRule: (columns: unknown, rows: unknown) => ["subscribers", "map-rule", columns, rows],
  replay: (months: number) => ["subscribers", "replay", months],
  sources: () => ["subscribers", "sources"],
  scoreCheck: () => ["subscribers", "score-check"],
  machineActivity: () => ["subscribers", "machine-activity"],
  addresses: () => ["subscribers", "addresses"],
  addressCost: (rule: string, hosts: boolean) => ["subscribers", "address-cost", rule, hosts],
  consent: () => ["subscribers", "consent"],
  consentRecord: () => ["subscribers", "consent-record"],
  consentRequests: () => ["subscribers", "consent-requests"],
  consentRequest: (...said: unknown[]) => ["subscribers", "consent-request", ...said],
  wordings: (purpose: number) => ["subscribers", "wordings", purpose],
  suppressions: (reason = "") => ["subscribers", "suppressions", reason],
  sunsetTrial: (wish: unknown) => ["subscribers", "sunset-trial", wish],
  sunsetPolicy: () => ["subscribers", "sunset-policy"],
  bulkAction: (...said: unknown[]) => ["subscribers", "bulk-action", ...said],
  exportColumns: () => ["subscribers", "export-columns"],

  segments: () => ["segments"],
  segmentNames: () => ["segments", "names"],
  duplicates: () => ["subscribers", "duplicates"],
  mergePlan: (...said: unknown[]) => ["subscribers", "merge-plan", ...said],
  subjectPast: (subject: string) => ["campaigns", "subject-past", subject],
  fields: () => ["fields"],
  fieldTrial: (...said: unknown[]) => ["fields", "trial", ...said],
  fieldValues: (field: string) => ["segments", "field-values", field],
  segmentAbout: (id: Id) => ["segments", n(id), "about"],
  ruleCount: (...said: unknown[]) => ["segments", "count", ...said],
  ruleFits: (before: string) => ["segments", "fits", before],
  overlap: (rule: string, others: unknown) => ["segments", "overlap", rule, others],
  condition: (campaign: number | undefined, rule: string) => ["segments", "condition", campaign, rule],

  senders: () => ["senders"],
  relay: () => ["senders", "relay"],

  campaigns: () => ["campaigns"],
  campaign: (id: Id | undefined) => ["campaigns", n(id)],
  schedule: (id: Id | undefined) => ["campaigns", n(id), "schedule"],
  recipients: (id: Id | undefined, chosen: unknown) => ["campaigns", n(id), "recipients", chosen],
  excluded: (id: Id, reason: string) => ["campaigns", n(id), "excluded", reason],
  checks: (id: Id | undefined) => ["campaigns", n(id), "checks"],
  preview: (id: Id, ...said: unknown[]) => ["campaigns", n(id), "preview", ...said],
  clicksDrawn: (id: Id) => ["campaigns", n(id), "clicks"],
  tests: (id: Id) => ["campaigns", n(id), "tests"],
  results: (id: Id) => ["campaigns", n(id), "results"],
  breakdown: (id: Id, others: unknown) => ["campaigns", n(id), "breakdown", others],
  guardrails: (id: Id, state: string) => ["campaigns", n(id), "guardrails", state],
  unconfirmed: (id: Id, count: number) => ["campaigns", n(id), "unconfirmed", count],
  refused: (id: Id, failed: number) => ["campaigns", n(id), "refused", failed],
  benchmarks: () => ["campaigns", "benchmarks"],
  templates: () => ["campaigns", "templates"],
  images: () => ["campaigns", "images"],
  layout: () => ["campaigns", "layout"],

  sequences: () => ["sequences"],
  sequence: (id: Id | undefined) => ["sequences", n(id)],
  atStep: (id: Id, ...said: unknown[]) => ["sequences", n(id), "at-step", ...said],
  simulation: (id: Id | undefined, ...said: unknown[]) => ["sequences", n(id), "simulation", ...said],

  health: (sender?: unknown) => (sender === undefined ? ["health"] : ["health", sender]),
  bounced: (provider: string, since: number, until: number) => ["health", "bounced", provider, since, until],
  providers: () => ["health", "providers"],
  intake: () => ["health", "intake"],

  settings: () => ["settings"],
  settingsCheck: () => ["settings", "check"],
  accounts: () => ["settings", "accounts"],
  activity: () => ["settings", "activity"],
  jobs: () => ["jobs"],
  job: (id: Id) => ["jobs", n(id)],
  source: (path: string) => ["source", path],
} satisfies Record<string, (...said: never[]) => QueryKey>;

/** What a change in a place can be seen in, beside the place itself. */
const SEEN_IN = {
  campaigns: ["campaigns", "sequences", "today", "health", "settings"],
  sequences: ["sequences", "campaigns", "today", "settings"],
  segments: ["segments", "campaigns", "sequences", "settings"],
  senders: ["senders", "campaigns", "today", "health", "settings"],
} as const;

export type Place = keyof typeof SEEN_IN;

/** Ask again for what a change in a place can be seen in. */
export const changedIn = (client: QueryClient, place: Place) =>
  Promise.all(SEEN_IN[place].map((first) => client.invalidateQueries({ queryKey: [first] })));

/** People, their consent or their history changed: everything but the account may show it. */
export const peopleChanged = (client: QueryClient) =>
  client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "me" });
