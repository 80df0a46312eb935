import { describe, expect, it } from "vitest";
import {
  DAY,
  type Definition,
  dayWords,
  leads,
  newStep,
  type Shown,
  type Step,
  sentence,
  span,
  waiting,
} from "./words";

const empty: Definition = {
  steps: [],
  begin: {} as Definition["begin"],
  leave: {} as Definition["leave"],
  hours: [0, 24],
  holdout: 0,
};
const message = { ...newStep("message", 1, empty, 1), name: "Welcome" };
const titles = [{ key: 1, title: "Welcome" }] as Shown[];
const step = (kind: string, values: Partial<Step> = {}): Step => ({
  ...newStep(kind, 2, { ...empty, steps: [message] }, 1),
  ...values,
});

describe("a step as a sentence", () => {
  it.each<[Step, string]>([
    [message, "Welcome"],
    [step("resend"), "Resend Welcome"],
    [step("condition"), "Engaged with “Welcome” within 3 days?"],
    [step("condition", { asks: "clicked", wait: 0 }), "Clicked “Welcome”?"],
    [step("condition", { asks: "rule", rule: "band is Strong", wait: DAY }), "band is Strong, after 1 day?"],
    [step("wait", { wait: 14 * DAY, hour: 9, weekdays: [0, 2] }), "Wait 2 weeks, until 09:00, on Mon, Wed"],
    [step("wait", { wait: 0, hour: 10, own_zone: true }), "Wait until 10:00 in their time zone"],
    [step("label", { name: "patron", take: true }), "Remove label “patron”"],
    [step("field", { name: "tier", value: "gold" }), "tier becomes “gold”"],
    [step("suppress"), "Suppress"],
    [step("end"), "End"],
  ])("%#", (s, words) => expect(sentence(s, titles)).toBe(words));
});

it("says where a question leads, when a step comes, how long a wait is", () => {
  expect([leads("continue", titles), leads("end", titles), leads("1", titles)]).toEqual([
    "continue",
    "the end",
    "go to “Welcome”",
  ]);
  expect([dayWords([0, 0]), dayWords([3 * DAY, 5 * DAY + 9]), dayWords(null)]).toEqual(["Day 0", "Day 3–5", ""]);
  expect([span(90), span(3 * DAY), span(21 * DAY)]).toEqual(["2 minutes", "3 days", "3 weeks"]);
  expect(waiting(step("wait", { wait: 0 }))).toBe("");
});

it("gives every new step what its kind needs; in a sequence that runs it is off at first", () => {
  const one = newStep("condition", 8, { ...empty, steps: [message] }, 1);
  const two = newStep("resend", 9, { ...empty, steps: [message] }, 2, true);
  expect([one.key, one.of, one.no, one.off]).toEqual([8, 1, "end", false]);
  expect([two.key, two.of, two.meets, two.off]).toEqual([9, 1, false, true]);
});
