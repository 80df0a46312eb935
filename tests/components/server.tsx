import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, vi } from "vitest";
import type { M } from "../../frontend/src/api/client";
import { MeContext } from "../../frontend/src/parts/me";
import { Proving } from "../../frontend/src/parts/proving";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const ME: M["Me"] = {
  name: "Ida",
  role: "analyst",
  csrf: "x",
  second_factor: false,
  workspace: "Kestrel Quay",
  time_zone: "Europe/Copenhagen",
  demo: false,
  world_url: "",
  email: "",
  currency: "EUR",
  recovery_codes: 0,
};

/** What the server refuses, with its sentence. */
export class Refused {
  constructor(
    readonly error: string,
    readonly status = 400,
    readonly fits: string[] = [],
  ) {}
}

export interface Asked {
  what: string;
  body: unknown;
}
type Answers = Record<string, unknown>;

/** A page in front of a server that answers as given, by "GET /path"; a function gets the body. What is written is
 * returned in its order; what is asked for and has no answer is refused. */
export function show(page: ReactNode, answers: Answers, role: M["Me"]["role"] = "analyst") {
  const written: Asked[] = [];
  vi.stubGlobal("fetch", async (path: string, { method, body }: { method: string; body?: string }) => {
    const what = `${method} ${path.replace("/api", "").split("?")[0]}`;
    const values = body ? JSON.parse(body) : undefined;
    if (method !== "GET") written.push({ what, body: values });
    const given = what in answers ? answers[what] : new Refused(`no answer to ${what}`, 404);
    const answer = await (typeof given === "function" ? given(values) : given);
    const refused = answer instanceof Refused;
    return new Response(JSON.stringify(refused ? { error: answer.error, fits: answer.fits } : answer), {
      status: refused ? answer.status : 200,
    });
  });
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  const view = render(
    <QueryClientProvider client={client}>
      <MemoryRouter>
        <MeContext value={{ ...ME, role }}>
          <Proving>{page}</Proving>
        </MeContext>
      </MemoryRouter>
    </QueryClientProvider>,
  );
  return { written, ...view };
}

const PLAN: M["Plan"] = {
  start: null,
  pilot_share: 0.1,
  batches: 2,
  interval: 3600,
  order: "most engaged first",
  resend: false,
  resend_rule: "not engaged",
  wait: 172_800,
  holdout_share: 0.1,
  new_subject: "",
  variants: [],
  second: false,
  machine_only: false,
  suppress_after_days: 0,
  suppressed_at: null,
  hours: [0, 24],
  weekdays: [0, 1, 2, 3, 4, 5, 6],
  zones: false,
  own_hour: false,
  caps: {},
  largest: 0,
  ramp: 0,
  no_later_than: null,
  moved: {},
} as unknown as M["Plan"];

/** A draft with its message written, to 1,000 people. */
export const draft = (values: Partial<M["Campaign"]> = {}): M["Campaign"] =>
  ({
    id: 7,
    name: "Harbour concerts",
    kind: "message",
    state: "draft",
    asks: [],
    subject: "Evenings by the water",
    from_text: "Kestrel Quay <hello@kestrelquay.example>",
    segments_in: [1],
    segments_out: [],
    lists_in: [],
    lists_out: [],
    lists: [],
    chosen: [],
    purposes: [],
    checks: [],
    versions: [],
    plan: PLAN,
    approval: { needed: false, given: false },
    with_sequences: false,
    untouched: false,
    at_start: [],
    overrides: [],
    ...values,
  }) as unknown as M["Campaign"];
