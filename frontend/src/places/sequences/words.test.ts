import { describe, expect, it } from "vitest";
import { DAY, dayWords, type Ladder, leads, newStep, type Shown, type Step, sentence, span, waiting } from "./words";

const empty: Ladder = { steps: [], begin: {} as Ladder["begin"], leave: {} as Ladder["leave"], held_back: 0 };
const message = { ...newStep("message", 1, empty, 1), name: "Welcome" };
const titles = [{ key: 1, title: "Welcome" }] as Shown[];
const step = (kind: string, values: Partial<Step> = {}): Step => ({
  ...newStep(kind, 2, { ...empty, steps: [message] }, 1),
  ...values,
});

describe("a step as a sentence", () => {
  it.each<[Step, string]>([
    [message, "Welcome"],
    [step("repeat"), "Welcome, again"],
    [step("question"), "Opened or clicked “Welcome” within 3 days?"],
    [step("question", { asks: "clicked", wait: 0 }), "Clicked “Welcome”?"],
    [step("question", { asks: "rule", rule: "band is Strong", wait: DAY }), "band is Strong, after 1 day?"],
    [step("wait", { wait: 14 * DAY, hour: 9, weekdays: [0, 2] }), "Wait 2 weeks, until 09:00, on Mon, Wed"],
    [step("wait", { wait: 0, hour: 10, own_zone: true }), "Wait until 10:00 in their own zone"],
    [step("label", { name: "patron", take: true }), "Take off the label “patron”"],
    [step("field", { name: "tier", value: "gold" }), "tier becomes “gold”"],
    [step("let go"), "Let them go"],
    [step("end"), "End"],
  ])("%#", (s, words) => expect(sentence(s, titles)).toBe(words));
});

it("says where a question leads, when a step comes, how long a wait is", () => {
  expect([leads("go on", titles), leads("end", titles), leads("1", titles)]).toEqual([
    "go on",
    "the end",
    "on at “Welcome”",
  ]);
  expect([dayWords([0, 0]), dayWords([3 * DAY, 5 * DAY + 9]), dayWords(null)]).toEqual(["Day 0", "Day 3–5", ""]);
  expect([span(90), span(3 * DAY), span(21 * DAY)]).toEqual(["2 minutes", "3 days", "3 weeks"]);
  expect(waiting(step("wait", { wait: 0 }))).toBe("");
});

it("gives every new step what its kind needs; in a sequence that runs it is off at first", () => {
  const one = newStep("question", 8, { ...empty, steps: [message] }, 1);
  const two = newStep("repeat", 9, { ...empty, steps: [message] }, 2, true);
  expect([one.key, one.of, one.no, one.off]).toEqual([8, 1, "end", false]);
  expect([two.key, two.of, two.meets, two.off]).toEqual([9, 1, false, true]);
});
