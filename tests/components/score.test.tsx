// @vitest-environment jsdom
// Why a score, the score check, what to expect, and whom stopping mail leaves out: as pages show them.
import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { expect, test } from "vitest";
import type { M } from "../../frontend/src/api/client";
import { ActButton } from "../../frontend/src/parts/bulk-action";
import { Expected, ObservedWords, range } from "../../frontend/src/parts/expected";
import { Why } from "../../frontend/src/places/subscribers/person-score";
import { ScoreCheckPage } from "../../frontend/src/places/subscribers/score-check";
import { show } from "./server";

const NOW = 1_773_308_520;
const STATUS = { "GET /status": { now: NOW, window_days: 90, strong_from: 45, steady_from: 12, own_history: false } };
const STEP = { message: "Harbour nights", at: NOW - 86_400, what: "ignored", counts: true, chance: 0.27 };
const WHY: M["Why"] = {
  score: 27,
  chance: 0.27,
  active: 0.88,
  rate: 0.31,
  band: "Steady",
  engaged: 9,
  ignored: 3,
  counted: 22,
  counted_engaged: 7,
  last_engaged_at_message: 19,
  ignored_now: 3,
  ignored_before: 5,
  if_engaged: 0.33,
  if_ignored: 0.24,
  masked: false,
  own_history: true,
  last_engaged: NOW - 9 * 86_400,
  as_of: NOW,
  window_days: 90,
  settled_days: 1.25,
  steps: [STEP, { ...STEP, message: "Late hours", what: "machine only", counts: false }],
};
const person = (why: M["Why"]) => ({ why }) as unknown as M["Person"];

test("why a score is told in counts", async () => {
  const { container } = show(<Why p={person(WHY)} band={1} />, STATUS);
  expect(screen.getByRole("heading", { name: "A score of 27" })).toBeTruthy();
  const said = container.textContent ?? "";
  for (const words of [
    "Engaged with 7 of the last 22 messages",
    "The last 3 ignored; up to 5 in a row before",
    "88% likely still active",
    "While active, engages with 31% of messages",
    "The next message makes it 33 if engaged with, 24 if ignored",
    "An ignored message counts after 30 hours",
  ])
    expect(said).toContain(words);
  const row = screen.getByText("Late hours").closest("tr") as HTMLElement;
  expect(within(row).getByText("not counted")).toBeTruthy();
  expect(await screen.findByText("What the bands mean")).toBeTruthy();
  expect(container.textContent).toContain("score of 45 or more");
});

test("where reading is hidden it is a chance to click, and a newcomer is said to be one", () => {
  show(<Why p={person({ ...WHY, masked: true })} band={5} />, STATUS);
  expect(screen.getByRole("heading", { name: "A chance to click of 27%" })).toBeTruthy();
  expect(screen.getByText(/Only clicks count here/)).toBeTruthy();
  show(<Why p={person({ ...WHY, counted: 0, steps: [] })} band={4} />, STATUS);
  expect(screen.getByText(/This is the chance of a newcomer/)).toBeTruthy();
  expect(screen.getByText("No message has been delivered yet.")).toBeTruthy();
});

const MODEL: M["ScoreModel"] = {
  alpha: 0.6,
  beta: 1.2,
  gamma: 1,
  delta: 40,
  people: 24_000,
  messages: 678_894,
  own: true,
  intercept: 0,
  slope: 1,
  fitted_at: NOW,
};
const CHECK: M["ScoreCheck"] = {
  auc: 0.71,
  auc_recency: 0.74,
  auc_90_days: 0.65,
  brier: 0.13,
  calibration_error: 0.031,
  tenths: [
    { expected: 0.1, observed: 0.12, people: 900 },
    { expected: 0.6, observed: 0.55, people: 900 },
  ],
  mailings: 12,
  people: 1800,
  checked_at: NOW,
};

