import type { M } from "../../api/client";
import { count, duration, share } from "../../logic/format";

export type Step = M["StepIn"];
export type Shown = M["StepShown"];
export type Definition = M["DefinitionIn"];

export const DAY = 86400;
export const MAILS = ["message", "resend", "consent request"];
export const WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

export const KINDS: { kind: string; words: string; means: string }[] = [
  { kind: "message", words: "Message", means: "An email." },
  { kind: "resend", words: "Resend", means: "Sends an earlier message again to people who ignored it." },
  { kind: "condition", words: "Condition", means: "Splits the path by yes or no." },
  { kind: "wait", words: "Wait", means: "For a time, until an hour, or for a weekday." },
  { kind: "label", words: "Label", means: "Adds or removes a label." },
  { kind: "list", words: "List", means: "Adds to or removes from a list." },
  { kind: "field", words: "Field", means: "Sets the value of a field." },
  { kind: "consent request", words: "Consent request", means: "Asks for consent, once per person." },
  { kind: "suppress", words: "Suppress", means: "Adds to the suppression list (logged)." },
  { kind: "end", words: "End", means: "Ends the sequence." },
];

export const BEGINS: { on: string; words: string; what: "" | keyof M["SequenceChoices"] }[] = [
  { on: "manual", words: "people are added manually", what: "" },
  { on: "joins a list", words: "someone joins a list", what: "lists" },
  { on: "confirms", words: "someone confirms", what: "purposes" },
  { on: "sign-up pending", words: "a sign-up is pending", what: "purposes" },
  { on: "gets a label", words: "someone gets a label", what: "labels" },
  { on: "enters a segment", words: "someone enters a segment", what: "segments" },
  { on: "a date", words: "a date field is due", what: "fields" },
  { on: "books", words: "someone books", what: "" },
];

export function span(seconds: number): string {
  if (seconds && seconds % (7 * DAY) === 0 && seconds >= 14 * DAY) return `${seconds / (7 * DAY)} weeks`;
  const days = seconds / DAY;
  return days && Number.isInteger(days) ? `${days} ${days === 1 ? "day" : "days"}` : duration(seconds);
}

export function waiting(s: Step): string {
  const parts = [];
  if (s.wait) parts.push(span(s.wait));
  if (s.hour !== null)
    parts.push(`until ${String(s.hour).padStart(2, "0")}:00${s.own_zone ? " in their time zone" : ""}`);
  if (s.weekdays.length) parts.push(`on ${s.weekdays.map((d) => WEEKDAYS[d]).join(", ")}`);
  return parts.join(", ");
}

/** What a step's name is where another step speaks of it. */
export function titleOf(steps: Shown[], key: number): string {
  return steps.find((s) => s.key === key)?.title || "a message";
}

export function sentence(s: Step, steps: Shown[]): string {
  switch (s.kind) {
    case "message":
    case "consent request":
      return titleOf(steps, s.key);
    case "resend":
      return `Resend ${titleOf(steps, s.of)}`;
    case "condition": {
      const within = s.wait || s.hour !== null ? ` within ${waiting(s)}` : "";
      if (s.asks === "rule") return `${s.rule || "A rule"}${waiting(s) ? `, after ${waiting(s)}` : ""}?`;
      return `${s.asks === "clicked" ? "Clicked" : "Engaged with"} “${titleOf(steps, s.of)}”${within}?`;
    }
    case "wait":
      return `Wait ${waiting(s) || "…"}`;
    case "label":
      return `${s.take ? "Remove label" : "Label"} “${s.name || "…"}”`;
    case "list":
      return `${s.take ? "Remove from list" : "Add to list"} “${s.name || "…"}”`;
    case "field":
      return `${s.name || "A field"} becomes “${s.value}”`;
    case "suppress":
      return "Suppress";
    default:
      return "End";
  }
}

export function leads(to: string, steps: Shown[]): string {
  if (to === "continue") return "continue";
  if (to === "end") return "the end";
  if (to === "follow-up path") return "follow-up path";
  return `go to “${titleOf(steps, Number(to))}”`;
}

export function sentWords(f: M["StepFigures"]): string {
  if (!f.sent) return "";
  return `${count(f.sent)} sent · ${share(f.opened, f.sent, 0)} opened · ${share(f.clicked, f.sent, 0)} clicked`;
}

export function dayWords(day: number[] | null): string {
  if (!day) return "";
  const [a, b] = day.map((x) => Math.floor(x / DAY)) as [number, number];
  return a === b ? `Day ${a}` : `Day ${a}–${b}`;
}

/** Over how many days so many people begin; the first day may take fewer. */
export function daysOf(people: number, first: number, aDay: number): number {
  return first ? 1 + Math.ceil(Math.max(0, people - first) / aDay) : Math.ceil(people / aDay);
}

/** A new step of a kind. In a sequence that runs it is switched off at first: it is filled in, then switched on. */
export function newStep(kind: string, key: number, l: Definition, path: number, off = false): Step {
  const messages = l.steps.filter((s) => s.kind === "message" || s.kind === "consent request");
  const of = messages[messages.length - 1]?.key ?? 0;
  return {
    key,
    kind,
    path,
    meets: path === 1,
    off,
    name: "",
    wait: kind === "wait" ? 2 * DAY : kind === "condition" || kind === "resend" ? 3 * DAY : 0,
    hour: null,
    weekdays: [],
    own_zone: false,
    asks: "engaged",
    of: kind === "condition" || kind === "resend" ? of : 0,
    rule: "",
    yes: "continue",
    no: kind === "condition" ? "end" : "follow-up path",
    value: "",
    take: false,
    subject: "",
    preview: "",
    purposes: [],
  };
}