test("the score check says where recency ranks better, and that chances were moved", async () => {
  const model = { ...MODEL, intercept: 0.4, slope: 1.1 };
  show(<ScoreCheckPage />, { ...STATUS, "GET /subscribers/score-check": { check: CHECK, model } });
  expect(await screen.findByText(/Recency alone ranks your subscribers better/)).toBeTruthy();
  expect(screen.getByText(/all chances are moved to what those showed/)).toBeTruthy();
  const rows = within(screen.getByRole("table", { name: /by tenths/ })).getAllByRole("row");
  expect(rows.map((r) => r.textContent)).toEqual([
    "TenthMessagesExpectedObserved",
    "lowest90010.0%12.0%",
    "highest90060.0%55.0%",
  ]);
});

test("a workspace without history is told what is missing", async () => {
  const model = { ...MODEL, own: false };
  show(<ScoreCheckPage />, { ...STATUS, "GET /subscribers/score-check": { check: { ...CHECK, auc: null }, model } });
  expect(await screen.findByText(/A mailing to 30 people or more must have settled first/)).toBeTruthy();
  expect(screen.getByText(/not enough history of your own yet/)).toBeTruthy();
});

test("what to expect, and what came", () => {
  expect(range(3049.6, 3420.2)).toBe("3,050 to 3,420");
  expect(range(0.2, 0.4)).toBe("0");
  const { container } = show(
    <Expected of={{ people: 1000, expected: 310, low: 280, high: 340, mailings: 3 }} />,
    STATUS,
  );
  expect(container.textContent).toContain("280 to 340 people (31%)");
  expect(container.textContent).toContain("too few mailings to know your usual spread");
  const came = { people: 1000, observed: 108, expected: 100, low: 90, high: 110, expected_in_all: 310, ratio: 1.08 };
  const early = show(<ObservedWords of={{ ...came, complete: false, unusual: false, mailings: 20 }} />, STATUS);
  expect(early.container.textContent).toContain("90 to 110 expected by now");
  expect(early.container.textContent).toContain("within the usual range. 310 expected in all.");
  const low = { ...came, observed: 50, ratio: 0.5, complete: true, unusual: true, mailings: 20 };
  const late = show(<ObservedWords of={low} />, STATUS);
  expect(late.container.textContent).toContain("50% below what these people usually do.");
});

test("stopping mail leaves out whom nobody can judge until they are ticked in", async () => {
  const spared = [{ group: "Unproven", people: 501, words: "Unproven: too few messages to judge" }];
  const choice = { rule: "band is Fading", text: "", bands: [], ids: null, without: [], also: [] };
  const { written } = show(
    <ActButton act="suppress" choice={choice}>
      Suppress…
    </ActButton>,
    {
      ...STATUS,
      "POST /actions/preview": (body: { choice: { also: string[] } }) => {
        const changes = body.choice.also.length ? 601 : 100;
        return { people: changes, changes, spared, sentence: `Suppresses ${changes} subscribers.` };
      },
      "POST /actions": { action: 1, job: 0, people: 601 },
      "GET /subscribers": { rows: [], count: 0 },
    },
  );
  fireEvent.click(screen.getByRole("button", { name: "Suppress…" }));
  const box = await screen.findByRole("checkbox", { name: /501 Unproven/ });
  expect((box as HTMLInputElement).checked).toBe(false);
  expect(await screen.findByRole("button", { name: "Suppress 100" })).toBeTruthy();
  fireEvent.click(box);
  fireEvent.change(screen.getByLabelText("Reason (logged)"), { target: { value: "a year without engagement" } });
  const button = await screen.findByRole("button", { name: "Suppress 601" });
  await waitFor(() => expect((button as HTMLButtonElement).disabled).toBe(false));
  fireEvent.click(button);
  await waitFor(() => expect(written.some((w) => w.what === "POST /actions")).toBe(true));
  const asked = written.find((w) => w.what === "POST /actions")?.body as { choice: { also: string[] } };
  expect(asked.choice.also).toEqual(["Unproven"]);
});
